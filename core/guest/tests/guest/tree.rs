//! Paths in a guest's tree: links are followed as the guest's kernel would, inside the guest, over its mounts, and never for ever.

use std::{
    collections::BTreeSet,
    fs,
    os::unix::fs::{FileExt, symlink},
    path::{Path, PathBuf},
};

use proptest::prelude::*;
use reformis_guest::{Error, Guest, Kind, Tree};

use crate::common::*;

/// A file, a folder or a link to a relative path, somewhere below the folders that were made before it.
#[derive(Debug, Clone)]
enum Made {
    File(Vec<usize>, u8),
    Folder(Vec<usize>),
    Link(Vec<usize>, Vec<usize>),
}

/// Names of a path; some go up.
const NAMES: [&str; 8] = ["a", "b", "c", "d", "..", "a", "b", "."];

fn path(names: &[usize]) -> String {
    names.iter().map(|&name| NAMES[name % NAMES.len()]).collect::<Vec<_>>().join("/")
}

/// The names of what is made do not go up.
fn place(root: &Path, names: &[usize]) -> PathBuf {
    root.join(names.iter().map(|&name| NAMES[name % 4]).collect::<PathBuf>())
}

fn made() -> impl Strategy<Value = Made> {
    let names = || prop::collection::vec(0..8usize, 1..4);
    prop_oneof![
        (names(), any::<u8>()).prop_map(|(names, byte)| Made::File(names, byte)),
        names().prop_map(Made::Folder),
        (names(), names()).prop_map(|(names, to)| Made::Link(names, to)),
    ]
}

/// What lies at a path: a file's bytes, a folder's names, or nothing.
#[derive(Debug, PartialEq)]
enum Found {
    File(Vec<u8>),
    Folder(BTreeSet<String>),
    Nothing,
}

fn here(root: &Path, path: &str) -> Found {
    let place = root.join(path);
    if let Ok(entries) = fs::read_dir(&place) {
        return Found::Folder(entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect());
    }
    fs::read(place).map_or(Found::Nothing, Found::File)
}

