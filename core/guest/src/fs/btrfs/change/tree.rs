//! Items put into trees and taken out of them; blocks split where they are full, and given back where nothing is in them.

use std::sync::Arc;

use super::{
    super::{
        Btrfs,
        block::{Block, HEADER, Head, ITEM, Item, Key, POINTER, Pointer, Root},
        roots,
    },
    record::Ref,
};
use crate::error::{Error, Result};

/// The blocks on the way down to a leaf, and the number of the key that was gone by in each.
type Way = Vec<(Root, usize)>;

/// Parts of what does not fit into one block: two of about the same weight where each has room, or else as many as it takes.
fn split<T>(mut all: Vec<T>, weight: &dyn Fn(&T) -> usize, room: usize) -> Vec<Vec<T>> {
    let total: usize = all.iter().map(weight).sum();
    if total <= room {
        return vec![all];
    }
    let (mut left, mut at) = (0, 0);
    for one in &all {
        if left + weight(one) > room || left >= total / 2 {
            break;
        }
        left += weight(one);
        at += 1;
    }
    let rest = all.split_off(at);
    let mut parts = vec![all];
    parts.extend(split(rest, weight, room));
    parts.retain(|part| !part.is_empty());
    parts
}

impl Btrfs {
    /// The first block of a tree that has to be there.
    pub(in super::super) fn root_of(&self, tree: u64) -> Result<Root> {
        match tree {
            roots::ROOTS => Ok(self.sb.root),
            roots::CHUNKS => Ok(self.sb.chunk_root),
            _ => self.tree(tree)?.ok_or_else(|| self.device.damaged(format!("there is no tree {tree}"))),
        }
    }

    fn set_root(&mut self, tree: u64, root: Root) -> Result<()> {
        match tree {
            roots::ROOTS => self.sb.root = root,
            roots::CHUNKS => self.sb.chunk_root = root,
            _ => {
                self.know_tree(tree, Some(root));
                self.changing()?.moved.insert(tree);
            }
        }
        Ok(())
    }

    fn head(&self, at: u64, tree: u64) -> Result<Head> {
        let chunk_tree = self.block(self.sb.chunk_root)?.chunk_tree();
        let generation = self.change_generation();
        Ok(Head { fsid: self.sb.metadata_uuid, chunk_tree, at, generation, owner: tree })
    }

    /// Room for a block of a tree, which refers to it.
    fn new_block(&mut self, tree: u64, level: u8) -> Result<u64> {
        let at = self.take_block(tree == roots::CHUNKS)?;
        self.note_block(at, level, Ref::Tree(tree), 1)?;
        self.changing()?.made.insert(at);
        self.count_bytes(tree, true)?;
        Ok(at)
    }

    /// A block of a tree, which does not refer to it any more.
    fn drop_block(&mut self, tree: u64, at: u64, level: u8) -> Result<()> {
        self.note_block(at, level, Ref::Tree(tree), -1)?;
        self.count_bytes(tree, false)?;
        self.changing()?.forget(at);
        Ok(())
    }

    fn put_items(&mut self, tree: u64, at: u64, items: &[Item]) -> Result<()> {
        let block = Block::of_items(self.sb.node as usize, self.head(at, tree)?, items);
        self.changing()?.set(at, Arc::new(block))
    }

    fn put_pointers(&mut self, tree: u64, at: u64, level: u8, pointers: &[Pointer]) -> Result<()> {
        let block = Block::of_pointers(self.sb.node as usize, self.head(at, tree)?, level, pointers);
        self.changing()?.set(at, Arc::new(block))
    }

