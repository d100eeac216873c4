//! Where the bytes of a file lie in its file system, block by block.

use std::ops::Range;

/// A run of blocks of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::fs) struct Run {
    /// First block in the file.
    pub(in crate::fs) logical: u64,
    /// First block in the file system.
    pub(in crate::fs) physical: u64,
    /// Number of blocks.
    pub(in crate::fs) len: u64,
    /// Reserved: reads as zeros.
    pub(in crate::fs) unwritten: bool,
}

impl Run {
    /// The block of the file behind it.
    pub(in crate::fs) fn end(&self) -> u64 {
        self.logical + self.len
    }
}

/// The map of a file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(in crate::fs) struct Map {
    /// Ascending, without overlaps.
    pub(in crate::fs) runs: Vec<Run>,
    /// Blocks that hold the map itself.
    pub(in crate::fs) tables: Vec<u64>,
}

impl Map {
    /// Adds a run behind the others, joined to the last where it goes on from it.
    pub(in crate::fs) fn push(&mut self, run: Run) {
        match self.runs.last_mut() {
            Some(last)
                if last.end() == run.logical
                    && last.physical + last.len == run.physical
                    && last.unwritten == run.unwritten =>
            {
                last.len += run.len;
            }
            _ => self.runs.push(run),
        }
    }

    /// The block in the file system of block `logical`; `None` for a hole and for reserved space.
    pub(in crate::fs) fn block(&self, logical: u64) -> Option<u64> {
        let index = self.runs.partition_point(|run| run.end() <= logical);
        let run = self.runs.get(index).filter(|run| run.logical <= logical && !run.unwritten)?;
        Some(run.physical + (logical - run.logical))
    }

    /// The bytes of a file of `size` bytes that lie in written blocks of `block` bytes, in order.
    pub(in crate::fs) fn stored(&self, block: u64, size: u64) -> Vec<Range<u64>> {
        let mut ranges: Vec<Range<u64>> = Vec::new();
        for run in self.runs.iter().filter(|run| !run.unwritten) {
            let range = run.logical.saturating_mul(block).min(size)..run.end().saturating_mul(block).min(size);
            match ranges.last_mut() {
                Some(last) if last.end == range.start => last.end = range.end,
                _ if range.is_empty() => {}
                _ => ranges.push(range),
            }
        }
        ranges
    }

    /// Blocks of data.
    pub(in crate::fs) fn blocks(&self) -> u64 {
        self.runs.iter().map(|run| run.len).sum()
    }
}
