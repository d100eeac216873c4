//! Windows systems: told by what their registries and boot stores say, also after a stop in the middle of a write.

use std::{fs, path::Path, process::Command};

use reformis_disk::{Disk, budget::Budget};
use reformis_guest::{
    Guest,
    nt::{
        Data,
        keys::{self, HiveChange},
    },
};
use reformis_standin::{
    hives::{self, Given, build},
    windows,
};

use crate::{
    common::{MIB, NOW, has, run},
    ntfs::{made, opened},
};

const TOOLS: [&str; 1] = ["mkntfs"];
const CONFIG: &str = "/Windows/System32/config";

/// A volume with these files, written by us.
fn volume(folder: &Path, files: &[(&str, Vec<u8>)]) -> Vec<u8> {
    let image = made(folder, 32, 4096, 512);
    let (bench, mut tree) = opened(&image);
    bench.begin("fill", "with a system");
    for (path, bytes) in files {
        tree.make_folders(&path[..path.rfind('/').unwrap()]).unwrap();
        tree.write(path, bytes).unwrap();
    }
    drop(tree);
    let overlay = bench.take().remove(0);
    let mut bytes = vec![0; overlay.size() as usize];
    overlay.read_at(0, &mut bytes).unwrap();
    bytes
}

fn guest_on(path: &Path) -> Guest {
    let storage = reformis_disk::container::open(path, &Budget::whole()).unwrap();
    let disk = reformis_disk::format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
    Guest::open([disk], NOW, &Budget::whole()).unwrap()
}

fn key(path: &str, values: &[(&str, Given)]) -> (String, Vec<(String, Given)>) {
    (path.into(), values.iter().map(|(name, given)| ((*name).to_string(), given.clone())).collect())
}

#[test]
fn what_a_log_holds_is_told_and_goes_into_the_hive_with_the_first_change() {
    if !has(&TOOLS) {
        return;
    }
    for is_newer in [true, false] {
        let folder = tempfile::tempdir().unwrap();
        // The last write changed which control set is the current one, and made it.
        let before = build(
            5,
            &[
                key("Select", &[("Current", 1.into())]),
                key("ControlSet001\\Control\\ComputerName\\ComputerName", &[("ComputerName", "OLD".into())]),
            ],
        );
        let after = build(
            5,
            &[
                key("Select", &[("Current", 2.into())]),
                key("ControlSet002\\Control\\ComputerName\\ComputerName", &[("ComputerName", "NEW".into())]),
            ],
        );
        let (stopped, log) = hives::interrupted(&before, &after, is_newer);
        let end = if is_newer { "LOG2" } else { "LOG" };
        let (hive, log_path) = (format!("{CONFIG}/SYSTEM"), format!("{CONFIG}/SYSTEM.{end}"));
        let disk = folder.path().join("disk");
        fs::write(
            &disk,
            volume(
                folder.path(),
                &[(&hive, stopped.clone()), (&log_path, log), (&format!("{CONFIG}/SOFTWARE"), windows::software())],
            ),
        )
        .unwrap();
        let mut guest = guest_on(&disk);
        assert_eq!(guest.unread_paths, []);
        let facts = guest.systems[0].summary(&guest.volumes).windows.unwrap();
        assert_eq!((facts.settings.control_set, facts.settings.computer_name.as_deref()), (Some(2), Some("NEW")));
        assert_eq!(facts.replayed_hives, ["SYSTEM"]);
        let mut tree = guest.systems.remove(0).into_tree();
        // Looking changes nothing.
        assert!(tree.read(&hive, 1 << 20).unwrap() == stopped);
        guest.bench.begin("patch", "for a test");
        let set = HiveChange::Set("CurrentControlSet\\Services\\tide".into(), "Start".into(), Data::Number(0));
        let changes = keys::change(&mut tree, "SYSTEM", &[set], NOW).unwrap();
        assert_eq!(changes.last().unwrap().key, "ControlSet002\\Services\\tide");
        let hive = tree.read(&hive, 1 << 20).unwrap();
        assert_eq!(hives::check(&hive), Vec::<String>::new());
        assert_eq!(tree.stat(&log_path).unwrap().size, 0);
        let select = keys::look(&tree, "system", "Select", NOW).unwrap();
        assert_eq!((select.replayed, &select.values[0].data), (false, &Data::Number(2)));
    }
}

