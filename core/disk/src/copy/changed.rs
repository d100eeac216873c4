//! A second pass over a disk that was copied before, while it was in use: only what has changed since is written, into the same file.
//!
//! The journal of the first pass tells of each block its digest and where its runs lie. What has changed gets its old places where it has
//! some, and new ones behind everything where it has none; so a format takes part whose writer gives places in any order.
//!
//! A second pass may be cut off, and the disk may change again before the next one. So what a pass writes to is noted before it is
//! written: such a block is written anew by every later pass, whatever its digest says.

use std::{collections::BTreeSet, ops::Range};

use super::{
    block::Block,
    blocks,
    feed::{Disks, Piece},
    journal::{Entry, Journal, Stored},
    output::Output,
    watch::Watch,
    writer::{Copied, Writer},
};
use crate::{
    digest::{BLOCK, BlockDigest, ContentHasher},
    disk::{Disk, Extent, ExtentKind},
    error::{Error, Result},
    to_usize, zeros,
};

/// Blocks that were written to since the first pass.
pub trait Touched: Send {
    /// The numbers of those that earlier passes wrote to.
    ///
    /// # Errors
    /// Those of reading.
    fn earlier(&mut self) -> Result<BTreeSet<u64>>;

    /// Notes that the block of this number is about to be written to; on disk before this returns.
    ///
    /// # Errors
    /// Those of writing.
    fn add(&mut self, block: u64) -> Result<()>;
}

/// How a second pass is made.
pub struct Changes<'a> {
    /// What the first pass put: all of the disk.
    pub journal: &'a mut dyn Journal,
    /// The file that it filled.
    pub output: &'a Output,
    /// What was written to since.
    pub touched: &'a mut dyn Touched,
    /// Whether something in this range of the disk may have changed since the first pass, where that is known: what cannot have is not
    /// read.
    pub may_differ: Option<&'a (dyn Fn(Range<u64>) -> bool + Sync)>,
    /// One block of so many is read all the same, and compared: what tells of changes may not tell of all.
    pub sample: u64,
}

/// What a second pass came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Changed {
    /// The whole disk, as a copy in one go would tell of it.
    pub copied: Copied,
    /// Bytes of the blocks that had changed.
    pub changed: u64,
}

/// Writes what changed of `disk` since its first pass. `make` makes a writer of the same shape over the file.
///
/// # Errors
/// Those of [`super::pipeline::copy`], of `make` and of the journal; [`Error::Unwritable`] for a shape that is written in one order, and a
/// first pass that is not whole or of another size.
pub fn copy_changed(
    disk: &dyn Disk,
    make: &dyn Fn() -> Result<Box<dyn Writer>>,
    changes: Changes<'_>,
    watch: &Watch<'_>,
) -> Result<Changed> {
    let Changes { journal, output, touched, may_differ, sample } = changes;
    let refuse = |what: &str| Error::Unwritable { path: output.name().into(), what: what.into() };
    if !make()?.takes_any_order() {
        return Err(refuse("its shape is written in one order, so that what changed cannot be put in"));
    }
    let end = end_of(disk, journal, watch)?
        .ok_or_else(|| refuse("its first pass is not whole, or of a disk of another size"))?;
    // Tables of the first pass, and what a second one that was cut off left behind it.
    output.clear_from(end)?;
    let mut writer = make()?;
    take_places(journal, writer.as_mut(), output, watch)?;
    let unit = to_usize(writer.unit().min(BLOCK));
    let mut hasher = ContentHasher::new(disk.size());
    let mut earlier = Earlier { journal, entry: None };
    let (mut stored, mut changed) = (0, 0);
    let was = touched.earlier()?;
    let may =
        |range: Range<u64>| may_differ.is_none_or(|may| may(range.clone())) || was.contains(&(range.start / BLOCK));
    let differs = |range: Range<u64>| (range.start / BLOCK).is_multiple_of(sample.max(1)) || may(range);
    // Blocks that cannot have changed are passed over as holes are.
    let masked = Masked { disk, differs: &differs };
    let seen: &dyn Disk = if may_differ.is_some() { &masked } else { disk };
    blocks::ordered(
        Disks::new([seen]),
        [&|offset, buf| disk.read_at(offset, buf)],
        watch,
        |_, [block]| Ok(zeros::data_runs(block.bytes, unit, block.holds)),
        |piece, ready| {
            let writer = writer.as_mut();
            let mut put =
                Put { writer, touched: &mut *touched, was: &was, unit, stored: &mut stored, changed: &mut changed };
            match ready {
                Some((runs, [block])) => {
                    let before = earlier.of(piece)?;
                    hasher.push(block.digest);
                    let is_same = match &before {
                        Some((digest, _)) => *digest == block.digest,
                        // It was known to be zero, and is.
                        None => runs.is_empty(),
                    };
                    if !is_same && !may(piece.offset..piece.offset + piece.len) {
                        let what = format!(
                            "byte {} and those behind have changed, and what tells of changes does not say so",
                            piece.offset
                        );
                        return Err(Error::Changed { path: output.name().into(), what });
                    }
                    let before = before.map(|(_, runs)| runs).unwrap_or_default();
                    put.block(piece, is_same, &before, &runs, Some(block))
                }
                None => earlier.each(piece, |at, before| {
                    let Some((digest, runs)) = before else {
                        hasher.push_zeros(at.len);
                        return put.zeros(at);
                    };
                    if differs(at.offset..at.offset + at.len) {
                        hasher.push_zeros(at.len);
                        // Of which nothing was stored, it was zero.
                        return put.block(at, runs.is_empty(), &runs, &[], None);
                    }
                    hasher.push(digest);
                    put.block(at, true, &runs, &[], None)
                }),
            }
        },
    )?;
    writer.finish(disk.size())?;
    disk.check_unchanged()?;
    Ok(Changed { copied: Copied { size: disk.size(), digest: hasher.finish(), stored }, changed })
}