    /// The same block as one of this generation, which only this tree has. What the other trees see stays where it is.
    fn own(&mut self, tree: u64, root: Root, above: Option<(Root, usize)>) -> Result<Root> {
        // A stranger's block may be of any generation.
        if self.changing()?.made.contains(&root.0) {
            return Ok(root);
        }
        let generation = self.change_generation();
        let (old, level) = (self.block(root)?, root.1);
        let at = self.new_block(tree, level)?;
        if level == 0 {
            let items = old.items().ok_or_else(|| self.device.damaged("an item leads out of its block"))?;
            self.put_items(tree, at, &items)?;
        } else {
            self.put_pointers(tree, at, level, &old.pointers())?;
        }
        if roots::is_subvolume(tree) {
            self.share(tree, root.0, &old)?;
        }
        self.drop_block(tree, root.0, level)?;
        let own = (at, level, generation);
        match above {
            None => self.set_root(tree, own)?,
            Some((above, slot)) => self.lead(tree, above, slot, own)?,
        }
        Ok(own)
    }

    /// Gives what `old` refers to the references that its copy in `tree` needs (Linux, `update_ref_for_cow`): while others have the old block
    /// too, both refer to the same things from now on.
    fn share(&mut self, tree: u64, at: u64, old: &Block) -> Result<()> {
        let (count, is_full) = self.shared(at, old.level)?;
        if count > 1 {
            if old.owner() == tree && !is_full {
                // Those who keep it refer to what is below it by the block itself.
                self.refer_all(old, Ref::below(old.level, at), 1)?;
                self.note_full(at, old.level)?;
            } else {
                self.refer_all(old, Ref::of_tree(old.level, tree), 1)?;
            }
        } else if is_full {
            self.refer_all(old, Ref::of_tree(old.level, tree), 1)?;
            self.refer_all(old, Ref::below(old.level, at), -1)?;
        }
        Ok(())
    }

    /// Lets the key of number `slot` lead to another block.
    fn lead(&mut self, tree: u64, above: Root, slot: usize, child: Root) -> Result<()> {
        let mut pointers = self.block(above)?.pointers();
        if let Some(pointer) = pointers.get_mut(slot) {
            (pointer.1, pointer.2) = (child.0, child.2);
        }
        self.put_pointers(tree, above.0, above.1, &pointers)
    }

    /// The way down to the leaf where `key` is or would be; all of its blocks are the tree's own then.
    fn way(&mut self, tree: u64, key: Key) -> Result<Way> {
        let mut at = self.root_of(tree)?;
        at = self.own(tree, at, None)?;
        let mut way = Way::new();
        loop {
            let block = self.block(at)?;
            let slot = block.floor(key);
            way.push((at, slot));
            if block.level == 0 {
                return Ok(way);
            }
            if block.count == 0 || block.child(slot).1 >= block.level {
                return Err(self.device.damaged("a tree leads to a block with nothing in it"));
            }
            at = self.own(tree, block.child(slot), Some((at, slot)))?;
        }
    }

    /// Gives a tree an item, in place of one of the same key.
    pub(in super::super) fn put(&mut self, tree: u64, key: Key, item: Vec<u8>) -> Result<()> {
        if item.len() > self.most_item() {
            return Err(self.device.unchangeable("an item would be longer than a block"));
        }
        let mut way = self.way(tree, key)?;
        let (at, mut items) = self.leaf_at(&mut way)?;
        let place = items.partition_point(|(known, _)| *known < key);
        match items.get_mut(place) {
            Some((known, old)) if *known == key => *old = item,
            _ => items.insert(place, (key, item)),
        }
        self.lay_items(tree, way, at, items)
    }

    /// Takes an item out of a tree; whether it was there.
    pub(in super::super) fn take(&mut self, tree: u64, key: Key) -> Result<bool> {
        if self.item(self.root_of(tree)?, key)?.is_none() {
            return Ok(false);
        }
        let mut way = self.way(tree, key)?;
        let (at, mut items) = self.leaf_at(&mut way)?;
        let count = items.len();
        items.retain(|(known, _)| *known != key);
        if items.len() == count {
            return Err(self.unordered());
        }
        self.lay_items(tree, way, at, items)?;
        Ok(true)
    }

    /// The longest item that a leaf takes.
    pub(in super::super) fn most_item(&self) -> usize {
        (self.sb.node as usize).saturating_sub(HEADER + ITEM)
    }

