//! The index of a large folder: a tree of hashes over its blocks (section "Hash Tree Directories").

use reformis_disk::to_usize;

use super::{
    Ext, checksum,
    folder::{Entry, own_entries, stored_length},
    hash::Hasher,
    inode::{Inode, flags},
    map::Run,
};
use crate::error::Result;

impl Ext {
    fn hasher(&self, version: u8) -> Hasher {
        // The flag that tells which kind of machine made the file system: 2 is one whose characters have no sign.
        let signed = self.sb.s_flags.get() & 2 == 0;
        Hasher { version, signed, seed: self.sb.s_hash_seed.map(zerocopy::byteorder::U32::get) }
    }

    /// The block of an indexed folder that `name` belongs into, in the folder and in the file system; `None` when the index is of a kind that we only read.
    #[expect(
        clippy::indexing_slicing,
        reason = "entries were checked against their block when it was read, or laid out to fit it"
    )]
    pub(super) fn leaf(&self, folder: &Inode, name: &[u8]) -> Result<Option<(u64, u64)>> {
        let map = self.map(folder)?;
        let wrong = || self.device.damaged(format!("the folder with inode {} has a broken index", folder.number));
        let mut bytes = self.read_block(map.block(0).ok_or_else(wrong)?)?;
        let (version, levels) = (bytes[0x1c], bytes[0x1e]);
        if version > 2 || levels > 2 {
            return Ok(None);
        }
        let hash = self.hasher(version).hash(name);
        let mut start = 0x20;
        for level in 0..=levels {
            let count = usize::from(u16::from_le_bytes([bytes[start + 2], bytes[start + 3]]));
            if count == 0 || start + count * 8 > bytes.len() {
                return Err(wrong());
            }
            let word = |at: usize| u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
            // The first entry has no hash: it begins the order.
            let index = (1..count).rev().find(|index| word(start + index * 8) <= hash).unwrap_or(0);
            let logical = u64::from(word(start + index * 8 + 4) & 0x0fff_ffff);
            let block = map.block(logical).ok_or_else(wrong)?;
            if level == levels {
                return Ok(Some((logical, block)));
            }
            bytes = self.read_block(block)?;
            self.check_sum(folder, logical, &bytes)?;
            start = 8;
        }
        Ok(None)
    }

    /// Lays all entries of a folder, and one more, down anew below an index of hashes.
    #[expect(clippy::cast_possible_truncation, reason = "lengths that fit a block, and names of at most 255 bytes")]
    #[expect(
        clippy::indexing_slicing,
        reason = "entries were checked against their block when it was read, or laid out to fit it"
    )]
    pub(super) fn rebuild(&mut self, folder: &mut Inode, added: Option<Entry>) -> Result<()> {
        let version = self.sb.s_def_hash_version.min(2);
        let hasher = self.hasher(version);
        let parent = self.parent(folder)?;
        let mut entries: Vec<(u32, Entry)> =
            self.entries(folder)?.into_iter().chain(added).map(|entry| (hasher.hash(&entry.name), entry)).collect();
        entries.sort_by_key(|(hash, _)| *hash);
        // Leaves with some room left, so that the next entry does not lead to this again.
        let room = (self.block - self.tail_len()) / 4 * 3;
        let mut leaves: Vec<(u32, Vec<Entry>)> = Vec::new();
        let mut used = room;
        let mut last = None;
        for (hash, entry) in entries {
            if used + entry.size() > room {
                // A leaf that goes on with names of the same hash is marked by the lowest bit.
                leaves.push((hash | u32::from(last == Some(hash)), Vec::new()));
                used = 0;
            }
            used += entry.size();
            last = Some(hash);
            if let Some((_, leaf)) = leaves.last_mut() {
                leaf.push(entry);
            }
        }
        let checked = usize::from(self.tail_len() > 0);
        let in_root = (self.block - 0x20) / 8 - checked;
        let in_node = (self.block - 8) / 8 - checked;
        let levels = if leaves.len() <= in_root { 0 } else { 1 };
        let nodes = if levels == 0 { 0 } else { leaves.len().div_ceil(in_node) };
        if nodes > in_root {
            return Err(self
                .device
                .unchangeable(format!("the folder with inode {} has too many entries", folder.number)));
        }
        // Root, then nodes, then leaves.
        let total = 1 + nodes + leaves.len();
        let mut map = self.map(folder)?;
        map.runs.retain(|run| !run.unwritten);
        let have: u64 = map.blocks();
        let is_dense =
            map.runs.iter().try_fold(0, |next, run| (run.logical == next).then_some(next + run.len)) == Some(have);
        if !is_dense {
            return Err(self.device.damaged(format!("the folder with inode {} has holes", folder.number)));
        }
        if (total as u64) > have {
            let goal = map.runs.last().map_or(0, |run| run.physical + run.len);
            for run in self.allocate(total as u64 - have, goal)? {
                let logical = map.blocks();
                map.push(Run { logical, ..run });
            }
        }
        let total = to_usize(map.blocks());
        folder.set_size(total as u64 * self.block as u64);
        folder.set_flag(flags::INDEX, true);
        let index = |hash: u32, block: usize| -> [u8; 8] {
            let [a, b, c, d] = hash.to_le_bytes();
            let [e, f, g, h] = (block as u32).to_le_bytes();
            [a, b, c, d, e, f, g, h]
        };
        let first_leaf = 1 + nodes;
        let of_leaves: Vec<[u8; 8]> =
            leaves.iter().enumerate().map(|(at, (hash, _))| index(*hash, first_leaf + at)).collect();
        let mut blocks: Vec<Vec<u8>> = Vec::with_capacity(total);
        let mut root = vec![0; self.block];
        let [dot, dots] = own_entries(folder.number, parent);
        dot.put(&mut root, 12, self.has_kinds());
        dots.put(&mut root[12..], self.block - 12, self.has_kinds());
        root[0x1c..0x20].copy_from_slice(&[version, 8, levels, 0]);
        let top: Vec<[u8; 8]> = if levels == 0 {
            of_leaves.clone()
        } else {
            of_leaves.chunks(in_node).enumerate().map(|(at, chunk)| index(le(&chunk[0]), 1 + at)).collect()
        };
        self.put_index(folder, &mut root, 0x20, in_root, &top);
        blocks.push(root);
        if levels > 0 {
            for chunk in of_leaves.chunks(in_node) {
                let mut node = vec![0; self.block];
                node[4..6].copy_from_slice(&stored_length(self.block));
                self.put_index(folder, &mut node, 8, in_node, chunk);
                blocks.push(node);
            }
        }
        blocks.extend(leaves.iter().map(|(_, leaf)| self.fill(folder, leaf)));
        // A folder never gets shorter; what is over stays, empty, behind the last leaf's hash.
        let spare = total - blocks.len();
        if spare > 0 {
            let keep = blocks.len() as u64;
            map = self.cut(map, keep)?;
            folder.set_size(keep * self.block as u64);
        }
        for (logical, bytes) in blocks.iter().enumerate() {
            if let Some(physical) = map.block(logical as u64) {
                self.write_block(physical, bytes)?;
            }
        }
        self.lay_map(folder, map)
    }

    /// Writes a node of an index: how many entries it could have, how many it has, and they.
    #[expect(clippy::cast_possible_truncation, reason = "lengths that fit a block, and names of at most 255 bytes")]
    #[expect(
        clippy::indexing_slicing,
        reason = "entries were checked against their block when it was read, or laid out to fit it"
    )]
    fn put_index(&self, folder: &Inode, bytes: &mut [u8], start: usize, limit: usize, entries: &[[u8; 8]]) {
        for (at, entry) in entries.iter().enumerate() {
            bytes[start + at * 8..start + at * 8 + 8].copy_from_slice(entry);
        }
        // The first entry's hash is what both counts stand in for.
        bytes[start..start + 2].copy_from_slice(&(limit as u16).to_le_bytes());
        bytes[start + 2..start + 4].copy_from_slice(&(entries.len() as u16).to_le_bytes());
        if self.tail_len() > 0 {
            let sum = checksum::crc32c(self.inode_seed(folder), &bytes[..start + entries.len() * 8]);
            let sum = checksum::crc32c(sum, &[0; 8]);
            let tail = start + limit * 8;
            bytes[tail + 4..tail + 8].copy_from_slice(&sum.to_le_bytes());
        }
    }
}

fn le(entry: &[u8; 8]) -> u32 {
    u32::from_le_bytes([entry[0], entry[1], entry[2], entry[3]])
}
