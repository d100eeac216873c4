//! Files that call members of arrays and encrypted volumes by the names of devices, in a system and in its early boot image.

use std::{fs, os::unix::fs::FileExt, process::Command};

use reformis_guest::{Evidence, State, Wishes, edit, refit};
use reformis_standin::early::{FILE, FOLDER, archive};

use crate::common::{
    BOOT_UUID, MIB, NOW, ROOT_UUID, again, disk, ext4, guest, has, names, open, run, taken, text, tree, virtio,
};

const INITRD: &str = "/boot/initrd.img-6.1-tide";
const MDADM: &[u8] = b"DEVICE /dev/sda2 /dev/sdb2\nARRAY /dev/md0 UUID=5a170000:00004000:80000000:00000001\n";
const CRYPTTAB: &[u8] = b"# the old disk\nvault /dev/sda3 none luks,initramfs\n";

fn devices(chain: &[Evidence]) -> Vec<(&str, State, bool)> {
    let named = chain.iter().filter(|link| link.about.starts_with("devices, "));
    named.map(|link| (link.about.as_str(), link.state, link.edit.is_some())).collect()
}

/// Both are called by what they are, in the system and behind the image that the old names are in; nothing is done twice.
#[test]
fn names_of_devices_last_in_the_system_and_in_its_early_boot_image() {
    if !has(&["mke2fs", "e2fsck", "sfdisk", "mkswap"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let disk = guest(folder.path(), |files| {
        files.push(("/etc/mdadm/mdadm.conf", MDADM.to_vec()));
        files.push(("/etc/crypttab", CRYPTTAB.to_vec()));
        let more = archive(&[
            ("etc", FOLDER, b""),
            ("etc/mdadm", FOLDER, b""),
            ("etc/mdadm/mdadm.conf", FILE, MDADM),
            ("cryptroot", FOLDER, b""),
            ("cryptroot/crypttab", FILE, CRYPTTAB),
        ]);
        let (_, initrd) = files.iter_mut().find(|(path, _)| *path == INITRD).unwrap();
        initrd.resize(initrd.len().next_multiple_of(4), 0);
        initrd.extend(more);
    });
    let mut old = open(&[&disk]);
    let made = refit(&mut old, &virtio("vd"), &Wishes::default(), NOW);
    assert!(names(&made).contains(&edit::DEVICE_NAMES), "{:?}", made.remarks);
    let done = made.done.iter().find(|done| done.name == edit::DEVICE_NAMES).unwrap();
    let told = format!("{:?}", done.changes);
    assert!(told.contains(&format!("{INITRD} got cryptroot/crypttab, etc/mdadm/mdadm.conf")), "{told}");
    assert!(told.contains("/etc/mdadm/mdadm.conf: members of arrays are found wherever they are"), "{told}");
    assert_eq!(devices(&made.evidence[0].1), [], "nothing is wrong with them any more");

    let mut new = again(&old, folder.path());
    let fixed = format!("# the old disk\nvault UUID={BOOT_UUID} none luks,initramfs\n");
    assert_eq!(text(&new, "/etc/crypttab"), fixed);
    let conf = text(&new, "/etc/mdadm/mdadm.conf");
    assert_eq!(conf, "DEVICE partitions containers\nARRAY /dev/md0 UUID=5a170000:00004000:80000000:00000001\n");
    let image = new.systems[0].tree().read(INITRD, MIB).unwrap();
    let has = |part: &str| image.windows(part.len()).any(|window| window == part.as_bytes());
    assert!(has(&fixed) && has(&conf), "the image has both behind the old ones");
    let made = refit(&mut new, &virtio("vd"), &Wishes::default(), NOW);
    assert_eq!(names(&made), Vec::<&str>::new());
}

/// Without the edit the chain says which files are wrong; where names stay, nothing is said.
#[test]
fn files_with_names_that_do_not_stay_are_links_that_do_not_hold() {
    if !has(&["mke2fs", "sfdisk", "mkswap"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let disk = guest(folder.path(), |files| {
        files.push(("/etc/mdadm.conf", b"DEVICE /dev/sd*\n".to_vec()));
        files.push(("/etc/crypttab", CRYPTTAB.to_vec()));
    });
    let mut guest = open(&[&disk]);
    let chain = reformis_guest::walk(&mut guest, &virtio("vd")).remove(0).1;
    let broken = [("devices, /etc/mdadm.conf", State::Broken, true), ("devices, /etc/crypttab", State::Broken, true)];
    assert_eq!(devices(&chain), broken);
    let chain = reformis_guest::walk(&mut guest, &virtio("sd")).remove(0).1;
    assert_eq!(devices(&chain), []);
}

/// Of a system that nobody gave the key for, what lies outside is made ready: the loader's entries, and what the early boot image has of crypttab.
#[test]
fn what_starts_an_encrypted_system_is_edited_without_its_key() {
    if !has(&["mke2fs", "e2fsck", "sfdisk"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let (path, file) = disk(folder.path(), "disk", 40, "label: dos\nstart=2048, size=32768\nstart=34816, size=40960\n");
    let entry = "menuentry 'Vault' {\n\tlinux /vmlinuz-6.1 root=/dev/mapper/vault cryptdevice=/dev/sda2:vault ro\n\tinitrd /initrd-6.1\n}\n";
    let table = b"vault /dev/sda2 none luks,initramfs\n";
    let image = archive(&[("cryptroot", FOLDER, b""), ("cryptroot/crypttab", FILE, table)]);
    let files: [(&str, &[u8]); 3] =
        [("/vmlinuz-6.1", b"a kernel"), ("/initrd-6.1", &image), ("/grub/grub.cfg", entry.as_bytes())];
    let boot = ext4(folder.path(), 16, BOOT_UUID, Some(&tree(folder.path(), &files)));
    file.write_all_at(&boot, MIB).unwrap();
    // As much of a header as is read without a key (LUKS On-Disk Format, section 2.1).
    let mut header = vec![0; 4096];
    header[..8].copy_from_slice(b"LUKS\xba\xbe\0\x02");
    header[168..204].copy_from_slice(ROOT_UUID.as_bytes());
    file.write_all_at(&header, 17 * MIB).unwrap();
    let mut closed = open(&[&path]);
    assert!(closed.systems.is_empty());
    let made = refit(&mut closed, &virtio("vd"), &Wishes { host_name: Some("tide".into()), ..Wishes::default() }, NOW);
    assert_eq!(names(&made), [edit::DEVICE_NAMES], "{:?}", made.remarks);
    let told = format!("{:?}", made.remarks);
    assert!(told.contains("NoSystem") && told.contains("no key was given for it"), "{told}");
    let after = taken(&closed).remove(0);
    assert!(after[17 * MIB as usize..] == fs::read(&path).unwrap()[17 * MIB as usize..], "nothing else is touched");
    let part = folder.path().join("checked");
    fs::write(&part, &after[MIB as usize..17 * MIB as usize]).unwrap();
    run(Command::new("e2fsck").arg("-fn").arg(&part));
    fs::write(&path, &after).unwrap();
    let mut again = open(&[&path]);
    let boot = again.volume_tree(0, NOW).unwrap().unwrap();
    let wanted = entry.replace("/dev/sda2:", &format!("UUID={ROOT_UUID}:"));
    assert_eq!(String::from_utf8(boot.read("/grub/grub.cfg", MIB).unwrap()).unwrap(), wanted);
    let image = boot.read("/initrd-6.1", MIB).unwrap();
    let fixed = format!("vault UUID={ROOT_UUID} none luks,initramfs\n");
    assert!(image.windows(fixed.len()).any(|window| window == fixed.as_bytes()));
    assert_eq!(boot.list("/").unwrap().len(), 4, "nothing is made there");
}
