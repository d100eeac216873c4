//! Going on where a copy was cut off: what is in the file is compared with the journal, and the writer is asked for the same places.

use std::ops::Range;

use super::{
    block::{Block, Buffer},
    journal::{Entry, Journal, Stored},
    output::Output,
    watch::Watch,
    writer::Writer,
};
use crate::{
    digest::{BLOCK, BlockDigest, ContentHasher},
    disk::Disk,
    error::{Error, Result},
    to_usize,
};

/// How a copy is taken up again, and can be another time.
pub struct Again<'a> {
    /// What was put.
    pub journal: &'a mut dyn Journal,
    /// The file that is written to.
    pub output: &'a Output,
    /// Whether something in this range of the disk is changed on its way: that may come out in another way than the first time.
    pub is_edited: &'a (dyn Fn(Range<u64>) -> bool + Sync),
    /// Where nothing tells whether the disk is the same as then, one block of so many is read from it and compared.
    pub sample: Option<u64>,
}

/// The ranges of a block that would be stored, where none of them is encoded.
pub(super) type Shape<'a> = &'a dyn Fn(u64, &Block<'_>) -> Option<Vec<Range<u32>>>;

/// What is read of the disk while a journal is looked through.
pub(super) struct Looking<'a> {
    pub(super) disk: &'a dyn Disk,
    pub(super) shape: Shape<'a>,
    pub(super) buffer: Buffer,
}

/// What of a disk is in the file already.
pub(super) struct There {
    /// Entries of the journal that hold.
    count: u64,
    /// Where it ends on the disk.
    pub(super) at: u64,
    /// Where what is stored ends in the file.
    end: u64,
}

/// Looks through the journal for how far it holds. What lies behind that in the file is made a hole: places there may be given to
/// others, and what is only zeros is not written.
pub(super) fn look(looking: &mut Looking<'_>, again: &mut Again<'_>, watch: &Watch<'_>) -> Result<There> {
    let mut there = There { count: 0, at: 0, end: 0 };
    while let Some(entry) = again.journal.earlier()? {
        watch.check()?;
        let follows = entry.offset == there.at && entry.len > 0 && entry.len <= looking.disk.size() - there.at;
        if !follows || !holds(looking, again, &entry)? {
            break;
        }
        for run in entry.block.iter().flat_map(|(_, runs)| runs) {
            there.end = there.end.max(run.position.saturating_add(stored_len(run)));
        }
        there.at += entry.len;
        there.count += 1;
    }
    again.journal.keep(there.count)?;
    again.output.clear_from(there.end)?;
    Ok(there)
}

/// Takes up what is there: the writer is asked for its places, and what is edited is written anew. Returns the bytes that are stored
/// for it.
pub(super) fn take_up(
    looking: &mut Looking<'_>,
    again: &mut Again<'_>,
    there: &There,
    writer: &mut dyn Writer,
    hasher: &mut ContentHasher,
    watch: &Watch<'_>,
) -> Result<u64> {
    let mut stored = 0;
    for _ in 0..there.count {
        watch.check()?;
        let Some(entry) = again.journal.earlier()? else { break };
        let Some((digest, runs)) = &entry.block else {
            hasher.push_zeros(entry.len);
            continue;
        };
        let edited = is_edited(again, &entry);
        if edited {
            read(looking, &entry)?;
        }
        let block = looking.buffer.block();
        for run in runs {
            let plain = u64::from(run.range.end - run.range.start);
            let offset = entry.offset + u64::from(run.range.start);
            let spot = match run.encoded {
                Some(len) => writer.place_encoded(offset, plain, u64::from(len))?,
                None => writer.place(offset, plain)?,
            };
            if spot.position != run.position {
                let what = "its journal and its format do not agree on where things lie".to_string();
                return Err(Error::Unwritable { path: again.output.name().into(), what });
            }
            if edited {
                spot.write(0, block.bytes.get(bytes_of(run)).unwrap_or_default())?;
            }
            stored += stored_len(run);
        }
        hasher.push(if edited { block.digest } else { *digest });
        (watch.progress)(entry.len);
    }
    Ok(stored)
}

fn stored_len(run: &Stored) -> u64 {
    run.encoded.map_or(u64::from(run.range.end - run.range.start), u64::from)
}

fn bytes_of(run: &Stored) -> Range<usize> {
    run.range.start as usize..run.range.end as usize
}

fn is_edited(again: &Again<'_>, entry: &Entry) -> bool {
    (again.is_edited)(entry.offset..entry.offset + entry.len)
}

/// Reads the block of `entry` from the disk.
fn read(looking: &mut Looking<'_>, entry: &Entry) -> Result<()> {
    let len = to_usize(entry.len.min(BLOCK));
    let all: Vec<Range<usize>> = std::iter::once(0..len).collect();
    let disk = looking.disk;
    looking.buffer.fill(len, &all, |start, bytes| disk.read_at(entry.offset + start as u64, bytes))
}

/// Whether an entry still holds: its bytes are in the file, or they are edited and would be stored in the same runs.
fn holds(looking: &mut Looking<'_>, again: &Again<'_>, entry: &Entry) -> Result<bool> {
    let edited = is_edited(again, entry);
    let Some((digest, runs)) = &entry.block else { return Ok(!edited) };
    if entry.len > BLOCK || runs.iter().any(|run| u64::from(run.range.end) > entry.len) {
        return Ok(false);
    }
    let number = entry.offset / BLOCK;
    if !edited && again.sample.is_some_and(|every| number.is_multiple_of(every.max(1))) {
        read(looking, entry)?;
        if looking.buffer.block().digest != *digest {
            let what = format!("byte {} and those behind are not what they were", entry.offset);
            return Err(Error::Changed { path: again.output.name().into(), what });
        }
    }
    if !edited {
        return is_there(again.output, runs, to_usize(entry.len), *digest);
    }
    read(looking, entry)?;
    let stored: Vec<_> = runs.iter().map(|run| run.range.clone()).collect();
    let is_plain = runs.iter().all(|run| run.encoded.is_none());
    Ok(is_plain && (looking.shape)(entry.offset, &looking.buffer.block()) == Some(stored))
}

/// Whether `runs`, of a block of `len` bytes with this digest, are in the file.
fn is_there(output: &Output, runs: &[Stored], len: usize, digest: BlockDigest) -> Result<bool> {
    let mut block = vec![0; len];
    let mut packed = Vec::new();
    let is_mixed = runs.iter().any(|run| run.encoded.is_some());
    for run in runs {
        let place = match run.encoded {
            Some(len) => {
                packed.resize(len as usize, 0);
                packed.as_mut_slice()
            }
            None => block.get_mut(bytes_of(run)).unwrap_or_default(),
        };
        if !output.read(place, run.position)? || is_mixed && *blake3::hash(place).as_bytes() != run.digest {
            return Ok(false);
        }
    }
    Ok(is_mixed || BlockDigest::of(&block) == digest)
}
