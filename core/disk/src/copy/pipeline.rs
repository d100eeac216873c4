//! Carrying bytes: reading, zero detection, digest and writing on all cores, over bounded buffers, in order.
//!
//! A disk is cut into blocks of [`crate::digest::BLOCK`]. Workers read, digest and encode blocks side by side; one at a
//! time, whoever is free, writes those that come next, so that a result does not depend on the number of workers. Files
//! take one write at a time anyway. Memory is one block a worker, and a few that wait to be written.

use crate::to_usize;
use std::{
    io::Read,
    ops::Range,
    sync::atomic::{AtomicU64, Ordering},
};

use super::{
    again::{self, Again, Looking},
    block::{Block, Buffer},
    blocks,
    feed::{Disks, Forward},
    journal::{Entry, Journal, Stored},
    watch::Watch,
    writer::{Copied, Encoder, Writer},
};

use crate::{
    digest::{BlockDigest, ContentDigest, ContentHasher, LateHasher},
    disk::{Disk, extents, read_padded},
    error::{Error, Result},
    zeros,
};

/// A part of a block that is to be stored.
enum Run {
    /// These bytes of the block, as they are.
    Plain(Range<usize>),
    /// The unit there, encoded.
    Encoded(Range<usize>, Vec<u8>),
}

impl Run {
    /// Its range in the block, where it is stored as it is.
    fn plain(&self) -> Option<Range<u32>> {
        match self {
            Self::Plain(range) => Some(short(range)),
            Self::Encoded(..) => None,
        }
    }

    /// What a journal says of it; it lies at `position`. In a block that has encoded runs, each has its digest.
    fn stored(&self, block: &[u8], position: u64, is_mixed: bool) -> Stored {
        let (range, bytes, encoded) = match self {
            Self::Plain(range) => (range, block.get(range.clone()).unwrap_or_default(), None),
            Self::Encoded(range, bytes) => (range, bytes.as_slice(), u32::try_from(bytes.len()).ok()),
        };
        let digest = if is_mixed { *blake3::hash(bytes).as_bytes() } else { [0; 32] };
        Stored { range: short(range), position, encoded, digest }
    }
}

/// A range in a block.
fn short(range: &Range<usize>) -> Range<u32> {
    let short = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
    short(range.start)..short(range.end)
}

/// What is to be stored of `block`, which lies at `offset`, in pieces of `unit` bytes.
#[expect(clippy::indexing_slicing, reason = "the ranges were made from this very block")]
fn runs_of(offset: u64, block: &Block<'_>, unit: usize, encoder: Option<&Encoder>) -> Vec<Run> {
    let bytes = block.bytes;
    let runs = zeros::data_runs(bytes, unit, block.holds).into_iter();
    let Some(encode) = encoder else { return runs.map(Run::Plain).collect() };
    runs.flat_map(|run| run.clone().step_by(unit).map(move |start| start..run.end.min(start + unit)))
        .map(|range| match encode(offset + range.start as u64, &bytes[range.clone()]) {
            Some(encoded) => Run::Encoded(range, encoded),
            None => Run::Plain(range),
        })
        .collect()
}

/// Writes the runs of `block`, which lies at `offset`, where `writer` wants them. Adds to `stored`, and tells `note` of each.
///
/// Grains of a run in which there are only zeros get their place and are not written: a new file reads as zero there.
#[expect(clippy::indexing_slicing, reason = "the ranges were made from this very block")]
fn write(
    writer: &mut dyn Writer,
    offset: u64,
    runs: &[Run],
    block: &Block<'_>,
    stored: &mut u64,
    note: &mut dyn FnMut(&Run, u64),
) -> Result<()> {
    for run in runs {
        match run {
            Run::Plain(range) => {
                let len = range.len() as u64;
                let spot = writer.place(offset + range.start as u64, len)?;
                for held in block.holds.runs_in(range) {
                    spot.write((held.start - range.start) as u64, &block.bytes[held])?;
                }
                *stored += len;
                note(run, spot.position);
            }
            Run::Encoded(range, encoded) => {
                let len = encoded.len() as u64;
                let spot = writer.place_encoded(offset + range.start as u64, range.len() as u64, len)?;
                spot.write(0, encoded)?;
                *stored += len;
                note(run, spot.position);
            }
        }
    }
    Ok(())
}

