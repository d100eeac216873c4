//! Whose each block is (section "Reverse-Mapping B+tree"). Where blocks are shared, records overlap.

use super::{
    Xfs,
    fields::{be32, be64, put32, put64, slice},
    group::Group,
    superblock::ro_compat,
    tree::{Node, Record, Tree, UNWRITTEN},
};
use crate::error::Result;

/// In a place: it is of the attributes.
const ATTRIBUTES: u64 = 1 << 63;
/// In a place: the block holds a map.
const MAP: u64 = 1 << 62;
const FLAGS: u64 = ATTRIBUTES | MAP | UNWRITTEN;

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

    fn at(self, blocks: u32) -> Self {
        if self.goes_on() { Self { place: self.place + u64::from(blocks), ..self } } else { self }
    }
}

fn record(start: u32, len: u32, owner: Owner) -> Record {
    let mut record = [0; 24];
    put32(&mut record, 0, start);
    put32(&mut record, 4, len);
    put64(&mut record, 8, owner.id);
    put64(&mut record, 16, owner.place);
    record
}

fn parts_of(record: &[u8]) -> (u32, u32, Owner) {
    (be32(record, 0), be32(record, 4), Owner { id: be64(record, 8), place: be64(record, 16) })
}

/// The key of the last block of a record.
pub(super) fn last_key(bytes: &[u8]) -> [u8; 20] {
    let (start, len, owner) = parts_of(bytes);
    let more = len.saturating_sub(1);
    Tree::Reverse.order(&record(start.saturating_add(more), 1, owner.at(more)), false)
}

impl Xfs {
    fn has_owners(&self) -> bool {
        self.sb.has_ro(ro_compat::RMAPBT)
    }

    /// The records of a group that cover block `block`.
    fn covering(&self, group: &Group, block: u32) -> Result<Vec<Record>> {
        let (root, levels) = self.root_of(group, Tree::Reverse)?;
        let mut found = Vec::new();
        let mut todo = vec![(root, levels - 1)];
        let mut left = self.sb.group_blocks(group.number);
        while let Some((at, level)) = todo.pop() {
            left = left.checked_sub(1).ok_or_else(|| self.device.damaged("a tree of owners leads in a circle"))?;
            let node: Node = self.read_node(group.number, Tree::Reverse, at, level)?;
            for item in &node.items {
                let first = be32(&item.bytes, 0);
                if first > block {
                    break;
                }
                if level > 0 {
                    if be32(&item.bytes, 20) >= block {
                        todo.push((item.below, level - 1));
                    }
                } else if block - first < be32(&item.bytes, 4) {
                    self.check_end(group, first, be32(&item.bytes, 4))?;
                    found.extend(slice(&item.bytes, 0, 24).first_chunk::<24>().copied());
                }
            }
        }
        Ok(found)
    }

    /// What of these blocks belongs to whom: first block, number, owner.
    ///
    /// # Errors
    /// Those of the tree.
    pub(super) fn owners_within(&self, group: &Group, start: u32, len: u32) -> Result<Vec<(u32, u32, Owner)>> {
        let mut found = Vec::new();
        if !self.has_owners() {
            return Ok(found);
        }
        let (mut at, end) = (start, start.saturating_add(len));
        while at < end {
            let Some(record) = self.covering(group, at)?.into_iter().next() else {
                at += 1;
                continue;
            };
            let (first, count, owner) = parts_of(&record);
            let until = end.min(first + count);
            found.push((at, until - at, owner.at(at - first)));
            at = until;
        }
        Ok(found)
    }

    /// Notes that blocks of a group have an owner; a record that it goes on from takes them up.
    ///
    /// # Errors
    /// Those of the tree.
    pub(super) fn add_owner(&mut self, group: &mut Group, start: u32, len: u32, owner: Owner) -> Result<()> {
        if !self.has_owners() {
            return Ok(());
        }
        let same = |other: &Owner| other.id == owner.id && other.place & FLAGS == owner.place & FLAGS;
        let before = match start.checked_sub(1) {
            Some(block) => self.covering(group, block)?.into_iter().find(|record| {
                let (first, count, other) = parts_of(record);
                first + count == start && same(&other) && other.at(count).place == owner.place
            }),
            None => None,
        };
        let behind = self.covering(group, start + len)?.into_iter().find(|record| {
            let (first, _, other) = parts_of(record);
            first == start + len && same(&other) && owner.at(len).place == other.place
        });
        let (mut first, mut count, mut place) = (start, len, owner);
        for record in [before, behind].into_iter().flatten() {
            self.delete(group, Tree::Reverse, &Tree::Reverse.order(&record, false))?;
            count += parts_of(&record).1;
        }
        if let Some(record) = before {
            (first, _, place) = parts_of(&record);
        }
        self.insert(group, Tree::Reverse, &record(first, count, place))
    }

    /// Notes that blocks of a group belong to an owner no more.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] when they did not.
    pub(super) fn remove_owner(&mut self, group: &mut Group, start: u32, len: u32, owner: Owner) -> Result<()> {
        if !self.has_owners() {
            return Ok(());
        }
        let (mut at, end) = (start, start + len);
        while at < end {
            let owner = owner.at(at - start);
            at = self.remove_owner_of_run(group, at, end, owner)?;
        }
        Ok(())
    }

    /// Does so for the first of these blocks, and as many more as one record has; the block behind them.
    fn remove_owner_of_run(&mut self, group: &mut Group, start: u32, end: u32, owner: Owner) -> Result<u32> {
        let strict = FLAGS & !UNWRITTEN;
        let found = self.covering(group, start)?.into_iter().find(|record| {
            let (first, _, other) = parts_of(record);
            other.id == owner.id
                && other.place & strict == owner.place & strict
                && other.at(start - first).place & !FLAGS == owner.place & !FLAGS
        });
        let Some(found) = found else {
            let id = owner.id.cast_signed();
            let text = format!("block {start} of group {} does not belong to its owner {id}", group.number);
            return Err(self.device.damaged(text));
        };
        let (first, count, place) = parts_of(&found);
        let end = end.min(first + count);
        self.delete(group, Tree::Reverse, &Tree::Reverse.order(&found, false))?;
        if first < start {
            self.insert(group, Tree::Reverse, &record(first, start - first, place))?;
        }
        if first + count > end {
            self.insert(group, Tree::Reverse, &record(end, first + count - end, place.at(end - first)))?;
        }
        Ok(end)
    }
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
