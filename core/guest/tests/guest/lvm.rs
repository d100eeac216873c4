//! Mirrors, thin volumes and cached ones as the kernel and its own tools made them (`lvm/recipe.sh`): each is read, and what may be
//! changed is.

use std::{fs, path::Path};

use reformis_disk::Disk;
use reformis_guest::{Error, Guest, Tree};

use crate::common::{MIB, NOW, open};

/// The two disks, unpacked into a folder.
fn disks(folder: &Path) -> [std::path::PathBuf; 2] {
    ["one", "two"].map(|name| {
        let packed = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("tests/guest/lvm/{name}.raw.zst"));
        let path = folder.join(name);
        fs::write(&path, zstd::decode_all(fs::File::open(packed).unwrap()).unwrap()).unwrap();
        path
    })
}

fn tree(guest: &mut Guest, name: &str) -> Tree {
    let index = guest.volumes.iter().position(|volume| volume.name == name).unwrap();
    let trouble = &guest.volumes[index].trouble;
    assert!(trouble.is_none(), "{name}: {trouble:?}");
    guest.volume_tree(index, NOW).unwrap().unwrap()
}

/// What the recipe puts into a file.
fn lines(word: &str, count: usize) -> Vec<u8> {
    (1..=count).flat_map(|number| format!("{word} {number}\n").into_bytes()).collect()
}

#[test]
fn each_kind_is_read_as_its_own_kernel_left_it() {
    let folder = tempfile::tempdir().unwrap();
    let [one, two] = disks(folder.path());
    let mut guest = open(&[&one, &two]);
    for (volume, file, word, count) in [
        ("tide/mirrored", "/file", "mirrored", 30_000),
        ("tide/thin", "/file", "thin", 30_000),
        ("tide/thin", "/more", "later", 40_000),
        ("tide/frozen", "/file", "thin", 30_000),
        ("tide/cached", "/file", "cached", 30_000),
        // Most of it is in the cache alone.
        ("tide/cached", "/more", "later6", 40_000),
    ] {
        assert!(tree(&mut guest, volume).read(file, MIB).unwrap() == lines(word, count), "{volume} {file}");
    }
    assert!(!tree(&mut guest, "tide/frozen").exists("/more"), "it is as it was before");
}

#[test]
fn a_mirror_is_changed_on_both_sides_and_the_others_are_not_changed() {
    let folder = tempfile::tempdir().unwrap();
    let [one, two] = disks(folder.path());
    let mut guest = open(&[&one, &two]);
    for volume in ["tide/thin", "tide/cached"] {
        guest.bench.begin("refused", "a test");
        let error = tree(&mut guest, volume).write("/new", b"new").unwrap_err();
        assert!(matches!(error, Error::Unsupported { .. }), "{error}");
        guest.bench.rollback();
    }
    guest.bench.begin("mirror", "a test");
    tree(&mut guest, "tide/mirrored").write("/new", b"on both sides").unwrap();
    for (path, overlay) in [&one, &two].into_iter().zip(guest.bench.take()) {
        let mut bytes = vec![0; overlay.size() as usize];
        overlay.read_at(0, &mut bytes).unwrap();
        fs::write(path, bytes).unwrap();
    }
    // Either half alone has it.
    for alone in [&one, &two] {
        let mut guest = open(&[alone]);
        assert_eq!(tree(&mut guest, "tide/mirrored").read("/new", MIB).unwrap(), b"on both sides");
    }
}

#[test]
fn what_is_missing_or_damaged_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let [one, two] = disks(folder.path());
    let guest = open(&[&one]);
    let trouble = |name: &str| {
        let volume = guest.volumes.iter().find(|volume| volume.name == name).unwrap();
        volume.trouble.clone().unwrap_or_default()
    };
    assert!(trouble("tide/cached").contains("on none of the disks here"), "{}", trouble("tide/cached"));
    // A half that does not know of the newest changes is not asked: here both, one after the other, lose what is beside them.
    let mut bytes = fs::read(&one).unwrap();
    let marks: Vec<usize> =
        bytes.windows(4).enumerate().filter(|(_, mark)| *mark == b"DmRd").map(|(at, _)| at).collect();
    assert!(!marks.is_empty());
    for at in marks {
        bytes[at..at + 4].fill(0);
    }
    fs::write(&one, &bytes).unwrap();
    let mut both = open(&[&one, &two]);
    assert!(tree(&mut both, "tide/mirrored").exists("/file"));
    let alone = open(&[&one]);
    let mirror = alone.volumes.iter().find(|volume| volume.name == "tide/mirrored").unwrap();
    assert!(mirror.trouble.as_ref().unwrap().contains("nothing tells which"), "{:?}", mirror.trouble);
}
