//! Block groups: what each chunk is for, how much of it is in use, and which places in it are free (Linux, `btrfs_block_group_item`).

use std::{collections::BTreeMap, ops::ControlFlow};

use reformis_disk::budget::Hold;

use super::super::{
    Btrfs,
    bytes::{put_u64, u64_at},
    items, roots,
    superblock::PLACES,
};
use crate::error::{Error, Result};

/// What a group holds (`BTRFS_BLOCK_GROUP_*`); one may hold both bytes of files and blocks of trees.
pub(super) const DATA: u64 = 1;
pub(super) const SYSTEM: u64 = 2;
pub(super) const BLOCKS: u64 = 4;

/// What is kept free around each copy of the superblock.
const AROUND_SUPERBLOCK: u64 = 64 << 10;
/// Memory for a free place, and for a group.
const PLACE: u64 = 64;
const GROUP: u64 = 160;

/// A group.
#[derive(Debug)]
pub(super) struct Group {
    pub(super) len: u64,
    pub(super) flags: u64,
    used: u64,
    /// Bytes that may still be taken: what was freed in this change is not among them.
    pub(super) left: u64,
    /// What its item says, where that is not the same yet.
    pub(super) is_behind: bool,
    /// The object of its chunk.
    pub(super) chunk: u64,
    /// Places that nobody has, and nobody had when the change began; `None` before they were looked for.
    free: Option<BTreeMap<u64, u64>>,
}

impl Group {
    pub(super) fn new(len: u64, flags: u64, used: u64, chunk: u64) -> Self {
        let left = len.saturating_sub(used);
        Self { len, flags, used, left, is_behind: false, chunk, free: None }
    }

    /// A group that nobody has anything in.
    pub(super) fn empty(start: u64, len: u64, flags: u64, free: BTreeMap<u64, u64>) -> Self {
        debug_assert!(free.keys().all(|at| (start..start + len).contains(at)), "places of the group alone");
        Self { free: Some(free), ..Self::new(len, flags, 0, items::CHUNKS) }
    }

    pub(super) fn item(&self) -> Vec<u8> {
        let mut item = vec![0; 24];
        put_u64(&mut item, 0, self.used);
        put_u64(&mut item, 8, self.chunk);
        put_u64(&mut item, 16, self.flags);
        item
    }
}

/// Takes `len` bytes from `at` on out of free places.
pub(super) fn cut(free: &mut BTreeMap<u64, u64>, at: u64, len: u64) {
    let Some((start, size)) = free.range(..=at).next_back().map(|(start, size)| (*start, *size)) else { return };
    let (end, stop) = (start.saturating_add(size), at.saturating_add(len));
    if at >= end {
        return;
    }
    free.remove(&start);
    if start < at {
        free.insert(start, at - start);
    }
    if stop < end {
        free.insert(stop, end - stop);
    }
}

impl Btrfs {
    /// All groups, by where they begin, and the memory that they take.
    pub(super) fn read_groups(&self) -> Result<(BTreeMap<u64, Group>, Hold)> {
        let root = self.root_of(roots::EXTENTS)?;
        let (mut groups, mut hold) = (BTreeMap::new(), self.device.bench().budget().hold());
        for (start, len) in self.chunks.all() {
            hold.grow(GROUP)?;
            let item = self.item(root, (start, items::GROUP, len))?.filter(|item| item.len() >= 24);
            let item = item.ok_or_else(|| self.device.damaged(format!("the chunk at {start} has no block group")))?;
            let group = Group::new(len, u64_at(&item, 16), u64_at(&item, 0), u64_at(&item, 8));
            groups.insert(start, group);
        }
        Ok((groups, hold))
    }

    /// Places of a group that nobody has, and nobody had when the change began: what was freed since then is what a torn write would go
    /// back to.
    fn find_free(&mut self, start: u64) -> Result<()> {
        let change = self.changing()?;
        let Some(group) = change.groups.get(&start).filter(|group| group.free.is_none()) else { return Ok(()) };
        let (end, base, node) = (start.saturating_add(group.len), change.base, u64::from(self.sb.node));
        let mut hold = self.device.bench().budget().hold();
        let mut free = BTreeMap::new();
        let mut at = start;
        self.items(base, (start, 0, 0), &mut |(first, kind, offset), _| {
            if first >= end {
                return Ok(ControlFlow::Break(()));
            }
            let len = match kind {
                items::DATA => offset,
                items::BLOCK => node,
                _ => return Ok(ControlFlow::Continue(())),
            };
            if first < start {
                // It ends before the group.
                return Ok(ControlFlow::Continue(()));
            }
            if first > at {
                hold.grow(PLACE)?;
                free.insert(at, first - at);
            }
            at = at.max(first.saturating_add(len));
            Ok(ControlFlow::Continue(()))
        })?;
        if at < end {
            free.insert(at, end - at);
        }
        let around = self.chunks.mirrors(start, &PLACES).into_iter().map(|at| (at, AROUND_SUPERBLOCK));
        let reserved = self.changing()?.reserved.iter().copied().filter(|(at, _)| (start..end).contains(at));
        for (at, len) in around.chain(reserved.collect::<Vec<_>>()) {
            cut(&mut free, at, len);
        }
        let change = self.changing()?;
        change.holds.push(hold);
        if let Some(group) = change.groups.get_mut(&start) {
            group.free = Some(free);
        }
        Ok(())
    }