/// Bytes that [`copy`] or [`scan`] will read of `disk`: its blocks that are not known to be zero.
///
/// # Errors
/// Those of [`Disk::extent_at`].
pub fn work(disk: &dyn Disk) -> Result<u64> {
    let block = crate::digest::BLOCK;
    let (mut sum, mut counted) = (0, 0);
    for extent in extents(disk) {
        let extent = extent?;
        if extent.kind == crate::ExtentKind::Data {
            let start = (extent.start / block * block).max(counted);
            let end = extent.end().next_multiple_of(block).min(disk.size());
            sum += end.saturating_sub(start);
            counted = end.max(counted);
        }
    }
    Ok(sum)
}

/// Writes all of `disk` through `writer` and finishes it.
///
/// # Errors
/// Those of the disk and of the writer; [`Error::Changed`] when a source was written meanwhile;
/// [`Error::Interrupted`].
pub fn copy(disk: &dyn Disk, writer: &mut dyn Writer, watch: &Watch<'_>) -> Result<Copied> {
    put_rest(disk, writer, Rest { at: 0, stored: 0, hasher: ContentHasher::new(disk.size()), journal: None }, watch)
}

/// The same into a file that was written to before: a copy that was cut off goes on where it stopped, and this one can be another
/// time. `make` makes a writer of the same shape over the file.
///
/// # Errors
/// Those of [`copy`], of `make` and of the journal; where the file cannot be taken up, its file system or its format refuses.
pub fn copy_again(
    disk: &dyn Disk,
    make: &dyn Fn() -> Result<Box<dyn Writer>>,
    mut again: Again<'_>,
    watch: &Watch<'_>,
) -> Result<Copied> {
    let writer = make()?;
    let unit = writer.unit().min(crate::digest::BLOCK) as usize;
    let encoder = writer.encoder();
    let shape = |offset: u64, block: &Block<'_>| {
        runs_of(offset, block, unit, encoder.as_ref()).iter().map(Run::plain).collect::<Option<Vec<_>>>()
    };
    let mut looking = Looking { disk, shape: &shape, buffer: Buffer::default() };
    let there = again::look(&mut looking, &mut again, watch)?;
    // What the first one wrote may have been cleared away.
    let mut writer = make()?;
    let mut hasher = ContentHasher::new(disk.size());
    let stored = again::take_up(&mut looking, &mut again, &there, writer.as_mut(), &mut hasher, watch)?;
    let rest = Rest { at: there.at, stored, hasher, journal: Some(again.journal) };
    put_rest(disk, writer.as_mut(), rest, watch)
}

/// What is left to be put of a disk.
struct Rest<'a> {
    /// Where it begins.
    at: u64,
    /// Bytes that are stored for what comes before.
    stored: u64,
    hasher: ContentHasher,
    journal: Option<&'a mut dyn Journal>,
}

fn put_rest(disk: &dyn Disk, writer: &mut dyn Writer, rest: Rest<'_>, watch: &Watch<'_>) -> Result<Copied> {
    let unit = writer.unit().min(crate::digest::BLOCK) as usize;
    let encoder = writer.encoder();
    let Rest { at, mut stored, mut hasher, mut journal } = rest;
    blocks::ordered(
        Disks::new([disk]).starting(at),
        [&|offset, buf| disk.read_at(offset, buf)],
        watch,
        |piece, [block]| Ok(runs_of(piece.offset, block, unit, encoder.as_ref())),
        |piece, ready| {
            let mut entry = Entry { offset: piece.offset, len: piece.len, block: None };
            match ready {
                None => hasher.push_zeros(piece.len),
                Some((runs, [block])) => {
                    hasher.push(block.digest);
                    let mut noted = Vec::new();
                    let is_mixed = runs.iter().any(|run| matches!(run, Run::Encoded(..)));
                    let is_kept = journal.is_some();
                    let mut note = |run: &Run, position: u64| {
                        if is_kept {
                            noted.push(run.stored(block.bytes, position, is_mixed));
                        }
                    };
                    write(writer, piece.offset, &runs, block, &mut stored, &mut note)?;
                    entry.block = Some((block.digest, noted));
                }
            }
            journal.as_mut().map_or(Ok(()), |journal| journal.put(&entry))
        },
    )?;
    writer.finish(disk.size())?;
    disk.check_unchanged()?;
    Ok(Copied { size: disk.size(), digest: hasher.finish(), stored })
}

