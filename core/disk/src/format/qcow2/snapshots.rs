//! The table of internal snapshots (section "Snapshots").

use zerocopy::FromBytes;

use super::header::{SnapshotExtra, SnapshotHeader};
use crate::{
    budget::Held,
    error::{Error, Result},
    facts::Snapshot,
    source::{Storage, read_vec},
};

/// The largest table that is read; entries with long names take some hundred bytes.
const MAX_TABLE_BYTES: u64 = 16 << 20;
/// More than any host makes.
const MAX_SNAPSHOTS: u32 = 65536;

/// A snapshot and where its L1 table lies.
pub(super) struct Entry {
    pub(super) facts: Snapshot,
    pub(super) l1_at: u64,
    /// Entries of that table.
    pub(super) l1_len: u64,
}

/// Memory for a snapshot beside its names, in a list that grows by doubling.
const ENTRY: u64 = 512;

/// Reads the table of `count` snapshots at `at`; `size` is that of the disk now, in bytes.
pub(super) fn read(storage: &dyn Storage, at: u64, count: u32, size: u64) -> Result<Held<Vec<Entry>>> {
    let path = storage.name();
    if count > MAX_SNAPSHOTS {
        return Err(Error::damaged(path, 60, format!("{count} snapshots, expected at most {MAX_SNAPSHOTS}")));
    }
    let mut hold = storage.budget().hold();
    let mut entries = Vec::new();
    let mut next = at;
    for _ in 0..count {
        if next - at > MAX_TABLE_BYTES {
            let what = format!("a table of snapshots of more than {MAX_TABLE_BYTES} bytes");
            return Err(Error::damaged(path, at, what));
        }
        let head = read_vec(storage, next, size_of::<SnapshotHeader>(), "a snapshot's entry")?;
        let Ok(header) = SnapshotHeader::read_from_bytes(&head) else {
            return Err(Error::damaged(path, next, "no snapshot"));
        };
        let extra_at = next + size_of::<SnapshotHeader>() as u64;
        let extra_len = u64::from(header.extra_data_size.get());
        let extra = if extra_len >= size_of::<SnapshotExtra>() as u64 {
            let bytes = read_vec(storage, extra_at, size_of::<SnapshotExtra>(), "a snapshot's sizes")?;
            SnapshotExtra::read_from_bytes(&bytes).ok()
        } else {
            None
        };
        let text_at = extra_at + extra_len;
        let (id_len, name_len) = (usize::from(header.id_size.get()), usize::from(header.name_size.get()));
        let text = read_vec(storage, text_at, id_len + name_len, "a snapshot's name")?;
        hold.grow(text.len() as u64 + ENTRY).map_err(Error::memory(path, "the table of snapshots"))?;
        let (id, name) = text.split_at(id_len);
        entries.push(Entry {
            facts: Snapshot {
                id: String::from_utf8_lossy(id).into_owned(),
                name: String::from_utf8_lossy(name).into_owned(),
                virtual_size: extra.map_or(size, |extra| extra.virtual_size.get()),
                time: header.seconds.get().into(),
                has_memory: header.vm_state_size.get() > 0 || extra.is_some_and(|extra| extra.vm_state_size.get() > 0),
            },
            l1_at: header.l1_table_offset.get(),
            l1_len: header.l1_size.get().into(),
        });
        next = (text_at + text.len() as u64).next_multiple_of(8);
    }
    Ok(hold.of(entries))
}

/// The snapshot called `wanted`, or with that ID.
pub(super) fn find<'a>(entries: &'a [Entry], wanted: &str, path: &str) -> Result<&'a Entry> {
    let by_name = entries.iter().find(|entry| entry.facts.name == wanted);
    by_name.or_else(|| entries.iter().find(|entry| entry.facts.id == wanted)).ok_or_else(|| {
        let names: Vec<_> = entries.iter().map(|entry| format!("'{}'", entry.facts.name)).collect();
        let there = if names.is_empty() { "none".into() } else { names.join(", ") };
        Error::Unsupported { path: path.into(), what: format!("it keeps no snapshot '{wanted}'; there is {there}") }
    })
}
