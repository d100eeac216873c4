//! Software RAID: arrays that a stand-in lays, judged by the RAID tools where they only look.

use std::{fs, path::PathBuf, process::Command};

use proptest::prelude::*;
use reformis_disk::Disk;
use reformis_guest::{Error, Guest, Tree, Volume};
use reformis_standin::{
    content::Content,
    raid::{Array, Metadata, seal},
};

use crate::common::{MIB, NOW, ext4, has, open, run, tree};

const ROOT: &str = "5a170000-0000-4000-8000-0000000000a1";

fn put(folder: &std::path::Path, members: &[Vec<u8>]) -> Vec<PathBuf> {
    let write = |(number, bytes): (usize, &Vec<u8>)| {
        let path = folder.join(format!("member{number}.raw"));
        fs::write(&path, bytes).unwrap();
        path
    };
    members.iter().enumerate().map(write).collect()
}

fn guest(paths: &[PathBuf]) -> Guest {
    open(&paths.iter().map(PathBuf::as_path).collect::<Vec<_>>())
}

fn made_up(size: usize) -> Vec<u8> {
    let mut bytes = vec![0; size];
    Content::empty(size as u64).with(0, size as u64, 7).read_at(0, &mut bytes);
    bytes
}

/// The array among the guest's volumes.
fn array(guest: &Guest) -> &reformis_guest::Found {
    guest.volumes.iter().find(|volume| volume.array.is_some()).expect("an array")
}

/// All bytes of the guest's array.
fn content(guest: &Guest) -> Vec<u8> {
    let disk = array(guest).device().expect("its bytes");
    let mut bytes = vec![0; usize::try_from(disk.size()).unwrap()];
    disk.read_at(0, &mut bytes).unwrap();
    bytes
}

fn mirror() -> Array {
    Array::mirror("root")
}

/// Each way that is read: level, metadata, chunk, layout, and the members' lengths in KiB.
fn kinds() -> Vec<(Array, Vec<usize>)> {
    let of = |level, metadata, chunk, layout, lens: &[usize]| {
        let name = if metadata == Metadata::Old { "3" } else { "tide" };
        let array = Array { level, metadata, chunk, layout, ..Array::mirror(name) };
        (array, lens.iter().map(|len| len << 10).collect())
    };
    vec![
        of(1, Metadata::Behind, 0, 0, &[3000, 3000]),
        of(1, Metadata::Start, 0, 0, &[3000, 3500, 4000]),
        of(1, Metadata::End, 0, 0, &[3001, 3001]),
        of(1, Metadata::Old, 0, 0, &[3040, 3040]),
        of(0, Metadata::Behind, 64 << 10, 0, &[3000, 3000]),
        of(0, Metadata::Behind, 64 << 10, 2, &[2000, 3000, 2500]),
        of(0, Metadata::Behind, 64 << 10, 1, &[2000, 3000, 2500]),
        of(0, Metadata::Old, 4096, 0, &[1024, 1024]),
        of(-1, Metadata::Behind, 64 << 10, 0, &[2000, 3000]),
        of(10, Metadata::Behind, 64 << 10, 256 | 2, &[3000, 3000, 3000, 3000]),
        of(10, Metadata::Behind, 4096, 256 | 2, &[3000, 3000, 3000]),
        of(10, Metadata::End, 8192, 256 | 3, &[3000, 3000, 3000, 3000]),
        of(10, Metadata::Behind, 8192, 256 | 2, &[3000, 3000]),
    ]
}

