//! Files, folders and links as wholes: made, moved, removed.

use std::ops::ControlFlow;

use super::{
    super::{Btrfs, block::Key, items, volume::PREFIXES},
    inode::{Inode, mode},
};
use crate::{
    error::{Error, Result},
    fs::{
        FileSystem,
        node::{Attribute, Meta, New, Node, Owner, check_name},
    },
};

fn text(name: &[u8]) -> String {
    String::from_utf8_lossy(name).into()
}

impl Btrfs {
    fn folder_in(&self, node: Node) -> Result<Inode> {
        self.kind_in(node, mode::FOLDER, "folder")
    }

    fn kind_in(&self, node: Node, kind: u32, wanted: &'static str) -> Result<Inode> {
        let inode = self.inode_in(node)?;
        if inode.is(kind) {
            Ok(inode)
        } else {
            Err(Error::WrongKind { path: format!("inode {}", node.number), wanted })
        }
    }

    /// The node that a name of a folder stands for, where it is of the same subvolume.
    fn named(&self, folder: &Inode, name: &[u8], action: &'static str) -> Result<Node> {
        match self.entry_in(folder, name)? {
            None => Err(Error::NotFound { path: text(name) }),
            Some((number, items::INODE, _)) => Ok(Node { tree: folder.tree, number, stream: 0 }),
            Some(_) => {
                let what = format!("{} is a subvolume", text(name));
                Err(Error::Unsupported { volume: self.device.name().to_string(), action, what })
            }
        }
    }

    /// Makes something called `name` in a folder.
    pub(in super::super) fn make(&mut self, folder: Node, name: &[u8], new: &New<'_>, owner: &Owner) -> Result<Node> {
        self.begin_in(folder.tree)?;
        check_name(name)?;
        let mut folder = self.folder_in(folder)?;
        if self.entry_in(&folder, name)?.is_some() {
            return Err(Error::Exists { path: text(name) });
        }
        let kind = match new {
            New::File(_) => mode::FILE,
            New::Folder => mode::FOLDER,
            New::Link(_) => mode::LINK,
        };
        let mut inode = self.new_inode(&folder, kind | u32::from(owner.mode & 0o7777))?;
        inode.set_owner(owner.uid, owner.gid);
        // It is there before its bytes are, for those who read it.
        self.write_inode(&mut inode, false)?;
        self.add_name(&mut folder, name, &inode)?;
        self.write_inode(&mut folder, true)?;
        for attribute in &owner.attributes {
            self.add_attribute(&inode, &full_name(attribute), &attribute.value)?;
        }
        match new {
            New::File(bytes) if !bytes.is_empty() => self.put_bytes(&mut inode, 0, bytes)?,
            New::File(_) | New::Folder => {}
            New::Link(target) if target.len() + 21 <= self.most_item() && target.len() < self.sb.sector as usize => {
                self.lay_inline(&mut inode, target)?;
            }
            New::Link(_) => return Err(self.device.unchangeable("the target of a link is longer than any may be")),
        }
        if let Some(modified) = owner.modified {
            inode.set_modified(modified);
        }
        self.write_inode(&mut inode, false)?;
        self.finish_change()?;
        Ok(Node { tree: inode.tree, number: inode.number, stream: 0 })
    }

    /// Writes `bytes` at `offset` of a file.
    pub(in super::super) fn write_bytes(&mut self, node: Node, offset: u64, bytes: &[u8]) -> Result<()> {
        self.begin_in(node.tree)?;
        let mut inode = self.kind_in(node, mode::FILE, "file")?;
        self.put_bytes(&mut inode, offset, bytes)?;
        self.write_inode(&mut inode, true)?;
        self.finish_change()
    }

    /// Lets a file have `size` bytes.
    pub(in super::super) fn cut(&mut self, node: Node, size: u64) -> Result<()> {
        self.begin_in(node.tree)?;
        let mut inode = self.kind_in(node, mode::FILE, "file")?;
        self.set_len(&mut inode, size)?;
        self.write_inode(&mut inode, true)?;
        self.finish_change()
    }

