//! The log (section 2.3): writes to the tables that were made safe and may not be in their place yet. It is replayed in
//! memory, over the file, which is not written.

use crate::to_usize;
use std::{collections::BTreeMap, sync::Arc};

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::little_endian::{U32, U64},
};

use super::header::{Header, checksum};
use crate::{
    budget::{Budget, Held, Hold, OverBudget},
    disk::Extent,
    error::{Error, Result},
    source::{Identity, Links, Storage, hold, read_vec},
};

/// The log is written in sectors of this size, whatever those of the disk.
const SECTOR: u64 = 4096;
/// The largest log that is read; the usual one has 1 MiB.
const MAX_LOG: u32 = 64 << 20;
/// Sectors that a log may change: 1 GiB.
const MAX_SECTORS: u64 = 1 << 18;
/// Offsets beyond this are no file's.
const MAX_OFFSET: u64 = 1 << 60;
const ENTRY: [u8; 4] = *b"loge";
const DATA: [u8; 4] = *b"desc";
const ZERO: [u8; 4] = *b"zero";
const SECTOR_SIGNATURE: [u8; 4] = *b"data";

/// Section 2.3.1.1.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct EntryHeader {
    signature: [u8; 4],
    checksum: U32,
    entry_length: U32,
    /// Where in the log the oldest entry of the sequence lies.
    tail: U32,
    sequence_number: U64,
    descriptor_count: U32,
    reserved: U32,
    log_guid: [u8; 16],
    /// The file was at least this long on disk when the entry was written.
    flushed_file_offset: U64,
    last_file_offset: U64,
}

/// Sections 2.3.1.2 and 2.3.1.3: the two kinds of descriptor have the same places.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct Descriptor {
    signature: [u8; 4],
    trailing_bytes: [u8; 4],
    /// Of a zero descriptor: the length of the zeros.
    leading_bytes: [u8; 8],
    file_offset: U64,
    sequence_number: U64,
}

/// A sound entry: its place in the log, its header, its bytes.
struct Entry {
    at: u64,
    header: EntryHeader,
    bytes: Held<Vec<u8>>,
}

/// The file as it is once the log that `header` names is replayed.
///
/// # Errors
/// [`Error::Damaged`] when the log holds no whole sequence of entries, or one that does not fit the file.
pub(super) fn replay(storage: Arc<dyn Storage>, header: &Header) -> Result<Arc<dyn Storage>> {
    let path = storage.name().to_string();
    let at = header.log_offset.get();
    let damaged = |what: String| Error::damaged(&path, at, what);
    let len = header.log_length.get();
    if len > MAX_LOG || !u64::from(len).is_multiple_of(SECTOR) {
        return Err(damaged(format!("a log of {len} bytes, expected whole sectors of 4 KiB, at most 64 MiB")));
    }
    let log = read_vec(storage.as_ref(), at, len as usize, "the log")?;
    let entries = sound_entries(storage.as_ref(), &log, &header.log_guid)?;
    let Some(sequence) = newest_sequence(&entries, u64::from(len)) else {
        return Err(damaged("the log holds no whole sequence of entries".into()));
    };
    let last = sequence.last().map_or(0, |entry| entry.header.flushed_file_offset.get());
    if storage.len() < last {
        return Err(Error::CutShort {
            path,
            what: "the log's last entry".into(),
            start: 0,
            end: last,
            len: storage.len(),
        });
    }
    let hold = storage.budget().hold();
    let mut patched = Patched { storage, sectors: BTreeMap::new(), hold };
    for entry in sequence {
        patched.apply(entry)?.ok_or_else(|| damaged("an entry of the log contradicts itself".into()))?;
    }
    Ok(Arc::new(patched))
}

/// All entries with a right checksum that belong to this log.
#[expect(clippy::indexing_slicing, reason = "entries were cut to the log, and sectors to their length")]
fn sound_entries(storage: &dyn Storage, log: &[u8], guid: &[u8; 16]) -> Result<Vec<Entry>> {
    let mut entries = Vec::new();
    // Entries do not overlap, so an honest log is looked through once; the rest of the budget is for stale ones.
    let mut budget = log.len() * 2;
    for at in (0..log.len()).step_by(to_usize(SECTOR)) {
        let Ok((header, _)) = EntryHeader::read_from_prefix(&log[at..]) else { continue };
        let len = header.entry_length.get() as usize;
        if header.signature != ENTRY || header.log_guid != *guid || len < to_usize(SECTOR) || len > log.len() {
            continue;
        }
        let Some(left) = budget.checked_sub(len) else { break };
        budget = left;
        // The log is a ring: an entry may go on at its start.
        let hold = hold(storage, len as u64, "its log")?;
        let bytes: Vec<u8> = log[at..].iter().chain(&log[..at]).take(len).copied().collect();
        if header.checksum.get() == checksum(&bytes) {
            entries.push(Entry { at: at as u64, header, bytes: hold.of(bytes) });
        }
    }
    Ok(entries)
}

/// Section 2.3.2: of all chains of entries that follow one another from their tail to their head, the one with the
/// largest sequence number.
fn newest_sequence(entries: &[Entry], log_len: u64) -> Option<Vec<&Entry>> {
    let find = |at: u64| entries.iter().find(|entry| entry.at == at);
    let mut heads: Vec<&Entry> = entries.iter().collect();
    heads.sort_by_key(|entry| std::cmp::Reverse(entry.header.sequence_number.get()));
    heads.into_iter().find_map(|head| {
        let mut sequence = vec![find(head.header.tail.get().into())?];
        while let Some(last) = sequence.last().copied() {
            if last.at == head.at {
                return Some(sequence);
            }
            let next = find((last.at + u64::from(last.header.entry_length.get())) % log_len)?;
            // Numbers ascend by one, so this ends.
            if next.header.sequence_number.get() != last.header.sequence_number.get().checked_add(1)? {
                return None;
            }
            sequence.push(next);
        }
        None
    })
}

