//! Partition tables of any layout, as their own tool lists them.

use std::{
    fs::File,
    io::Write,
    os::unix::fs::FileExt,
    path::Path,
    process::{Command, Stdio},
    sync::Arc,
};

use proptest::prelude::*;
use reformis_disk::{Disk, budget::Budget, container, format};
use reformis_guest::{Guest, Role, Table, look};

use crate::common::{MIB, has};

/// A partition: its number, first sector, sectors, whether it is the one to boot, and its own UUID.
type Row = (u32, u64, u64, bool, Option<String>);

/// What sfdisk lists of the disk at `path`, without the partition that only holds others.
fn listed(path: &Path) -> Vec<Row> {
    let output = Command::new("sfdisk").arg("-d").arg(path).output().unwrap();
    assert!(output.status.success());
    let text = String::from_utf8(output.stdout).unwrap();
    let prefix = path.to_string_lossy().into_owned();
    let rows = text.lines().filter_map(|line| line.strip_prefix(&prefix)?.split_once(':'));
    let row = |(name, fields): (&str, &str)| {
        let value = |key: &str| {
            fields.split(',').find_map(|field| Some(field.trim().strip_prefix(key)?.trim_start_matches('=').trim()))
        };
        let number = |text: &str| text.trim().parse::<u64>().unwrap();
        let holds_others = matches!(value("type"), Some("5" | "f" | "85"));
        let uuid = value("uuid").map(str::to_ascii_lowercase);
        let (start, size) = (number(value("start").unwrap()), number(value("size").unwrap()));
        (!holds_others).then(|| (number(name) as u32, start, size, value("bootable").is_some(), uuid))
    };
    rows.filter_map(row).collect()
}

fn opened(path: &Path) -> Arc<dyn Disk> {
    let storage = container::open(path, &Budget::whole()).unwrap();
    format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk
}

/// Lays partitions of so many MiB with gaps between them: a table of either kind, logical ones behind the third.
fn lay(path: &Path, gpt: bool, parts: &[(u64, u64, bool)]) {
    File::create(path).unwrap().set_len(256 * MIB).unwrap();
    let mut script = format!("label: {}\n", if gpt { "gpt" } else { "dos" });
    let mut at = 1;
    for (number, (gap, len, boots)) in parts.iter().enumerate() {
        if !gpt && number == 3 && parts.len() > 4 {
            // All that is left, and each in it has its own table a MiB in front.
            script += &format!("start={}, type=5\n", at * 2048);
            at += 1;
        }
        at += gap + u64::from(!gpt && number >= 3);
        let kind = match (gpt, *boots) {
            (true, true) => "U",
            (true, false) => "L",
            (false, _) => "83",
        };
        let bootable = if *boots && !gpt && number < 3 { ", bootable" } else { "" };
        script += &format!("start={}, size={}, type={kind}{bootable}\n", at * 2048, len * 2048);
        at += len;
    }
    let mut child = Command::new("sfdisk").arg("-q").arg(path).stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(script.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success(), "{script}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    #[test]
    fn every_partition_is_where_its_own_tool_lists_it(
        gpt in any::<bool>(),
        parts in prop::collection::vec((0..4_u64, 1..12_u64, any::<bool>()), 1..9),
    ) {
        if !has(&["sfdisk"]) {
            return Ok(());
        }
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("disk");
        // One partition at the most is the one to boot.
        let first = parts.iter().position(|part| part.2);
        let parts: Vec<_> = parts.iter().enumerate().map(|(at, part)| (part.0, part.1, first == Some(at))).collect();
        lay(&path, gpt, &parts);
        let seen = look(&opened(&path), &Budget::whole()).unwrap();
        prop_assert_eq!(seen.table, Some(if gpt { Table::Gpt } else { Table::Mbr }));
        let rows: Vec<Row> = seen
            .partitions
            .iter()
            .map(|(part, _)| {
                let uuid = part.uuid.map(|uuid| uuid.to_string());
                (part.number, part.start / 512, part.size / 512, part.active, uuid)
            })
            .collect();
        prop_assert_eq!(rows.len(), parts.len());
        prop_assert_eq!(rows, listed(&path));
        let esps = seen.partitions.iter().filter(|(part, _)| part.role == Role::Esp).count();
        prop_assert_eq!(esps, usize::from(gpt && first.is_some()));

        // What is left of a table when the start of the disk is gone: the copy of a GPT, nothing of an MBR.
        File::options().write(true).open(&path).unwrap().write_all_at(&[0; 33 * 512], 512).unwrap();
        let copy = look(&opened(&path), &Budget::whole()).unwrap();
        prop_assert_eq!(copy.partitions.len(), if gpt { parts.len() } else { seen.partitions.len() });
        if gpt {
            prop_assert_eq!(&copy.partitions, &seen.partitions);
        }
    }
}

/// Disks whose partitions do not say what lies in them are named, and nothing in them is taken for what it is not.
#[test]
fn parts_of_dynamic_disks_and_pools_are_named() {
    if !has(&["sfdisk"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    for (table, parts) in [
        ("dos", vec![("42", "dynamic disk")]),
        (
            "gpt",
            vec![
                ("5808C8AA-7E8F-42E0-85D2-E1E90434CFB3", "dynamic disk"),
                ("AF9B60A0-1431-4F62-BC68-3311714A69AD", "dynamic disk"),
                ("E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D", "pool of disks"),
            ],
        ),
    ] {
        let script: String = parts.iter().map(|(kind, _)| format!("size=2MiB,type={kind}\n")).collect();
        let path = folder.path().join(table);
        File::create(&path).unwrap().set_len(16 * MIB).unwrap();
        let mut child = Command::new("sfdisk").arg("-q").arg(&path).stdin(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(format!("label: {table}\n{script}").as_bytes()).unwrap();
        assert!(child.wait().unwrap().success());
        // What a file system left there long ago.
        File::options().write(true).open(&path).unwrap().write_all_at(b"NTFS    ", MIB + 3).unwrap();
        let guest = Guest::open([opened(&path)], 0, &Budget::whole()).unwrap();
        let told: Vec<&str> = guest.unread.iter().map(|(_, why)| why.as_str()).collect();
        assert_eq!(told.len(), parts.len());
        assert!(told.iter().zip(&parts).all(|(why, (_, words))| why.contains(words)), "{told:?}");
        assert!(guest.volumes.iter().all(|volume| volume.kind.is_none()));
    }
}
