//! Trees, as they are gone through from the first block down.

use std::{ops::ControlFlow, sync::Arc};

use super::{
    Btrfs,
    block::{Block, HEADER, ITEM, Key, MOST_LEVEL, POINTER},
    bytes::{u8_at, u32_at, u64_at, uuid_at},
};
use crate::error::Result;

/// What is called with each item, and what it is found by.
pub(super) type Visit<'v, K> = dyn FnMut(K, &[u8]) -> Result<ControlFlow<()>> + 'v;

/// The first block of a tree: where it is, its level and its generation.
pub(super) type Root = (u64, u8, u64);

impl Btrfs {
    /// The block at `root`, from the first copy that is sound.
    pub(super) fn block(&self, (at, level, generation): Root) -> Result<Arc<Block>> {
        if let Some(known) = self.change.as_ref().and_then(|change| change.block(at)) {
            return Ok(known);
        }
        if let Some(known) = self.blocks.get(at) {
            return Ok(known);
        }
        let size = self.sb.node as usize;
        let mut why = "leads to a place where nothing is";
        for copy in 0..self.chunks.copies(at).max(1) {
            let mut bytes = vec![0; size];
            if !self.read_copy(at, &mut bytes, copy)? {
                continue;
            }
            let count = u32_at(&bytes, 96) as usize;
            let step = if level == 0 { ITEM } else { POINTER };
            why = match &bytes {
                bytes if !self.sb.sum.holds(bytes.get(32..).unwrap_or_default(), bytes) => "its sum is wrong",
                bytes if u64_at(bytes, 48) != at => "it belongs elsewhere",
                bytes if uuid_at(bytes, 32) != self.sb.metadata_uuid => "it is another file system's",
                bytes if u8_at(bytes, 100) != level || level > MOST_LEVEL => "its level is wrong",
                bytes if u64_at(bytes, 80) != generation => "it is of another generation",
                _ if HEADER + count * step > size => "it has more items than room",
                _ => {
                    let block = Arc::new(Block::new(bytes));
                    self.blocks.keep(at, block.clone(), size as u64);
                    return Ok(block);
                }
            };
        }
        Err(self.device.damaged(format!("the block at {at}: {why}")))
    }

    /// Calls `visit` with each item from the last one that is not behind `from` on, in their order, until it breaks.
    pub(super) fn items(&self, root: Root, from: Key, visit: &mut Visit<'_, Key>) -> Result<()> {
        let mut last: Option<Key> = None;
        // Blocks on the way down, and the number of what is next in each.
        let mut way: Vec<(Arc<Block>, usize)> = Vec::new();
        let first = self.block(root)?;
        let start = first.floor(from);
        way.push((first, start));
        while let Some((block, number)) = way.last_mut() {
            if *number >= block.count {
                way.pop();
                continue;
            }
            let (key, here) = (block.key(*number), *number);
            *number += 1;
            if block.level > 0 {
                let child = self.block(block.child(here))?;
                // Only on the way to the first one is there something in front.
                let start = if last.is_none() { child.floor(from) } else { 0 };
                if child.count == 0 {
                    return Err(self.device.damaged("a tree leads to a block with nothing in it"));
                }
                way.push((child, start));
                continue;
            }
            // What goes round in circles does not go on.
            if last.is_some_and(|last| key <= last) {
                return Err(self.device.damaged("keys of a tree are not in their order"));
            }
            last = Some(key);
            let block = block.clone();
            let item = block.item(here).ok_or_else(|| self.device.damaged("an item leads out of its block"))?;
            if visit(key, item)?.is_break() {
                return Ok(());
            }
        }
        Ok(())
    }

    /// The item of exactly this key.
    pub(super) fn item(&self, root: Root, key: Key) -> Result<Option<Vec<u8>>> {
        let mut found = None;
        self.items(root, key, &mut |at, item| {
            if at == key {
                found = Some(item.to_vec());
            }
            Ok(if at < key { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
        })?;
        Ok(found)
    }

    /// Calls `visit` with each item of one kind of an object.
    pub(super) fn each(&self, root: Root, object: u64, kind: u8, visit: &mut Visit<'_, u64>) -> Result<()> {
        self.items(root, (object, kind, 0), &mut |key, item| match (key.0, key.1).cmp(&(object, kind)) {
            std::cmp::Ordering::Less => Ok(ControlFlow::Continue(())),
            std::cmp::Ordering::Equal => visit(key.2, item),
            std::cmp::Ordering::Greater => Ok(ControlFlow::Break(())),
        })
    }
}
