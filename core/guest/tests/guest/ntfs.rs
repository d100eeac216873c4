//! NTFS, beside an independent driver: volumes that it filled are read as it reads them.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs::{self, File},
    os::unix::{ffi::OsStringExt, fs::FileExt},
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
};

use reformis_disk::{Disk, budget::Budget, format};
use reformis_guest::{Bench, Device, Kind, Tree};

use crate::common::{NOW, has, run};

const TOOLS: [&str; 3] = ["mkntfs", "ntfs-3g", "setfattr"];

/// An empty volume of so many MiB.
pub(crate) fn made(folder: &Path, mib: u64, cluster: u32, sector: u32) -> PathBuf {
    let image = folder.join("volume");
    File::create(&image).unwrap().set_len(mib << 20).unwrap();
    let geometry = [cluster.to_string(), sector.to_string()];
    run(Command::new("mkntfs")
        .args(["-q", "-F", "-Q", "-L", "TIDE", "-c", &geometry[0], "-s", &geometry[1]])
        .arg(&image));
    image
}

/// What `work` gives with the volume mounted by the other driver.
pub(crate) fn mounted<T>(image: &Path, options: &str, work: impl FnOnce(&Path) -> T) -> T {
    let place = tempfile::tempdir().unwrap();
    run(Command::new("ntfs-3g").args(["-o", options]).arg(image).arg(place.path()));
    let outcome = work(place.path());
    run(Command::new("umount").arg(place.path()));
    outcome
}

/// A tree on a volume, and the bench that its changes are on.
pub(crate) fn opened(image: &Path) -> (Arc<Bench>, Tree) {
    let storage = reformis_disk::container::open(image, &Budget::whole()).unwrap();
    let disk: Arc<dyn Disk> = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
    let bench = Bench::new([disk], &Budget::whole());
    let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
    (bench, Tree::of(&device, NOW).unwrap().unwrap())
}

/// What lies at a path.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Thing {
    Folder,
    /// Length and a digest of the bytes.
    File(u64, blake3::Hash),
    Link,
}

type All = BTreeMap<Vec<u8>, Thing>;

fn walk_mount(root: &Path, folder: &Path, into: &mut All) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let key = [b"/", path.strip_prefix(root).unwrap().as_os_str().as_encoded_bytes()].concat();
        let kind = fs::symlink_metadata(&path).unwrap().file_type();
        let thing = if kind.is_symlink() {
            Thing::Link
        } else if kind.is_dir() {
            walk_mount(root, &path, into);
            Thing::Folder
        } else {
            let bytes = fs::read(&path).unwrap();
            Thing::File(bytes.len() as u64, blake3::hash(&bytes))
        };
        into.insert(key, thing);
    }
}

fn walk_tree(tree: &Tree, folder: &[u8], into: &mut All) {
    for (name, stat) in tree.list(folder).unwrap() {
        let path = [folder, b"/", &name].concat();
        let thing = match stat.kind {
            Kind::Folder => {
                walk_tree(tree, &path, into);
                Thing::Folder
            }
            Kind::Link => Thing::Link,
            _ => {
                let mut bytes = Vec::new();
                tree.copy(&path, &mut bytes).unwrap();
                assert_eq!(bytes.len() as u64, stat.size);
                Thing::File(stat.size, blake3::hash(&bytes))
            }
        };
        into.insert(path, thing);
    }
}

/// All that the other driver sees.
pub(crate) fn seen_by_driver(image: &Path) -> All {
    mounted(image, "ro,permissions,streams_interface=windows", |root| {
        let mut all = All::new();
        walk_mount(root, root, &mut all);
        all
    })
}

/// All that we see.
pub(crate) fn seen(tree: &Tree) -> All {
    let mut all = All::new();
    walk_tree(tree, b"", &mut all);
    all
}

/// What differs, in few words.
pub(crate) fn difference(one: &All, other: &All) -> Vec<String> {
    let keys: BTreeSet<_> = one.keys().chain(other.keys()).collect();
    let differing = keys.into_iter().filter(|key| one.get(*key) != other.get(*key));
    let told =
        differing.map(|key| format!("{}: {:?}, {:?}", String::from_utf8_lossy(key), one.get(key), other.get(key)));
    told.take(5).collect()
}