    /// Removes `name` from a folder: a folder only when nothing is in it.
    pub(in super::super) fn remove(&mut self, folder: Node, name: &[u8]) -> Result<()> {
        self.begin_removal_in(folder.tree)?;
        let mut folder = self.folder_in(folder)?;
        let node = self.named(&folder, name, "removed")?;
        let mut inode = self.inode_in(node)?;
        if inode.is(mode::FOLDER) && !self.is_empty(&inode)? {
            return Err(Error::WrongKind { path: text(name), wanted: "folder with nothing in it" });
        }
        self.take_name(&mut folder, name, inode.number)?;
        self.write_inode(&mut folder, true)?;
        if inode.links() > 1 && !inode.is(mode::FOLDER) {
            inode.set_links(inode.links() - 1);
            self.write_inode(&mut inode, false)?;
        } else {
            self.drop_range(&mut inode, 0, u64::MAX)?;
            self.take_all(&inode)?;
        }
        self.finish_change()
    }

    /// Takes all items of an inode away.
    pub(super) fn take_all(&mut self, inode: &Inode) -> Result<()> {
        loop {
            let mut keys: Vec<Key> = Vec::new();
            self.items(self.root_of(inode.tree)?, (inode.number, 0, 0), &mut |key, _| {
                if key.0 == inode.number {
                    keys.push(key);
                }
                let goes_on = key.0 <= inode.number && keys.len() < 1024;
                Ok(if goes_on { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
            })?;
            if keys.is_empty() {
                return Ok(());
            }
            for key in keys {
                if !self.take(inode.tree, key)? {
                    return Err(self.unordered());
                }
            }
        }
    }

    /// Gives what is called `name` in one folder another name, in that folder or in another one.
    pub(in super::super) fn move_entry(&mut self, from: Node, name: &[u8], to: Node, new: &[u8]) -> Result<Node> {
        self.begin_in(from.tree)?;
        check_name(new)?;
        if from.tree != to.tree {
            let what = "its new place is in another subvolume".into();
            return Err(Error::Unsupported { volume: text(name), action: "renamed", what });
        }
        let mut source = self.folder_in(from)?;
        let node = self.named(&source, name, "renamed")?;
        let target = self.folder_in(to)?;
        if self.entry_in(&target, new)?.is_some() {
            return Err(Error::Exists { path: text(new) });
        }
        let mut inode = self.inode_in(node)?;
        if inode.is(mode::FOLDER) && from != to {
            self.check_above(node.number, &target)?;
        }
        self.take_name(&mut source, name, node.number)?;
        self.write_inode(&mut source, true)?;
        let mut target = self.folder_in(to)?;
        self.add_name(&mut target, new, &inode)?;
        self.write_inode(&mut target, true)?;
        self.write_inode(&mut inode, false)?;
        self.finish_change()?;
        Ok(node)
    }

    /// Lets something have these attributes, and no others of those that programs see.
    pub(in super::super) fn set_attributes_of(&mut self, node: Node, attributes: &[Attribute]) -> Result<()> {
        let known = self.attributes(node)?;
        self.begin_in(node.tree)?;
        let mut inode = self.inode_in(node)?;
        for old in known.iter().filter(|old| !attributes.contains(old)) {
            self.take_attribute(&inode, &full_name(old))?;
        }
        for new in attributes.iter().filter(|new| !known.contains(new)) {
            self.add_attribute(&inode, &full_name(new), &new.value)?;
        }
        self.write_inode(&mut inode, false)?;
        self.finish_change()
    }

    /// Sets owner, permissions and time of something that is there.
    pub(in super::super) fn set_meta_of(&mut self, node: Node, meta: &Meta) -> Result<()> {
        self.begin_in(node.tree)?;
        let mut inode = self.inode_in(node)?;
        if let Some((uid, gid)) = meta.owner {
            inode.set_owner(uid, gid);
        }
        if let Some(permissions) = meta.mode {
            inode.set_permissions(permissions);
        }
        if let Some(modified) = meta.modified {
            inode.set_modified(modified);
        }
        self.write_inode(&mut inode, false)?;
        self.finish_change()
    }
}

/// An attribute's name as it is stored.
fn full_name(attribute: &Attribute) -> Vec<u8> {
    let prefix = PREFIXES.iter().find(|(_, index)| *index == attribute.index);
    [prefix.map_or(&b""[..], |(prefix, _)| prefix), &attribute.name].concat()
}