/// Where the runs of the first pass end in the file; none where its journal is not that of all of `disk`.
fn end_of(disk: &dyn Disk, journal: &mut dyn Journal, watch: &Watch<'_>) -> Result<Option<u64>> {
    let (mut at, mut end, mut count) = (0u64, 0u64, 0u64);
    while let Some(entry) = journal.earlier()? {
        watch.check()?;
        let is_next = entry.offset == at && entry.len > 0 && entry.len <= disk.size() - at;
        let runs = entry.block.iter().flat_map(|(_, runs)| runs);
        let is_plain = runs.clone().all(|run| run.encoded.is_none() && u64::from(run.range.end) <= entry.len);
        if !is_next || !is_plain || entry.block.is_some() && entry.len > BLOCK {
            return Ok(None);
        }
        end = runs.map(|run| run.position.saturating_add(len_of(run))).fold(end, u64::max);
        at += entry.len;
        count += 1;
    }
    journal.keep(count)?;
    Ok((at == disk.size()).then_some(end))
}

/// Asks the writer for the places of the first pass once more.
fn take_places(journal: &mut dyn Journal, writer: &mut dyn Writer, output: &Output, watch: &Watch<'_>) -> Result<()> {
    let mut count = 0;
    while let Some(entry) = journal.earlier()? {
        watch.check()?;
        count += 1;
        for run in entry.block.iter().flat_map(|(_, runs)| runs) {
            let spot = writer.place(entry.offset + u64::from(run.range.start), len_of(run))?;
            if spot.position != run.position {
                let what = "the journal of its first pass and its format do not agree on where things lie".to_string();
                return Err(Error::Unwritable { path: output.name().into(), what });
            }
        }
    }
    journal.keep(count)
}

fn len_of(run: &Stored) -> u64 {
    u64::from(run.range.end - run.range.start)
}

/// What the first pass knew of a block: its digest, and its runs.
type Before = Option<(BlockDigest, Vec<Stored>)>;

/// The entries of the first pass, along the second one.
struct Earlier<'j> {
    journal: &'j mut dyn Journal,
    /// The entry around where the second pass is.
    entry: Option<Entry>,
}

