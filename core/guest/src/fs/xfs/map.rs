//! Where the bytes of a fork lie (section "Data Extents"): a list of runs, in the inode or below it in a tree.

use super::{
    Xfs,
    fields::{be16, be64, put, put16, put64, slice},
    inode::{Fork, Format, Inode},
    owner::Owner,
    seal,
};
use crate::error::Result;

pub(super) use crate::fs::runs::{Map, Run};

/// Deeper than any tree of 2^48 runs.
const MAX_LEVEL: u16 = 12;
/// No block.
const NULL: u64 = u64::MAX;
/// The most blocks of one run: what 21 bits count.
const MAX_RUN: u64 = (1 << 21) - 1;

impl Run {
    fn of(record: &[u8]) -> Self {
        let (high, low) = (be64(record, 0), be64(record, 8));
        Self {
            unwritten: high >> 63 != 0,
            logical: high >> 9 & ((1 << 54) - 1),
            physical: (high & 0x1ff) << 43 | low >> 21,
            len: low & MAX_RUN,
        }
    }

    fn record(&self) -> [u8; 16] {
        let mut record = [0; 16];
        put64(&mut record, 0, u64::from(self.unwritten) << 63 | self.logical << 9 | self.physical >> 43);
        put64(&mut record, 8, self.physical << 21 | self.len);
        record
    }
}

impl Map {
    /// Puts a run where there is a hole, joined to its neighbours where it goes on from them.
    pub(super) fn put(&mut self, run: Run) {
        let index = self.runs.partition_point(|other| other.logical < run.logical);
        self.runs.insert(index, run);
        let mut merged: Vec<Run> = Vec::with_capacity(3);
        let from = index.saturating_sub(1);
        let to = (index + 2).min(self.runs.len());
        for run in self.runs.get(from..to).unwrap_or_default() {
            match merged.last_mut() {
                Some(last)
                    if last.end() == run.logical
                        && last.physical + last.len == run.physical
                        && last.unwritten == run.unwritten
                        && last.len + run.len <= MAX_RUN =>
                {
                    last.len += run.len;
                }
                _ => merged.push(*run),
            }
        }
        self.runs.splice(from..to, merged);
    }

    /// Takes the blocks from `from` to `to` out of the map, and gives them.
    pub(super) fn take(&mut self, from: u64, to: u64) -> Vec<Run> {
        let mut taken = Vec::new();
        let mut kept = Vec::with_capacity(self.runs.len());
        for run in self.runs.drain(..) {
            let (start, end) = (run.logical.max(from), run.end().min(to));
            if start >= end {
                kept.push(run);
                continue;
            }
            let part = |start: u64, end: u64| Run {
                logical: start,
                physical: run.physical + (start - run.logical),
                len: end - start,
                ..run
            };
            if run.logical < start {
                kept.push(part(run.logical, start));
            }
            taken.push(part(start, end));
            if end < run.end() {
                kept.push(part(end, run.end()));
            }
        }
        self.runs = kept;
        taken
    }
}

impl Xfs {
    fn map_head(&self) -> usize {
        if self.sb.is_v5() { 72 } else { 24 }
    }

    /// Records, or keys and blocks, of a block of a map.
    fn most_in_map(&self) -> usize {
        (self.sb.sb_blocksize.get() as usize - self.map_head()) / 16
    }

