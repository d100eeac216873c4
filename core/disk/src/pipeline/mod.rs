//! Carrying bytes: reading, zero detection, digest and writing on all cores, over bounded buffers, in order.
//!
//! A disk is cut into blocks of [`crate::digest::BLOCK`]. Workers read, digest and scan blocks side by side; each then
//! waits for its turn to be *placed* (the writer decides where its bytes go, cheaply and in order, so that a result
//! does not depend on the number of workers), and stores its bytes side by side with the others again. Memory is one
//! block a worker.

mod blocks;

use std::{
    ops::Range,
    sync::atomic::{AtomicU64, Ordering},
};

use blocks::Piece;

use crate::{
    digest::{BlockDigest, ContentDigest, ContentHasher},
    disk::{Disk, extents},
    error::{Error, Result},
    output::Output,
    zeros,
};

/// How the caller looks on, and stops it.
#[derive(Clone, Copy)]
pub struct Watch<'a> {
    /// Asked often, from any thread; true stops the work with [`Error::Interrupted`].
    pub cancel: &'a (dyn Fn() -> bool + Sync),
    /// Called from any thread with the number of bytes that were dealt with since its last call; the sum reaches
    /// [`work`].
    pub progress: &'a (dyn Fn(u64) + Sync),
    /// Number of workers; `None` for one a core.
    pub workers: Option<usize>,
}

impl Watch<'_> {
    pub(crate) fn check(&self) -> Result<()> {
        if (self.cancel)() { Err(Error::Interrupted) } else { Ok(()) }
    }

    fn worker_count(&self) -> usize {
        let cores = || std::thread::available_parallelism().map_or(2, usize::from);
        self.workers.unwrap_or_else(cores).clamp(1, 16)
    }
}

/// Takes a disk, in order, and gives it its place in a file.
pub trait Writer: Send {
    /// The file that is written.
    fn output(&self) -> &Output;

    /// Bytes that the format stores as a whole or not at all: a divisor of [`crate::digest::BLOCK`], or a multiple.
    fn unit(&self) -> u64;

    /// What turns a unit into the bytes that are stored for it; `None` when they are stored as they are.
    fn encoder(&self) -> Option<Encoder> {
        None
    }

    /// Gives the guest's bytes at `offset` a place, and returns its first byte in the file. Offsets ascend and start at a
    /// unit. Without an encoder `len` bytes are placed: whole units inside one block, except at the end of the disk.
    /// With one, it is the encoded bytes of one unit. What is never placed reads as zero.
    ///
    /// # Errors
    /// Those of writing tables.
    fn place(&mut self, offset: u64, len: u64) -> Result<u64>;

    /// Writes what closes the file: tables, headers, its length. All placed bytes have been stored by then.
    ///
    /// # Errors
    /// Those of writing.
    fn finish(&mut self) -> Result<()>;
}

/// Encodes the unit that lies at a guest offset: what it returns is stored. Called on any core, in any order.
pub type Encoder = fn(offset: u64, unit: &[u8]) -> Vec<u8>;

/// What was carried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Copied {
    /// Digest of the guest-visible bytes.
    pub digest: ContentDigest,
    /// Bytes that were stored: what was neither a hole nor found to be zero.
    pub stored: u64,
}

