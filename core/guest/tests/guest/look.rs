//! Disks as partitioning and file system tools make them: what is seen of each.

use std::{
    fs::File,
    io::Write,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::Arc,
};

use reformis_disk::{Disk, budget::Budget, format, source::MemoryStorage};
use reformis_guest::{Family, Look, Role, Table, Volume, look};

use crate::common::has;

const MIB: u64 = 1 << 20;

fn run(command: &mut Command) {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A disk of 96 MiB, partitioned by `script` (sfdisk's language), with a file system made by each of `volumes`: its
/// first MiB, its length in MiB, and the tool with its options.
fn disk(folder: &Path, script: &str, volumes: &[(u64, u64, &[&str])]) -> PathBuf {
    let path = folder.join("disk");
    let image = File::options().create(true).truncate(true).read(true).write(true).open(&path).unwrap();
    image.set_len(96 * MIB).unwrap();
    let mut child = Command::new("sfdisk").arg("-q").arg(&path).stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(script.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    for (start, len, tool) in volumes {
        let part = folder.join("part");
        File::create(&part).unwrap().set_len(len * MIB).unwrap();
        run(Command::new(tool[0]).args(&tool[1..]).arg(&part));
        image.write_all_at(&std::fs::read(&part).unwrap(), start * MIB).unwrap();
    }
    path
}

fn look_at(bytes: Vec<u8>) -> Look {
    let storage = Arc::new(MemoryStorage::new("disk.raw", bytes));
    look(&format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk, &Budget::whole()).unwrap()
}

#[test]
fn disks_of_real_tools() {
    if !has(&["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkfs.fat", "fsck.fat", "mmd", "mcopy"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    // A UEFI disk: the loader is put in before the file system is copied to its place.
    let esp = folder.path().join("esp");
    File::create(&esp).unwrap().set_len(40 * MIB).unwrap();
    run(Command::new("mkfs.fat").args(["-F", "32"]).arg(&esp));
    let loader = folder.path().join("loader");
    std::fs::write(&loader, b"MZ").unwrap();
    run(Command::new("mmd").arg("-i").arg(&esp).args(["::EFI", "::EFI/BOOT", "::EFI/tides"]));
    run(Command::new("mcopy").arg("-i").arg(&esp).arg(&loader).arg("::EFI/BOOT/BOOTX64.EFI"));
    run(Command::new("mcopy").arg("-i").arg(&esp).arg(&loader).arg("::EFI/tides/grubx64-of-the-tides.efi"));
    let script = "label: gpt\nstart=2048, size=81920, type=U\nsize=40960, type=L\n";
    let path = disk(folder.path(), script, &[(41, 20, &["mke2fs", "-q", "-t", "ext4"])]);
    let mut bytes = std::fs::read(&path).unwrap();
    bytes[MIB as usize..41 * MIB as usize].copy_from_slice(&std::fs::read(&esp).unwrap());
    let seen = look_at(bytes.clone());
    assert_eq!(seen.table, Some(Table::Gpt));
    let kinds: Vec<_> = seen.partitions.iter().map(|(p, v)| (p.number, p.start / MIB, p.role, *v)).collect();
    assert_eq!(kinds, [(1, 1, Role::Esp, Some(Volume::Fat)), (2, 41, Role::Other, Some(Volume::Ext))]);
    assert_eq!(seen.loaders, ["EFI/BOOT/BOOTX64.EFI", "EFI/tides/grubx64-of-the-tides.efi"]);
    assert!(seen.boots_uefi() && seen.has_fallback() && !seen.boots_bios());
    assert_eq!(seen.family(), Some(Family::Linux));
    // The first table is damaged: the one at the end says the same.
    bytes[512 + 40] ^= 1;
    assert_eq!(look_at(bytes.clone()), seen);
    // Both are damaged: only the mark that there was one is left.
    let end = bytes.len() - 512;
    bytes[end] ^= 1;
    assert!(!look_at(bytes).boots_uefi());

    // A BIOS disk with a logical partition.
    let script =
        "label: dos\nstart=2048, size=40960, type=7, bootable\nstart=43008, type=5\nstart=45056, size=20480, type=83\n";
    let path = disk(folder.path(), script, &[(22, 10, &["mkswap", "-q"])]);
    let mut bytes = std::fs::read(&path).unwrap();
    bytes[MIB as usize + 3..][..8].copy_from_slice(b"-FVE-FS-");
    bytes[..2].copy_from_slice(&[0xeb, 0x63]);
    let seen = look_at(bytes);
    let kinds: Vec<_> = seen.partitions.iter().map(|(p, v)| (p.number, p.active, *v)).collect();
    assert_eq!(kinds, [(1, true, Some(Volume::Fve)), (5, false, Some(Volume::Swap))]);
    assert!(seen.boots_bios() && !seen.boots_uefi());
    assert_eq!((seen.family(), seen.encrypted()), (Some(Family::Nt), vec![Volume::Fve]));
}

#[test]
fn a_disk_without_a_table_and_one_that_lies() {
    let mut plain = vec![0; 1 << 20];
    plain[1080..1082].copy_from_slice(&[0x53, 0xef]);
    let seen = look_at(plain.clone());
    assert_eq!((seen.table, seen.whole, seen.family()), (None, Some(Volume::Ext), Some(Family::Linux)));
    // Partitions beyond the end, and a chain of tables that comes back to itself.
    plain[510..512].copy_from_slice(&[0x55, 0xaa]);
    let mut put = |at: usize, kind: u8, start: u32, size: u32| {
        plain[at + 4] = kind;
        plain[at + 8..at + 12].copy_from_slice(&start.to_le_bytes());
        plain[at + 12..at + 16].copy_from_slice(&size.to_le_bytes());
    };
    put(446, 0x83, u32::MAX, u32::MAX);
    put(462, 0x05, 1, 100);
    put(512 + 446, 0x83, 10, 20);
    put(512 + 462, 0x05, 0, 100);
    plain[1022..1024].copy_from_slice(&[0x55, 0xaa]);
    let seen = look_at(plain);
    assert!(seen.partitions.len() <= 128 && seen.partitions.iter().all(|(p, _)| p.start + p.size <= 1 << 20));
    assert!(!seen.boots_bios());
    let small: Arc<dyn Disk> = Arc::new(reformis_disk::disk::EmptyDisk::new(100));
    assert_eq!(look(&small, &Budget::whole()).unwrap().table, None);
}