#[test]
fn every_kind_is_read_as_it_was_laid() {
    for (array, lens) in kinds() {
        let folder = tempfile::tempdir().unwrap();
        let bytes = made_up(array.size(&lens));
        let paths = put(folder.path(), &array.members(&bytes, &lens));
        if has(&["mdadm"]) {
            for path in &paths {
                let output = Command::new("mdadm").arg("--examine").arg(path).output().unwrap();
                let told = String::from_utf8_lossy(&output.stdout).into_owned();
                let line = told.lines().find(|line| line.trim_start().starts_with("Checksum : "));
                assert!(line.is_some_and(|line| line.contains("correct")), "{array:?}: {told}");
            }
        }
        let guest = guest(&paths);
        assert!(content(&guest) == bytes, "{array:?}");
        assert_eq!(guest.volumes.iter().filter(|volume| volume.kind == Some(Volume::Md)).count(), lens.len());
        let found = self::array(&guest).array.clone().unwrap();
        assert_eq!((found.missing, found.clean, found.members), (0, true, lens.len()));
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever is written reaches every copy: the members are those that the stand-in lays of the changed bytes.
    #[test]
    fn what_is_written_is_on_every_member_that_has_it(
        kind in 0..13usize,
        writes in prop::collection::vec((any::<u32>(), 1..20_000usize, any::<u8>()), 1..6),
    ) {
        let (array, lens) = kinds().swap_remove(kind);
        let folder = tempfile::tempdir().unwrap();
        let mut bytes = made_up(array.size(&lens));
        let guest = guest(&put(folder.path(), &array.members(&bytes, &lens)));
        guest.bench.begin("writes", "a test");
        for (at, len, seed) in writes {
            let at = at as usize % bytes.len();
            let len = len.min(bytes.len() - at);
            bytes[at..at + len].fill(seed);
            self::array(&guest).device().unwrap().write(at as u64, &bytes[at..at + len]).unwrap();
        }
        prop_assert!(content(&guest) == bytes);
        for (overlay, member) in guest.bench.take().iter().zip(array.members(&bytes, &lens)) {
            let mut found = vec![0; member.len()];
            overlay.read_at(0, &mut found).unwrap();
            prop_assert!(found == member, "{array:?}");
        }
    }
}

#[test]
fn what_is_missing_behind_or_unclean_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let lens = [3000 << 10, 3000 << 10];
    let bytes = made_up(mirror().size(&lens));
    let members = mirror().members(&bytes, &lens);
    let paths = put(folder.path(), &members);
    // One half has it all, and is changed; the other is not here.
    let half = guest(&paths[1..]);
    assert!(content(&half) == bytes);
    assert_eq!(array(&half).array.as_ref().map(|array| (array.missing, array.clean)), Some((1, true)));
    half.bench.begin("half", "a test");
    array(&half).device().unwrap().write(5, b"tide").unwrap();
    // A half that was left behind has other bytes, and is not read.
    let mut stale = members[0].clone();
    stale[(1 << 20) + 7] ^= 0xff;
    let block = &mut stale[4096..4096 + 260];
    block[200] = 9;
    seal(block, 216);
    fs::write(&paths[0], &stale).unwrap();
    let behind = guest(&paths);
    assert!(content(&behind) == bytes);
    assert_eq!(array(&behind).array.as_ref().map(|array| array.missing), Some(1));
    behind.bench.begin("behind", "a test");
    array(&behind).device().unwrap().write(5, b"tide").unwrap();
    assert!(behind.bench.take()[0].edits()[0].ranges.is_empty(), "nobody asks for what it holds");
    // What was not stopped cleanly is read, and not changed.
    let unclean = Array { clean: false, ..mirror() };
    let guest = guest(&put(folder.path(), &unclean.members(&bytes, &lens)));
    assert!(content(&guest) == bytes);
    guest.bench.begin("unclean", "a test");
    let error = array(&guest).device().unwrap().write(5, b"tide").unwrap_err();
    assert!(matches!(&error, Error::Unsupported { .. }) && error.to_string().contains("start the machine once"));
}

