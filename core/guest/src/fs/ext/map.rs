//! Where a file's bytes lie: extent trees (section "Extent Tree") and block maps (section "Direct/Indirect Block
//! Addressing"), both taken as a list of runs.

use super::{
    Ext, checksum,
    inode::{Inode, flags},
    superblock::ro_compat,
};
use crate::error::Result;

pub(super) use crate::fs::runs::{Map, Run};

const EXTENT_MAGIC: u16 = 0xf30a;
/// Deepest tree that a file of 2^32 blocks can need.
const MAX_DEPTH: u16 = 5;
/// Longer lengths mark a run that is reserved and reads as zeros.
const MAX_RUN: u32 = 32_768;
/// Runs of one file that are taken into memory.
const MAX_RUNS: usize = 1 << 20;

#[expect(
    clippy::indexing_slicing,
    reason = "a node has at least 60 bytes, and its entries were checked against its length"
)]
fn le16(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes([bytes[at], bytes[at + 1]])
}

fn le32(bytes: &[u8], at: usize) -> u32 {
    u32::from(le16(bytes, at)) | u32::from(le16(bytes, at + 2)) << 16
}

impl Ext {
    /// The map of a file whose bytes are in blocks.
    pub(super) fn map(&self, inode: &Inode) -> Result<Map> {
        let mut map = Map::default();
        if inode.has(flags::EXTENTS) {
            self.extents(inode, inode.block(), None, &mut map)?;
        } else {
            self.block_map(inode, &mut map)?;
        }
        Ok(map)
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "a node has at least 60 bytes, and its entries were checked against its length"
    )]
    fn extents(&self, inode: &Inode, node: &[u8], depth: Option<u16>, map: &mut Map) -> Result<()> {
        let wrong = |what: &str| Err(self.device.damaged(format!("the extents of inode {} {what}", inode.number)));
        let (magic, entries, found) = (le16(node, 0), usize::from(le16(node, 2)), le16(node, 6));
        if magic != EXTENT_MAGIC || 12 + entries * 12 > node.len() || found > MAX_DEPTH {
            return wrong("do not begin with a header");
        }
        if depth.is_some_and(|depth| depth != found) {
            return wrong("change their depth on the way down");
        }
        for entry in node[12..12 + entries * 12].chunks_exact(12) {
            if found > 0 {
                let child = u64::from(le16(entry, 8)) << 32 | u64::from(le32(entry, 4));
                if map.tables.len() > MAX_RUNS / 8 {
                    return wrong("have too many tables");
                }
                map.tables.push(child);
                let bytes = self.read_block(child)?;
                self.check_extent_block(inode, &bytes)?;
                self.extents(inode, &bytes, Some(found - 1), map)?;
                continue;
            }
            let len = u32::from(le16(entry, 4));
            let unwritten = len > MAX_RUN;
            let len = u64::from(if unwritten { len - MAX_RUN } else { len });
            let logical = u64::from(le32(entry, 0));
            let physical = u64::from(le16(entry, 6)) << 32 | u64::from(le32(entry, 8));
            self.check_blocks(physical, len, "an extent")?;
            if map.runs.last().is_some_and(|last| last.logical + last.len > logical) || len == 0 {
                return wrong("overlap");
            }
            if map.runs.len() >= MAX_RUNS {
                return wrong("are more than a file can have");
            }
            map.push(Run { logical, physical, len, unwritten });
        }
        Ok(())
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "a node has at least 60 bytes, and its entries were checked against its length"
    )]
    fn check_extent_block(&self, inode: &Inode, bytes: &[u8]) -> Result<()> {
        let tail = 12 + usize::from(le16(bytes, 4)) * 12;
        if !self.sb.has_ro(ro_compat::METADATA_CSUM) {
            return Ok(());
        }
        let stated = bytes.get(tail..tail + 4).map(|bytes| le32(bytes, 0));
        if stated != Some(checksum::crc32c(self.inode_seed(inode), &bytes[..tail.min(bytes.len())])) {
            return Err(self
                .device
                .damaged(format!("a table of extents of inode {} has a wrong checksum", inode.number)));
        }
        Ok(())
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "extents of at most 32768 blocks, in a node of one block; halves of a number are set side by side"
    )]
    fn block_map(&self, inode: &Inode, map: &mut Map) -> Result<()> {
        let end = inode.size().div_ceil(self.block as u64);
        let roots: Vec<u32> = inode.block().chunks_exact(4).map(|entry| le32(entry, 0)).collect();
        let mut logical = 0;
        for (index, &root) in roots.iter().enumerate() {
            let depth = (index as u32).saturating_sub(11);
            if logical >= end && root == 0 {
                break;
            }
            self.pointers(inode, root, depth, &mut logical, map)?;
        }
        Ok(())
    }

    fn pointers(&self, inode: &Inode, block: u32, depth: u32, logical: &mut u64, map: &mut Map) -> Result<()> {
        let each = (self.block as u64 / 4).pow(depth);
        if block == 0 {
            *logical += each;
            return Ok(());
        }
        self.check_blocks(block.into(), 1, "a block map")?;
        if map.runs.len() + map.tables.len() >= MAX_RUNS {
            return Err(self.device.damaged(format!("the block map of inode {} is too large", inode.number)));
        }
        if depth == 0 {
            map.push(Run { logical: *logical, physical: block.into(), len: 1, unwritten: false });
            *logical += 1;
            return Ok(());
        }
        map.tables.push(block.into());
        let bytes = self.read_block(block.into())?;
        for entry in bytes.chunks_exact(4) {
            self.pointers(inode, le32(entry, 0), depth - 1, logical, map)?;
        }
        Ok(())
    }

    /// Lays the map `map` down anew in `inode`, in blocks that are allocated here, and returns it with them. The old
    /// tables are freed.
    pub(super) fn set_map(&mut self, inode: &mut Inode, map: Map) -> Result<Map> {
        let goal = map.runs.first().map_or(0, |run| run.physical);
        self.free_blocks(&map.tables)?;
        let mut laid = Map { runs: map.runs, tables: Vec::new() };
        inode.block_mut().fill(0);
        if inode.has(flags::EXTENTS) {
            self.lay_extents(inode, &mut laid, goal)?;
        } else {
            self.lay_pointers(inode, &mut laid, goal)?;
        }
        Ok(laid)
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "extents of at most 32768 blocks, in a node of one block; halves of a number are set side by side"
    )]
    #[expect(clippy::indexing_slicing, reason = "nodes of a known size, with as many entries as were counted to fit")]
    fn lay_extents(&mut self, inode: &mut Inode, map: &mut Map, goal: u64) -> Result<()> {
        let mut entries: Vec<(u32, [u8; 12])> = Vec::new();
        for run in &map.runs {
            let most = u64::from(if run.unwritten { MAX_RUN - 1 } else { MAX_RUN });
            let mut done = 0;
            while done < run.len {
                let len = (run.len - done).min(most);
                let (logical, physical) = ((run.logical + done) as u32, run.physical + done);
                let stored = len as u32 + if run.unwritten { MAX_RUN } else { 0 };
                let mut entry = [0; 12];
                entry[..4].copy_from_slice(&logical.to_le_bytes());
                entry[4..6].copy_from_slice(&(stored as u16).to_le_bytes());
                entry[6..8].copy_from_slice(&((physical >> 32) as u16).to_le_bytes());
                entry[8..].copy_from_slice(&(physical as u32).to_le_bytes());
                entries.push((logical, entry));
                done += len;
            }
        }
        // From the leaves up, until what is left fits into the inode.
        let per_block = (self.block - 12) / 12;
        let mut depth = 0;
        while entries.len() > 4 {
            let mut above = Vec::new();
            for leaf in entries.chunks(per_block) {
                let block = self.allocate_one(goal)?;
                map.tables.push(block);
                let mut bytes = vec![0; self.block];
                node(&mut bytes, leaf, per_block, depth);
                if self.sb.has_ro(ro_compat::METADATA_CSUM) {
                    let tail = 12 + per_block * 12;
                    let sum = checksum::crc32c(self.inode_seed(inode), &bytes[..tail]);
                    bytes[tail..tail + 4].copy_from_slice(&sum.to_le_bytes());
                }
                self.write_block(block, &bytes)?;
                let mut entry = [0; 12];
                entry[..4].copy_from_slice(&leaf[0].0.to_le_bytes());
                entry[4..8].copy_from_slice(&(block as u32).to_le_bytes());
                entry[8..10].copy_from_slice(&((block >> 32) as u16).to_le_bytes());
                above.push((leaf[0].0, entry));
            }
            entries = above;
            depth += 1;
        }
        node(inode.block_mut(), &entries, 4, depth);
        Ok(())
    }

    #[expect(clippy::cast_possible_truncation, reason = "the depth is at most 3")]
    #[expect(clippy::indexing_slicing, reason = "an inode has room for its fifteen pointers")]
    fn lay_pointers(&mut self, inode: &mut Inode, map: &mut Map, goal: u64) -> Result<()> {
        let end = map.runs.last().map_or(0, |run| run.logical + run.len);
        let mut next = 0;
        for index in 0..15_usize {
            let depth = (index as u32).saturating_sub(11);
            let block = self.pointer(map, &mut next, depth, end, goal)?;
            inode.block_mut()[index * 4..index * 4 + 4].copy_from_slice(&block.to_le_bytes());
        }
        if next < end {
            return Err(self.device.unchangeable(format!("inode {} would become too large for its map", inode.number)));
        }
        Ok(())
    }

    /// Lays down the tree of `depth` that starts at block `next` of the file; 0 when all below it is a hole.
    fn pointer(&mut self, map: &mut Map, next: &mut u64, depth: u32, end: u64, goal: u64) -> Result<u32> {
        let each = (self.block as u64 / 4).pow(depth);
        let first = *next;
        let index = map.runs.partition_point(|run| run.logical + run.len <= first);
        if first >= end || map.runs.get(index).is_none_or(|run| run.logical >= first + each) {
            *next += each;
            return Ok(0);
        }
        if depth == 0 {
            *next += 1;
            let block = map.block(first).unwrap_or(0);
            return u32::try_from(block).map_err(|_| self.device.damaged("a block map leads beyond 32 bits"));
        }
        let block = self.allocate_one(goal)?;
        map.tables.push(block);
        let mut bytes = vec![0; self.block];
        for entry in bytes.chunks_exact_mut(4) {
            entry.copy_from_slice(&self.pointer(map, next, depth - 1, end, goal)?.to_le_bytes());
        }
        self.write_block(block, &bytes)?;
        u32::try_from(block).map_err(|_| self.device.unchangeable("a block map needs blocks beyond 32 bits"))
    }
}

/// Writes a node of an extent tree.
#[expect(
    clippy::cast_possible_truncation,
    reason = "extents of at most 32768 blocks, in a node of one block; halves of a number are set side by side"
)]
#[expect(
    clippy::indexing_slicing,
    reason = "a node has at least 60 bytes, and its entries were checked against its length"
)]
fn node(bytes: &mut [u8], entries: &[(u32, [u8; 12])], most: usize, depth: u16) {
    let words = [EXTENT_MAGIC, entries.len() as u16, most as u16, depth];
    for (at, word) in words.into_iter().enumerate() {
        bytes[at * 2..at * 2 + 2].copy_from_slice(&word.to_le_bytes());
    }
    for (at, (_, entry)) in entries.iter().enumerate() {
        bytes[12 + at * 12..24 + at * 12].copy_from_slice(entry);
    }
}
