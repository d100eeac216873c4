//! What was begun in one transaction and to be finished in later ones: intents, each with the item that says it was done. Those
//! without one are finished here.

use std::collections::BTreeMap;

use super::{
    items::kind,
    transactions::{Item, le16, le32, le64},
};
use crate::{
    error::Result,
    fs::{
        node::Attribute,
        xfs::{Xfs, group::Group, inode::Fork, map::Run, owner::Owner},
    },
};

/// Flags of extents in intents.
mod flag {
    pub const KIND: u32 = 0xff;
    pub const ATTRIBUTES: u32 = 1 << 31;
    /// Of owners: the block holds a map, or is reserved. Of maps, the second bit says that it is reserved.
    pub const OWNER_MAP: u32 = 1 << 30;
    pub const OWNER_UNWRITTEN: u32 = 1 << 29;
    pub const MAP_UNWRITTEN: u32 = 1 << 30;
}

/// An intent that was not done.
#[derive(Debug)]
enum Intent {
    /// Blocks that are to become free: first block, number.
    Free(Vec<(u64, u32)>),
    Owners(Vec<Extent>),
    /// First block, number, flags.
    Counts(Vec<(u64, u32, u32)>),
    Maps(Vec<Extent>),
    Attribute {
        inode: u64,
        operation: u32,
        filter: u32,
        name: Vec<u8>,
        value: Vec<u8>,
    },
}

/// An extent of a file, as intents have it.
#[derive(Debug, Clone, Copy)]
struct Extent {
    owner: u64,
    block: u64,
    offset: u64,
    len: u32,
    flags: u32,
}

/// Intents that were not done, by their kind and number, and in the order in which they were noted.
#[derive(Debug, Default)]
pub(super) struct Open {
    known: BTreeMap<(u16, u64), usize>,
    all: Vec<Option<Intent>>,
}

fn extents(bytes: &[u8]) -> Vec<Extent> {
    let of = |bytes: &[u8; 32]| Extent {
        owner: le64(bytes, 0),
        block: le64(bytes, 8),
        offset: le64(bytes, 16),
        len: le32(bytes, 24),
        flags: le32(bytes, 28),
    };
    bytes.get(16..).unwrap_or_default().as_chunks::<32>().0.iter().map(of).collect()
}

impl Open {
    /// Takes an item; the reason why it could not be finished, where it could not.
    pub(super) fn note(&mut self, item: &Item) -> std::result::Result<(), String> {
        let head = item.region(0);
        let (own, count, number) = (item.kind(), le32(head, 4) as usize, le64(head, 8));
        let intent = match own {
            kind::EFI => {
                let size = if head.len() == 16 + count.saturating_mul(12) { 12 } else { 16 };
                let one = |bytes: &[u8]| (le64(bytes, 0), le32(bytes, 8));
                Intent::Free(head.get(16..).unwrap_or_default().chunks_exact(size).take(count).map(one).collect())
            }
            kind::RUI => Intent::Owners(extents(head)),
            kind::CUI => {
                let one = |bytes: &[u8; 16]| (le64(bytes, 0), le32(bytes, 8), le32(bytes, 12));
                Intent::Counts(head.get(16..).unwrap_or_default().as_chunks().0.iter().map(one).collect())
            }
            kind::BUI => Intent::Maps(extents(head)),
            kind::ATTRI => Intent::Attribute {
                inode: le64(head, 16),
                operation: le32(head, 24) & flag::KIND,
                filter: le32(head, 36),
                name: item.region(1).get(..le32(head, 28) as usize).unwrap_or_default().into(),
                value: item.region(2).get(..le32(head, 32) as usize).unwrap_or_default().into(),
            },
            kind::EFD | kind::RUD | kind::CUD | kind::BUD | kind::ATTRD => {
                if let Some(index) = self.known.remove(&(own - 1, number))
                    && let Some(done) = self.all.get_mut(index)
                {
                    *done = None;
                }
                return Ok(());
            }
            other => {
                return Err(format!(
                    "its log holds something of the kind {other:#x}, which only the guest's own kernel finishes: start the \
                     guest once where it is, and shut it down"
                ));
            }
        };
        debug_assert!(le16(head, 2) > 0, "an item has a head");
        self.known.insert((own, number), self.all.len());
        self.all.push(Some(intent));
        Ok(())
    }
}

impl Xfs {
    /// Finishes what was begun.
    pub(super) fn finish(&mut self, open: Open) -> Result<()> {
        for intent in open.all.into_iter().flatten() {
            self.device.bench().count_changes()?;
            match intent {
                Intent::Free(runs) => runs.into_iter().try_for_each(|(block, len)| self.finish_free(block, len))?,
                Intent::Owners(all) => all.into_iter().try_for_each(|one| self.finish_owner(one))?,
                Intent::Counts(all) => all.into_iter().try_for_each(|one| self.finish_count(one))?,
                Intent::Maps(all) => all.into_iter().try_for_each(|one| self.finish_map(one))?,
                Intent::Attribute { inode, operation, filter, name, value } => {
                    self.finish_attribute(inode, operation, filter, name, value)?;
                }
            }
            self.flush()?;
        }
        Ok(())
    }

    fn unfinished(&self, what: &str) -> crate::Error {
        self.device.unreadable(format!(
            "its log begins {what}, which only the guest's own kernel finishes: start the guest once where it is, and shut it \
             down"
        ))
    }