    /// Room for a block of a tree.
    pub(super) fn take_block(&mut self, is_of_chunks: bool) -> Result<u64> {
        let node = u64::from(self.sb.node);
        let kind = if is_of_chunks { SYSTEM } else { BLOCKS };
        let (at, _) = self.take_space(kind, node, node)?.ok_or_else(|| self.no_room(kind, node))?;
        Ok(at)
    }

    /// The error of a volume that has no room for `needed` bytes of a kind.
    pub(super) fn no_room(&self, kind: u64, needed: u64) -> Error {
        let groups = self.change.iter().flat_map(|change| change.groups.values());
        let left = groups.filter(|group| group.flags & kind != 0).map(|group| group.left);
        let free = left.fold(0, u64::saturating_add);
        let sector = u64::from(self.sb.sector);
        let unit = format!("blocks of {sector} bytes");
        Error::NoRoom {
            volume: self.device.name().to_string(),
            unit,
            needed: needed.div_ceil(sector),
            free: free / sector,
        }
    }

    /// Takes a free place of at most `len` bytes, and at least `least`, in a group of a kind: where it begins, and its length. `None` where
    /// there is none.
    pub(super) fn take_space(&mut self, kind: u64, len: u64, least: u64) -> Result<Option<(u64, u64)>> {
        let change = self.changing()?;
        let fitting = |group: &Group| group.flags & kind != 0 && group.left >= least;
        let starts: Vec<u64> =
            change.groups.iter().filter(|(_, group)| fitting(group)).map(|(start, _)| *start).collect();
        let step = if least == u64::from(self.sb.node) { least } else { u64::from(self.sb.sector) };
        // The largest place, where none takes all of it.
        let mut best: Option<(u64, u64, u64)> = None;
        for start in starts {
            self.find_free(start)?;
            let Some(free) = self.changing()?.groups.get(&start).and_then(|group| group.free.as_ref()) else {
                continue;
            };
            for (at, size) in free {
                let first = at.checked_next_multiple_of(step).unwrap_or(u64::MAX);
                let room = at.saturating_add(*size).saturating_sub(first) / step * step;
                if room >= least && best.is_none_or(|(_, _, known)| known < room) {
                    best = Some((start, first, room));
                }
                if room >= len {
                    break;
                }
            }
            if best.is_some_and(|(_, _, room)| room >= len) {
                break;
            }
        }
        let Some((start, at, room)) = best else { return Ok(None) };
        let len = room.min(len);
        if let Some(group) = self.changing()?.groups.get_mut(&start) {
            group.left = group.left.saturating_sub(len);
            if let Some(free) = &mut group.free {
                cut(free, at, len);
            }
        }
        Ok(Some((at, len)))
    }

    /// Gives back a place that was taken in this change.
    pub(super) fn give_back(&mut self, at: u64, len: u64) -> Result<()> {
        let group = self.changing()?.groups.range_mut(..=at).next_back().map(|(_, group)| group);
        let Some(group) = group else { return Ok(()) };
        group.left = group.left.saturating_add(len);
        if let Some(free) = &mut group.free {
            let (mut start, mut end) = (at, at.saturating_add(len));
            if let Some((before, size)) = free.range(..at).next_back().map(|(start, size)| (*start, *size))
                && before.saturating_add(size) == at
            {
                start = before;
            }
            if let Some(size) = free.remove(&end) {
                end = end.saturating_add(size);
            }
            free.insert(start, end - start);
        }
        Ok(())
    }

    /// Counts a place as one in use, or as one that is free again.
    pub(super) fn count_space(&mut self, at: u64, len: u64, is_used: bool) -> Result<()> {
        let change = self.changing()?;
        change.spaces.push((at, len, is_used));
        if let Some((_, group)) = change.groups.range_mut(..=at).next_back() {
            group.used = if is_used { group.used.saturating_add(len) } else { group.used.saturating_sub(len) };
            group.is_behind = true;
        }
        self.sb.used = if is_used { self.sb.used.saturating_add(len) } else { self.sb.used.saturating_sub(len) };
        Ok(())
    }

    /// Writes what has become of the groups; whether there was anything.
    pub(super) fn write_groups(&mut self) -> Result<bool> {
        let behind = |(start, group): (&u64, &mut Group)| {
            std::mem::take(&mut group.is_behind).then(|| ((*start, items::GROUP, group.len), group.item()))
        };
        let changed: Vec<_> = self.changing()?.groups.iter_mut().filter_map(behind).collect();
        let any = !changed.is_empty();
        for (key, item) in changed {
            self.put(roots::EXTENTS, key, item)?;
        }
        Ok(any)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// Free places, beside one flag for each byte.
        #[test]
        fn places_are_cut_out_of_free_ones(cuts in prop::collection::vec((0..100_u64, 1..30_u64), 0..20)) {
            let mut free = BTreeMap::from([(10, 60), (80, 15)]);
            let mut flags: Vec<bool> = (0..140).map(|at| (10..70).contains(&at) || (80..95).contains(&at)).collect();
            for (at, len) in cuts {
                // A place that is taken is free as a whole, as everything that is taken was found there.
                let whole = (at..at + len).all(|at| flags[at as usize]);
                if whole {
                    cut(&mut free, at, len);
                    (at..at + len).for_each(|at| flags[at as usize] = false);
                }
            }
            let seen: Vec<bool> = (0..140).map(|at| free.iter().any(|(start, len)| (*start..start + len).contains(&at))).collect();
            prop_assert_eq!(seen, flags);
            prop_assert!(free.values().all(|len| *len > 0));
        }
    }
}
