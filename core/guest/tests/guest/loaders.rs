//! Whole guests that are started by other loaders than GRUB's own file, from other early boot images, and from encrypted volumes:
//! names of disks change wherever they stand.

use std::io::Write;

use reformis_guest::{Guest, Link, Refit, State, Wishes, edit, refit};
use reformis_standin::early::{FILE, FOLDER, archive};

use crate::common::*;

const TOOLS: [&str; 5] = ["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkswap"];

/// A guest without GRUB's file but with `files`, moved to disks of another name; written and opened again.
fn moved(files: &[(&'static str, Vec<u8>)]) -> (Guest, Refit) {
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |all| {
        all.retain(|(path, _)| *path != "/boot/grub/grub.cfg" && !files.iter().any(|(new, _)| new == path));
        all.extend(files.iter().cloned());
    });
    let mut before = open(&[&path]);
    let made = refit(&mut before, &virtio("vd"), &Wishes::default(), NOW);
    assert!(names(&made).contains(&edit::DEVICE_NAMES), "{made:?}");
    let broken: Vec<_> = made.evidence[0].1.iter().filter(|link| link.state == State::Broken).collect();
    assert!(broken.is_empty(), "{broken:?}");
    (again(&before, folder.path()), made)
}

/// What the chain says of the loader.
fn loader(made: &Refit) -> &str {
    let link = made.evidence[0].1.iter().find(|link| link.link == Link::Loader).unwrap();
    assert_eq!(link.state, State::Holds);
    &link.seen
}

#[test]
fn extlinux() {
    if !has(&TOOLS) {
        return;
    }
    let config = "default tide\nlabel tide\n  menu label Tides\n  linux ../vmlinuz-6.1-tide\n  initrd ../initrd.img-6.1-tide\n  append root=/dev/sda2 ro resume=/dev/sda3\nlabel old\n  kernel /boot/vmlinuz-6.1-tide\n  append initrd=/boot/initrd.img-6.1-tide root=/dev/sda2\n";
    let (after, made) = moved(&[("/boot/extlinux/extlinux.conf", config.into())]);
    assert!(loader(&made).contains("/boot/extlinux/extlinux.conf: 2 entries"), "{}", loader(&made));
    let wanted = config
        .replace("root=/dev/sda2", &format!("root=UUID={ROOT_UUID}"))
        .replace("resume=/dev/sda3", &format!("resume=UUID={BOOT_UUID}"));
    assert_eq!(text(&after, "/boot/extlinux/extlinux.conf"), wanted);
}

#[test]
fn entry_files_and_the_environment_that_they_take_their_parameters_from() {
    if !has(&TOOLS) {
        return;
    }
    let entry = "title Tides\nversion 6.1-tide\nlinux /boot/vmlinuz-6.1-tide\ninitrd /boot/initrd.img-6.1-tide\noptions $kernelopts\n";
    let mut environment = b"# GRUB Environment Block\nkernelopts=root=/dev/sda2 ro resume=/dev/sda3\n".to_vec();
    environment.resize(1024, b'#');
    let second = entry.replace("$kernelopts", "root=/dev/sda2 ro").replace("Tides", "Tides, plainly");
    let (after, made) = moved(&[
        ("/boot/loader/entries/a-6.1-tide.conf", entry.into()),
        ("/boot/loader/entries/b-6.1-tide.conf", second.clone().into()),
        ("/boot/grub2/grubenv", environment),
    ]);
    assert!(loader(&made).contains("2 entries"), "{}", loader(&made));
    let root = format!("root=UUID={ROOT_UUID}");
    let kept = text(&after, "/boot/grub2/grubenv");
    assert_eq!(kept.len(), 1024, "the loader writes it in place");
    assert!(kept.contains(&format!("kernelopts={root} ro resume=UUID={BOOT_UUID}\n#")), "{kept}");
    assert_eq!(text(&after, "/boot/loader/entries/a-6.1-tide.conf"), entry);
    assert_eq!(text(&after, "/boot/loader/entries/b-6.1-tide.conf"), second.replace("root=/dev/sda2", &root));
}

#[test]
fn encrypted_swap_and_where_the_next_image_takes_its_names_from() {
    if !has(&TOOLS) {
        return;
    }
    let crypttab = "# name device key options\nswap0 /dev/sda3 /dev/urandom swap\nvault /dev/sdb1 none luks\n";
    let (after, _) = moved(&[
        ("/boot/grub/custom.cfg", GRUB.to_vec()),
        ("/etc/crypttab", crypttab.into()),
        ("/etc/kernel/cmdline", b"root=/dev/sda2 ro\n".to_vec()),
        ("/etc/initramfs-tools/conf.d/resume", b"RESUME=/dev/sda3\n".to_vec()),
    ]);
    // A disk that is not here keeps its name.
    assert_eq!(text(&after, "/etc/crypttab"), crypttab.replace("/dev/sda3", &format!("UUID={BOOT_UUID}")));
    assert_eq!(text(&after, "/etc/kernel/cmdline"), format!("root=UUID={ROOT_UUID} ro\n"));
    assert_eq!(text(&after, "/etc/initramfs-tools/conf.d/resume"), format!("RESUME=UUID={BOOT_UUID}\n"));
}

/// Packs an image.
type Pack = fn(&[u8]) -> Vec<u8>;

#[test]
fn early_boot_images_of_every_packing_get_what_they_lack() {
    if !has(&TOOLS) {
        return;
    }
    let plain = archive(&[
        ("lib", FOLDER, b""),
        ("lib/modules", FOLDER, b""),
        ("lib/modules/6.1-tide", FOLDER, b""),
        ("lib/modules/6.1-tide/kernel", FOLDER, b""),
        ("lib/modules/6.1-tide/kernel/ahci.ko", FILE, b"ahci"),
    ]);
    let packings: [(&str, Pack); 4] = [
        ("none", <[u8]>::to_vec),
        ("gzip", |bytes| {
            let mut to = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
            to.write_all(bytes).unwrap();
            to.finish().unwrap()
        }),
        ("xz", |bytes| {
            let stream = liblzma::stream::Stream::new_easy_encoder(1, liblzma::stream::Check::Crc32).unwrap();
            let mut to = liblzma::write::XzEncoder::new_stream(Vec::new(), stream);
            to.write_all(bytes).unwrap();
            to.finish().unwrap()
        }),
        ("lz4", |bytes| {
            // The legacy frame that kernels read: a magic number, and blocks with their length.
            let packed = lz4_flex::block::compress(bytes);
            [&0x184c_2102_u32.to_le_bytes()[..], &(packed.len() as u32).to_le_bytes(), &packed].concat()
        }),
    ];
    for (name, pack) in packings {
        let image = pack(&plain);
        let (after, made) =
            moved(&[("/boot/grub/custom.cfg", GRUB.to_vec()), ("/boot/initrd.img-6.1-tide", image.clone())]);
        assert!(names(&made).contains(&edit::DRIVERS), "{name}: {:?}", made.remarks);
        let grown = after.systems[0].tree().read("/boot/initrd.img-6.1-tide", MIB).unwrap();
        assert!(grown.starts_with(&image), "{name}: what was there stays");
        let added = String::from_utf8_lossy(&grown[image.len()..]).into_owned();
        assert!(added.contains("lib/modules/6.1-tide/kernel/virtio_scsi.ko"), "{name}");
        let driver = made.evidence[0].1.iter().find(|link| link.link == Link::Driver).unwrap();
        assert_eq!(driver.state, State::Mended, "{name}: {driver:?}");
    }
}
