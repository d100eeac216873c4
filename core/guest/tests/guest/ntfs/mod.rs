//! NTFS, beside an independent driver: volumes that it filled are read as it reads them.

mod changes;
mod checker;
mod limits;
mod reading;

use std::{
    collections::{BTreeMap, BTreeSet},
    fs::{self, File},
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
};

use reformis_disk::{Disk, budget::Budget, format};
use reformis_guest::{Bench, Device, Kind, Tree};
use reformis_standin::ntfs_check;

use crate::common::{NOW, has, run};

pub(crate) const TOOLS: [&str; 3] = ["mkntfs", "ntfs-3g", "setfattr"];

/// Whether the other driver is there, and may mount: that takes root and FUSE.
pub(crate) fn ready() -> bool {
    let may_mount = File::options().read(true).write(true).open("/dev/fuse").is_ok()
        && fs::metadata("/proc/self").is_ok_and(|own| std::os::unix::fs::MetadataExt::uid(&own) == 0);
    has(&TOOLS) && (may_mount || has(&["root and /dev/fuse, to mount with"]))
}

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
    crate::common::unmount(place.path());
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

/// The tree on a bench's disk, as it is now.
pub(crate) fn opened_again(bench: &Arc<Bench>) -> Tree {
    Tree::of(&Device::part(bench, 0, 0, u64::MAX, "the volume"), NOW).unwrap().unwrap()
}

/// What lies at a path.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Thing {
    Folder,
    /// Length and a digest of the bytes.
    File(u64, blake3::Hash),
    Link,
}

pub(crate) type All = BTreeMap<Vec<u8>, Thing>;

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

pub(crate) fn attribute(path: &Path, name: &str, value: &str) {
    run(Command::new("setfattr").args(["-h", "-n", name, "-v", value]).arg(path));
}

/// A reparse point that leads to a path ([MS-FSCC] 2.1.2.4 and 2.1.2.5).
fn reparse(tag: u32, target: &str, flags: Option<u32>) -> Vec<u8> {
    let target: Vec<u8> = target.encode_utf16().flat_map(u16::to_le_bytes).collect();
    let len = target.len() as u16;
    let mut data: Vec<u8> = [0, len, len, len].iter().flat_map(|word| word.to_le_bytes()).collect();
    data.extend(flags.into_iter().flat_map(u32::to_le_bytes));
    data.extend([&target[..], &target].concat());
    [&tag.to_le_bytes()[..], &(data.len() as u16).to_le_bytes(), &[0, 0], &data].concat()
}

/// What a system's disk has: short names, compressed and sparse files, lists of attributes, hard links, streams, large folders.
pub(crate) fn fill(root: &Path, cluster: usize) {
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
    // A link to a folder, and a junction, which is one from the root of a drive.
    for (name, point) in [
        ("link", reparse(0xa000_000c, "Windows\\System32", Some(1))),
        ("junction", reparse(0xa000_0003, "\\??\\C:\\Windows", None)),
    ] {
        fs::create_dir(root.join(name)).unwrap();
        let digits: String = point.iter().map(|byte| format!("{byte:02x}")).collect();
        attribute(&root.join(name), "system.ntfs_reparse_data", &format!("0x{digits}"));
    }
}

/// Writes what the bench holds into the image, which independent readers then judge.
pub(crate) fn judged(bench: &Bench, image: &Path) {
    let overlay = bench.take().remove(0);
    let file = File::options().write(true).open(image).unwrap();
    let mut at = 0;
    let mut bytes = vec![0; 8 << 20];
    while at < overlay.size() {
        let len = bytes.len().min((overlay.size() - at) as usize);
        overlay.read_at(at, &mut bytes[..len]).unwrap();
        file.write_all_at(&bytes[..len], at).unwrap();
        at += len as u64;
    }
    assert_eq!(ntfs_check::check(&fs::read(image).unwrap()), Vec::<String>::new());
    run(Command::new("ntfsresize").args(["-i", "-f"]).arg(image));
    run(Command::new("ntfssecaudit").args(["-a", "-s"]).arg(image));
    run(Command::new("ntfs-3g.probe").arg("--readwrite").arg(image));
}

/// A volume of 4096-byte clusters by its bytes, and where the parts that are broken on purpose lie.
pub(crate) struct Broken(pub(crate) Vec<u8>);

impl Broken {
    pub(crate) fn number(&self, at: usize, bytes: usize) -> usize {
        self.0[at..at + bytes].iter().rev().fold(0, |sum, byte| sum << 8 | usize::from(*byte))
    }

    pub(crate) fn record(&self, number: usize) -> usize {
        self.number(48, 8) * 4096 + number * 1024
    }

    /// Where an attribute of a record lies.
    pub(crate) fn attribute(&self, record: usize, kind: usize) -> usize {
        let mut at = self.record(record) + self.number(self.record(record) + 20, 2);
        while self.number(at, 4) != kind {
            at += self.number(at + 4, 4);
        }
        at
    }

    /// Where the first cluster of an attribute lies.
    pub(crate) fn cluster(&self, record: usize, kind: usize) -> usize {
        let at = self.attribute(record, kind);
        let pairs = at + self.number(at + 32, 2);
        let (len, place) = (usize::from(self.0[pairs] & 15), usize::from(self.0[pairs] >> 4));
        self.number(pairs + 1 + len, place) * 4096
    }

    pub(crate) fn value(&self, record: usize, kind: usize) -> usize {
        let at = self.attribute(record, kind);
        at + self.number(at + 20, 2)
    }
}
