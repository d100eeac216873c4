//! Arrays and encrypted volumes as the kernel and its own tools made them (`locked/recipe.sh`), each read, and changed through all that lies
//! between.

use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
};

use reformis_disk::{Disk, budget::Budget, format, source::MemoryStorage};
use reformis_guest::{Guest, Keys, Tree, Volume};

use crate::common::{MIB, NOW, has, run};

const KEY: &[u8] = b"high tide";

fn keys(secret: &[u8]) -> Keys {
    let mut keys = Keys::default();
    keys.add("all", secret.to_vec());
    keys
}

/// The two disks, unpacked into memory.
fn disks() -> [Vec<u8>; 2] {
    ["one", "two"].map(|name| {
        let packed = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("tests/guest/locked/{name}.raw.zst"));
        zstd::decode_all(fs::File::open(packed).unwrap()).unwrap()
    })
}

fn open(disks: &[Vec<u8>], keys: &Keys) -> Guest {
    let disks = disks.iter().map(|bytes| {
        let storage = Arc::new(MemoryStorage::new("disk.raw", bytes.clone()));
        format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk
    });
    Guest::open_with(disks.collect::<Vec<_>>(), keys, NOW, &Budget::whole()).unwrap()
}

fn tree(guest: &mut Guest, name: &str) -> Tree {
    let index = guest.volumes.iter().position(|volume| volume.name == name);
    let index =
        index.unwrap_or_else(|| panic!("{name}: {:?}", guest.volumes.iter().map(|v| &v.name).collect::<Vec<_>>()));
    let trouble = &guest.volumes[index].trouble;
    assert!(trouble.is_none(), "{name}: {trouble:?}");
    guest.volume_tree(index, NOW).unwrap().unwrap()
}

/// What the recipe puts into a file.
fn lines(word: &str, count: usize) -> Vec<u8> {
    (1..=count).flat_map(|number| format!("{word} {number}\n").into_bytes()).collect()
}

/// Volume, word and lines of each.
const ARRAYS: [(&str, &str, usize); 6] = [
    ("array root", "mirror", 5000),
    ("array 2", "old", 5000),
    ("array 3", "end", 5000),
    ("array 4", "four", 20_000),
    ("array 5", "three", 20_000),
    ("array 6", "stripes", 30_000),
];
const LOCKED: [(&str, &str, usize); 4] = [
    ("tide/gauge", "vault", 3000),
    ("tide/log", "log", 3000),
    ("opened disk 1 partition 10", "one", 3000),
    ("opened disk 2 partition 10", "two", 3000),
];

#[test]
fn each_is_read_as_its_own_kernel_left_it() {
    let disks = disks();
    let mut guest = open(&disks, &keys(b"high tide\n"));
    for (volume, word, count) in ARRAYS.into_iter().chain(LOCKED) {
        assert!(tree(&mut guest, volume).read("/file", MIB).unwrap() == lines(word, count), "{volume}");
    }
    for (number, metadata) in [(1, "1.2"), (2, "0.90"), (3, "1.0"), (7, "1.2")] {
        let uuid: uuid::Uuid = format!("5a170000-0000-4000-8000-00000000000{number}").parse().unwrap();
        let array = guest.volumes.iter().filter_map(|volume| volume.array.as_ref()).find(|array| array.uuid == uuid);
        let array = array.unwrap_or_else(|| panic!("{number}"));
        assert_eq!((array.metadata.as_str(), array.missing, array.clean), (metadata, 0, true));
    }
    assert_eq!(guest.unread, []);
}

