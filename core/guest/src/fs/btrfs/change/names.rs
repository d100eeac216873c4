//! Names in folders: each is in its folder twice, by its number and by its place, and with what it stands for (Linux, `dir-item.c`,
//! `inode-item.c`).

use std::ops::ControlFlow;

use super::{
    super::{
        Btrfs,
        block::{Key, key_bytes},
        bytes::{put, put_u64, u16_at, u64_at},
        items,
        sums::name_hash,
    },
    inode::{Inode, mode},
};
use crate::error::{Error, Result};

/// The first place of an entry: those before would be `.` and `..`.
const FIRST: u64 = 2;
/// The kind of an attribute among entries.
const ATTRIBUTE: u8 = 8;

/// An entry as it is stored (`btrfs_dir_item`).
fn entry(leads_to: Key, generation: u64, kind: u8, name: &[u8], value: &[u8]) -> Vec<u8> {
    let len = |part: &[u8]| u16::try_from(part.len()).unwrap_or(u16::MAX).to_le_bytes();
    let mut item = vec![0; 30];
    put(&mut item, 0, &key_bytes(leads_to));
    put_u64(&mut item, 17, generation);
    put(&mut item, 25, &len(value));
    put(&mut item, 27, &len(name));
    put(&mut item, 29, &[kind]);
    item.extend([name, value].concat());
    item
}

/// Where the entry with `name` is among those of an item, and what it leads to.
fn find(item: &[u8], name: &[u8]) -> Option<(usize, usize, Key)> {
    let mut at = 0;
    for named in items::named(item) {
        let len = 30 + named.name.len() + named.value.len();
        if named.name == name {
            return Some((at, len, named.leads_to));
        }
        at += len;
    }
    None
}

/// All names of an inode in one item of them: place and name of each, with `head` bytes in front.
pub(super) fn names_in(item: &[u8], head: usize) -> Vec<(u64, &[u8])> {
    let (mut names, mut at) = (Vec::new(), 0);
    while at + head + 10 <= item.len() {
        let end = at + head + 10 + usize::from(u16_at(item, at + head + 8));
        let Some(name) = item.get(at + head + 10..end) else { break };
        names.push((u64_at(item, at + head), name));
        at = end;
    }
    names
}

/// Where a name is among those of an inode in one folder, how long its part is, and its place in the folder; `head` bytes are in front.
fn find_ref(item: &[u8], head: usize, name: &[u8]) -> Option<(usize, usize, u64)> {
    let mut at = 0;
    while at < item.len() {
        let len = head + 10 + usize::from(u16_at(item, at + head + 8));
        if item.get(at + head + 10..at + len)? == name {
            return Some((at, len, u64_at(item, at + head)));
        }
        at += len;
    }
    None
}

/// The number of a name that has no room among the others of its inode (`btrfs_extref_hash`).
pub(super) fn long_hash(folder: u64, name: &[u8]) -> u64 {
    let seed = u32::try_from(folder & u64::from(u32::MAX)).unwrap_or_default();
    u64::from(!crc32c::crc32c_append(!seed, name))
}

/// The kind of what an entry leads to (`BTRFS_FT_*`).
fn kind_of(inode: &Inode) -> u8 {
    match inode.mode() & mode::KIND {
        mode::FILE => 1,
        mode::FOLDER => 2,
        0o020_000 => 3,
        0o060_000 => 4,
        0o010_000 => 5,
        0o140_000 => 6,
        mode::LINK => 7,
        _ => 0,
    }
}

impl Btrfs {
    /// What `name` leads to in a folder.
    pub(super) fn entry_in(&self, folder: &Inode, name: &[u8]) -> Result<Option<Key>> {
        let item = self.item(self.root_of(folder.tree)?, (folder.number, items::ENTRY, name_hash(name)))?;
        Ok(item.and_then(|item| find(&item, name)).map(|(.., leads_to)| leads_to))
    }

    /// Takes a part out of an item, and the item where nothing is left of it.
    fn take_part(&mut self, tree: u64, key: Key, mut item: Vec<u8>, at: usize, len: usize) -> Result<()> {
        item.drain(at..(at + len).min(item.len()));
        if item.is_empty() { self.take(tree, key).map(drop) } else { self.put(tree, key, item) }
    }

    /// The place behind all entries of a folder.
    fn next_place(&self, folder: &Inode) -> Result<u64> {
        let mut last = None;
        self.items(self.root_of(folder.tree)?, (folder.number, items::ENTRY_BY_PLACE, u64::MAX), &mut |key, _| {
            last = Some(key).filter(|key| (key.0, key.1) == (folder.number, items::ENTRY_BY_PLACE));
            Ok(ControlFlow::Break(()))
        })?;
        let next = last.map_or(Some(FIRST), |(.., place)| place.checked_add(1));
        Ok(next.ok_or_else(|| self.device.unchangeable("a folder has no places any more"))?.max(FIRST))
    }

    /// Adds the name of something to a folder, which has none like it.
    pub(super) fn add_name(&mut self, folder: &mut Inode, name: &[u8], inode: &Inode) -> Result<()> {
        let place = self.next_place(folder)?;
        self.add_name_at(folder, place, name, inode)
    }

