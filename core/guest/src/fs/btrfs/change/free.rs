//! The tree of free space: for each group its free places, or a map of bits where there are many (Linux, `free-space-tree.c`).

use std::ops::ControlFlow;

use reformis_disk::to_usize;

use super::super::{
    Btrfs,
    block::Key,
    bytes::{put_u32, u32_at},
    roots,
};
use crate::error::Result;

/// How many free places a group has, and whether they are in maps.
pub(super) const INFO: u8 = 198;
/// A free place: where it begins, and its length.
pub(super) const PLACE: u8 = 199;
/// A map: one bit for each sector.
const MAP: u8 = 200;

impl Btrfs {
    /// Writes what was taken and given back into the tree of free space; whether there was anything.
    pub(super) fn write_free(&mut self) -> Result<bool> {
        let spaces = std::mem::take(&mut self.changing()?.spaces);
        if !self.sb.has_free_space_tree() {
            return Ok(!spaces.is_empty());
        }
        for (at, len, is_used) in &spaces {
            self.write_space(*at, *len, *is_used)?;
        }
        Ok(!spaces.is_empty())
    }

    fn write_space(&mut self, at: u64, len: u64, is_used: bool) -> Result<()> {
        let group = self.changing()?.groups.range(..=at).next_back().map(|(start, group)| (*start, group.len));
        let Some((start, size)) = group else { return Err(self.unfit(at)) };
        let info_key = (start, INFO, size);
        let root = self.root_of(roots::FREE)?;
        let mut info = self.item(root, info_key)?.filter(|info| info.len() >= 8).ok_or_else(|| self.unfit(at))?;
        let more = if u32_at(&info, 4) & 1 != 0 {
            self.write_bits(start, at, len, is_used)?
        } else if is_used {
            self.take_place(start, at, len)?
        } else {
            self.add_place(start, start + size, at, len)?
        };
        if more != 0 {
            let count = i64::from(u32_at(&info, 0)) + more;
            put_u32(&mut info, 0, usize::try_from(count).map_err(|_| self.unfit(at))?);
            self.put(roots::FREE, info_key, info)?;
        }
        Ok(())
    }

    fn unfit(&self, at: u64) -> crate::Error {
        self.device.damaged(format!("the tree of free space does not fit what lies at {at}"))
    }

    /// The last free place of a group that does not begin behind `at`.
    fn place_before(&self, group: u64, at: u64) -> Result<Option<(u64, u64)>> {
        let mut found = None;
        self.items(self.root_of(roots::FREE)?, (at, PLACE, u64::MAX), &mut |(start, kind, len), _| {
            if start > at {
                return Ok(ControlFlow::Break(()));
            }
            if kind == PLACE && start >= group {
                found = Some((start, len));
            }
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(found)
    }

    /// The length of the free place that begins at `at`.
    fn place_at(&self, at: u64) -> Result<Option<u64>> {
        let mut found = None;
        self.each(self.root_of(roots::FREE)?, at, PLACE, &mut |len, _| {
            found = Some(len);
            Ok(ControlFlow::Break(()))
        })?;
        Ok(found)
    }

    /// Takes a place that is in use out of the free ones; how many more of them there are.
    fn take_place(&mut self, group: u64, at: u64, len: u64) -> Result<i64> {
        let (start, size) = self.place_before(group, at)?.ok_or_else(|| self.unfit(at))?;
        let (end, stop) = (start.saturating_add(size), at.saturating_add(len));
        if stop > end {
            return Err(self.unfit(at));
        }
        self.take(roots::FREE, (start, PLACE, size))?;
        let mut more = -1;
        for (from, to) in [(start, at), (stop, end)] {
            if from < to {
                self.put(roots::FREE, (from, PLACE, to - from), Vec::new())?;
                more += 1;
            }
        }
        Ok(more)
    }

    /// Adds a place to the free ones, together with those on both sides; how many more of them there are.
    fn add_place(&mut self, group: u64, group_end: u64, at: u64, len: u64) -> Result<i64> {
        let (mut start, mut end, mut more) = (at, at.saturating_add(len), 1);
        if let Some((before, size)) = self.place_before(group, at)? {
            if before.saturating_add(size) > at {
                return Err(self.unfit(at));
            }
            if before + size == at {
                self.take(roots::FREE, (before, PLACE, size))?;
                (start, more) = (before, more - 1);
            }
        }
        if end < group_end
            && let Some(size) = self.place_at(end)?
        {
            self.take(roots::FREE, (end, PLACE, size))?;
            (end, more) = (end.saturating_add(size), more - 1);
        }
        self.put(roots::FREE, (start, PLACE, end - start), Vec::new())?;
        Ok(more)
    }

    /// The map that has the bit for `at`.
    fn map_of(&self, group: u64, at: u64) -> Result<(Key, Vec<u8>)> {
        let mut found = None;
        self.items(self.root_of(roots::FREE)?, (at, MAP, u64::MAX), &mut |key, item| {
            if key.0 > at {
                return Ok(ControlFlow::Break(()));
            }
            if key.1 == MAP && key.0 >= group && at - key.0 < key.2 {
                found = Some((key, item.to_vec()));
            }
            Ok(ControlFlow::Continue(()))
        })?;
        found.ok_or_else(|| self.unfit(at))
    }

    /// Whether the bit for `at` says that it is free.
    fn is_free(&self, group: u64, at: u64) -> Result<bool> {
        let (key, map) = self.map_of(group, at)?;
        let bit = to_usize((at - key.0) / u64::from(self.sb.sector));
        Ok(map.get(bit / 8).is_some_and(|byte| byte >> (bit % 8) & 1 == 1))
    }

    /// Sets the bits of a place; how many more runs of free places there are.
    fn write_bits(&mut self, group: u64, at: u64, len: u64, is_used: bool) -> Result<i64> {
        let (sector, end) = (u64::from(self.sb.sector), at.saturating_add(len));
        let size = self.changing()?.groups.get(&group).map_or(0, |group| group.len);
        let before = at > group && self.is_free(group, at.saturating_sub(sector))?;
        let after = end < group.saturating_add(size) && self.is_free(group, end)?;
        let mut place = at;
        while place < end {
            let (key, mut map) = self.map_of(group, place)?;
            let stop = end.min(key.0.saturating_add(key.2));
            for bit in to_usize((place - key.0) / sector)..to_usize((stop - key.0) / sector) {
                let byte = map.get_mut(bit / 8).ok_or_else(|| self.unfit(place))?;
                // Each bit changes, or the map does not fit.
                if (*byte >> (bit % 8) & 1 == 1) != is_used {
                    return Err(self.unfit(place));
                }
                *byte ^= 1 << (bit % 8);
            }
            self.put(roots::FREE, key, map)?;
            place = stop;
        }
        let sides = i64::from(before) + i64::from(after);
        Ok(if is_used { sides - 1 } else { 1 - sides })
    }
}