/// A part of a block that is to be stored.
enum Run {
    /// These bytes of the block, as they are.
    Plain(Range<usize>),
    /// The unit that starts there, encoded.
    Encoded(usize, Vec<u8>),
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
    struct Ready {
        digest: BlockDigest,
        runs: Vec<Run>,
    }
    let unit = writer.unit().min(crate::digest::BLOCK) as usize;
    let encoder = writer.encoder();
    let output = writer.output().try_clone()?;
    let mut hasher = ContentHasher::new(disk.size());
    let mut stored = 0;
    blocks::ordered(
        &[disk],
        watch,
        |piece, bytes| {
            let runs = zeros::data_runs(bytes, unit);
            let runs = match encoder {
                None => runs.into_iter().map(Run::Plain).collect(),
                Some(encode) => runs
                    .into_iter()
                    .flat_map(|run| run.clone().step_by(unit).map(move |start| start..run.end.min(start + unit)))
                    .map(|range| Run::Encoded(range.start, encode(piece.offset + range.start as u64, &bytes[range])))
                    .collect(),
            };
            Ok(Ready { digest: BlockDigest::of(bytes), runs })
        },
        |piece, ready: Option<Ready>| {
            let Some(ready) = ready else {
                hasher.push_zeros(piece.len);
                return Ok(Vec::new());
            };
            hasher.push(ready.digest);
            let mut placed = Vec::with_capacity(ready.runs.len());
            for run in ready.runs {
                let (start, len) = match &run {
                    Run::Plain(range) => (range.start, range.len()),
                    Run::Encoded(start, encoded) => (*start, encoded.len()),
                };
                stored += len as u64;
                placed.push((writer.place(piece.offset + start as u64, len as u64)?, run));
            }
            Ok(placed)
        },
        |placed, bytes| {
            for (position, run) in placed {
                let bytes = match &run {
                    Run::Plain(range) => &bytes[range.clone()],
                    Run::Encoded(_, encoded) => encoded,
                };
                output.write(bytes, position)?;
            }
            Ok(())
        },
    )?;
    writer.finish()?;
    disk.check_unchanged()?;
    Ok(Copied { digest: hasher.finish(), stored })
}

/// Reads all of `disk` for its digest alone.
///
/// # Errors
/// Those of the disk; [`Error::Interrupted`].
pub fn scan(disk: &dyn Disk, watch: &Watch<'_>) -> Result<ContentDigest> {
    let mut hasher = ContentHasher::new(disk.size());
    blocks::ordered(
        &[disk],
        watch,
        |_, bytes| Ok(BlockDigest::of(bytes)),
        |piece: Piece, digest: Option<BlockDigest>| {
            match digest {
                Some(digest) => hasher.push(digest),
                None => hasher.push_zeros(piece.len),
            }
            Ok(())
        },
        |(), _| Ok(()),
    )?;
    disk.check_unchanged()?;
    Ok(hasher.finish())
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
        &[left, right],
        watch,
        |piece, bytes| {
            let mut other = vec![0; bytes.len()];
            right.read_at(piece.offset, &mut other)?;
            let digests = [BlockDigest::of(bytes), BlockDigest::of(&other)];
            let difference = if digests[0] == digests[1] {
                None
            } else {
                differing.fetch_add(piece.len, Ordering::Relaxed);
                difference_outside(piece.offset, bytes, &other, allowed)
            };
            Ok((digests, difference))
        },
        |piece, compared| {
            match compared {
                Some((digests, difference)) => {
                    first_difference = first_difference.or(difference);
                    for (hasher, digest) in hashers.iter_mut().zip(digests) {
                        hasher.push(digest);
                    }
                }
                None => hashers.iter_mut().for_each(|hasher| hasher.push_zeros(piece.len)),
            }
            Ok(())
        },
        |(), _| Ok(()),
    )?;
    left.check_unchanged()?;
    right.check_unchanged()?;
    let [left, right] = hashers.map(ContentHasher::finish);
    Ok(Comparison { first_difference, differing: differing.into_inner(), left, right })
}

/// The first position at which the two blocks, which lie at `start`, differ outside `allowed`.
fn difference_outside(start: u64, left: &[u8], right: &[u8], allowed: &[Range<u64>]) -> Option<u64> {
    let mut index = 0;
    while index < left.len() {
        index += left[index..].iter().zip(&right[index..]).position(|(a, b)| a != b)?;
        let at = start + index as u64;
        let next = allowed.partition_point(|range| range.end <= at);
        match allowed.get(next) {
            Some(range) if range.start <= at => index = (range.end - start).min(left.len() as u64) as usize,
            _ => return Some(at),
        }
    }
    None
}