    /// The same, at a place that nothing has.
    pub(super) fn add_name_at(&mut self, folder: &mut Inode, place: u64, name: &[u8], inode: &Inode) -> Result<()> {
        let tree = folder.tree;
        let made = entry((inode.number, items::INODE, 0), self.change_generation(), kind_of(inode), name, b"");
        let key = (folder.number, items::ENTRY, name_hash(name));
        let others = self.item(self.root_of(tree)?, key)?.unwrap_or_default();
        self.put(tree, key, [others, made.clone()].concat())?;
        self.put(tree, (folder.number, items::ENTRY_BY_PLACE, place), made)?;
        let len = u16::try_from(name.len()).unwrap_or(u16::MAX).to_le_bytes();
        let named = [&place.to_le_bytes()[..], &len, name].concat();
        let key = (inode.number, items::NAMES, folder.number);
        let others = self.item(self.root_of(tree)?, key)?.unwrap_or_default();
        if others.len() + named.len() <= self.most_item() {
            self.put(tree, key, [others, named].concat())?;
        } else if self.sb.has_long_names() {
            let key = (inode.number, items::LONG_NAMES, long_hash(folder.number, name));
            let others = self.item(self.root_of(tree)?, key)?.unwrap_or_default();
            self.put(tree, key, [&others[..], &folder.number.to_le_bytes(), &named].concat())?;
        } else {
            return Err(self.device.unchangeable("a file would have more names in a folder than it can have"));
        }
        folder.set_size(folder.size().saturating_add(2 * name.len() as u64));
        Ok(())
    }

    /// Takes the name of the inode `number` out of a folder.
    pub(super) fn take_name(&mut self, folder: &mut Inode, name: &[u8], number: u64) -> Result<()> {
        let tree = folder.tree;
        let gone = |this: &Self| this.device.damaged(format!("names of inode {number} do not fit their folder"));
        let key = (folder.number, items::ENTRY, name_hash(name));
        let item = self.item(self.root_of(tree)?, key)?.unwrap_or_default();
        let (at, len, _) = find(&item, name).ok_or_else(|| gone(self))?;
        self.take_part(tree, key, item, at, len)?;

        let key = (number, items::NAMES, folder.number);
        let item = self.item(self.root_of(tree)?, key)?.unwrap_or_default();
        let place = if let Some((at, len, place)) = find_ref(&item, 0, name) {
            self.take_part(tree, key, item, at, len)?;
            place
        } else {
            let key = (number, items::LONG_NAMES, long_hash(folder.number, name));
            let item = self.item(self.root_of(tree)?, key)?.unwrap_or_default();
            let (at, len, place) = find_ref(&item, 8, name).ok_or_else(|| gone(self))?;
            self.take_part(tree, key, item, at, len)?;
            place
        };
        if !self.take(tree, (folder.number, items::ENTRY_BY_PLACE, place))? {
            return Err(gone(self));
        }
        folder.set_size(folder.size().saturating_sub(2 * name.len() as u64));
        Ok(())
    }

    /// Whether a folder has no entries.
    pub(super) fn is_empty(&self, folder: &Inode) -> Result<bool> {
        let mut is_empty = true;
        self.each(self.root_of(folder.tree)?, folder.number, items::ENTRY_BY_PLACE, &mut |_, _| {
            is_empty = false;
            Ok(ControlFlow::Break(()))
        })?;
        Ok(is_empty)
    }

    /// Refuses to move a folder below itself.
    pub(super) fn check_above(&self, folder: u64, to: &Inode) -> Result<()> {
        let mut at = to.number;
        // No path is that deep; a circle would be.
        for _ in 0..4096 {
            if at == folder {
                return Err(Error::WrongKind { path: format!("inode {folder}"), wanted: "folder outside of itself" });
            }
            if at == super::super::roots::FOLDER {
                return Ok(());
            }
            let mut above = None;
            self.each(self.root_of(to.tree)?, at, items::NAMES, &mut |number, _| {
                above = Some(number);
                Ok(ControlFlow::Break(()))
            })?;
            at = above.ok_or_else(|| self.device.damaged(format!("inode {at} is in no folder")))?;
        }
        Err(self.device.damaged("folders lie inside themselves"))
    }

    /// Adds an attribute to an inode that has none of its name.
    pub(super) fn add_attribute(&mut self, inode: &Inode, name: &[u8], value: &[u8]) -> Result<()> {
        let key = (inode.number, items::ATTRIBUTE, name_hash(name));
        let others = self.item(self.root_of(inode.tree)?, key)?.unwrap_or_default();
        if find(&others, name).is_some() {
            return Err(Error::Exists { path: String::from_utf8_lossy(name).into() });
        }
        let made = entry((0, 0, 0), self.change_generation(), ATTRIBUTE, name, value);
        self.put(inode.tree, key, [others, made].concat())
    }

    /// Takes an attribute away from an inode.
    pub(super) fn take_attribute(&mut self, inode: &Inode, name: &[u8]) -> Result<()> {
        let key = (inode.number, items::ATTRIBUTE, name_hash(name));
        let item = self.item(self.root_of(inode.tree)?, key)?.unwrap_or_default();
        let gone = || self.device.damaged(format!("inode {} does not have an attribute that it has", inode.number));
        let (at, len, _) = find(&item, name).ok_or_else(gone)?;
        self.take_part(inode.tree, key, item, at, len)
    }
}