    /// The leaf at the end of a way, which ends above it then, and what is in it.
    fn leaf_at(&self, way: &mut Way) -> Result<(u64, Vec<Item>)> {
        let (at, _) = way.pop().unwrap_or_default();
        let items = self.block(at)?.items().ok_or_else(|| self.device.damaged("an item leads out of its block"))?;
        if !items.is_sorted_by(|(left, _), (right, _)| left < right) {
            return Err(self.unordered());
        }
        Ok((at.0, items))
    }

    /// The error of a tree in which nothing is found where it is looked for.
    pub(super) fn unordered(&self) -> Error {
        self.device.damaged("keys of a tree are not in their order")
    }

    /// Lays items into the leaf at `at`, and into new ones beside it as far as they have no room there.
    fn lay_items(&mut self, tree: u64, way: Way, at: u64, items: Vec<Item>) -> Result<()> {
        let room = (self.sb.node as usize).saturating_sub(HEADER);
        let (mut pointers, generation) = (Vec::new(), self.change_generation());
        for (number, part) in split(items, &|(_, item)| ITEM + item.len(), room).into_iter().enumerate() {
            let Some(key) = part.first().map(|(key, _)| *key) else { continue };
            let at = if number == 0 { at } else { self.new_block(tree, 0)? };
            self.put_items(tree, at, &part)?;
            pointers.push((key, at, generation));
        }
        self.lead_to(tree, way, (at, 0), pointers)
    }

    /// Lets those above the block `old` lead to what became of it: as many blocks as there are pointers, or none.
    fn lead_to(&mut self, tree: u64, mut way: Way, mut old: (u64, u8), mut pointers: Vec<Pointer>) -> Result<()> {
        let room = (self.sb.node as usize).saturating_sub(HEADER);
        let generation = self.change_generation();
        loop {
            let Some((above, slot)) = way.pop() else {
                return self.lead_root(tree, old, pointers);
            };
            if pointers.is_empty() {
                self.drop_block(tree, old.0, old.1)?;
            }
            let mut all = self.block(above)?.pointers();
            if all.len() <= slot {
                return Err(self.device.damaged("a tree changed on the way"));
            }
            if let ([one], Some(known)) = (&pointers[..], all.get(slot))
                && one == known
            {
                return Ok(());
            }
            all.splice(slot..=slot, pointers);
            (old, pointers) = ((above.0, above.1), Vec::new());
            for (number, part) in split(all, &|_| POINTER, room).into_iter().enumerate() {
                let Some(key) = part.first().map(|(key, ..)| *key) else { continue };
                let at = if number == 0 { above.0 } else { self.new_block(tree, above.1)? };
                self.put_pointers(tree, at, above.1, &part)?;
                pointers.push((key, at, generation));
            }
        }
    }

    /// What becomes of a tree whose first block was `old`.
    fn lead_root(&mut self, tree: u64, old: (u64, u8), pointers: Vec<Pointer>) -> Result<()> {
        let generation = self.change_generation();
        match &pointers[..] {
            [_] => Ok(()),
            [] => {
                // A tree without items is an empty leaf.
                self.drop_block(tree, old.0, old.1)?;
                let at = self.new_block(tree, 0)?;
                self.put_items(tree, at, &[])?;
                self.set_root(tree, (at, 0, generation))
            }
            _ => {
                let level = old.1 + 1;
                let at = self.new_block(tree, level)?;
                self.put_pointers(tree, at, level, &pointers)?;
                self.set_root(tree, (at, level, generation))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// Nothing is lost, the order stays, every part has something in it and has room; and there are not many more than it takes.
        #[test]
        fn parts_have_room_and_hold_everything(all in prop::collection::vec(1..=1000_usize, 0..200)) {
            let parts = split(all.clone(), &|weight| *weight, 1000);
            prop_assert_eq!(parts.concat(), all.clone());
            let fits = |part: &Vec<usize>| part.iter().sum::<usize>() <= 1000;
            prop_assert!(parts.iter().all(fits));
            prop_assert!(all.is_empty() || parts.iter().all(|part| !part.is_empty()));
            let total: usize = all.iter().sum();
            prop_assert!(parts.len() <= 2 * total.div_ceil(1000) + 1, "{} parts of {total}", parts.len());
        }
    }
}
