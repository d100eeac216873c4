//! Where the log begins and ends.

use super::{BLOCK, Log, MAGIC, Span, State, record::Head};
use crate::{
    error::Result,
    fs::xfs::{
        Xfs,
        fields::{be32, byte},
    },
};

/// Marks an operation that says that the volume was unmounted.
const UNMOUNTED: u8 = 0x20;

/// The round that a block was written in.
pub(super) fn cycle_of(block: &[u8]) -> u32 {
    match be32(block, 0) {
        MAGIC => be32(block, 4),
        cycle => cycle,
    }
}

impl Xfs {
    fn cycle_at(&self, log: Log, at: u64) -> Result<u32> {
        Ok(cycle_of(&self.log_blocks(log, at, 1)?))
    }

    /// The first block, from `low` to `high`, that is not of the round `cycle`; those before it are.
    fn first_other(&self, log: Log, (mut low, mut high): (u64, u64), cycle: u32) -> Result<u64> {
        while low < high {
            let middle = low + (high - low) / 2;
            if self.cycle_at(log, middle)? == cycle {
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        Ok(low)
    }

    /// The block behind the last one that was written: the first one of the round before.
    fn written_end(&self, log: Log) -> Result<u64> {
        let (first, last) = (self.cycle_at(log, 0)?, self.cycle_at(log, log.blocks - 1)?);
        let end = if first == last { log.blocks } else { self.first_other(log, (1, log.blocks - 1), first)? };
        // Writes pass one another: what was not written before the end is the end.
        let scan = log.in_flight();
        let start = log.before(end % log.blocks, scan);
        let blocks = self.log_blocks(log, start, scan)?;
        let hole = (start..).map(|at| at % log.blocks).zip(blocks.chunks(BLOCK)).find(|(at, block)| {
            // Behind the ring's end are blocks of this round, before it those of the last one.
            let older = if *at < end { first.wrapping_sub(1) } else { first.wrapping_sub(2) };
            cycle_of(block) == older
        });
        Ok(hole.map_or(end, |(at, _)| at))
    }

    /// The last record that begins before `end`.
    fn last_record(&self, log: Log, end: u64) -> Result<Head> {
        let scan = log.in_flight();
        let start = log.before(end % log.blocks, scan);
        let blocks = self.log_blocks(log, start, scan)?;
        let found = blocks.chunks(BLOCK).rposition(|block| be32(block, 0) == MAGIC);
        let head = found.map(|by| self.record_head(log, log.after(start, by as u64))).transpose()?.flatten();
        head.ok_or_else(|| self.device.damaged("its log has no record"))
    }

    /// How a log was left.
    pub(super) fn find_log_end(&self, log: Log) -> Result<State> {
        if self.cycle_at(log, 0)? == 0 {
            return Err(self.device.damaged("its log has no record"));
        }
        let mut end = self.written_end(log)?;
        let head = self.last_record(log, end)?;
        // A record that was not written to its end is none.
        if log.after(head.at, head.total()) != end % log.blocks {
            end = head.at;
        }
        self.state_up_to(log, end)
    }

    /// How a log was left whose last record ends before block `end`.
    pub(super) fn state_up_to(&self, log: Log, end: u64) -> Result<State> {
        let head = self.last_record(log, end)?;
        let end = end % log.blocks;
        if log.after(head.at, head.total()) != end || head.tail() >= log.blocks {
            return Err(self.device.damaged("the records of its log do not follow one another"));
        }
        if head.operations() == 1 {
            let first = self.log_blocks(log, log.after(head.at, head.blocks()), 1)?;
            if byte(&first, 9) & UNMOUNTED != 0 {
                return Ok(State::Clean { lsn: head.lsn() });
            }
        }
        let cycle = if head.at >= end { head.cycle().wrapping_add(1) } else { head.cycle() };
        Ok(State::Dirty(Span { tail: head.tail(), head: end, last: head.at, cycle }))
    }
}
