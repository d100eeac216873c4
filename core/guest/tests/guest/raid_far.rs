//! RAID 10 whose copies lie far apart, as the kernel made it (`arrays/recipe.sh`): read from any of the copies, and changed on all of them.

use std::{fs, path::Path, process::Command, sync::Arc};

use reformis_disk::{budget::Budget, format, source::MemoryStorage};
use reformis_guest::Guest;

use crate::common::{MIB, NOW, has, run, taken};

/// Name of each array, its first partition, and how many there are.
const ARRAYS: [(&str, usize, usize); 4] = [("f2-3", 1, 3), ("o2-3", 4, 3), ("f2-2", 7, 2), ("f3-5", 9, 5)];

fn disk() -> Vec<u8> {
    let packed = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/guest/arrays/far.raw.zst");
    zstd::decode_all(fs::File::open(packed).unwrap()).unwrap()
}

fn open(bytes: &[u8]) -> Guest {
    let storage = Arc::new(MemoryStorage::new("disk.raw", bytes.to_vec()));
    let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
    Guest::open([disk], NOW, &Budget::whole()).unwrap()
}

/// What the recipe puts into an array's file.
fn lines(word: &str) -> Vec<u8> {
    (1..=60_000).flat_map(|number| format!("{word} {number}\n").into_bytes()).collect()
}

fn file(guest: &mut Guest, name: &str) -> Vec<u8> {
    let place = guest.volumes.iter().position(|volume| volume.name == format!("array {name}")).unwrap();
    guest.volume_tree(place, NOW).unwrap().unwrap().read("/file", 4 * MIB).unwrap()
}

/// The disk without the superblock of a partition's member.
fn without(disk: &[u8], partition: usize) -> Vec<u8> {
    let mut bytes = disk.to_vec();
    let start = (partition - 1) * 8 * MIB as usize + MIB as usize;
    bytes[start..start + 8192].fill(0);
    bytes
}

#[test]
fn copies_that_lie_far_apart_are_read_and_changed_alike() {
    let made = disk();
    let mut guest = open(&made);
    assert_eq!(guest.unread, []);
    guest.bench.begin("change", "a test");
    for (name, ..) in ARRAYS {
        assert!(file(&mut guest, name) == lines(name), "{name}");
        let place = guest.volumes.iter().position(|volume| volume.name == format!("array {name}")).unwrap();
        let mut tree = guest.volume_tree(place, NOW).unwrap().unwrap();
        tree.append("/file", b"and more\n").unwrap();
        tree.write("/new", &lines(name)[..200_000]).unwrap();
    }
    let changed = taken(&guest).remove(0);
    for (disk, more) in [(&made, &b""[..]), (&changed, b"and more\n")] {
        for (name, first, count) in ARRAYS {
            // Without any one of them the others have everything.
            for partition in first..first + count {
                let mut guest = open(&without(disk, partition));
                let array = guest.volumes.iter().find_map(|volume| volume.array.as_ref().filter(|a| a.name == name));
                assert_eq!(array.map(|array| (array.members, array.missing)), Some((count, 1)), "{name} {partition}");
                assert!(file(&mut guest, name) == [&lines(name)[..], more].concat(), "{name} without {partition}");
            }
        }
    }
    if has(&["e2fsck"]) {
        let folder = tempfile::tempdir().unwrap();
        for volume in open(&changed).volumes.iter().filter(|volume| volume.array.is_some()) {
            let mut bytes = vec![0; volume.size as usize];
            volume.device().unwrap().read(0, &mut bytes).unwrap();
            let path = folder.path().join("volume");
            fs::write(&path, bytes).unwrap();
            run(Command::new("e2fsck").arg("-fn").arg(&path));
        }
    }
}