/// Memory for a sector beside its bytes.
const NODE: u64 = 64;

/// A storage with some of its sectors replaced.
struct Patched {
    storage: Arc<dyn Storage>,
    /// By their number; `None` for zeros.
    sectors: BTreeMap<u64, Option<Box<[u8]>>>,
    hold: Hold,
}

impl Patched {
    /// Takes over the writes of an entry; `None` when it contradicts itself.
    fn apply(&mut self, entry: &Entry) -> Result<Option<()>> {
        let mut full = None;
        let applied = self.apply_within(entry, &mut full);
        match full {
            Some(over) => Err(Error::memory(self.storage.name(), "what its log replaces")(over)),
            None => Ok(applied),
        }
    }

    #[expect(clippy::indexing_slicing, reason = "entries were cut to the log, and sectors to their length")]
    fn apply_within(&mut self, entry: &Entry, full: &mut Option<OverBudget>) -> Option<()> {
        let count = entry.header.descriptor_count.get() as usize;
        let head = size_of::<EntryHeader>();
        let descriptors = entry.bytes.get(head..head.checked_add(count.checked_mul(size_of::<Descriptor>())?)?)?;
        let mut data = (head + descriptors.len()).next_multiple_of(to_usize(SECTOR));
        for bytes in descriptors.chunks_exact(size_of::<Descriptor>()) {
            let descriptor = Descriptor::read_from_bytes(bytes).ok()?;
            let offset = descriptor.file_offset.get();
            let sound =
                offset.is_multiple_of(SECTOR) && offset < MAX_OFFSET && (self.sectors.len() as u64) < MAX_SECTORS;
            if descriptor.sequence_number != entry.header.sequence_number || !sound {
                return None;
            }
            match descriptor.signature {
                ZERO => {
                    let len = u64::from_le_bytes(descriptor.leading_bytes);
                    // Tables lie inside the file, and so do their zeros.
                    let end = offset.checked_add(len).filter(|&end| end <= self.storage.len())?;
                    if len / SECTOR > MAX_SECTORS {
                        return None;
                    }
                    *full = self.hold.grow(len / SECTOR * NODE).err();
                    if full.is_some() {
                        return None;
                    }
                    for number in offset / SECTOR..end / SECTOR {
                        self.sectors.insert(number, None);
                    }
                }
                DATA => {
                    let sector = entry.bytes.get(data..data + to_usize(SECTOR))?;
                    data += to_usize(SECTOR);
                    if sector[..4] != SECTOR_SIGNATURE {
                        return None;
                    }
                    *full = self.hold.grow(SECTOR + NODE).err();
                    if full.is_some() {
                        return None;
                    }
                    let mut whole = sector.to_vec();
                    whole[..8].copy_from_slice(&descriptor.leading_bytes);
                    whole[to_usize(SECTOR) - 4..].copy_from_slice(&descriptor.trailing_bytes);
                    self.sectors.insert(offset / SECTOR, Some(whole.into()));
                }
                _ => return None,
            }
        }
        Some(())
    }
}

impl Storage for Patched {
    fn name(&self) -> &str {
        self.storage.name()
    }

    fn len(&self) -> u64 {
        let last = self.sectors.keys().next_back().map_or(0, |number| (number + 1) * SECTOR);
        self.storage.len().max(last)
    }

    fn allocated(&self) -> u64 {
        self.storage.allocated()
    }

    fn is_far(&self) -> bool {
        self.storage.is_far()
    }

    #[expect(clippy::indexing_slicing, reason = "entries were cut to the log, and sectors to their length")]
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        crate::source::require(self, offset, buf.len() as u64, "a read")?;
        let inside = to_usize(self.storage.len().saturating_sub(offset).min(buf.len() as u64));
        let (head, tail) = buf.split_at_mut(inside);
        tail.fill(0);
        if !head.is_empty() {
            self.storage.read_at(offset, head)?;
        }
        let end = offset + buf.len() as u64;
        for (number, bytes) in self.sectors.range(offset / SECTOR..end.div_ceil(SECTOR)) {
            let start = number * SECTOR;
            let (from, to) = (start.max(offset), (start + SECTOR).min(end));
            let target = &mut buf[to_usize(from - offset)..to_usize(to - offset)];
            match bytes {
                Some(bytes) => target.copy_from_slice(&bytes[to_usize(from - start)..to_usize(to - start)]),
                None => target.fill(0),
            }
        }
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        Ok(Extent::data(offset, self.len() - offset))
    }

    fn check_unchanged(&self) -> Result<()> {
        self.storage.check_unchanged()
    }

    fn identity(&self) -> Option<&Identity> {
        self.storage.identity()
    }

    fn budget(&self) -> &Arc<Budget> {
        self.storage.budget()
    }

    fn sibling(&self, name: &str, links: Links) -> Result<Arc<dyn Storage>> {
        self.storage.sibling(name, links)
    }

    fn neighbours(&self) -> Result<Vec<String>> {
        self.storage.neighbours()
    }
}
