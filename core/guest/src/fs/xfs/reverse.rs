//! Whose each block is (section "Reverse-Mapping B+tree"). Where blocks are shared, records overlap.

use super::{
    Xfs,
    fields::{be32, slice},
    group::Group,
    owner::{FLAGS, Owner, UNWRITTEN, parts_of, record},
    superblock::ro_compat,
    tree::{Node, Record, Tree},
};
use crate::error::Result;

/// Blocks of a tree that records of one block are in, at most: more would be a circle.
const MAX_NODES: u32 = 65_536;

impl Xfs {
    fn has_owners(&self) -> bool {
        self.sb.has_ro(ro_compat::RMAPBT)
    }

    /// The records of a group that cover block `block`.
    fn covering(&self, group: &Group, block: u32) -> Result<Vec<Record>> {
        let (root, levels) = self.root_of(group, Tree::Reverse)?;
        let mut found = Vec::new();
        let mut todo = vec![(root, levels - 1)];
        let mut left = MAX_NODES;
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