#[test]
fn without_a_key_what_is_encrypted_is_named() {
    let disks = disks();
    for keys in [Keys::default(), keys(b"low tide")] {
        let guest = open(&disks, &keys);
        let locked: Vec<_> = guest.volumes.iter().filter(|volume| volume.kind == Some(Volume::Luks)).collect();
        assert_eq!(locked.len(), 3);
        assert!(locked.iter().all(|volume| !volume.is_opened && volume.uuid.is_some()));
        assert!(guest.volumes.iter().all(|volume| volume.opens.is_none()));
        let expected = if keys.is_empty() { "no key was given for it" } else { "no key that was given opens it" };
        assert!(guest.unread.iter().all(|(_, why)| why.contains(expected)), "{:?}", guest.unread);
        assert_eq!(guest.unread.len(), 3);
    }
    // A key is for the volume that it is given for.
    let mut one = Keys::default();
    one.add("disk 2 partition 10", KEY.to_vec());
    let guest = open(&disks, &one);
    let opened: Vec<_> =
        guest.volumes.iter().filter(|volume| volume.opens.is_some()).map(|v| v.name.as_str()).collect();
    assert_eq!(opened, ["opened disk 2 partition 10"]);
    assert!(!format!("{one:?}").contains("tide"));
}

/// What is written goes through the key, and onto both halves; opened anew, all of it is there, and the file systems are sound.
#[test]
fn what_is_changed_inside_is_encrypted_and_on_every_member() {
    if !has(&["e2fsck"]) {
        return;
    }
    let disks = disks();
    let mut guest = open(&disks, &keys(KEY));
    guest.bench.begin("changes", "a test");
    for (volume, word, _) in ARRAYS.into_iter().chain(LOCKED) {
        let mut tree = tree(&mut guest, volume);
        tree.write("/new", &lines(word, 2000)).unwrap();
        tree.append("/file", b"and more\n").unwrap();
    }
    let changed: Vec<Vec<u8>> = crate::common::taken(&guest);
    let plain = lines("vault", 20);
    let is_there = |bytes: &[u8]| bytes.windows(plain.len()).any(|window| window == plain);
    assert!(!is_there(&changed[0][58 << 20..90 << 20]), "nothing of it lies there in the clear");
    let folder = tempfile::tempdir().unwrap();
    let mut again = open(&changed, &keys(KEY));
    for (volume, word, count) in ARRAYS.into_iter().chain(LOCKED) {
        let tree = tree(&mut again, volume);
        assert!(tree.read("/new", MIB).unwrap() == lines(word, 2000), "{volume}");
        let expected = [lines(word, count), b"and more\n".to_vec()].concat();
        assert!(tree.read("/file", MIB).unwrap() == expected, "{volume}");
        let found = again.volumes.iter().find(|found| found.name == volume).unwrap().device().unwrap();
        let mut bytes = vec![0; found.size() as usize];
        found.read(0, &mut bytes).unwrap();
        let path: PathBuf = folder.path().join("volume");
        fs::write(&path, bytes).unwrap();
        run(Command::new("e2fsck").arg("-fn").arg(&path));
    }
    // The halves of a mirror are the same, but for what each says of itself.
    for (place, len) in [(2 << 20, 7 << 20), (60 << 20, 26 << 20)] {
        assert!(changed[0][place..place + len] == changed[1][place..place + len], "{place}");
    }
}

/// What a stranger writes into a header is an error at the most, and takes no more memory than there is.
#[test]
fn a_broken_header_opens_nothing() {
    let [one, two] = disks();
    let at = |disk: &[u8]| disk.windows(6).rposition(|bytes| bytes == b"LUKS\xba\xbe").unwrap();
    let (first, second) = (at(&one), at(&two));
    // LUKS1: where, what.
    let wrongs: [(usize, &[u8], &str); 6] = [
        (8, b"rot13\0", "is not known here"),
        (72, b"md5\0", "is not known here"),
        (108, &u32::MAX.to_be_bytes(), "its header is not sound"),
        (104, &u32::MAX.to_be_bytes(), "its header is not sound"),
        (208 + 4, &u32::MAX.to_be_bytes(), "more memory or time"),
        (208 + 44, &u32::MAX.to_be_bytes(), "a slot is not sound"),
    ];
    for (place, bytes, expected) in wrongs {
        let mut disk = one.clone();
        disk[first + place..][..bytes.len()].copy_from_slice(bytes);
        let guest = open(&[disk], &keys(KEY));
        let trouble = guest.volumes.iter().find(|volume| volume.name == "disk 1 partition 10").unwrap().trouble.clone();
        assert!(trouble.as_ref().is_some_and(|trouble| trouble.contains(expected)), "{place}: {trouble:?}");
    }
    // LUKS2 has two copies: one that is torn is not missed, and both are.
    let mut torn = two.clone();
    torn[second + 4096 + 20] ^= 1;
    let mut guest = open(&[vec![0; 512], torn.clone()], &keys(KEY));
    assert!(tree(&mut guest, "opened disk 2 partition 10").exists("/file"));
    torn[second + 16_384 + 4096 + 20] ^= 1;
    let guest = open(&[vec![0; 512], torn], &keys(KEY));
    let trouble = guest.volumes.iter().find(|volume| volume.name == "disk 2 partition 10").unwrap().trouble.clone();
    assert!(trouble.is_some_and(|trouble| trouble.contains("its header, and the copy of it is not sound")));
}