impl Earlier<'_> {
    /// What was known of `piece`, which is one block.
    fn of(&mut self, piece: Piece) -> Result<Before> {
        let mut found = None;
        self.each(piece, |_, before| {
            found = before;
            Ok(())
        })?;
        Ok(found)
    }

    /// Tells `work` of each part of `piece`: a block that the first pass stored, or a run that it knew to be zero.
    fn each(&mut self, piece: Piece, mut work: impl FnMut(Piece, Before) -> Result<()>) -> Result<()> {
        let mut at = piece.offset;
        let end = piece.offset + piece.len;
        while at < end {
            if self.entry.as_ref().is_none_or(|entry| entry.offset + entry.len <= at) {
                self.entry = self.journal.earlier()?;
            }
            // That it reaches over the whole disk was looked at before.
            let (last, before) = match &self.entry {
                Some(entry) => ((entry.offset + entry.len).min(end), entry.block.clone()),
                None => (end, None),
            };
            work(Piece { offset: at, len: last - at }, before)?;
            at = last;
        }
        Ok(())
    }
}

/// Puts blocks where they belong.
struct Put<'p> {
    writer: &'p mut dyn Writer,
    touched: &'p mut dyn Touched,
    /// What earlier passes wrote to.
    was: &'p BTreeSet<u64>,
    unit: usize,
    stored: &'p mut u64,
    changed: &'p mut u64,
}

impl Put<'_> {
    /// Writes the block at `piece`, unless it `is_same` as before and was left alone since: `runs` of it hold data now, and `before` did.
    fn block(
        &mut self,
        piece: Piece,
        is_same: bool,
        before: &[Stored],
        runs: &[Range<usize>],
        block: Option<&Block<'_>>,
    ) -> Result<()> {
        let was_touched = self.was.contains(&(piece.offset / BLOCK));
        if is_same && !was_touched {
            *self.stored += before.iter().map(len_of).sum::<u64>();
            return Ok(());
        }
        *self.changed += piece.len;
        self.touched.add(piece.offset / BLOCK)?;
        let old = before.iter().map(|run| run.range.start as usize..run.range.end as usize);
        let units = |range: Range<usize>| range.start / self.unit..range.end.div_ceil(self.unit);
        // What held data before and holds none now has its place all the same, and is written as zeros.
        let units: BTreeSet<usize> = old.chain(runs.iter().cloned()).flat_map(units).collect();
        let range = |unit: usize| unit * self.unit..((unit + 1) * self.unit).min(to_usize(piece.len));
        for unit in units.iter().copied() {
            let range = range(unit);
            let len = range.len();
            let spot = self.writer.place(piece.offset + range.start as u64, len as u64)?;
            match block.and_then(|block| block.bytes.get(range)) {
                Some(bytes) => spot.write(0, bytes)?,
                None => spot.write(0, &vec![0; len])?,
            }
            *self.stored += len as u64;
        }
        if was_touched {
            // What a pass that was cut off wrote elsewhere in the block.
            for unit in (0..to_usize(piece.len).div_ceil(self.unit)).filter(|unit| !units.contains(unit)) {
                let range = range(unit);
                if let Some(spot) = self.writer.placed(piece.offset + range.start as u64) {
                    spot.write(0, &vec![0; range.len()])?;
                }
            }
        }
        Ok(())
    }

    /// Sees to what passes that were cut off wrote where there were and are only zeros.
    fn zeros(&mut self, piece: Piece) -> Result<()> {
        let blocks: Vec<u64> =
            self.was.range(piece.offset / BLOCK..(piece.offset + piece.len).div_ceil(BLOCK)).copied().collect();
        for number in blocks {
            let offset = number * BLOCK;
            let len = BLOCK.min(piece.offset + piece.len - offset);
            self.block(Piece { offset, len }, false, &[], &[], None)?;
        }
        Ok(())
    }
}

/// A disk of which only what may differ is read: all else looks like zeros.
struct Masked<'a> {
    disk: &'a dyn Disk,
    differs: &'a (dyn Fn(Range<u64>) -> bool + Sync),
}

impl Disk for Masked<'_> {
    fn size(&self) -> u64 {
        self.disk.size()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.disk.read_at(offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let start = offset / BLOCK * BLOCK;
        let block = start..(start + BLOCK).min(self.disk.size());
        if !(self.differs)(block.clone()) {
            return Ok(Extent { start: block.start, len: block.end - block.start, kind: ExtentKind::Zero });
        }
        let extent = self.disk.extent_at(offset)?;
        // A hole may reach into blocks that are passed over, and there it says nothing.
        let (from, to) = (extent.start.max(block.start), extent.end().min(block.end));
        Ok(Extent { start: from, len: to - from, kind: extent.kind })
    }

    fn check_unchanged(&self) -> Result<()> {
        self.disk.check_unchanged()
    }
}
