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

/// A program of the firmware with these parts, as a unified kernel image has them.
fn unified(parts: &[(&str, &[u8])]) -> Vec<u8> {
    let mut head = vec![0; 0x400];
    head[..2].copy_from_slice(b"MZ");
    head[0x3c] = 0x40;
    head[0x40..0x44].copy_from_slice(b"PE\0\0");
    head[0x46] = parts.len() as u8;
    let mut at = head.len();
    for (number, (name, bytes)) in parts.iter().enumerate() {
        let entry = &mut head[0x58 + number * 40..][..40];
        entry[..name.len()].copy_from_slice(name.as_bytes());
        entry[8..12].copy_from_slice(&(bytes.len() as u32).to_le_bytes());
        entry[16..20].copy_from_slice(&(bytes.len().next_multiple_of(512) as u32).to_le_bytes());
        entry[20..24].copy_from_slice(&(at as u32).to_le_bytes());
        at += bytes.len().next_multiple_of(512);
    }
    let padded = |bytes: &[u8]| [bytes, &vec![0; bytes.len().next_multiple_of(512) - bytes.len()]].concat();
    parts.iter().fold(head, |all, (_, bytes)| [all, padded(bytes)].concat())
}

#[test]
fn a_unified_image_is_read_and_stays_as_it_is() {
    if !has(&TOOLS) {
        return;
    }
    let early = |module: &str| {
        let path = format!("lib/modules/6.1-tide/kernel/{module}.ko");
        archive(&[("lib", FOLDER, b""), ("lib/modules", FOLDER, b""), (&path, FILE, b"module")])
    };
    let image = |early: &[u8], parameters: &[u8]| {
        let release = b"ID=tidal\nPRETTY_NAME=\"Tidal 3, sealed\"\n";
        let parts: [(&str, &[u8]); 5] = [
            (".osrel", release),
            (".uname", b"6.1-tide"),
            (".cmdline", parameters),
            (".linux", b"a kernel, root=/dev/sda2"),
            (".initrd", early),
        ];
        unified(&parts)
    };
    let folder = tempfile::tempdir().unwrap();
    let sealed = image(&early("ahci"), b"root=/dev/sda2 rd.lvm.lv=tides/gone ro\n");
    let path = guest(folder.path(), |all| {
        all.retain(|(path, _)| !path.starts_with("/boot/"));
        all.push(("/boot/efi/EFI/Linux/tide.efi", sealed.clone()));
    });
    let mut before = open(&[&path]);
    let summary = before.systems[0].summary(&before.volumes);
    assert_eq!((summary.kernels.len(), summary.kernels[0].version.as_str()), (1, "6.1-tide"));
    assert!(summary.kernels[0].is_unified);
    let made = refit(&mut before, &virtio("vd"), &Wishes::default(), NOW);
    let chain = &made.evidence[0].1;
    let link = |about: &str| chain.iter().find(|link| link.about.starts_with(about)).unwrap();
    assert!(loader(&made).contains("tide.efi: 1 entry"), "{}", loader(&made));
    let driver = link("virtio-scsi");
    assert_eq!(driver.state, State::Broken);
    assert!(driver.seen.contains("lacks virtio") && driver.seen.contains("sealed"), "{}", driver.seen);
    assert_eq!(link("root=").state, State::Broken);
    assert_eq!(link("rd.lvm.lv=tides/gone").state, State::Unknown);
    let after = again(&before, folder.path());
    assert_eq!(after.systems[0].tree().read("/boot/efi/EFI/Linux/tide.efi", MIB).unwrap(), sealed);
}

/// What is made new is labelled as the guest's own policy says; what the policy does not say is asked of its neighbours.
#[test]
fn labels_come_from_the_guests_own_policy() {
    if !has(&TOOLS) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let rules = "/.*\tsystem_u:object_r:default_t:s0\n/etc(/.*)?\tsystem_u:object_r:etc_t:s0\n\
                 /etc/systemd/network(/.*)?\tsystem_u:object_r:net_conf_t:s0\n/dev(/.*)?\t<<none>>\n";
    let path = guest(folder.path(), |all| {
        all.push(("/etc/selinux/config", b"SELINUX=enforcing\nSELINUXTYPE=tidal\n".to_vec()));
        all.push(("/etc/selinux/tidal/contexts/files/file_contexts", rules.into()));
    });
    // Its root has a label; nothing else has.
    let mut bytes = std::fs::read(&path).unwrap();
    let root = folder.path().join("labelled");
    std::fs::write(&root, &bytes[5 * MIB as usize..45 * MIB as usize]).unwrap();
    run(std::process::Command::new("debugfs").args(["-w", "-R", "ea_set / security.selinux root_t"]).arg(&root));
    bytes[5 * MIB as usize..45 * MIB as usize].copy_from_slice(&std::fs::read(&root).unwrap());
    std::fs::write(&path, bytes).unwrap();
    let mut before = open(&[&path]);
    let made = refit(&mut before, &virtio("vd"), &Wishes::default(), NOW);
    assert!(names(&made).contains(&edit::ADAPTER_NAMES) && !names(&made).contains(&edit::RELABEL), "{made:?}");
    let after = again(&before, folder.path());
    let tree = after.systems[0].tree();
    let label = |path: &str| {
        let all = tree.attributes(path).unwrap();
        all.into_iter()
            .find(|(name, _)| name == b"security.selinux")
            .map(|(_, value)| String::from_utf8(value).unwrap())
    };
    let link = tree.list("/etc/systemd/network").unwrap().remove(0).0;
    let link = format!("/etc/systemd/network/{}", String::from_utf8(link).unwrap());
    assert_eq!(label(&link).as_deref(), Some("system_u:object_r:net_conf_t:s0\0"));
    assert_eq!(label("/etc/fstab"), None, "what was there keeps what it had");
}
