//! The tree of trees: subvolumes, their names, and which one is mounted by itself.

use std::{ops::ControlFlow, sync::PoisonError};

use super::{
    Btrfs,
    bytes::{u8_at, u16_at, u64_at},
    items,
    sums::name_hash,
    tree::Root,
};
use crate::error::Result;

/// The subvolume that all others lie in.
pub(super) const TOP: u64 = 5;
/// The tree of sums.
pub(super) const SUMS: u64 = 7;
/// The folder in the tree of trees that names the default.
const NAMES: u64 = 6;
/// Where the root of a subvolume is a folder of it.
pub(super) const FOLDER: u64 = 256;
/// Subvolumes that are listed, and the longest path of one, in bytes.
const MOST: usize = 4096;
const MOST_PATH: usize = 1024;
/// The longest way down to a subvolume.
const MOST_DEPTH: usize = 64;

/// The name whose length is at byte `at` of an item; no name is longer than 255 bytes (`BTRFS_NAME_LEN`).
fn name_in(item: &[u8], at: usize) -> Vec<u8> {
    let len = usize::from(u16_at(item, at)).min(255);
    item.get(at + 2..at + 2 + len).unwrap_or_default().to_vec()
}

impl Btrfs {
    /// The tree of this number; `None` where there is none.
    pub(super) fn tree(&self, number: u64) -> Result<Option<Root>> {
        let lock = || self.roots.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = lock().get(&number) {
            return Ok(*known);
        }
        let mut found = None;
        self.each(self.sb.root, number, items::ROOT, &mut |_, item| {
            // Its own inode, then generation, number of the first folder, place; at the end its level.
            if item.len() >= 239 {
                found = Some((u64_at(item, 176), u8_at(item, 238), u64_at(item, 160)));
            }
            Ok(ControlFlow::Continue(()))
        })?;
        lock().insert(number, found);
        Ok(found)
    }

    /// The subvolume that is mounted where nobody asks for another.
    pub(super) fn default_subvolume(&self) -> Result<u64> {
        let item = self.item(self.sb.root, (NAMES, items::ENTRY, name_hash(b"default")))?;
        let named = item.iter().flat_map(|item| items::named(item)).find(|named| named.name == b"default");
        Ok(named.map_or(TOP, |named| named.leads_to.0))
    }

    /// Whether the subvolume `child` lies in the subvolume `parent`: a snapshot has the names of others, and not them.
    pub(super) fn has_child(&self, parent: u64, child: u64) -> Result<bool> {
        Ok(self.item(self.sb.root, (parent, items::ROOT_ENTRY, child))?.is_some())
    }

    /// All subvolumes below `parent`, with their paths from the top one on.
    pub(super) fn paths(&self, parent: u64, above: &[u8], depth: usize, all: &mut Vec<(u64, Vec<u8>)>) -> Result<()> {
        if depth > MOST_DEPTH {
            return Ok(());
        }
        let mut children = Vec::new();
        self.each(self.sb.root, parent, items::ROOT_ENTRY, &mut |child, item| {
            let name = name_in(item, 16);
            children.push((child, u64_at(item, 0), name));
            Ok(if children.len() < MOST { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
        })?;
        for (child, folder, name) in children {
            if all.len() >= MOST || all.iter().any(|(known, _)| *known == child) {
                continue;
            }
            let mut path = above.to_vec();
            for part in self.way_to(parent, folder)?.into_iter().chain([name]) {
                if !path.is_empty() {
                    path.push(b'/');
                }
                path.extend(part);
            }
            if path.len() > MOST_PATH {
                continue;
            }
            all.push((child, path.clone()));
            self.paths(child, &path, depth + 1, all)?;
        }
        Ok(())
    }

    /// The names of the folders from a subvolume's first one down to `folder`.
    fn way_to(&self, tree: u64, mut folder: u64) -> Result<Vec<Vec<u8>>> {
        let Some(root) = self.tree(tree)? else { return Ok(Vec::new()) };
        let mut names = Vec::new();
        while folder != FOLDER && names.len() < MOST_DEPTH {
            let mut found = None;
            // An inode's names: the folder is the offset (`btrfs_inode_ref`: index, length, name).
            self.each(root, folder, 12, &mut |above, item| {
                found = Some((above, name_in(item, 8)));
                Ok(ControlFlow::Break(()))
            })?;
            let Some((above, name)) = found else { break };
            names.push(name);
            folder = above;
        }
        names.reverse();
        Ok(names)
    }
}