/// How the end of a stream becomes the end of a disk.
pub type Sizing<'a> = &'a dyn Fn(u64) -> Result<u64>;

/// Writes what `stream` gives, whose length shows only at its end, through `writer`, which was made without a size.
/// `sizing` turns the length into the size of the disk, which is not smaller; zeros fill it up.
///
/// # Errors
/// [`Error::Damaged`] when the stream ends early or is broken; those of `sizing` and of the writer;
/// [`Error::Interrupted`].
pub fn copy_forward(
    stream: &mut (dyn Read + Send),
    name: &str,
    writer: &mut dyn Writer,
    sizing: Sizing<'_>,
    watch: &Watch<'_>,
) -> Result<Copied> {
    let unit = writer.unit().min(crate::digest::BLOCK) as usize;
    let encoder = writer.encoder();
    let (mut hasher, mut stored) = (LateHasher::default(), 0);
    let at = AtomicU64::new(0);
    // The last block is cut by the end of the disk, which may lie behind the end of the stream.
    let mut last = None;
    blocks::ordered(
        Forward::new(stream, name, &at),
        [&|_, _| Ok(())],
        watch,
        |piece, [block]| Ok(runs_of(piece.offset, block, unit, encoder.as_ref())),
        |piece, ready| {
            let Some((runs, [block])) = ready else { return Ok(()) };
            if piece.len < crate::digest::BLOCK {
                last = Some(block.bytes.to_vec());
            } else {
                hasher.push(block.digest);
            }
            write(writer, piece.offset, &runs, block, &mut stored, &mut |_, _| ())
        },
    )?;
    let size = sizing(at.into_inner())?;
    let mut rest = size - size.min(hasher.blocks() * crate::digest::BLOCK);
    if let Some(mut bytes) = last {
        bytes.resize(rest.min(crate::digest::BLOCK) as usize, 0);
        hasher.push(BlockDigest::of(&bytes));
        rest -= bytes.len() as u64;
    }
    hasher.push_zeros(rest);
    writer.finish(size)?;
    Ok(Copied { size, digest: hasher.finish(size), stored })
}

/// Reads all of `disk` for its digest alone.
///
/// # Errors
/// Those of the disk; [`Error::Interrupted`].
pub fn scan(disk: &dyn Disk, watch: &Watch<'_>) -> Result<ContentDigest> {
    let mut hasher = ContentHasher::new(disk.size());
    blocks::ordered(
        Disks::new([disk]),
        [&|offset, buf| disk.read_at(offset, buf)],
        watch,
        |_, _| Ok(()),
        |piece, read| {
            match read {
                Some(((), [block])) => hasher.push(block.digest),
                None => hasher.push_zeros(piece.len),
            }
            Ok(())
        },
    )?;
    disk.check_unchanged()?;
    Ok(hasher.finish())
}

/// Reads all that `stream`, called `name` in messages, gives, for its length and digest alone.
///
/// # Errors
/// [`Error::Damaged`] when the stream ends early or is broken; [`Error::Interrupted`].
pub fn scan_forward(stream: &mut (dyn Read + Send), name: &str, watch: &Watch<'_>) -> Result<(u64, ContentDigest)> {
    let at = AtomicU64::new(0);
    let mut hasher = LateHasher::default();
    blocks::ordered(
        Forward::new(stream, name, &at),
        [&|_, _| Ok(())],
        watch,
        |_, _| Ok(()),
        |_, read| {
            read.into_iter().for_each(|((), [block])| hasher.push(block.digest));
            Ok(())
        },
    )?;
    let size = at.into_inner();
    Ok((size, hasher.finish(size)))
}

/// What a comparison found, and the digests of what it read on the way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Comparison {
    /// The first byte at which the two differ outside the allowed ranges.
    pub first_difference: Option<u64>,
    /// Bytes in blocks that differ, an idea of how much.
    pub differing: u64,
    /// Content digest of the first disk.
    pub left: ContentDigest,
    /// Content digest of the second disk.
    pub right: ContentDigest,
}

