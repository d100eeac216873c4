//! Guests that are unlike the usual one: two systems, other volumes, other firmware, and what is not read.

use std::{
    fs::{self, File},
    os::unix::fs::FileExt,
    process::Command,
    sync::Arc,
};

use reformis_disk::budget::Budget;
use reformis_disk::{Disk, format};
use reformis_guest::{Guest, Hardware, Link, Remark, State, Volume, Wishes, edit, refit};
use reformis_standin::{
    early::{FOLDER, archive},
    lvm::{self, EXTENT, Physical, Segment},
};

use crate::common::*;

#[test]
#[ignore = "needs root, loop devices and Debian's e2fsprogs, fdisk, util-linux"]
fn two_systems_one_of_them_read_only_and_one_that_was_not_shut_down() {
    let folder = tempfile::tempdir().unwrap();
    let files = system(&archive(&[("lib", FOLDER, b""), ("lib/modules", FOLDER, b"")]));
    let mut files: Vec<(&str, &[u8])> = files.iter().map(|(path, bytes)| (*path, bytes.as_slice())).collect();
    files.retain(|(path, _)| *path != "/etc/fstab");
    files.push(("/etc/fstab", b"/dev/sda1 / ext4 defaults 0 1\n"));
    let first = tree(folder.path(), &files);
    let part = folder.path().join("first");
    fs::write(&part, ext4(folder.path(), 30, ROOT_UUID, Some(&first))).unwrap();
    // In use while it is copied: its journal holds what is not in its place yet.
    let place = folder.path().join("place");
    fs::create_dir(&place).unwrap();
    run(Command::new("mount").args(["-o", "loop,data=journal"]).arg(&part).arg(&place));
    fs::write(place.join("etc/last-words"), b"noted, not yet in its place").unwrap();
    run(Command::new("sync").arg("-f").arg(&place));
    let crashed = fs::read(&part).unwrap();
    crate::common::unmount(&place);
    // The other one allows no changes.
    files.retain(|(path, _)| *path != "/etc/os-release");
    files.push(("/etc/os-release", b"PRETTY_NAME=\"Sealed 1\"\n"));
    fs::remove_dir_all(&first).unwrap();
    let second = tree(folder.path(), &files);
    let sealed = folder.path().join("sealed");
    fs::write(&sealed, ext4(folder.path(), 30, BOOT_UUID, Some(&second))).unwrap();
    run(Command::new("tune2fs").args(["-O", "read-only"]).arg(&sealed));
    let (path, file) = disk(folder.path(), "disk", 64, "label: dos\nstart=2048, size=61440\nstart=63488, size=61440\n");
    file.write_all_at(&crashed, MIB).unwrap();
    file.write_all_at(&fs::read(&sealed).unwrap(), 31 * MIB).unwrap();
    let mut both = open(&[&path]);
    assert_eq!(both.replayed, ["disk 1 partition 1"]);
    assert_eq!(text(&both, "/etc/last-words"), "noted, not yet in its place");
    let made = refit(&mut both, &virtio("vd"), &Wishes::default(), NOW);
    assert!(made.done.iter().all(|edit| edit.system == "Tidal 3") && made.done.len() == 4, "{:?}", made.done);
    let is = |test: &dyn Fn(&Remark) -> bool| made.remarks.iter().any(test);
    assert!(is(&|remark| matches!(remark, Remark::Several { systems } if systems == &["Tidal 3", "Sealed 1"])));
    assert!(is(&|remark| matches!(remark, Remark::Replayed { .. })));
    assert!(is(&|remark| matches!(remark, Remark::Failed { why, .. } if why.contains("marked as read-only"))));
    let overlay = both.bench.take().remove(0);
    assert_eq!(overlay.edits()[0].name, "journal");
    let mut bytes = vec![0; 30 * MIB as usize];
    overlay.read_at(MIB, &mut bytes).unwrap();
    fs::write(&part, bytes).unwrap();
    run(Command::new("e2fsck").arg("-fn").arg(&part));
    let mut untouched = vec![0; 30 * MIB as usize];
    overlay.read_at(31 * MIB, &mut untouched).unwrap();
    assert!(untouched == fs::read(&sealed).unwrap());
}

