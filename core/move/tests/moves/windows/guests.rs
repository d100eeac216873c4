//! Disks with made-up Windows systems, and what lies on them.

use std::{
    collections::BTreeMap,
    fs,
    io::Write,
    path::Path,
    process::Command,
    sync::{Arc, OnceLock},
};

use reformis_disk::{Disk, budget::Budget, format};
use reformis_guest::{Bench, Device, Guest, Tree};
use reformis_standin::{
    driver,
    windows::{self, Made},
};

use crate::common::Place;

pub(crate) const MIB: u64 = 1 << 20;
pub(crate) const NOW: i64 = 1_780_000_000;
pub(crate) const CONFIG: &str = "/Windows/System32/config";
const PARTITION: &str = "5A170000-0000-4000-8000-0000000000C1";
const DISK: &str = "5A170000-0000-4000-8000-0000000000C0";
const SIGNATURE: u32 = 0x5a17_00c0;

/// Whether what makes the disks is there; CI takes a test that was skipped for one that failed.
#[expect(clippy::explicit_write, reason = "what the macro prints is kept back of a test that passes")]
pub(crate) fn ready() -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let missing = ["mkntfs", "mkfs.fat", "sfdisk"]
        .into_iter()
        .find(|tool| !std::env::split_paths(&path).any(|folder| folder.join(tool).is_file()));
    if let Some(tool) = missing {
        let test = std::thread::current().name().unwrap_or_default().to_string();
        writeln!(std::io::stderr(), "SKIPPED {test}: there is no {tool}").unwrap();
    }
    missing.is_none()
}

fn run(command: &mut Command) {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A volume that a tool made in a file of so many MiB, and its bytes.
fn formatted(mib: u64, command: &mut Command) -> Vec<u8> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("volume");
    fs::File::create(&path).unwrap().set_len(mib * MIB).unwrap();
    run(command.arg(&path));
    fs::read(&path).unwrap()
}

fn ntfs() -> &'static [u8] {
    static VOLUME: OnceLock<Vec<u8>> = OnceLock::new();
    VOLUME.get_or_init(|| formatted(16, Command::new("mkntfs").args(["-q", "-F", "-Q", "-L", "TIDE"])))
}

fn fat() -> &'static [u8] {
    static VOLUME: OnceLock<Vec<u8>> = OnceLock::new();
    VOLUME.get_or_init(|| formatted(8, Command::new("mkfs.fat").args(["-F", "12", "-i", "5a1700c2"])))
}

/// The identity of a text of digits as it lies on a disk.
fn guid(text: &str) -> [u8; 16] {
    reformis_machine::Uuid::parse_str(text).unwrap().to_bytes_le()
}

fn opened(path: &Path) -> Arc<dyn Disk> {
    let storage = reformis_disk::container::open(path, &Budget::whole()).unwrap();
    format::open(storage, None).unwrap().disk
}

fn raw(path: &Path) -> Arc<dyn Disk> {
    let storage = reformis_disk::container::open(path, &Budget::whole()).unwrap();
    format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk
}

