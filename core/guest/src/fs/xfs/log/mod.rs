//! The log (section "Journaling Log"): a ring of blocks of 512 bytes, each with the number of the round that it was written in.
//! What it holds is written to its place when a volume is opened that was not unmounted; then it is closed as its own kernel
//! does it.

mod close;
mod head;
mod intents;
mod items;
mod record;
mod replay;
mod transactions;

use super::{Xfs, superblock::version};
use crate::error::Result;

/// Bytes of a block of the log.
const BLOCK: usize = 512;
/// The mark of a record.
const MAGIC: u32 = 0xfeed_babe;
/// More groups than a volume that was made in earnest has.
const MAX_GROUPS: u32 = 1 << 20;

/// How the log was left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    /// Its last record says that the volume was unmounted; when that was.
    Clean { lsn: u64 },
    /// What it holds since `tail` is to be written to its place.
    Dirty(Span),
    /// It lies on another device.
    Elsewhere,
}

/// The part of a log that is in use.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Span {
    /// First block of the oldest record.
    tail: u64,
    /// First block behind the newest record.
    head: u64,
    /// First block of the newest record.
    last: u64,
    /// The round that the block at `head` would be written in.
    cycle: u32,
}

/// Where the log lies.
#[derive(Debug, Clone, Copy)]
struct Log {
    /// Its first byte in the volume.
    start: u64,
    /// Blocks of 512 bytes.
    blocks: u64,
    /// Whether records may be longer than 32 KiB.
    v2: bool,
}

impl Log {
    /// The block `by` behind `at`.
    fn after(self, at: u64, by: u64) -> u64 {
        (at + by) % self.blocks
    }

    /// The block `by` before `at`.
    fn before(self, at: u64, by: u64) -> u64 {
        (at + self.blocks - by % self.blocks) % self.blocks
    }

    /// Blocks from one to another.
    fn distance(self, from: u64, to: u64) -> u64 {
        self.before(to, from)
    }

    /// Blocks that records take that were on their way to the disk at the same time.
    fn in_flight(self) -> u64 {
        let record: u64 = if self.v2 { 256 << 10 } else { 32 << 10 };
        (8 * record / BLOCK as u64).min(self.blocks)
    }
}

impl Xfs {
    fn log(&self) -> Result<Log> {
        let (group, block) = self.sb.split_block(self.sb.sb_logstart.get());
        let blocks = u64::from(self.sb.sb_logblocks.get());
        if group >= self.sb.groups() || u64::from(block) + blocks > self.sb.group_blocks(group).into() || blocks == 0 {
            return Err(self.device.damaged("its log lies outside of it"));
        }
        let start = self.sb.group_byte(group, block);
        Ok(Log { start, blocks: blocks * self.sb.block() / BLOCK as u64, v2: self.sb.has_version(version::LOG_V2) })
    }

    /// How the log was left.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] for a log without a record where there is to be one.
    pub(super) fn log_state(&self) -> Result<State> {
        if self.sb.sb_logstart.get() == 0 {
            return Ok(State::Elsewhere);
        }
        let log = self.log()?;
        match self.find_log_end(log)? {
            State::Dirty(span) => self.sound_span(log, span),
            other => Ok(other),
        }
    }

    /// Writes to its place what the log holds, finishes what was begun, and closes the log.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`]; [`crate::Error::Unsupported`] for what only the file system's own kernel finishes.
    pub(super) fn replay(&mut self, span: Span) -> Result<()> {
        if self.sb.groups() > MAX_GROUPS {
            return Err(self.device.unreadable("it has more groups than its log can be replayed for"));
        }
        let log = self.log()?;
        let open = self.replay_items(log, span)?;
        self.read_again()?;
        self.lsn = u64::from(span.cycle) << 32 | span.head;
        self.count_anew()?;
        self.finish(open)?;
        for group in 0..self.sb.groups() {
            let mut group = self.read_group(group)?;
            if self.shares_blocks() {
                self.drop_copies(&mut group)?;
            }
            self.keep(group);
            self.flush()?;
        }
        self.release_unlinked()?;
        self.sb.sb_features_log_incompat = 0.into();
        self.flush()?;
        self.close_log(log, span)?;
        self.device.bench().count_changes()
    }

    /// Counts what the groups have: the superblock's own counts are only right in a volume that was unmounted.
    fn count_anew(&mut self) -> Result<()> {
        let mut totals = [0u64; 3];
        for number in 0..self.sb.groups() {
            let group = self.read_group(number)?;
            for (total, count) in totals.iter_mut().zip(group.counts()) {
                *total = total.saturating_add_signed(count);
            }
        }
        let [free, inodes, free_inodes] = totals;
        self.sb.sb_fdblocks = free.into();
        self.sb.sb_icount = inodes.into();
        self.sb.sb_ifree = free_inodes.into();
        self.write_superblock()
    }
}
