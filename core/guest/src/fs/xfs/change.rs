//! Files, folders and links as wholes: made, moved, removed.

use super::{
    Xfs,
    fields::low32,
    inode::{Fork, Format, Inode, Time, flags, mode},
};
use crate::{
    error::{Error, Result},
    fs::node::{Attribute, Meta, New, Owner, check_name},
};

fn text(name: &[u8]) -> String {
    String::from_utf8_lossy(name).into()
}

impl Xfs {
    /// Makes something called `name` in a folder; its number.
    pub(super) fn make(&mut self, folder: u64, name: &[u8], new: &New<'_>, owner: &Owner) -> Result<u64> {
        self.begin_change()?;
        check_name(name)?;
        let bytes = match new {
            New::File(bytes) | New::Link(bytes) => bytes.len() as u64,
            New::Folder => 0,
        };
        self.check_left(bytes.div_ceil(self.sb.block()))?;
        let mut folder = self.inode(folder)?;
        if self.find(&folder, name)?.is_some() {
            return Err(Error::Exists { path: text(name) });
        }
        let kind = match new {
            New::File(_) => mode::FILE,
            New::Folder => mode::FOLDER,
            New::Link(_) => mode::LINK,
        };
        if folder.flags() & flags::INHERIT_REALTIME != 0 {
            return Err(self.device.unchangeable("new files of this folder lie on a real-time device"));
        }
        let mut inode = self.take_inode(&folder, kind | owner.mode & 0o7777)?;
        inode.set_owner(owner.uid, owner.gid);
        if let Some(modified) = owner.modified {
            inode.set_time(Time::Modification, modified);
        }
        // Attributes first: what the other fork has room for depends on them.
        self.give_attributes(&mut inode, &owner.attributes)?;
        match new {
            New::File(bytes) => {
                let mut map = super::map::Map::default();
                self.lay_bytes(&mut inode, Fork::Data, &mut map, 0, bytes)?;
                inode.set_size(bytes.len() as u64);
                self.lay_map(&mut inode, Fork::Data, map)?;
            }
            New::Link(target) => self.lay_target(&mut inode, target)?,
            New::Folder => {
                inode.set_links(2);
                self.begin_folder(&mut inode, folder.number)?;
                folder.set_links(folder.links().saturating_add(1));
            }
        }
        self.write_inode(&mut inode)?;
        self.add_entry(&mut folder, name, &inode)?;
        self.touch(&mut folder);
        self.write_inode(&mut folder)?;
        self.flush()?;
        Ok(inode.number)
    }

    /// Removes `name` from a folder: a folder only when nothing is in it.
    pub(super) fn remove(&mut self, folder: u64, name: &[u8]) -> Result<()> {
        self.begin_change()?;
        let mut parent = self.inode(folder)?;
        let number = self.find(&parent, name)?.ok_or_else(|| Error::NotFound { path: text(name) })?;
        let mut inode = self.inode(number)?;
        let is_folder = inode.is(mode::FOLDER);
        if is_folder {
            if number == self.sb.sb_rootino.get() || number == folder {
                return Err(self.device.damaged("folders lie inside themselves"));
            }
            if !self.entries(&inode)?.is_empty() {
                return Err(Error::WrongKind { path: text(name), wanted: "folder with nothing in it" });
            }
        }
        self.remove_entry(&mut parent, name)?;
        if is_folder {
            parent.set_links(parent.links().saturating_sub(1));
        }
        self.touch(&mut parent);
        self.write_inode(&mut parent)?;
        if !is_folder && inode.links() > 1 {
            inode.set_links(inode.links() - 1);
            self.touch_change(&mut inode);
            self.write_inode(&mut inode)?;
        } else {
            self.destroy(&mut inode)?;
        }
        self.flush()
    }

    /// Gives back an inode and all that it has.
    pub(super) fn destroy(&mut self, inode: &mut Inode) -> Result<()> {
        if matches!(inode.format(Fork::Data), Some(Format::Extents | Format::Tree)) {
            if inode.is(mode::FILE) && inode.flags() & flags::REALTIME != 0 {
                return Err(self.device.unchangeable(format!("inode {} lies on a real-time device", inode.number)));
            }
            let mut map = self.map(inode, Fork::Data)?;
            self.release(inode, Fork::Data, &mut map, 0, u64::MAX >> 10)?;
            self.lay_map(inode, Fork::Data, map)?;
        }
        self.drop_attributes(inode)?;
        self.give_inode(inode)
    }

    /// Lets something have these attributes, and no others.
    pub(super) fn set_attributes_of(&mut self, number: u64, attributes: &[Attribute]) -> Result<()> {
        self.begin_change()?;
        let mut inode = self.inode(number)?;
        self.give_attributes(&mut inode, attributes)?;
        self.touch_change(&mut inode);
        self.write_inode(&mut inode)?;
        self.flush()
    }

    /// Sets owner, permissions and time of something that is there.
    pub(super) fn set_meta_of(&mut self, number: u64, meta: &Meta) -> Result<()> {
        self.begin_change()?;
        let mut inode = self.inode(number)?;
        if let Some((uid, gid)) = meta.owner {
            inode.set_owner(uid, gid);
        }
        if let Some(permissions) = meta.mode {
            inode.set_mode(inode.mode() & mode::KIND | permissions & 0o7777);
        }
        if let Some(modified) = meta.modified {
            inode.set_time(Time::Modification, modified);
        }
        self.touch_change(&mut inode);
        self.write_inode(&mut inode)?;
        self.flush()
    }

    /// Gives what is called `name` in one folder another name, in that folder or in another one; its number.
    pub(super) fn move_entry(&mut self, from: u64, name: &[u8], to: u64, new: &[u8]) -> Result<u64> {
        self.begin_change()?;
        check_name(new)?;
        let mut source = self.inode(from)?;
        let number = self.find(&source, name)?.ok_or_else(|| Error::NotFound { path: text(name) })?;
        let target = self.inode(to)?;
        if self.find(&target, new)?.is_some() {
            return Err(Error::Exists { path: text(new) });
        }
        let mut inode = self.inode(number)?;
        let moves_folder = inode.is(mode::FOLDER) && from != to;
        if moves_folder {
            self.check_above(number, to)?;
        }
        if target.flags() & flags::INHERIT_PROJECT != 0 && target.project() != inode.project() {
            return Err(self
                .device
                .unchangeable("the folder belongs to another project than what would be moved there"));
        }
        self.remove_entry(&mut source, name)?;
        if moves_folder {
            source.set_links(source.links().saturating_sub(1));
        }
        self.touch(&mut source);
        self.write_inode(&mut source)?;
        let mut target = self.inode(to)?;
        self.add_entry(&mut target, new, &inode)?;
        if moves_folder {
            target.set_links(target.links().saturating_add(1));
            self.lead_up(&mut inode, to)?;
        }
        self.touch(&mut target);
        self.write_inode(&mut target)?;
        self.touch_change(&mut inode);
        self.write_inode(&mut inode)?;
        self.flush()?;
        Ok(number)
    }

    /// Refuses to move a folder below itself.
    fn check_above(&self, folder: u64, to: u64) -> Result<()> {
        let mut at = to;
        // No path is that deep; a circle would be.
        for _ in 0..low32(4096) {
            if at == folder {
                return Err(Error::WrongKind { path: format!("inode {folder}"), wanted: "folder outside of itself" });
            }
            if at == self.sb.sb_rootino.get() {
                return Ok(());
            }
            at = self.above(&self.inode(at)?)?;
        }
        Err(self.device.damaged("folders lie inside themselves"))
    }
}