/// What a stranger writes where a superblock is: no member, or an array that is named and not read.
#[test]
fn what_is_not_sound_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let lens = [3000 << 10, 3000 << 10];
    let members = mirror().members(&made_up(mirror().size(&lens)), &lens);
    // Where in the superblock, what, and what is told.
    let wrongs: [(usize, &[u8], &str); 9] = [
        (72, &5i32.to_le_bytes(), "RAID 5"),
        (72, &10i32.to_le_bytes(), "not sound"),
        (8, &4u32.to_le_bytes(), "its shape was being changed"),
        (92, &u32::MAX.to_le_bytes(), "none of its members"),
        (92, &0u32.to_le_bytes(), "none of its members"),
        (80, &u64::MAX.to_le_bytes(), "not sound"),
        (128, &u64::MAX.to_le_bytes(), "none of its members"),
        (136, &(1u64 << 40).to_le_bytes(), "none of its members"),
        (256, &[0xff, 0xff, 0xff, 0xff], "none of its members"),
    ];
    for (at, bytes, expected) in wrongs {
        let mut members = members.clone();
        for member in &mut members {
            let block = &mut member[4096..4096 + 260];
            block[at..at + bytes.len()].copy_from_slice(bytes);
            seal(block, 216);
        }
        let guest = guest(&put(folder.path(), &members));
        let trouble = array(&guest).trouble.clone().unwrap_or_default();
        assert!(trouble.contains(expected), "{at}: {trouble}");
        assert!(guest.unread.iter().any(|(name, _)| name == "array root"), "{:?}", guest.unread);
    }
    // A sum that is wrong, and a place that is another one.
    for at in [20, 144] {
        let mut members = members.clone();
        members.iter_mut().for_each(|member| {
            member[4096 + at] ^= 1;
            if at == 144 {
                seal(&mut member[4096..4096 + 260], 216);
            }
        });
        let guest = guest(&put(folder.path(), &members));
        assert!(guest.volumes.iter().all(|volume| volume.array.is_none()), "{at}");
        assert!(guest.unread[0].1.contains("is not sound"), "{:?}", guest.unread);
    }
}

/// A root on a mirror is found, and changed on both halves alike; each half alone is a sound file system.
#[test]
fn a_root_on_a_mirror_is_a_system() {
    if !has(&["mke2fs", "e2fsck"]) {
        return;
    }
    for metadata in [Metadata::Old, Metadata::End, Metadata::Behind] {
        let folder = tempfile::tempdir().unwrap();
        let fstab = format!("UUID={ROOT} / ext4 defaults 0 1\n");
        let files: [(&str, &[u8]); 3] =
            [("/etc/fstab", fstab.as_bytes()), ("/etc/os-release", b"ID=debian\n"), ("/usr/lib/modules/", b"")];
        let mut fs = ext4(folder.path(), 12, ROOT, Some(&tree(folder.path(), &files)));
        let array = Array { metadata, ..Array::mirror("0") };
        let lens = [(13 * MIB) as usize + (256 << 10); 2];
        fs.resize(array.size(&lens), 0);
        let paths = put(folder.path(), &array.members(&fs, &lens));
        let mut guest = guest(&paths);
        // The start of a member with its metadata at the end looks like the file system.
        let kinds: Vec<_> = guest.volumes.iter().map(|volume| volume.kind).collect();
        assert_eq!(kinds, [Some(Volume::Md), Some(Volume::Md), Some(Volume::Ext)], "{metadata:?}");
        for spec in ["/dev/md0", "/dev/md/0", "/dev/disk/by-id/md-uuid-74696465:2d676175:67652d61:72726179"] {
            let found = reformis_guest::resolve(&guest.volumes, spec).map(|(place, _)| place);
            assert_eq!(found, Some(2), "{spec}");
        }
        assert!(reformis_guest::resolve(&guest.volumes, "/dev/sda").is_some_and(|(place, _)| place == 0));
        let mut tree: Tree = guest.volume_tree(2, NOW).unwrap().unwrap();
        guest.bench.begin("change", "a test");
        tree.write("/etc/hostname", b"tidelog").unwrap();
        drop(tree);
        let halves: Vec<Vec<u8>> = crate::common::taken(&guest);
        let start = if metadata == Metadata::Behind { MIB as usize } else { 0 };
        assert!(halves[0][start..start + 12 * MIB as usize] == halves[1][start..start + 12 * MIB as usize]);
        let path = folder.path().join("half");
        fs::write(&path, &halves[1][start..start + 12 * MIB as usize]).unwrap();
        run(Command::new("e2fsck").arg("-fn").arg(&path));
    }
}

