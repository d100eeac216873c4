//! Files that call members of arrays and encrypted volumes by the names of devices, in a system and in its early boot image.

use reformis_guest::{Evidence, State, Wishes, edit, refit};
use reformis_standin::early::{FILE, FOLDER, archive};

use crate::common::{BOOT_UUID, MIB, NOW, again, guest, has, names, open, text, virtio};

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