#[test]
fn letters_lead_to_other_volumes_on_disks_of_either_table() {
    if !has(&TOOLS) || !has(&["sfdisk"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let disk = folder.path().join("disk");
    fs::File::create(&disk).unwrap().set_len(80 * MIB).unwrap();
    let script = folder.path().join("script");
    fs::write(
        &script,
        "label: dos\nlabel-id: 0x5a170051\nstart=2048, size=65536, type=7, bootable\nstart=71680, size=65536, type=7\n",
    )
    .unwrap();
    run(Command::new("sfdisk").arg("-q").arg(&disk).stdin(fs::File::open(&script).unwrap()));
    let mounted = |start: u64| Given::Bytes([&0x5a17_0051_u32.to_le_bytes()[..], &start.to_le_bytes()].concat());
    let system = build(
        3,
        &[
            key("Select", &[("Current", 1.into())]),
            key(
                "MountedDevices",
                &[
                    ("\\DosDevices\\C:", mounted(MIB)),
                    ("\\DosDevices\\E:", mounted(35 * MIB)),
                    ("\\??\\Volume{5a170000}", mounted(35 * MIB)),
                    ("\\DosDevices\\Z:", mounted(77)),
                ],
            ),
        ],
    );
    let client = [
        ("ProductName", "Windows 10 Pro".into()),
        ("InstallationType", "Client".into()),
        ("CurrentBuild", "22631".into()),
        ("CurrentVersion", "6.3".into()),
    ];
    let software = build(5, &[key("Microsoft\\Windows NT\\CurrentVersion", &client)]);
    let first = volume(
        folder.path(),
        &[
            (&format!("{CONFIG}/SYSTEM"), system),
            (&format!("{CONFIG}/SOFTWARE"), software),
            ("/Boot/BCD", windows::boot_store([1; 16], [2; 16])),
        ],
    );
    let second = volume(folder.path(), &[("/data/tides.csv", b"4.2\n".to_vec())]);
    let file = fs::OpenOptions::new().write(true).open(&disk).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, &first, MIB).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, &second, 35 * MIB).unwrap();
    let mut guest = guest_on(&disk);
    let facts = guest.systems[0].summary(&guest.volumes).windows.unwrap();
    assert_eq!(guest.systems[0].name(), "Windows 11 Pro", "by its build");
    let letters: Vec<(&str, &str)> =
        facts.letters.iter().map(|(letter, volume)| (letter.as_str(), volume.as_str())).collect();
    assert_eq!(letters, [("C:", "disk 1 partition 1"), ("E:", "disk 1 partition 2")]);
    assert_eq!(facts.boot_store.as_deref(), Some("/Boot/BCD on disk 1 partition 1"));
    assert_eq!(facts.boot_entries[0].volume, None, "its partition is on no disk here");
    let tree = guest.systems.remove(0).into_tree();
    for path in ["/E:/data/tides.csv", "e:/DATA/Tides.csv", "/Volume{5a170000}/data/tides.csv"] {
        assert_eq!(tree.read(path, 9).unwrap(), b"4.2\n", "{path}");
    }
    assert!(tree.is_folder("/C:/Windows") && !tree.exists("/Z:/data"));
}

#[test]
fn a_registry_that_cannot_be_read_is_told_and_the_rest_is_there() {
    if !has(&TOOLS) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let mut software = windows::software();
    software[0] = b'x';
    let disk = folder.path().join("disk");
    fs::write(
        &disk,
        volume(
            folder.path(),
            &[(&format!("{CONFIG}/SYSTEM"), windows::system([7; 16])), (&format!("{CONFIG}/SOFTWARE"), software)],
        ),
    )
    .unwrap();
    let guest = guest_on(&disk);
    assert_eq!(guest.systems[0].name(), "Windows");
    let facts = guest.systems[0].summary(&guest.volumes).windows.unwrap();
    assert_eq!(facts.settings.computer_name.as_deref(), Some("BERTHS"));
    assert!(
        guest.unread_paths.iter().any(|(path, why)| path.ends_with("SOFTWARE") && why.contains("no registry hive")),
        "{:?}",
        guest.unread_paths
    );
}