/// Bytes that do not compress, the same each time.
pub(crate) fn noise(seed: u32, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

fn attribute(path: &Path, name: &str, value: &str) {
    run(Command::new("setfattr").args(["-h", "-n", name, "-v", value]).arg(path));
}

/// What a system's disk has: short names, compressed and sparse files, lists of attributes, hard links, streams, large folders.
fn fill(root: &Path, cluster: usize) {
    let drivers = root.join("Windows/System32/drivers");
    fs::create_dir_all(&drivers).unwrap();
    fs::create_dir(root.join("Program Files")).unwrap();
    attribute(&root.join("Program Files"), "system.ntfs_dos_name", "PROGRA~1");
    fs::write(drivers.join("longdrivername.sys"), "a driver").unwrap();
    attribute(&drivers.join("longdrivername.sys"), "system.ntfs_dos_name", "LONGDR~1.SYS");
    for (number, name) in ["second.sys", "Grüße 🌊.txt", "ÉCLUSE", "trailing 水位.log"].iter().enumerate() {
        fs::write(drivers.join(name), noise(number as u32, 700 * number)).unwrap();
    }
    let packed = root.join("packed");
    fs::create_dir(&packed).unwrap();
    attribute(&packed, "system.ntfs_attrib_be", "0x00000810");
    fs::write(packed.join("text.log"), "the gauge reads 4.2 m\n".repeat(60_000)).unwrap();
    fs::write(packed.join("noise.bin"), noise(9, 200_001)).unwrap();
    let mixed: Vec<u8> =
        (0..40).flat_map(|part| if part % 3 == 0 { noise(part, 9000) } else { vec![0; 30_000] }).collect();
    fs::write(packed.join("mixed.bin"), &mixed).unwrap();
    let sparse = File::create(root.join("sparse.bin")).unwrap();
    sparse.set_len(5 << 20).unwrap();
    sparse.write_all_at(b"x", 3 << 20).unwrap();
    let big = root.join("big");
    fs::create_dir(&big).unwrap();
    for number in 0..1500 {
        fs::write(big.join(format!("file-{number}.dat")), if number % 7 == 0 { "7" } else { "" }).unwrap();
    }
    for number in (0..1500).step_by(3) {
        fs::remove_file(big.join(format!("file-{number}.dat"))).unwrap();
    }
    fs::hard_link(drivers.join("longdrivername.sys"), root.join("link2.sys")).unwrap();
    for number in 0..60 {
        fs::write(root.join(format!("Windows/many.txt:s{number}")), noise(number, 90)).unwrap();
    }
    fs::write(root.join("Windows/many.txt:large"), noise(99, 100_000)).unwrap();
    fs::write(root.join("Case.txt"), "x").unwrap();
    fs::write(root.join("case.TXT"), "yy").unwrap();
    // Free space in small pieces, and a file in hundreds of them.
    for number in 0..1200 {
        fs::write(root.join(format!("f{number}")), vec![1; cluster.max(1024)]).unwrap();
    }
    for number in (0..1200).step_by(2) {
        fs::remove_file(root.join(format!("f{number}"))).unwrap();
    }
    fs::write(root.join("pieces.bin"), noise(5, cluster.max(1024) * 500)).unwrap();
    std::os::unix::fs::symlink("Windows/System32", root.join("link")).unwrap();
}

#[test]
fn volumes_of_every_geometry_are_read_as_another_driver_reads_them() {
    if !has(&TOOLS) {
        return;
    }
    for (cluster, sector) in [(512, 512), (4096, 512), (4096, 4096), (64 << 10, 512), (2 << 20, 512)] {
        let folder = tempfile::tempdir().unwrap();
        let large = if cluster > 64 << 10 { 8192 } else { 256 };
        let image = made(folder.path(), large, cluster, sector);
        mounted(&image, "permissions,streams_interface=windows,compression", |root| {
            if cluster > 64 << 10 {
                fs::create_dir(root.join("Windows")).unwrap();
                fs::write(root.join("Windows/a.txt"), noise(3, 3 << 20)).unwrap();
            } else {
                fill(root, cluster as usize);
            }
        });
        let (_bench, tree) = opened(&image);
        let (mut ours, theirs) = (seen(&tree), seen_by_driver(&image));
        // A link of that driver's own making is a file to a system of the family.
        let links = |all: &mut All| all.retain(|path, _| path != b"/link");
        links(&mut ours);
        let mut theirs = theirs;
        links(&mut theirs);
        assert_eq!(difference(&ours, &theirs), Vec::<String>::new(), "{cluster} {sector}");
        if cluster > 64 << 10 {
            continue;
        }
        // Names in any case, short ones, and streams.
        let read = |path: &str| tree.read(path, 1 << 20).unwrap();
        assert_eq!(read("/WINDOWS/system32/DRIVERS/LongDriverName.SYS"), b"a driver");
        assert_eq!(read("/windows/system32/drivers/longdr~1.sys"), b"a driver");
        assert_eq!(read("/Windows/System32/Drivers/GRÜSSE 🌊.TXT".replace("SS", "ß").as_str()), noise(1, 700));
        assert_eq!((read("/Case.txt"), read("/case.TXT")), (b"x".to_vec(), b"yy".to_vec()));
        assert_eq!(read("/windows/MANY.txt:S7"), noise(7, 90));
        assert_eq!(read("/Windows/many.txt:large"), noise(99, 100_000));
        assert!(tree.is_folder("/progra~1") && !tree.exists("/Windows/many.txt:none"));
        assert_eq!(tree.streams("/Windows/many.txt").unwrap().len(), 61);
        assert_eq!(tree.stat("/link2.sys").unwrap().links, 2);
    }
}

#[test]
fn a_name_that_is_no_text_is_listed_and_found() {
    if !has(&TOOLS) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), 16, 4096, 512);
    let half = std::ffi::OsString::from_vec(b"half \xed\xa0\xbd.txt".to_vec());
    let was_made = mounted(&image, "permissions", |root| fs::write(root.join(&half), "4.2").is_ok());
    let (_bench, tree) = opened(&image);
    let names: Vec<Vec<u8>> = tree.list("/").unwrap().into_iter().map(|(name, _)| name).collect();
    if was_made {
        assert_eq!(names, [half.clone().into_vec()]);
        assert_eq!(tree.read([b"/", &half.into_vec()[..]].concat(), 9).unwrap(), b"4.2");
    } else {
        assert_eq!(names, Vec::<Vec<u8>>::new());
    }
}