/// A system on an encrypted root, which its crypttab calls `vault`: it is found with the key, and made ready through it.
#[test]
fn a_machine_with_an_encrypted_root_is_made_ready() {
    if !has(&["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkswap"]) {
        return;
    }
    let [one, _] = disks();
    let guest = open(&[one], &keys(KEY));
    let opened = guest.volumes.iter().find(|volume| volume.name == "opened disk 1 partition 10").unwrap();
    let uuid = opened.opens.clone().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let link = reformis_standin::early::archive(&[("usr", reformis_standin::early::FOLDER, b"")]);
    let mut files = crate::common::system(&zstd::encode_all(&link[..], 3).unwrap());
    for (path, bytes) in &mut files {
        if ["/etc/fstab", "/etc/default/grub", "/boot/grub/grub.cfg"].contains(path) {
            *bytes = String::from_utf8(bytes.clone()).unwrap().replace("/dev/sda2", "/dev/mapper/vault").into_bytes();
        }
    }
    files.push(("/etc/crypttab", format!("vault UUID={uuid} none luks\nother /dev/sda9 none luks\n").into_bytes()));
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, bytes)| (*path, bytes.as_slice())).collect();
    let root = crate::common::tree(folder.path(), &files);
    let root = crate::common::ext4(folder.path(), 20, crate::common::ROOT_UUID, Some(&root));
    guest.bench.begin("fill", "a test");
    opened.device().unwrap().write(0, &root).unwrap();
    let overlay = guest.bench.take().remove(0);
    let mut disk = vec![0; overlay.size() as usize];
    overlay.read_at(0, &mut disk).unwrap();

    assert_eq!(open(std::slice::from_ref(&disk), &Keys::default()).systems.len(), 0);
    let mut guest = open(std::slice::from_ref(&disk), &keys(KEY));
    assert_eq!(guest.systems.len(), 1, "{:?}", guest.unread);
    let wishes = reformis_guest::Wishes::default();
    let made = reformis_guest::refit(&mut guest, &crate::common::virtio("vd"), &wishes, NOW);
    let names = crate::common::names(&made);
    assert!(names.contains(&reformis_guest::edit::DRIVERS), "{names:?} {:?}", made.remarks);
    let root = made.evidence[0].1.iter().find(|link| link.about.starts_with("root=")).unwrap();
    assert!(root.seen.contains("/dev/mapper/vault: opened disk 1 partition 10"), "{}", root.seen);
    // Changed are sectors of that partition alone, none of its header.
    let overlay = guest.bench.take().remove(0);
    let first = disk.windows(6).rposition(|bytes| bytes == b"LUKS\xba\xbe").unwrap() as u64;
    let inside = first + (2 << 20)..first + (26 << 20);
    let ranges: Vec<_> = overlay.edits().iter().flat_map(|edit| edit.ranges.clone()).collect();
    assert!(!ranges.is_empty() && ranges.iter().all(|range| inside.start <= range.start && range.end <= inside.end));
}

