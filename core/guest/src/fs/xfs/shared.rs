//! Blocks that several files share (section "Reference Count B+tree"). What has no record belongs to one file alone.

use std::ops::ControlFlow;

use super::{
    Xfs,
    fields::{be32, put32},
    group::Group,
    owner,
    superblock::ro_compat,
    tree::{Order, Record, Tree},
};
use crate::error::Result;

/// In a first block: the blocks were taken for a copy that has not happened.
const COPY: u32 = 1 << 31;

/// Blocks with one count.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Shared {
    start: u32,
    len: u32,
    count: u32,
}

impl Shared {
    fn of(record: &Record) -> Self {
        Self { start: be32(record, 0), len: be32(record, 4), count: be32(record, 8) }
    }

    fn record(self) -> Record {
        let mut record = [0; 24];
        put32(&mut record, 0, self.start);
        put32(&mut record, 4, self.len);
        put32(&mut record, 8, self.count);
        record
    }

    fn order(self) -> Order {
        Tree::Shared.order(&self.record(), false)
    }

    fn end(self) -> u32 {
        self.start.saturating_add(self.len)
    }
}

impl Xfs {
    pub(super) fn shares_blocks(&self) -> bool {
        self.sb.has_ro(ro_compat::REFLINK)
    }

    /// Counts one file more, or one less, for each of these blocks; the runs that no file has any more.
    ///
    /// # Errors
    /// Those of the tree.
    pub(super) fn share(&mut self, group: &mut Group, start: u32, len: u32, more: bool) -> Result<Vec<(u32, u32)>> {
        if !self.shares_blocks() {
            return Ok(if more { Vec::new() } else { vec![(start, len)] });
        }
        let end = start + len;
        let old = self.shared_around(group, start, end)?;
        let mut new: Vec<Shared> = Vec::new();
        let mut add = |piece: Shared| {
            if piece.len == 0 || piece.count < 2 {
                return;
            }
            match new.last_mut() {
                Some(last) if last.end() == piece.start && last.count == piece.count => last.len += piece.len,
                _ => new.push(piece),
            }
        };
        let mut freed = Vec::new();
        let mut at = start;
        let mut step = |from: u32, to: u32, count: u32, add: &mut dyn FnMut(Shared)| {
            let count = if more { count.saturating_add(1) } else { count - 1 };
            if count == 0 && from < to {
                freed.push((from, to - from));
            }
            add(Shared { start: from, len: to.saturating_sub(from), count });
        };
        for run in &old {
            if run.end() <= start || run.start >= end {
                if run.start >= end && at < end {
                    step(at, end, 1, &mut add);
                    at = end;
                }
                add(*run);
                continue;
            }
            step(at, run.start.max(at), 1, &mut add);
            add(Shared { len: start.saturating_sub(run.start), ..*run });
            step(run.start.max(start), run.end().min(end), run.count, &mut add);
            at = run.end().min(end);
            add(Shared { start: end.min(run.end()), len: run.end().saturating_sub(end), ..*run });
        }
        if at < end {
            step(at, end, 1, &mut add);
        }
        for run in old.iter().filter(|run| !new.contains(run)) {
            self.delete(group, Tree::Shared, &run.order())?;
        }
        for run in new.iter().filter(|run| !old.contains(run)) {
            self.insert(group, Tree::Shared, &run.record())?;
        }
        Ok(freed)
    }

    /// Refuses a record that cannot be.
    fn check_shared(&self, group: &Group, run: Shared) -> Result<()> {
        if run.len == 0 || run.count < 2 {
            return Err(self.device.damaged(format!("a count of shared blocks of group {} cannot be", group.number)));
        }
        self.check_end(group, run.start, run.len)
    }

    /// The records that touch blocks from `start` to `end`, and those that lie right before and behind them.
    fn shared_around(&self, group: &Group, start: u32, end: u32) -> Result<Vec<Shared>> {
        let at = Shared { start, len: 0, count: 0 };
        // Before the first of these blocks, so that one which begins with them does not hide its neighbour. No file has block 0.
        let left = Shared { start: start.saturating_sub(1), ..at };
        let before = self.record_to(group, Tree::Shared, &left.order())?.map(|record| Shared::of(&record));
        if let Some(run) = before.filter(|run| run.start & COPY == 0) {
            self.check_shared(group, run)?;
        }
        let before = before.filter(|run| run.start < start && run.end() >= start && run.start & COPY == 0);
        let mut found: Vec<Shared> = before.into_iter().collect();
        let hold = &mut self.device.bench().budget().hold();
        self.each_record(group, Tree::Shared, &at.order(), |record| {
            let run = Shared::of(record);
            if run.start > end || run.start & COPY != 0 {
                return Ok(ControlFlow::Break(()));
            }
            self.check_shared(group, run)?;
            if found.last().is_some_and(|last| last.end() > run.start) {
                return Err(self.device.damaged(format!("counts of shared blocks of group {} overlap", group.number)));
            }
            hold.grow(size_of::<Shared>() as u64)?;
            found.push(run);
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(found)
    }

    /// Notes that blocks were taken for a copy; whose they are is noted apart.
    ///
    /// # Errors
    /// Those of the trees.
    pub(super) fn note_copy(&mut self, group: &mut Group, start: u32, len: u32) -> Result<()> {
        self.insert(group, Tree::Shared, &Shared { start: start | COPY, len, count: 1 }.record())
    }

    /// Notes that blocks that were taken for a copy are not any more; whose they are is noted apart.
    ///
    /// # Errors
    /// Those of the trees.
    pub(super) fn forget_copy(&mut self, group: &mut Group, start: u32, len: u32) -> Result<()> {
        let wanted = Shared { start: start | COPY, len: 0, count: 0 };
        let found = self.record_to(group, Tree::Shared, &wanted.order())?.map(|record| Shared::of(&record));
        let found = found.filter(|run| run.start & COPY != 0 && run.end() >= wanted.start.saturating_add(len));
        let missing =
            || self.device.damaged(format!("block {start} of group {} was not taken for a copy", group.number));
        let run = found.ok_or_else(missing)?;
        self.delete(group, Tree::Shared, &run.order())?;
        let end = wanted.start + len;
        for (from, to) in [(run.start, wanted.start), (end, run.end())] {
            if from < to {
                self.insert(group, Tree::Shared, &Shared { start: from, len: to - from, count: 1 }.record())?;
            }
        }
        Ok(())
    }

    /// Gives back what was taken for copies that never happened.
    ///
    /// # Errors
    /// Those of the trees.
    pub(super) fn drop_copies(&mut self, group: &mut Group) -> Result<()> {
        let first = Shared { start: COPY, len: 0, count: 0 };
        while let Some(record) = self.record_from(group, Tree::Shared, &first.order())? {
            let run = Shared::of(&record);
            self.delete(group, Tree::Shared, &run.order())?;
            self.give_owned(group, run.start & !COPY, run.len, owner::COPIES)?;
        }
        Ok(())
    }
}