#[test]
fn an_adapter_that_gets_another_name() {
    if !has(&["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkswap"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |files| {
        files.push(("/etc/sysconfig/network-scripts/ifcfg-ens192", b"DEVICE=ens192\nONBOOT=yes\n".to_vec()));
    });
    let mut renamed = open(&[&path]);
    let mut hardware = virtio("sd");
    hardware.adapters[0].name = Some("shore0".into());
    refit(&mut renamed, &hardware, &Wishes::default(), NOW);
    let after = again(&renamed, folder.path());
    assert_eq!(text(&after, "/etc/network/interfaces"), "auto shore0\niface shore0 inet dhcp\n");
    assert_eq!(text(&after, "/etc/sysconfig/network-scripts/ifcfg-shore0"), "DEVICE=shore0\nONBOOT=yes\n");
    assert!(!after.systems[0].tree().exists("/etc/sysconfig/network-scripts/ifcfg-ens192"));
    assert!(text(&after, "/etc/systemd/network/10-keep-shore0.link").contains("Name=shore0"));
}

#[test]
fn logical_volumes_over_two_disks() {
    if !has(&["mke2fs", "debugfs", "e2fsck", "sfdisk"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let (first, first_file) = disk(folder.path(), "first", 96, "label: gpt\nstart=2048, type=L\n");
    // The second physical volume is a whole disk.
    let second = folder.path().join("second");
    let second_file = File::options().create(true).truncate(true).read(true).write(true).open(&second).unwrap();
    second_file.set_len(64 * MIB).unwrap();
    let root = tree(
        folder.path(),
        &[
            ("/etc/fstab", b"/dev/tides/root / ext4\n/dev/mapper/tides-log--data /var/log ext4\n"),
            ("/usr/x", b"x"),
            ("/var/log/", b""),
        ],
    );
    let log = tree(&folder.path().join("other"), &[("/tide.log", &[7; 300_000])]);
    let root = ext4(folder.path(), 32, ROOT_UUID, Some(&root));
    let log = ext4(folder.path(), 16, BOOT_UUID, Some(&log));
    let physical = [
        Physical { file: &first_file, start: MIB, size: 94 * MIB },
        Physical { file: &second_file, start: 0, size: 64 * MIB },
    ];
    // One volume in two runs on two disks, one in stripes over both.
    let linear = vec![Segment { legs: vec![(1, 2)], extents: 3 }, Segment { legs: vec![(0, 10)], extents: 5 }];
    let striped = vec![Segment { legs: vec![(0, 0), (1, 6)], extents: 4 }];
    let volumes = [lvm::Volume { name: "root", segments: linear }, lvm::Volume { name: "log-data", segments: striped }];
    lvm::lay("tides", &physical, &volumes).unwrap();
    second_file.write_all_at(&root[..3 * EXTENT as usize], lvm::extent_start(2)).unwrap();
    first_file.write_all_at(&root[3 * EXTENT as usize..], MIB + lvm::extent_start(10)).unwrap();
    for (number, stripe) in log.chunks(64 << 10).enumerate() {
        let at = (number / 2) as u64 * (64 << 10);
        match number % 2 {
            0 => first_file.write_all_at(stripe, MIB + lvm::extent_start(0) + at).unwrap(),
            _ => second_file.write_all_at(stripe, lvm::extent_start(6) + at).unwrap(),
        }
    }
    let guest = open(&[&first, &second]);
    assert_eq!(guest.unread, []);
    let mounts: Vec<_> = guest.systems[0].summary(&guest.volumes).mounts;
    assert_eq!(mounts, [("tides/root".into(), "/".into()), ("tides/log-data".into(), "/var/log".into())]);
    assert_eq!(guest.systems[0].tree().read("/var/log/tide.log", MIB).unwrap(), vec![7; 300_000]);
    // One disk alone: the volume is named, and why it cannot be read.
    let half = open(&[&first]);
    assert!(half.systems.is_empty());
    let troubles: Vec<_> =
        half.unread.iter().map(|(name, why)| (name.as_str(), why.contains("on none of the disks"))).collect();
    assert_eq!(troubles, [("tides/log-data", true), ("tides/root", true)]);
}

#[test]
fn a_loader_for_a_firmware_without_boot_entries() {
    if !has(&["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkfs.fat", "fsck.fat", "mmd", "mcopy"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let esp = folder.path().join("esp");
    File::create(&esp).unwrap().set_len(40 * MIB).unwrap();
    run(Command::new("mkfs.fat").args(["-F", "32"]).arg(&esp));
    run(Command::new("mmd").arg("-i").arg(&esp).args(["::EFI", "::EFI/tides"]));
    for name in ["shimx64.efi", "grubx64.efi"] {
        let file = folder.path().join(name);
        fs::write(&file, format!("MZ {name}").repeat(9000)).unwrap();
        run(Command::new("mcopy").arg("-i").arg(&esp).arg(&file).arg(format!("::EFI/tides/{name}")));
    }
    let (path, file) =
        disk(folder.path(), "disk", 96, "label: gpt\nstart=2048, size=81920, type=U\nsize=81920, type=L\n");
    file.write_all_at(&fs::read(&esp).unwrap(), MIB).unwrap();
    let root = tree(folder.path(), &[("/etc/os-release", b"ID=tidal\n"), ("/usr/x", b"x")]);
    file.write_all_at(&ext4(folder.path(), 40, ROOT_UUID, Some(&root)), 41 * MIB).unwrap();
    let mut guest = open(&[&path]);
    let hardware = Hardware { uefi: true, ..virtio("sd") };
    let made = refit(&mut guest, &hardware, &Wishes::default(), NOW);
    assert_eq!(names(&made), [edit::FALLBACK_LOADER]);
    let firmware = &made.evidence[0].1[0];
    assert_eq!((firmware.link, firmware.state), (Link::Firmware, State::Mended), "{firmware:?}");
    let overlay: Arc<dyn Disk> = Arc::new(guest.bench.take().remove(0));
    let mut bytes = vec![0; 40 * MIB as usize];
    overlay.read_at(MIB, &mut bytes).unwrap();
    fs::write(&esp, bytes).unwrap();
    run(Command::new("fsck.fat").arg("-n").arg(&esp));
    for (copy, of) in [("BOOTX64.EFI", "shimx64.efi"), ("grubx64.efi", "grubx64.efi")] {
        let out = folder.path().join("out");
        run(Command::new("mcopy").arg("-n").arg("-o").arg("-i").arg(&esp).arg(format!("::EFI/BOOT/{copy}")).arg(&out));
        assert_eq!(fs::read(&out).unwrap(), fs::read(folder.path().join(of)).unwrap(), "{copy}");
    }
}

#[test]
fn what_is_named_and_not_read() {
    let mut md = vec![0; 2 << 20];
    md[4096..4100].copy_from_slice(&0xa92b_4efc_u32.to_le_bytes());
    let mut zfs = vec![0; 2 << 20];
    zfs[(128 << 10) + 4096..][..8].copy_from_slice(&0x00ba_b10c_u64.to_le_bytes());
    for (bytes, kind) in [(md, Volume::Md), (zfs, Volume::Zfs)] {
        let storage = Arc::new(reformis_disk::source::MemoryStorage::new("disk.raw", bytes));
        let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
        let guest = Guest::open([disk], NOW, &Budget::whole()).unwrap();
        assert_eq!(guest.volumes[0].kind, Some(kind));
        assert!(guest.unread[0].1.contains(kind.name()), "{:?}", guest.unread);
    }
}
