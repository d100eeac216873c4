//! Whose blocks are (section "Reverse-Mapping B+tree"), as records have it.

use super::fields::{be32, be64, put32, put64};

/// In a place: the blocks are reserved, which says nothing about their order.
pub(super) const UNWRITTEN: u64 = 1 << 61;
/// In a place: it is of the attributes.
const ATTRIBUTES: u64 = 1 << 63;
/// In a place: the block holds a map.
const MAP: u64 = 1 << 62;
pub(super) const FLAGS: u64 = ATTRIBUTES | MAP | UNWRITTEN;

/// Whose blocks are, and where at its owner's the first of them is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Owner {
    /// Number of an inode, or a number below zero for parts of the file system itself.
    pub(super) id: u64,
    /// First block in the file, with what marks parts of it.
    pub(super) place: u64,
}

const fn part(number: u64) -> Owner {
    Owner { id: 0u64.wrapping_sub(number), place: 0 }
}

/// The trees of free space and of owners, and spare blocks.
pub(super) const GROUP: Owner = part(5);
pub(super) const INODE_TREES: Owner = part(6);
pub(super) const INODES: Owner = part(7);
pub(super) const SHARED_TREE: Owner = part(8);
/// Blocks that were taken for a copy, which has not happened.
pub(super) const COPIES: Owner = part(9);

impl Owner {
    /// Blocks of a file's bytes, or of its attributes.
    pub(super) fn file(inode: u64, attributes: bool, place: u64, unwritten: bool) -> Self {
        let flags = if attributes { ATTRIBUTES } else { 0 } | if unwritten { UNWRITTEN } else { 0 };
        Self { id: inode, place: place | flags }
    }

    /// Blocks that hold such a map.
    pub(super) fn map(inode: u64, attributes: bool) -> Self {
        Self { id: inode, place: MAP | if attributes { ATTRIBUTES } else { 0 } }
    }

    /// Whether its place goes on from block to block.
    fn goes_on(self) -> bool {
        self.id.cast_signed() >= 0 && self.place & MAP == 0
    }

    pub(super) fn at(self, blocks: u32) -> Self {
        if self.goes_on() { Self { place: self.place + u64::from(blocks), ..self } } else { self }
    }
}

pub(super) fn record(start: u32, len: u32, owner: Owner) -> [u8; 24] {
    let mut record = [0; 24];
    put32(&mut record, 0, start);
    put32(&mut record, 4, len);
    put64(&mut record, 8, owner.id);
    put64(&mut record, 16, owner.place);
    record
}

pub(super) fn parts_of(record: &[u8]) -> (u32, u32, Owner) {
    (be32(record, 0), be32(record, 4), Owner { id: be64(record, 8), place: be64(record, 16) })
}

/// The key of a block: it, its owner, and its place there.
pub(super) fn key(block: u32, owner: Owner) -> [u8; 20] {
    let mut key = [0; 20];
    put32(&mut key, 0, block);
    put64(&mut key, 4, owner.id);
    put64(&mut key, 12, owner.place & !UNWRITTEN);
    key
}

/// The key of the first block of a record.
pub(super) fn first_key(bytes: &[u8]) -> [u8; 20] {
    let (start, _, owner) = parts_of(bytes);
    key(start, owner)
}

/// The key of the last block of a record.
pub(super) fn last_key(bytes: &[u8]) -> [u8; 20] {
    let (start, len, owner) = parts_of(bytes);
    let more = len.saturating_sub(1);
    key(start.saturating_add(more), owner.at(more))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fs::xfs::fields::put;

    #[test]
    fn a_key_of_the_last_block_goes_on_only_where_places_do() {
        let file = record(100, 8, Owner::file(131, false, 16, true));
        let last = last_key(&file);
        assert_eq!((be32(&last, 0), be64(&last, 4), be64(&last, 12)), (107, 131, 23));
        let map = record(100, 8, Owner::map(131, true));
        assert_eq!(be64(&last_key(&map), 12), MAP | ATTRIBUTES);
        let mut spare = [0; 24];
        put(&mut spare, 0, &record(4, 3, GROUP));
        assert_eq!((be32(&last_key(&spare), 0), be64(&last_key(&spare), 12)), (6, 0));
    }
}
