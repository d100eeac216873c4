//! Free space of allocation groups (section "Free Space B+trees"): taken and given back in both of its trees, with the spare
//! blocks that these trees grow by.

use std::ops::ControlFlow;

use super::{
    Xfs, fields,
    fields::{be32, put32},
    group::{Group, Head, agf},
    owner::{self, Owner},
    superblock::ro_compat,
    tree::{Order, Record, Tree},
};
use crate::error::Result;

/// Blocks of a group that are left to its own trees.
pub(super) const HELD_BACK: u32 = 16;
/// The most blocks of a volume that the kernel keeps for itself, and those of each group.
const MOST_KEPT: u64 = 8192;
const SET_ASIDE: u64 = 12;
/// Blocks that an inode, an entry and maps may come to need beside a file's bytes.
const FOR_TREES: u64 = 16;
/// Free runs that are looked at for one that begins at a round number.
const TRIES: usize = 256;

/// A run of blocks of the file system.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Blocks {
    pub(super) start: u64,
    pub(super) len: u32,
}

/// A free run as its record.
fn record(start: u32, len: u32) -> Record {
    let mut record = [0; 24];
    put32(&mut record, 0, start);
    put32(&mut record, 4, len);
    record
}

fn run_of(record: &Record) -> (u32, u32) {
    (be32(record, 0), be32(record, 4))
}

fn by_block(start: u32, len: u32) -> Order {
    Tree::ByBlock.order(&record(start, len), false)
}

fn by_size(start: u32, len: u32) -> Order {
    Tree::BySize.order(&record(start, len), false)
}

impl Xfs {
    /// Refuses to take so many blocks for something new where too few would be left: the kernel keeps a part of the volume for changes of what is
    /// there (Linux, `fs/xfs/xfs_mount.c`, `xfs_default_resblks`, and `xfs_alloc_set_aside`), and without it the guest starts with nothing left.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`].
    pub(super) fn check_left(&self, blocks: u64) -> Result<()> {
        let kept = (self.sb.sb_dblocks.get() / 20).min(MOST_KEPT) + u64::from(self.sb.groups()) * SET_ASIDE;
        let free = self.sb.sb_fdblocks.get().saturating_sub(kept);
        if blocks.saturating_add(FOR_TREES) <= free { Ok(()) } else { Err(self.no_room(blocks, free)) }
    }

    /// Spare blocks that the trees of a group may need for one change each.
    fn wanted_spares(&self, group: &Group) -> u32 {
        let trees = [Tree::ByBlock, Tree::BySize, Tree::Reverse];
        let has = |tree: &Tree| *tree != Tree::Reverse || self.sb.has_ro(ro_compat::RMAPBT);
        trees.iter().filter(|tree| has(tree)).map(|tree| 2 * tree.levels(group)).sum()
    }

    /// Fills the list of spare blocks as far as the next change may need it, and gives back what is more.
    fn refill(&mut self, group: &mut Group) -> Result<()> {
        while be32(&group.space, agf::SPARES) < self.wanted_spares(group) {
            let Some(found) = self.record_from(group, Tree::BySize, &by_size(0, 1))? else { break };
            let (start, len) = run_of(&found);
            self.check_group_block(group.number, start, len)?;
            self.carve(group, (start, len), (start, 1))?;
            self.add_owner(group, start, 1, owner::GROUP)?;
            self.give_spare(group, start)?;
        }
        while be32(&group.space, agf::SPARES) > self.wanted_spares(group) {
            let block = self.take_spare(group)?;
            self.remove_owner(group, block, 1, owner::GROUP)?;
            self.put_back(group, block, 1)?;
        }
        Ok(())
    }

    /// Takes a part of a free run out of both trees.
    fn carve(&mut self, group: &mut Group, run: (u32, u32), part: (u32, u32)) -> Result<()> {
        let before = part.0 - run.0;
        let (behind, after) = (part.0 + part.1, (run.0 + run.1) - (part.0 + part.1));
        self.delete(group, Tree::BySize, &by_size(run.0, run.1))?;
        let order = by_block(run.0, run.1);
        match (before > 0, after > 0) {
            (false, false) => self.delete(group, Tree::ByBlock, &order)?,
            (true, _) => self.update(group, Tree::ByBlock, &order, &record(run.0, before))?,
            (false, true) => self.update(group, Tree::ByBlock, &order, &record(behind, after))?,
        }
        if before > 0 && after > 0 {
            self.insert(group, Tree::ByBlock, &record(behind, after))?;
        }
        for (start, len) in [(run.0, before), (behind, after)] {
            if len > 0 {
                self.insert(group, Tree::BySize, &record(start, len))?;
            }
        }
        group.count(Head::Space, agf::FREE, -i64::from(part.1));
        self.note_longest(group)
    }

