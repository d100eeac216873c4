//! Bytes at any place of a file: blocks that are missing are taken, and those behind its end given back.

use reformis_disk::to_usize;

use super::{
    Ext,
    inode::flags,
    map::{Map, Run},
};
use crate::error::Result;

/// The most bytes that lie in an inode: more than any inode has room for.
const MAX_INLINE: u64 = 64 << 10;

impl Ext {
    /// Writes `bytes` at `offset` of a file; a gap before them is a hole.
    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the buffer and the run")]
    pub(super) fn put_at(&mut self, number: u32, offset: u64, bytes: &[u8]) -> Result<()> {
        self.out_of_inode_first(number)?;
        let inode = self.inode(number)?;
        if offset == inode.size() {
            return self.append(number, bytes);
        }
        self.begin_change()?;
        let mut inode = self.inode(number)?;
        self.check_plain(&inode)?;
        let (size, block) = (inode.size(), self.block as u64);
        let end = offset.checked_add(bytes.len() as u64);
        let end = end.ok_or_else(|| self.device.unchangeable("no file is that long"))?;
        let map = self.map(&inode)?;
        if end > size {
            self.zero_end(&map, size)?;
        }
        let map = self.owned(map, offset / block, end.div_ceil(block))?;
        for run in &map.runs {
            let (from, to) = ((run.logical * block).max(offset), ((run.logical + run.len) * block).min(end));
            if from < to && !run.unwritten {
                let piece = &bytes[to_usize(from - offset)..to_usize(to - offset)];
                self.device.write((run.physical * block) + (from - run.logical * block), piece)?;
            }
        }
        inode.set_size(size.max(end));
        self.lay_map(&mut inode, map)?;
        self.note_large(&inode)?;
        self.touch(&mut inode);
        self.write_inode(&mut inode)?;
        self.flush()
    }

    /// Lets a file have `size` bytes: cut off, or with a hole at its end.
    pub(super) fn set_len(&mut self, number: u32, size: u64) -> Result<()> {
        self.out_of_inode_first(number)?;
        self.begin_change()?;
        let mut inode = self.inode(number)?;
        self.check_plain(&inode)?;
        let map = self.map(&inode)?;
        let map = self.cut(map, size.min(inode.size()).div_ceil(self.block as u64))?;
        self.zero_end(&map, size.min(inode.size()))?;
        inode.set_size(size);
        self.lay_map(&mut inode, map)?;
        self.note_large(&inode)?;
        self.touch(&mut inode);
        self.write_inode(&mut inode)?;
        self.flush()
    }

    /// Gives a file blocks whose bytes lie in its inode.
    fn out_of_inode_first(&mut self, number: u32) -> Result<()> {
        let inode = self.inode(number)?;
        if !inode.has(flags::INLINE_DATA) {
            return Ok(());
        }
        let whole = self.whole(&inode, MAX_INLINE)?;
        self.replace_all(number, &whole)
    }

    /// Fills the block in which byte `size` lies with zeros from there on: a file that grows shows what is behind its end.
    fn zero_end(&self, map: &Map, size: u64) -> Result<()> {
        let inside = to_usize(size % self.block as u64);
        let Some(physical) = map.block(size / self.block as u64).filter(|_| inside > 0) else { return Ok(()) };
        let mut bytes = self.read_block(physical)?;
        bytes.iter_mut().skip(inside).for_each(|byte| *byte = 0);
        self.write_block(physical, &bytes)
    }

    /// A map in which all blocks of the file from `first` up to `end` are there and written: those that were not are zero.
    fn owned(&mut self, map: Map, first: u64, end: u64) -> Result<Map> {
        let mut runs = Vec::new();
        let mut covered = first;
        let mut holes = Vec::new();
        for run in map.runs {
            let stop = run.logical + run.len;
            let (from, to) = (run.logical.max(first), stop.min(end));
            if from >= to {
                runs.push(run);
                continue;
            }
            if covered < from {
                holes.push((covered, from - covered));
            }
            covered = to;
            let part = |from: u64, to: u64, unwritten: bool| Run {
                logical: from,
                physical: run.physical + (from - run.logical),
                len: to - from,
                unwritten,
            };
            if run.unwritten {
                let inside = part(from, to, false);
                self.zero_run(&inside)?;
                let parts = [part(run.logical, from, true), inside, part(to, stop, true)];
                runs.extend(parts.into_iter().filter(|part| part.len > 0));
            } else {
                runs.push(run);
            }
        }
        if covered < end {
            holes.push((covered, end - covered));
        }
        for (mut logical, len) in holes {
            let goal = runs.last().map_or(0, |run: &Run| run.physical + run.len);
            for run in self.allocate(len, goal)? {
                let run = Run { logical, ..run };
                self.zero_run(&run)?;
                logical += run.len;
                runs.push(run);
            }
        }
        runs.sort_unstable_by_key(|run| run.logical);
        let mut whole = Map { runs: Vec::new(), tables: map.tables };
        runs.into_iter().for_each(|run| whole.push(run));
        Ok(whole)
    }

    fn zero_run(&self, run: &Run) -> Result<()> {
        let zeros = vec![0; self.block];
        (run.physical..run.physical + run.len).try_for_each(|block| self.write_block(block, &zeros))
    }
}