    /// The map of a fork.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] for one that names blocks that are not there, or twice the same place.
    pub(super) fn map(&self, inode: &Inode, fork: Fork) -> Result<Map> {
        let mut map = Map::default();
        if fork == Fork::Attributes && inode.fork_offset() == 0 {
            return Ok(map);
        }
        let wrong = |what: &str| self.device.damaged(format!("the map of inode {} {what}", inode.number));
        let count = inode.runs(fork);
        let bytes = inode.fork(fork);
        let mut hold = self.device.bench().budget().hold();
        match inode.format(fork) {
            Some(Format::Extents) => {
                if count > (bytes.len() / 16) as u64 {
                    return Err(wrong("has more runs than its inode holds"));
                }
                let records = bytes.as_chunks::<16>().0.iter();
                map.runs = records.take(reformis_disk::to_usize(count)).map(|record| Run::of(record)).collect();
            }
            Some(Format::Tree) => {
                let (level, numbers) = (be16(bytes, 0), usize::from(be16(bytes, 2)));
                let most = (bytes.len().saturating_sub(4)) / 16;
                if level == 0 || level > MAX_LEVEL || numbers > most {
                    return Err(wrong("has a root that cannot be"));
                }
                let below = (0..numbers).map(|index| be64(bytes, 4 + most * 8 + index * 8)).collect();
                self.walk_map(inode, level - 1, below, &mut map, &mut hold)?;
            }
            _ => return Ok(map),
        }
        if map.runs.len() as u64 != count {
            return Err(wrong("has another number of runs than its inode says"));
        }
        let mut end = 0;
        for run in &map.runs {
            let (group, block) = self.sb.split_block(run.physical);
            let in_group = run.len > 0
                && group < self.sb.groups()
                && u64::from(block) + run.len <= self.sb.group_blocks(group).into();
            if run.logical < end || !in_group {
                return Err(wrong("names blocks that cannot be its own"));
            }
            end = run.end();
        }
        Ok(map)
    }

    /// Collects the runs below blocks of a tree, level for level.
    fn walk_map(
        &self,
        inode: &Inode,
        level: u16,
        below: Vec<u64>,
        map: &mut Map,
        hold: &mut reformis_disk::budget::Hold,
    ) -> Result<()> {
        let wrong = |what: &str| self.device.damaged(format!("the map of inode {} {what}", inode.number));
        let head = self.map_head();
        let (mut level, mut blocks) = (level, below);
        loop {
            let mut next = Vec::new();
            for block in &blocks {
                let (group, inner) = self.sb.split_block(*block);
                self.check_group_block(group, inner, 1)?;
                let at = self.sb.group_byte(group, inner);
                let mut bytes = vec![0; self.sb.sb_blocksize.get() as usize];
                self.device.read(at, &mut bytes)?;
                let magic: &[u8] = if self.sb.is_v5() { b"BMA3" } else { b"BMAP" };
                let count = usize::from(be16(&bytes, 6));
                if !bytes.starts_with(magic) || be16(&bytes, 4) != level || count > self.most_in_map() {
                    return Err(wrong("leads to a block that is no part of it"));
                }
                self.check_seal(&bytes, seal::FILE_TREE, at, inode.number, "a block of a map")?;
                // A tree cannot have more blocks than its inode counts.
                if map.tables.len() as u64 >= inode.blocks() {
                    return Err(wrong("has more blocks than its inode counts"));
                }
                hold.grow(8 + (count * size_of::<Run>()) as u64)?;
                map.tables.push(*block);
                for index in 0..count {
                    if level == 0 {
                        map.runs.push(Run::of(slice(&bytes, head + index * 16, 16)));
                    } else {
                        next.push(be64(&bytes, head + self.most_in_map() * 8 + index * 8));
                    }
                }
            }
            if level == 0 {
                return Ok(());
            }
            // A block that two lead to is no tree's.
            let mut sorted = next.clone();
            sorted.sort_unstable();
            if sorted.windows(2).any(|pair| matches!(pair, [one, other] if one == other)) {
                return Err(wrong("leads to one block twice"));
            }
            (level, blocks) = (level - 1, next);
        }
    }