fn in_guest(tree: &Tree, path: &str) -> Found {
    match tree.stat(path).map(|stat| stat.kind) {
        Ok(Kind::Folder) => {
            let names = tree.list(path).unwrap().into_iter().map(|(name, _)| String::from_utf8(name).unwrap());
            Found::Folder(names.filter(|name| name != "lost+found").collect())
        }
        Ok(Kind::File) => Found::File(tree.read(path, MIB).unwrap()),
        _ => Found::Nothing,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Against this kernel, for links that stay below the root.
    #[test]
    fn relative_links_lead_where_a_kernel_follows_them(
        made in prop::collection::vec(made(), 1..24),
        asked in prop::collection::vec(prop::collection::vec(0..8usize, 1..5), 30),
    ) {
        if !has(&["mke2fs"]) {
            return Ok(());
        }
        let folder = tempfile::tempdir().unwrap();
        // So far down that nothing goes up beyond the root, where this machine is and a guest has nothing.
        let root = folder.path().join("root");
        let below = "deep/".repeat(30);
        let top = root.join(&below);
        fs::create_dir_all(&top).unwrap();
        for made in &made {
            // What cannot be made here, since something is in its way, is not made.
            match made {
                Made::File(names, byte) => drop(fs::write(place(&top, names), vec![*byte; 100])),
                Made::Folder(names) => drop(fs::create_dir_all(place(&top, names))),
                Made::Link(names, to) => drop(symlink(path(to), place(&top, names))),
            }
        }
        let image = ext4(folder.path(), 4, ROOT_UUID, Some(&root));
        let disk = folder.path().join("disk");
        fs::write(&disk, image).unwrap();
        let mut guest = open(&[&disk]);
        let tree = guest.volume_tree(0, NOW).unwrap().unwrap();
        for names in &asked {
            let path = format!("{below}{}", path(names));
            prop_assert_eq!(in_guest(&tree, &path), here(&root, &path), "{}", path);
        }
    }
}

/// A guest of two volumes, the second of which is mounted at `/var/log`.
fn two_volumes(folder: &Path) -> Guest {
    let root = tree(
        folder,
        &[
            ("/etc/fstab", format!("UUID={ROOT_UUID} / ext4\nUUID={BOOT_UUID} /var/log ext4\n").as_bytes()),
            ("/etc/os-release", b"ID=tidal\n"),
            ("/usr/bin/tide", b"tide"),
            ("/bin->usr/bin", b""),
            ("/var/log/hidden", b"below the mount"),
            ("/var/old->/var/log/old", b""),
            ("/home/up->../../../../etc/os-release", b""),
            ("/home/logs->../var/log", b""),
            ("/loop/a->b", b""),
            ("/loop/b->/loop/a", b""),
            ("/loop/self->self", b""),
            ("/loop/gone->nowhere", b""),
            ("/loop/through->/usr/bin/tide/more", b""),
        ],
    );
    // Forty links are followed, and no more.
    for number in 0..42 {
        symlink(format!("chain{}", number + 1), root.join(format!("chain{number}"))).unwrap();
    }
    fs::write(root.join("chain42"), b"the end").unwrap();
    let log = tree(
        &folder.join("other"),
        &[("/tide.log", b"low"), ("/old/first.log", b"first"), ("/etc->/etc", b""), ("/release->/etc/os-release", b"")],
    );
    let (path, file) = disk(folder, "disk", 32, "label: dos\nstart=2048, size=32768\nstart=34816, size=16384\n");
    file.write_all_at(&ext4(folder, 16, ROOT_UUID, Some(&root)), MIB).unwrap();
    file.write_all_at(&ext4(folder, 8, BOOT_UUID, Some(&log)), 17 * MIB).unwrap();
    open(&[&path])
}

#[test]
fn links_stay_inside_the_guest_and_lead_over_its_mounts() {
    if !has(&["mke2fs", "sfdisk"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let guest = two_volumes(folder.path());
    let tree = guest.systems[0].tree();
    let read = |path: &str| tree.read(path, MIB).map(|bytes| String::from_utf8(bytes).unwrap());
    for (path, content) in [
        ("/bin/tide", "tide"),
        ("bin/../../usr/./bin//tide", "tide"),
        ("/home/up", "ID=tidal\n"),
        ("/../../etc/os-release", "ID=tidal\n"),
        ("/var/log/tide.log", "low"),
        ("/home/logs/tide.log", "low"),
        // A link on the second volume starts from the guest's root.
        ("/var/log/release", "ID=tidal\n"),
        ("/home/logs/etc/os-release", "ID=tidal\n"),
        ("/var/old/first.log", "first"),
        ("/var/old/../tide.log", "low"),
        ("/chain2", "the end"),
    ] {
        assert_eq!(read(path).unwrap(), content, "{path}");
    }
    assert!(!tree.exists("/var/log/hidden"), "another volume lies over it");
    assert!(read("/chain1").is_err() && read("/chain0").is_err(), "more than forty links");
    for path in [
        "/loop/a",
        "/loop/b",
        "/loop/self",
        "/loop/gone",
        "/loop/through",
        "/usr/bin/tide/x",
        "/usr/bin/tide/..",
        "/usr/bin/tide/.",
        "/nowhere/..",
    ] {
        let error = read(path).unwrap_err();
        assert!(!error.to_string().is_empty() && !tree.exists(path), "{path}: {error}");
    }
    // What they are can be asked all the same.
    assert_eq!(tree.stat_link("/loop/a").unwrap().kind, Kind::Link);
    assert_eq!(tree.link_target("/loop/b").unwrap(), b"/loop/a");
    assert!(matches!(tree.read("/usr", MIB), Err(Error::WrongKind { .. })));
    assert!(matches!(tree.read("/usr/bin/tide", 3), Err(Error::TooLarge { size: 4, most: 3, .. })));
    assert!(matches!(tree.list("/usr/bin/tide"), Err(Error::WrongKind { .. })));
}

#[test]
fn changes_go_where_the_links_lead_and_not_over_a_mount() {
    if !has(&["mke2fs", "sfdisk", "e2fsck"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let mut guest = two_volumes(folder.path());
    guest.bench.begin("tides", "because");
    let tree = guest.systems[0].tree_mut();
    tree.write("/home/up", b"ID=other\n").unwrap();
    assert_eq!(tree.read("/etc/os-release", MIB).unwrap(), b"ID=other\n");
    assert_eq!(tree.stat_link("/home/up").unwrap().kind, Kind::Link, "it is still one");
    tree.write("/home/logs/high.log", b"high").unwrap();
    assert_eq!(tree.read("/var/log/high.log", MIB).unwrap(), b"high");
    tree.make_folders("/home/logs/a/b/c").unwrap();
    assert!(tree.is_folder("/var/log/a/b/c"));
    // What is removed is the link, not what it leads to.
    tree.remove("/home/up").unwrap();
    assert!(tree.exists("/etc/os-release") && tree.stat_link("/home/up").is_err());
    tree.rename("/var/log/high.log", "/var/log/a/b/c/higher.log").unwrap_or_else(|error| {
        // Between folders it may be refused, and then nothing has changed.
        assert!(!error.to_string().is_empty());
    });
    let moved = ["/var/log/high.log", "/var/log/a/b/c/higher.log"].map(|path| tree.exists(path));
    assert!(moved[0] != moved[1], "it is in one place");
    assert!(tree.rename("/var/log/tide.log", "/home/tide.log").is_err(), "that is another volume");
    assert!(tree.exists("/var/log/tide.log") && !tree.exists("/home/tide.log"));
    assert!(tree.remove("/var/log").is_err(), "a volume is mounted there");
    assert!(tree.remove("/").is_err() && tree.write("/loop/self", b"x").is_err());
    let overlay = guest.bench.take().remove(0);
    for (name, start, len) in [("first", 1, 16), ("second", 17, 8)] {
        let mut bytes = vec![0; (len * MIB) as usize];
        reformis_disk::Disk::read_at(&overlay, start * MIB, &mut bytes).unwrap();
        let part = folder.path().join(name);
        fs::write(&part, bytes).unwrap();
        run(std::process::Command::new("e2fsck").arg("-fn").arg(&part));
    }
}