    /// Puts a run that is nobody's any more into both trees, joined with its neighbours.
    fn put_back(&mut self, group: &mut Group, start: u32, len: u32) -> Result<()> {
        let left = self.record_to(group, Tree::ByBlock, &by_block(start, 0))?.map(|record| run_of(&record));
        let right = self.record_from(group, Tree::ByBlock, &by_block(start, 0))?.map(|record| run_of(&record));
        for (first, len) in left.iter().chain(&right) {
            self.check_end(group, *first, *len)?;
        }
        let twice = left.is_some_and(|(first, len)| first.saturating_add(len) > start)
            || right.is_some_and(|(first, _)| first < start + len);
        if twice {
            return Err(self.device.damaged(format!("block {start} of group {} is free already", group.number)));
        }
        let left = left.filter(|(first, len)| first + len == start);
        let right = right.filter(|(first, _)| *first == start + len);
        let mut whole = (start, len);
        if let Some((first, more)) = left {
            self.delete(group, Tree::BySize, &by_size(first, more))?;
            whole = (first, whole.1 + more);
        }
        if let Some((first, more)) = right {
            self.delete(group, Tree::BySize, &by_size(first, more))?;
            whole.1 = whole.1.saturating_add(more);
            if left.is_some() {
                self.delete(group, Tree::ByBlock, &by_block(first, more))?;
            }
        }
        let joined = record(whole.0, whole.1);
        match (left, right) {
            (Some((first, len)), _) | (None, Some((first, len))) => {
                self.update(group, Tree::ByBlock, &by_block(first, len), &joined)?;
            }
            (None, None) => self.insert(group, Tree::ByBlock, &joined)?,
        }
        self.insert(group, Tree::BySize, &joined)?;
        group.count(Head::Space, agf::FREE, len.into());
        self.note_longest(group)
    }

    fn note_longest(&self, group: &mut Group) -> Result<()> {
        let last = self.record_to(group, Tree::BySize, &[0xff; 20])?;
        put32(&mut group.space, agf::LONGEST, last.map_or(0, |record| run_of(&record).1));
        Ok(())
    }

    /// A free run of at least `len` blocks, and where in it `len` blocks begin at a multiple of `round`.
    fn fitting(&self, group: &Group, len: u32, round: u32) -> Result<Option<((u32, u32), u32)>> {
        let round = round.max(1);
        let mut found = None;
        let mut tries = 0;
        self.each_record(group, Tree::BySize, &by_size(0, len), |record| {
            let (start, size) = run_of(record);
            self.check_group_block(group.number, start, size)?;
            let first = u64::from(start).next_multiple_of(round.into());
            if first + u64::from(len) <= u64::from(start) + u64::from(size) {
                found = Some(((start, size), fields::low32(first)));
                return Ok(ControlFlow::Break(()));
            }
            tries += 1;
            Ok(if tries < TRIES { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
        })?;
        if found.is_none() && tries >= TRIES && round > 1 {
            // Among many runs that are just too short, one that fits wherever it begins.
            return match self.record_from(group, Tree::BySize, &by_size(0, len.saturating_add(round)))? {
                Some(record) => {
                    let (start, size) = run_of(&record);
                    self.check_group_block(group.number, start, size)?;
                    let first = u64::from(start).next_multiple_of(round.into());
                    let fits = first + u64::from(len) <= u64::from(start) + u64::from(size);
                    Ok(fits.then_some(((start, size), fields::low32(first))))
                }
                None => Ok(None),
            };
        }
        Ok(found)
    }

    /// Takes `len` blocks of a group for an owner that is no file, the first at a multiple of `round`.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`].
    pub(super) fn take_owned(&mut self, group: &mut Group, len: u32, round: u32, owner: Owner) -> Result<u32> {
        self.refill(group)?;
        let Some((run, start)) = self.fitting(group, len, round)? else {
            return Err(self.no_room(len.into(), be32(&group.space, agf::LONGEST).into()));
        };
        self.carve(group, run, (start, len))?;
        self.add_owner(group, start, len, owner)?;
        Ok(start)
    }

    /// Gives blocks of a group back that belonged to an owner that is no file.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] when they are not its.
    pub(super) fn give_owned(&mut self, group: &mut Group, start: u32, len: u32, owner: Owner) -> Result<()> {
        self.check_group_block(group.number, start, len)?;
        self.refill(group)?;
        self.remove_owner(group, start, len, owner)?;
        self.put_back(group, start, len)
    }

    /// Takes up to `len` blocks in one run, near a group; the caller says whose they are.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`].
    pub(super) fn take_run(&mut self, near: u32, len: u32) -> Result<Blocks> {
        // Whole, where some group has it; else the longest that there is.
        for whole in [true, false] {
            let mut best = None;
            for number in self.groups_from(near) {
                let group = self.group(number)?;
                let free = be32(&group.space, agf::FREE);
                let longest = be32(&group.space, agf::LONGEST);
                let usable = longest.min(free.saturating_sub(HELD_BACK));
                self.keep(group);
                if usable >= len || !whole && usable > best.map_or(0, |(usable, _)| usable) {
                    best = Some((usable, number));
                }
                if usable >= len {
                    break;
                }
            }
            if let Some((usable, number)) = best {
                let mut group = self.group(number)?;
                self.refill(&mut group)?;
                let len = len.min(usable).min(be32(&group.space, agf::LONGEST));
                if let Some((run, start)) = self.fitting(&group, len, 1)?.filter(|_| len > 0) {
                    self.carve(&mut group, run, (start, len))?;
                    self.keep(group);
                    return Ok(Blocks { start: self.sb.fs_block(number, start), len });
                }
                self.keep(group);
            }
        }
        Err(self.no_room(len.into(), 0))
    }

    /// Gives back a run that nobody owns any more.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] when it is free already.
    pub(super) fn give_run(&mut self, group: &mut Group, start: u32, len: u32) -> Result<()> {
        self.check_group_block(group.number, start, len)?;
        self.refill(group)?;
        self.put_back(group, start, len)
    }
}