/// The system of a machine with two disks, one mirror over both: found by `/dev/md0`, and made ready on either half.
#[test]
fn a_machine_on_a_mirror_is_made_ready() {
    if !has(&["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkswap"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let path = crate::common::guest(folder.path(), |files| {
        for (path, bytes) in files.iter_mut() {
            if ["/etc/fstab", "/etc/default/grub", "/boot/grub/grub.cfg"].contains(path) {
                *bytes = String::from_utf8(bytes.clone()).unwrap().replace("/dev/sda2", "/dev/md0").into_bytes();
            }
        }
    });
    let root = fs::read(path).unwrap()[5 * MIB as usize..45 * MIB as usize].to_vec();
    let lens = [(42 * MIB) as usize; 2];
    let mut content = root;
    content.resize(Array::mirror("0").size(&lens), 0);
    let members = Array::mirror("0").members(&content, &lens);
    let disks: Vec<PathBuf> = ["one", "two"]
        .into_iter()
        .zip(&members)
        .map(|(name, member)| {
            let (path, file) =
                crate::common::disk(folder.path(), name, 44, "label: dos\nstart=2048, size=86016, type=fd\n");
            std::os::unix::fs::FileExt::write_all_at(&file, member, MIB).unwrap();
            path
        })
        .collect();
    let mut before = guest(&disks);
    assert_eq!(before.systems.len(), 1, "{:?}", before.unread);
    let mut hardware = crate::common::virtio("vd");
    hardware.disks.push(hardware.disks[0].clone());
    let made = reformis_guest::refit(&mut before, &hardware, &reformis_guest::Wishes::default(), NOW);
    let names = crate::common::names(&made);
    assert!(names.contains(&reformis_guest::edit::DRIVERS), "{names:?} {:?}", made.remarks);
    let changes = made.done.iter().flat_map(|done| &done.changes);
    assert!(changes.clone().all(|change| !change.contains("/dev/md0 is")), "arrays keep their names: {:?}", made.done);
    let root = made.evidence[0].1.iter().find(|link| link.about.starts_with("root=")).unwrap();
    assert!(root.seen.contains("/dev/md0: array 0"), "{}", root.seen);
    let halves: Vec<Vec<u8>> = crate::common::taken(&before);
    // What the array holds, behind its superblock: the same on both, and sound.
    let data = |half: &Vec<u8>| half[2 * MIB as usize..42 * MIB as usize].to_vec();
    assert!(data(&halves[0]) == data(&halves[1]) && data(&halves[0]) != content[..40 * MIB as usize]);
    let part = folder.path().join("part");
    fs::write(&part, data(&halves[1])).unwrap();
    run(Command::new("e2fsck").arg("-fn").arg(&part));
    // Either half alone starts, and says that the other is missing.
    fs::write(&disks[1], &halves[1]).unwrap();
    let mut alone = guest(&disks[1..]);
    let made = reformis_guest::refit(&mut alone, &crate::common::virtio("vd"), &reformis_guest::Wishes::default(), NOW);
    assert_eq!(crate::common::names(&made), Vec::<&str>::new());
    let missing = |remark: &reformis_guest::Remark| {
        matches!(remark, reformis_guest::Remark::ArrayIncomplete { missing: 1, members: 2, .. })
    };
    assert!(made.remarks.iter().any(missing), "{:?}", made.remarks);
}
