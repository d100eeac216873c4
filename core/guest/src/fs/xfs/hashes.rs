//! Trees over hashes of names, which lead to the leaves of folders and attributes (section "Directory/Attribute B+trees").

use reformis_disk::to_usize;

use super::{
    Xfs,
    fields::{be16, be32, low16, low32, put16, put32},
    inode::{Fork, Inode},
    map::Map,
    seal::{self, Seal},
};
use crate::error::Result;

/// Marks of nodes before version 5 and from it on.
const NODES: [u16; 2] = [0xfebe, 0x3ebe];
/// Deeper than any tree.
const MAX_LEVEL: u16 = 5;

/// Which of the two that a tree leads to, and where it begins.
#[derive(Debug, Clone, Copy)]
pub(super) struct Shape {
    pub(super) fork: Fork,
    /// The root's block in the fork.
    pub(super) first: u64,
    /// Blocks of the file system in a block of the tree.
    pub(super) step: u64,
    /// Where blocks of the tree end in the fork.
    pub(super) end: u64,
}

/// A leaf to be laid down: its bytes but for its neighbours, and its last hash.
pub(super) struct Leaf {
    pub(super) bytes: Vec<u8>,
    pub(super) last: u32,
}

/// Where the count of a block's items is.
pub(super) fn count_place(v5: bool) -> usize {
    if v5 { 56 } else { 12 }
}

/// Bytes of the head of a node, and of a folder's leaf.
pub(super) fn head(v5: bool) -> usize {
    if v5 { 64 } else { 16 }
}

/// The mark of a block of a tree.
pub(super) fn magic(bytes: &[u8]) -> u16 {
    be16(bytes, 8)
}

/// The leaf behind this one; 0 when there is none.
pub(super) fn next(bytes: &[u8]) -> u64 {
    be32(bytes, 0).into()
}

impl Xfs {
    /// Reads a block of a tree that begins at block `logical` of the fork.
    pub(super) fn hash_block(&self, inode: &Inode, map: &Map, shape: Shape, logical: u64) -> Result<Vec<u8>> {
        let wrong = |what: &str| self.device.damaged(format!("an index of inode {} {what}", inode.number));
        let mut bytes = vec![0; to_usize(shape.step * self.sb.block())];
        let mut place = 0;
        for (index, piece) in (0u64..).zip(bytes.chunks_mut(to_usize(self.sb.block()))) {
            let physical = map.block(logical + index).ok_or_else(|| wrong("leads to a hole"))?;
            if index == 0 {
                place = self.block_byte(physical);
            }
            self.device.read(self.block_byte(physical), piece)?;
        }
        self.check_seal(&bytes, seal::HASHES, place, inode.number, "a block of an index")?;
        Ok(bytes)
    }

    /// The leaf that would hold `hash`.
    pub(super) fn leaf_of(&self, inode: &Inode, map: &Map, shape: Shape, hash: u32) -> Result<Vec<u8>> {
        let v5 = self.sb.is_v5();
        let wrong = |what: &str| self.device.damaged(format!("an index of inode {} {what}", inode.number));
        let (mut at, mut level) = (shape.first, MAX_LEVEL + 1);
        loop {
            let bytes = self.hash_block(inode, map, shape, at)?;
            if !NODES.contains(&magic(&bytes)) {
                return Ok(bytes);
            }
            let (count, own) = (usize::from(be16(&bytes, count_place(v5))), be16(&bytes, count_place(v5) + 2));
            if own == 0 || own >= level || count == 0 || head(v5) + count * 8 > bytes.len() {
                return Err(wrong("has a node that cannot be"));
            }
            level = own;
            let mut places = (0..count).map(|number| head(v5) + number * 8);
            let place = places.clone().find(|place| be32(&bytes, *place) >= hash);
            let place = place.or_else(|| places.next_back()).unwrap_or_default();
            at = be32(&bytes, place + 4).into();
        }
    }

    /// Lays leaves down, with a tree above them where there are several; what the tree had more of is given back.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`].
    pub(super) fn lay_hashes(
        &mut self,
        inode: &mut Inode,
        map: &mut Map,
        shape: Shape,
        leaves: Vec<Leaf>,
    ) -> Result<()> {
        let v5 = self.sb.is_v5();
        let size = to_usize(shape.step * self.sb.block());
        let most = (size - head(v5)) / 8;
        let mut counts = vec![leaves.len()];
        while let Some(count) = counts.last().copied().filter(|count| *count > 1) {
            counts.push(count.div_ceil(most));
        }
        let total: usize = counts.iter().sum();
        for logical in shape.first..shape.first + total as u64 * shape.step {
            if map.block(logical).is_none() {
                self.fill_hole(inode, shape.fork, map, logical, logical + 1)?;
            }
        }
        self.release(inode, shape.fork, map, shape.first + total as u64 * shape.step, shape.end)?;
        // The root comes first, wherever it is in the tree; the others follow from the leaves up.
        let mut free = 1u64;
        let mut level_blocks = leaves;
        for (level, count) in counts.iter().enumerate() {
            let places: Vec<u64> = if *count == 1 {
                vec![shape.first]
            } else {
                let from = free;
                free += *count as u64;
                (from..free).map(|number| shape.first + number * shape.step).collect()
            };
            let neighbour =
                |index: Option<usize>| low32(index.and_then(|index| places.get(index)).copied().unwrap_or(0));
            let mut above = Vec::with_capacity(places.len());
            for (index, mut leaf) in level_blocks.drain(..).enumerate() {
                put32(&mut leaf.bytes, 0, neighbour(Some(index + 1)));
                put32(&mut leaf.bytes, 4, neighbour(index.checked_sub(1)));
                let place = neighbour(Some(index));
                self.write_scattered(map, place.into(), &mut leaf.bytes, seal::HASHES, inode.number)?;
                above.push((leaf.last, place));
            }
            let nodes = counts.get(level + 1).copied().unwrap_or(0);
            level_blocks = (0..nodes)
                .map(|index| {
                    let (from, to) = (above.len() * index / nodes, above.len() * (index + 1) / nodes);
                    let items = above.get(from..to).unwrap_or_default();
                    let mut bytes = vec![0; size];
                    put16(&mut bytes, 8, if v5 { 0x3ebe } else { 0xfebe });
                    put16(&mut bytes, count_place(v5), low16(items.len()));
                    put16(&mut bytes, count_place(v5) + 2, low16(level + 1));
                    for (number, (hash, below)) in items.iter().enumerate() {
                        put32(&mut bytes, head(v5) + number * 8, *hash);
                        put32(&mut bytes, head(v5) + number * 8 + 4, *below);
                    }
                    Leaf { bytes, last: items.last().map_or(0, |(hash, _)| *hash) }
                })
                .collect();
        }
        Ok(())
    }

    /// Seals a structure of one block or several and writes it to where block `logical` of a fork, and those behind it, lie.
    pub(super) fn write_scattered(
        &self,
        map: &Map,
        logical: u64,
        bytes: &mut [u8],
        kind: Seal,
        owner: u64,
    ) -> Result<()> {
        let missing = || self.device.damaged(format!("a block that inode {owner} needs is not there"));
        let first = map.block(logical).ok_or_else(missing)?;
        self.put_seal(bytes, kind, self.block_byte(first), owner);
        for (index, piece) in (0u64..).zip(bytes.chunks(to_usize(self.sb.block()))) {
            let physical = map.block(logical + index).ok_or_else(missing)?;
            self.device.write(self.block_byte(physical), piece)?;
        }
        Ok(())
    }
}