    /// Lays down a fork's map: in the inode where it fits, else in a tree, whose blocks are taken and given back as needed.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`].
    pub(super) fn lay_map(&mut self, inode: &mut Inode, fork: Fork, mut map: Map) -> Result<()> {
        if map.runs.len() as u64 > inode.most_runs(fork) {
            return Err(self.device.unchangeable(format!("inode {} has as many runs as can be counted", inode.number)));
        }
        let room = inode.fork(fork).len();
        let owner = Owner::map(inode.number, fork == Fork::Attributes);
        let mut shape = Vec::new();
        let most = self.most_in_map();
        if map.runs.len() * 16 > room {
            // Blocks of each level, from the leaves up, until the inode holds what leads to them.
            let mut count = map.runs.len().div_ceil(most);
            shape.push(count);
            while count > room.saturating_sub(4) / 16 {
                count = count.div_ceil(most);
                shape.push(count);
            }
        }
        let wanted: usize = shape.iter().sum();
        let near = self.sb.split_inode(inode.number).0;
        while map.tables.len() < wanted {
            let taken = self.take_run(near, 1)?;
            let (group, block) = self.sb.split_block(taken.start);
            let mut group = self.group(group)?;
            self.add_owner(&mut group, block, 1, owner)?;
            self.keep(group);
            map.tables.push(taken.start);
            inode.count_blocks(1);
        }
        for block in map.tables.split_off(wanted) {
            let (group, block) = self.sb.split_block(block);
            let mut group = self.group(group)?;
            self.give_owned(&mut group, block, 1, owner)?;
            self.keep(group);
            inode.count_blocks(-1);
        }
        inode.set_runs(fork, map.runs.len());
        if shape.is_empty() {
            inode.set_format(fork, Format::Extents);
            let bytes: Vec<u8> = map.runs.iter().flat_map(Run::record).collect();
            inode.set_fork(fork, &bytes);
            return Ok(());
        }
        inode.set_format(fork, Format::Tree);
        self.lay_tree(inode, fork, &map, &shape)
    }

    fn lay_tree(&self, inode: &mut Inode, fork: Fork, map: &Map, shape: &[usize]) -> Result<()> {
        let (head, most) = (self.map_head(), self.most_in_map());
        let mut tables = map.tables.iter().copied();
        // What leads to the blocks of the level below: first block in the fork, and where it lies.
        let mut above: Vec<(u64, u64)> = Vec::new();
        for (level, count) in shape.iter().enumerate() {
            let blocks: Vec<u64> = tables.by_ref().take(*count).collect();
            let total = if level == 0 { map.runs.len() } else { above.len() };
            let mut next = Vec::new();
            for (index, block) in blocks.iter().enumerate() {
                let (from, to) = (total * index / count, total * (index + 1) / count);
                let mut bytes = vec![0; self.sb.sb_blocksize.get() as usize];
                put(&mut bytes, 0, if self.sb.is_v5() { b"BMA3" } else { b"BMAP" });
                put16(&mut bytes, 4, super::fields::low16(level));
                put16(&mut bytes, 6, super::fields::low16(to - from));
                let neighbour =
                    |index: Option<usize>| index.and_then(|index| blocks.get(index)).copied().unwrap_or(NULL);
                put64(&mut bytes, 8, neighbour(index.checked_sub(1)));
                put64(&mut bytes, 16, neighbour(Some(index + 1)));
                if level == 0 {
                    for (place, run) in map.runs.get(from..to).unwrap_or_default().iter().enumerate() {
                        put(&mut bytes, head + place * 16, &run.record());
                    }
                    next.push((map.runs.get(from).map_or(0, |run| run.logical), *block));
                } else {
                    let items = above.get(from..to).unwrap_or_default();
                    for (place, (key, below)) in items.iter().enumerate() {
                        put64(&mut bytes, head + place * 8, *key);
                        put64(&mut bytes, head + most * 8 + place * 8, *below);
                    }
                    next.push((items.first().map_or(0, |(key, _)| *key), *block));
                }
                let (group, inner) = self.sb.split_block(*block);
                let at = self.sb.group_byte(group, inner);
                self.write_sealed(&mut bytes, seal::FILE_TREE, at, inode.number)?;
            }
            above = next;
        }
        let mut root = vec![0; inode.fork(fork).len()];
        let most = root.len().saturating_sub(4) / 16;
        put16(&mut root, 0, super::fields::low16(shape.len()));
        put16(&mut root, 2, super::fields::low16(above.len()));
        for (place, (key, below)) in above.iter().enumerate() {
            put64(&mut root, 4 + place * 8, *key);
            put64(&mut root, 4 + most * 8 + place * 8, *below);
        }
        inode.set_fork(fork, &root);
        Ok(())
    }
}