/// Compares two disks of one size byte by byte, except in `allowed` (ascending, not overlapping).
///
/// # Errors
/// Those of the disks; [`Error::OutOfRange`] when their sizes differ; [`Error::Interrupted`].
pub fn compare(left: &dyn Disk, right: &dyn Disk, allowed: &[Range<u64>], watch: &Watch<'_>) -> Result<Comparison> {
    if left.size() != right.size() {
        let (offset, size) = (left.size().min(right.size()), left.size().max(right.size()));
        return Err(Error::OutOfRange { offset, len: size - offset, size: offset });
    }
    let differing = AtomicU64::new(0);
    let mut first_difference = None;
    let mut hashers = [ContentHasher::new(left.size()), ContentHasher::new(right.size())];
    blocks::ordered(
        Disks::new([left, right]),
        [&|offset, buf| left.read_at(offset, buf), &|offset, buf| right.read_at(offset, buf)],
        watch,
        |piece, [one, other]| {
            if one.digest == other.digest {
                return Ok(None);
            }
            differing.fetch_add(piece.len, Ordering::Relaxed);
            Ok(difference_outside(piece.offset, one.bytes, other.bytes, allowed))
        },
        |piece, compared| {
            match compared {
                Some((difference, blocks)) => {
                    first_difference = first_difference.or(difference);
                    hashers.iter_mut().zip(blocks).for_each(|(hasher, block)| hasher.push(block.digest));
                }
                None => hashers.iter_mut().for_each(|hasher| hasher.push_zeros(piece.len)),
            }
            Ok(())
        },
    )?;
    left.check_unchanged()?;
    right.check_unchanged()?;
    let [left, right] = hashers.map(ContentHasher::finish);
    Ok(Comparison { first_difference, differing: differing.into_inner(), left, right })
}

/// As [`compare`], with all that `stream`, called `name` in messages, gives as the second disk: bytes behind the end of `left` have to be
/// zero. Also the length of the stream.
///
/// # Errors
/// Those of the disk; [`Error::Damaged`] when the stream ends early or is broken; [`Error::Interrupted`].
pub fn compare_forward(
    left: &dyn Disk,
    stream: &mut (dyn Read + Send),
    name: &str,
    allowed: &[Range<u64>],
    watch: &Watch<'_>,
) -> Result<(u64, Comparison)> {
    let (at, differing) = (AtomicU64::new(0), AtomicU64::new(0));
    let mut first_difference = None;
    let mut hashers = [LateHasher::default(), LateHasher::default()];
    blocks::ordered(
        Forward::new(stream, name, &at),
        [&|_, _| Ok(()), &|offset, buf| read_padded(left, offset, buf)],
        watch,
        |piece, [there, here]| {
            if there.digest == here.digest {
                return Ok(None);
            }
            differing.fetch_add(piece.len, Ordering::Relaxed);
            Ok(difference_outside(piece.offset, here.bytes, there.bytes, allowed))
        },
        |_, compared| {
            if let Some((difference, [there, here])) = compared {
                first_difference = first_difference.or(difference);
                hashers[0].push(here.digest);
                hashers[1].push(there.digest);
            }
            Ok(())
        },
    )?;
    left.check_unchanged()?;
    let size = at.into_inner();
    let [left, right] = hashers.map(|hasher| hasher.finish(size));
    Ok((size, Comparison { first_difference, differing: differing.into_inner(), left, right }))
}

/// The first position at which the two blocks, which lie at `start`, differ outside `allowed`.
#[expect(clippy::indexing_slicing, reason = "the ranges were made from this very block")]
fn difference_outside(start: u64, left: &[u8], right: &[u8], allowed: &[Range<u64>]) -> Option<u64> {
    let mut index = 0;
    while index < left.len() {
        index += left[index..].iter().zip(&right[index..]).position(|(a, b)| a != b)?;
        let at = start + index as u64;
        let next = allowed.partition_point(|range| range.end <= at);
        match allowed.get(next) {
            Some(range) if range.start <= at => index = to_usize((range.end - start).min(left.len() as u64)),
            _ => return Some(at),
        }
    }
    None
}
