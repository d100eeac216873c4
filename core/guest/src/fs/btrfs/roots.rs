//! The tree of trees: subvolumes, their names, and which one is mounted by itself.

use std::{ops::ControlFlow, sync::PoisonError};

use super::{
    Btrfs,
    block::{Key, Root},
    bytes::{u8_at, u16_at, u64_at},
    items,
    sums::name_hash,
};
use crate::error::Result;

/// The trees of trees, of extents, of chunks and of devices.
pub(super) const ROOTS: u64 = 1;
pub(super) const EXTENTS: u64 = 2;
pub(super) const CHUNKS: u64 = 3;
pub(super) const DEVICES: u64 = 4;
/// The subvolume that all others lie in.
pub(super) const TOP: u64 = 5;
/// The trees of sums, of quotas, and of free space.
pub(super) const SUMS: u64 = 7;
pub(super) const QUOTAS: u64 = 8;
pub(super) const FREE: u64 = 10;
/// What a balance that is under way is noted as, and the trees that it makes.
pub(super) const BALANCE: u64 = u64::MAX - 3;
pub(super) const RELOCATION: u64 = u64::MAX - 7;
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

/// Whether a tree is one of files, whose blocks several may have.
pub(super) fn is_subvolume(tree: u64) -> bool {
    tree == TOP || (FOLDER..=u64::MAX - 255).contains(&tree)
}

impl Btrfs {
    /// The tree of this number; `None` where there is none.
    pub(super) fn tree(&self, number: u64) -> Result<Option<Root>> {
        let lock = || self.roots.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = lock().get(&number) {
            return Ok(*known);
        }
        let entry = self.tree_entry(number)?;
        // Its own inode, then generation, number of the first folder, place; at the end its level.
        let found = entry.map(|(_, item)| (u64_at(&item, 176), u8_at(&item, 238), u64_at(&item, 160)));
        self.know_tree(number, found);
        Ok(found)
    }

    /// Remembers where a tree begins.
    pub(super) fn know_tree(&self, number: u64, root: Option<Root>) {
        self.roots.lock().unwrap_or_else(PoisonError::into_inner).insert(number, root);
    }

    /// What the tree of trees says of a tree, with its key.
    pub(super) fn tree_entry(&self, number: u64) -> Result<Option<(Key, Vec<u8>)>> {
        let mut found = None;
        self.each(self.sb.root, number, items::ROOT, &mut |offset, item| {
            if item.len() >= 239 {
                found = Some(((number, items::ROOT, offset), item.to_vec()));
            }
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(found)
    }

    /// Whether there are trees of this number, of whatever they are made.
    pub(super) fn has_tree_of(&self, number: u64) -> Result<bool> {
        let mut any = false;
        self.each(self.sb.root, number, items::ROOT, &mut |_, _| {
            any = true;
            Ok(ControlFlow::Break(()))
        })?;
        Ok(any)
    }

    /// Whether a device is being replaced by another one (`btrfs_dev_replace_item`).
    pub(super) fn is_replacing(&self) -> Result<bool> {
        let root = self.tree(DEVICES)?.ok_or_else(|| self.device.damaged("it has no tree of devices"))?;
        let state = self.item(root, (0, items::REPLACEMENT, 0))?.map_or(0, |item| u64_at(&item, 32));
        // Begun, or interrupted.
        Ok(matches!(state, 1 | 4))
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
            self.each(root, folder, items::NAMES, &mut |above, item| {
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