/// Writes the disk `name` with the system `made`, and what `change` makes of its files.
pub(crate) fn disk(place: &Place, name: &str, made: &Made, change: impl Fn(&mut Vec<(String, Vec<u8>)>)) {
    let path = place.path(name);
    fs::File::create(&path).unwrap().set_len(28 * MIB).unwrap();
    let table = if made.uefi {
        format!(
            "label: gpt\nlabel-id: {DISK}\nstart=2048, size=16384, type=U\n\
             start=18432, size=32768, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, uuid={PARTITION}\n"
        )
    } else {
        format!("label: dos\nlabel-id: {SIGNATURE:#x}\nstart=18432, size=32768, type=7, bootable\n")
    };
    let mut sfdisk = Command::new("sfdisk").arg("-q").arg(&path).stdin(std::process::Stdio::piped()).spawn().unwrap();
    sfdisk.stdin.take().unwrap().write_all(table.as_bytes()).unwrap();
    assert!(sfdisk.wait().unwrap().success());
    let mut bytes = fs::read(&path).unwrap();
    let (esp, volume) = (MIB as usize, 9 * MIB as usize);
    bytes[volume..volume + ntfs().len()].copy_from_slice(ntfs());
    if made.uefi {
        bytes[esp..esp + fat().len()].copy_from_slice(fat());
    } else {
        bytes[..2].copy_from_slice(&[0xeb, 0xfe]);
    }
    fs::write(&path, &bytes).unwrap();
    let (device, mounted) = if made.uefi {
        (windows::on_gpt(guid(PARTITION), guid(DISK)), [&b"DMIO:ID:"[..], &guid(PARTITION)].concat())
    } else {
        let start = volume as u64;
        (windows::on_mbr(start, SIGNATURE), [&SIGNATURE.to_le_bytes()[..], &start.to_le_bytes()].concat())
    };
    let store = made.boot_store(&device);
    let mut files = made.files();
    files.push((format!("{CONFIG}/SYSTEM"), made.system(&mounted)));
    files.push((format!("{CONFIG}/SOFTWARE"), made.software()));
    let mut own = Vec::new();
    if made.uefi {
        own.push(("/EFI/Microsoft/Boot/BCD".to_string(), store));
        own.push(("/EFI/Microsoft/Boot/bootmgfw.efi".to_string(), b"MZ loader".to_vec()));
    } else {
        files.push(("/Boot/BCD".into(), store));
    }
    change(&mut files);
    let bench = Bench::new([raw(&path)], &Budget::whole());
    bench.begin("fill", "with a system");
    for (at, len, files) in [(volume as u64, 16 * MIB, files), (MIB, 8 * MIB, own)] {
        if files.is_empty() {
            continue;
        }
        let mut tree = Tree::of(&Device::part(&bench, 0, at, len, "the volume"), NOW).unwrap().unwrap();
        for (path, bytes) in files {
            tree.make_folders(path.rsplit_once('/').unwrap().0).unwrap();
            tree.write(&path, &bytes).unwrap();
        }
    }
    let overlay = bench.take().remove(0);
    overlay.read_at(0, &mut bytes).unwrap();
    fs::write(&path, &bytes).unwrap();
}

/// The driver medium as a folder.
pub(crate) fn medium(place: &Place, name: &str, change: impl Fn(&str, Vec<u8>) -> Option<Vec<u8>>) -> String {
    for (path, bytes) in driver::medium() {
        let Some(bytes) = change(&path, bytes) else { continue };
        let whole = place.path(name).join(path);
        fs::create_dir_all(whole.parent().unwrap()).unwrap();
        fs::write(whole, bytes).unwrap();
    }
    place.path(name).to_string_lossy().into_owned()
}

/// A guest that lies on a disk.
pub(crate) struct Lying {
    pub(crate) tree: Tree,
    disk: Arc<dyn Disk>,
}

impl Lying {
    pub(crate) fn on(place: &Place, disk: &str) -> Self {
        let disk = opened(&place.path(disk));
        let mut guest = Guest::open([disk.clone()], NOW, &Budget::whole()).unwrap();
        assert_eq!((&guest.unread, &guest.unread_paths), (&Vec::new(), &Vec::new()));
        let tree = guest.systems.remove(0).into_tree();
        Self { tree, disk }
    }

    pub(crate) fn read(&self, path: &str) -> Option<Vec<u8>> {
        self.tree.read(path, 8 << 20).ok()
    }

    /// All files of the system's own volume.
    pub(crate) fn files(&self) -> BTreeMap<String, Vec<u8>> {
        let mut found = BTreeMap::new();
        self.walk("", &mut found);
        found
    }

    fn walk(&self, folder: &str, found: &mut BTreeMap<String, Vec<u8>>) {
        for (name, stat) in self.tree.list(if folder.is_empty() { "/" } else { folder }).unwrap() {
            let name = String::from_utf8(name).unwrap();
            // Files of the file system itself, and mounts of letters.
            if name.starts_with('$') || name.ends_with(':') {
                continue;
            }
            let path = format!("{folder}/{name}");
            match stat.kind {
                reformis_guest::Kind::Folder => self.walk(&path, found),
                _ => drop(found.insert(path.clone(), self.tree.read(&path, 16 << 20).unwrap())),
            }
        }
    }

    /// The bytes of the system's own volume.
    pub(crate) fn volume(&self) -> Vec<u8> {
        let mut bytes = vec![0; ntfs().len()];
        self.disk.read_at(9 * MIB, &mut bytes).unwrap();
        bytes
    }
}