    /// Refuses a place that no file has: its number has 54 bits.
    fn check_place(&self, one: Extent) -> Result<()> {
        if one.offset >> 54 == 0 {
            Ok(())
        } else {
            Err(self.device.damaged("its log names a place behind any file's end"))
        }
    }

    fn finish_free(&mut self, block: u64, len: u32) -> Result<()> {
        let (number, start) = self.sb.split_block(block);
        self.check_group_block(number, start, len)?;
        let mut group = self.group(number)?;
        self.remove_any_owner(&mut group, start, len)?;
        self.give_run(&mut group, start, len)?;
        self.keep(group);
        Ok(())
    }

    fn finish_owner(&mut self, one: Extent) -> Result<()> {
        self.check_place(one)?;
        let (number, start) = self.sb.split_block(one.block);
        self.check_group_block(number, start, one.len)?;
        let mut group = self.group(number)?;
        let attributes = one.flags & flag::ATTRIBUTES != 0;
        let owner = |unwritten: bool| {
            if one.flags & flag::OWNER_MAP != 0 {
                Owner::map(one.owner, attributes)
            } else if one.owner.cast_signed() < 0 {
                Owner { id: one.owner, place: 0 }
            } else {
                Owner::file(one.owner, attributes, one.offset, unwritten)
            }
        };
        let unwritten = one.flags & flag::OWNER_UNWRITTEN != 0;
        match one.flags & flag::KIND {
            1 | 2 | 7 => self.add_owner(&mut group, start, one.len, owner(unwritten))?,
            3 | 4 | 8 => self.remove_owner(&mut group, start, one.len, owner(unwritten))?,
            // The other way round: what was reserved is in use now, or is reserved again.
            5 | 6 => {
                self.remove_owner(&mut group, start, one.len, owner(!unwritten))?;
                self.add_owner(&mut group, start, one.len, owner(unwritten))?;
            }
            _ => return Err(self.unfinished("a change of whose blocks are")),
        }
        self.keep(group);
        Ok(())
    }

    fn finish_count(&mut self, (block, len, flags): (u64, u32, u32)) -> Result<()> {
        let (number, start) = self.sb.split_block(block);
        self.check_group_block(number, start, len)?;
        let mut group = self.group(number)?;
        match flags & flag::KIND {
            1 => drop(self.share(&mut group, start, len, true)?),
            2 => {
                for (start, len) in self.share(&mut group, start, len, false)? {
                    self.give_run(&mut group, start, len)?;
                }
            }
            3 => self.note_copy(&mut group, start, len)?,
            4 => self.forget_copy(&mut group, start, len)?,
            _ => return Err(self.unfinished("a count of blocks that files share")),
        }
        self.keep(group);
        Ok(())
    }

    fn finish_map(&mut self, one: Extent) -> Result<()> {
        self.check_place(one)?;
        let mut inode = self.inode(one.owner)?;
        let fork = if one.flags & flag::ATTRIBUTES != 0 { Fork::Attributes } else { Fork::Data };
        let mut map = self.map(&inode, fork)?;
        let unwritten = one.flags & flag::MAP_UNWRITTEN != 0;
        let run = Run { logical: one.offset, physical: one.block, len: one.len.into(), unwritten };
        let (number, start) = self.sb.split_block(one.block);
        self.check_group_block(number, start, one.len)?;
        let owner = Owner::file(one.owner, fork == Fork::Attributes, one.offset, unwritten);
        let mut group = self.group(number)?;
        match one.flags & flag::KIND {
            1 => {
                if !map.take(run.logical, run.end()).is_empty() {
                    return Err(self.unfinished("a map of blocks where others are"));
                }
                self.add_owner(&mut group, start, one.len, owner)?;
                map.put(run);
                inode.count_blocks(one.len.into());
            }
            2 => {
                let taken = map.take(run.logical, run.end());
                let blocks: u64 = taken.iter().map(|run| run.len).sum();
                if blocks != run.len || taken.first().is_none_or(|first| first.physical != run.physical) {
                    return Err(self.unfinished("taking blocks away that are not there"));
                }
                self.remove_owner(&mut group, start, one.len, owner)?;
                inode.count_blocks(-i64::from(one.len));
            }
            _ => return Err(self.unfinished("a change of a map")),
        }
        self.keep(group);
        self.lay_map(&mut inode, fork, map)?;
        self.write_inode(&mut inode)
    }

    fn finish_attribute(
        &mut self,
        inode: u64,
        operation: u32,
        filter: u32,
        name: Vec<u8>,
        value: Vec<u8>,
    ) -> Result<()> {
        // What is not whole yet is taken away with the rest, since all attributes are laid out anew.
        let index = match filter & 6 {
            0 => 1,
            2 => 4,
            4 => 6,
            _ => return Err(self.unfinished("an attribute of an unknown kind")),
        };
        let mut inode = self.inode(inode)?;
        let mut all = self.stored_attributes(&inode)?;
        all.retain(|one| one.index != index || one.name != name);
        match operation {
            1 | 3 => all.push(Attribute { index, name, value }),
            2 => {}
            _ => return Err(self.unfinished("a change of attributes")),
        }
        self.lay_attributes(&mut inode, &all)?;
        self.touch_change(&mut inode);
        self.write_inode(&mut inode)
    }

    /// Takes away whosever these blocks are.
    fn remove_any_owner(&mut self, group: &mut Group, start: u32, len: u32) -> Result<()> {
        for (first, len, owner) in self.owners_within(group, start, len)? {
            self.remove_owner(group, first, len, owner)?;
        }
        Ok(())
    }
}