/// What lies between in other orders (`arrays/mixed.sh`): an encrypted volume in a logical one, and partitions of an array.
#[test]
fn an_encrypted_logical_volume_and_partitions_of_an_array() {
    let packed = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/guest/arrays/mixed.raw.zst");
    let disk = zstd::decode_all(fs::File::open(packed).unwrap()).unwrap();
    let volumes = [
        ("opened harbour/vault", "inside"),
        ("array parts partition 1", "first"),
        ("array parts partition 2", "second"),
    ];
    let mut guest = open(std::slice::from_ref(&disk), &keys(KEY));
    assert_eq!(guest.unread, []);
    guest.bench.begin("changes", "a test");
    for (volume, word) in volumes {
        let mut tree = tree(&mut guest, volume);
        assert!(tree.read("/file", MIB).unwrap() == lines(word, 3000), "{volume}");
        tree.write("/new", &lines(word, 2000)).unwrap();
    }
    for (spec, volume) in
        [("/dev/md/parts1", 1), ("/dev/disk/by-id/md-uuid-5a170000:00004000:80000000:00000201-part2", 2)]
    {
        let found = reformis_guest::resolve(&guest.volumes, spec).map(|(_, found)| found.name.as_str());
        assert_eq!(found, Some(volumes[volume].0), "{spec}");
    }
    let changed = crate::common::taken(&guest).remove(0);
    // Both members of the array have it, and so has either alone.
    let members = [31, 55].map(|start| changed[(start + 2) << 20..(start + 24) << 20].to_vec());
    assert!(members[0] == members[1]);
    let mut again = open(&[changed], &keys(KEY));
    for (volume, word) in volumes {
        assert!(tree(&mut again, volume).read("/new", MIB).unwrap() == lines(word, 2000), "{volume}");
    }
    let closed = open(&[disk], &Keys::default());
    assert!(
        closed.unread.iter().any(|(name, why)| name == "harbour/vault" && why.contains("no key")),
        "{:?}",
        closed.unread
    );
}

/// Btrfs in an encrypted volume: laid into it through the key, edited, and sound behind it.
#[test]
fn btrfs_in_an_encrypted_volume_is_changed() {
    if !has(&["mkfs.btrfs", "btrfs"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let root = crate::common::tree(folder.path(), &[("/etc/fstab", b"# none\n"), ("/file", &lines("tide", 20_000))]);
    let inside = |guest: &Guest| {
        let opened = guest.volumes.iter().position(|volume| volume.name == "opened disk 1 partition 10").unwrap();
        (opened, guest.volumes[opened].device().unwrap().clone())
    };
    let image = folder.path().join("image");
    let guest = open(&disks(), &keys(KEY));
    let (_, device) = inside(&guest);
    fs::File::create(&image).unwrap().set_len(device.size() / 4096 * 4096).unwrap();
    run(Command::new("mkfs.btrfs").args(["-q", "--mixed", "-n", "4096", "--rootdir"]).arg(root).arg(&image));
    guest.bench.begin("lay", "a test");
    device.write(0, &fs::read(&image).unwrap()).unwrap();
    let laid = crate::common::taken(&guest);
    let mut guest = open(&laid, &keys(KEY));
    let (place, _) = inside(&guest);
    assert_eq!(guest.volumes[place].kind, Some(Volume::Btrfs));
    guest.bench.begin("changes", "a test");
    let mut tree = guest.volume_tree(place, NOW).unwrap().unwrap();
    tree.append("/file", b"and more\n").unwrap();
    tree.write("/etc/new", &lines("new", 3000)).unwrap();
    drop(tree);
    let changed = crate::common::taken(&guest);
    let mut guest = open(&changed, &keys(KEY));
    let (place, device) = inside(&guest);
    let tree = guest.volume_tree(place, NOW).unwrap().unwrap();
    assert!(tree.read("/file", MIB).unwrap() == [lines("tide", 20_000), b"and more\n".to_vec()].concat());
    let mut bytes = vec![0; device.size() as usize];
    device.read(0, &mut bytes).unwrap();
    fs::write(&image, bytes).unwrap();
    run(Command::new("btrfs").args(["check", "--readonly", "--check-data-csum"]).arg(&image));
}
