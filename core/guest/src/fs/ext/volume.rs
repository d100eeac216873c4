//! ext as a file system among others. A node is the number of an inode.

use std::{
    ops::{ControlFlow, Range},
    sync::Arc,
};

use reformis_disk::budget::Budget;

use super::{Ext, Inode, ROOT, State};
use crate::{
    bench::Device,
    error::{Error, Result},
    fs::{
        FileSystem, FileSystemMut,
        node::{Attribute, Entry, Facts, Meta, New, Node, Owner, Stat, kind_of},
        registry::JOURNAL,
    },
};

/// The file system on `device`, and whether its journal was replayed, as an edit of its own.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::Unsupported`].
pub(crate) fn open(device: &Device, now: i64) -> Result<(Ext, bool)> {
    let mut ext = Ext::open(device.clone(), now)?;
    let unclean = ext.state() == State::Journal;
    if unclean {
        device.bench().begin(JOURNAL, "what the guest had noted and not yet written to its place");
        // Orphans are given back where all that counts them is kept right; else their own kernel does it.
        let replayed = ext.replay().and_then(|()| match ext.check_features() {
            Ok(()) => ext.count_free().and_then(|()| ext.release_orphans()),
            Err(_) => Ok(()),
        });
        if let Err(error) = replayed {
            device.bench().rollback();
            return Err(error);
        }
    }
    Ok((ext, unclean))
}

impl Ext {
    /// The inode that `node` stands for.
    fn of(&self, node: Node) -> Result<Inode> {
        let number = u32::try_from(node.number).map_err(|_| self.device.damaged("an inode of more than 32 bits"))?;
        self.inode(number)
    }

    fn folder_of(&self, node: Node) -> Result<Inode> {
        let inode = self.of(node)?;
        if inode.is_folder() {
            Ok(inode)
        } else {
            Err(Error::WrongKind { path: format!("inode {}", inode.number), wanted: "folder" })
        }
    }

    fn file_of(&self, node: Node) -> Result<Inode> {
        let inode = self.of(node)?;
        if inode.is_file() {
            Ok(inode)
        } else {
            Err(Error::WrongKind { path: format!("inode {}", inode.number), wanted: "file" })
        }
    }
}

impl FileSystem for Ext {
    fn facts(&self) -> Result<Facts> {
        Ok(Facts { identity: Some(self.uuid().to_string()), label: self.label() })
    }

    fn free(&self) -> Result<u64> {
        Ok(self.free_bytes())
    }

    fn budget(&self) -> &Arc<Budget> {
        self.device.bench().budget()
    }

    fn root(&self) -> Node {
        Node::of(ROOT)
    }

    fn lookup(&self, folder: Node, name: &[u8]) -> Result<Option<Entry>> {
        let found = self.find(&self.folder_of(folder)?, name)?;
        Ok(found.map(|inode| Entry { name: name.into(), node: Node::of(inode) }))
    }

    fn read_dir(&self, folder: Node, visit: &mut dyn FnMut(Entry) -> Result<ControlFlow<()>>) -> Result<()> {
        for entry in self.entries(&self.folder_of(folder)?)? {
            if visit(Entry { name: entry.name, node: Node::of(entry.inode) })?.is_break() {
                break;
            }
        }
        Ok(())
    }

    fn stat(&self, node: Node) -> Result<Stat> {
        let inode = self.of(node)?;
        let (kind, special) = kind_of(inode.mode().into(), || inode.device());
        Ok(Stat {
            kind,
            special,
            size: inode.size(),
            mode: inode.mode() & 0o7777,
            uid: inode.uid(),
            gid: inode.gid(),
            modified: inode.modified(),
            nanoseconds: inode.nanoseconds(),
            links: inode.links().into(),
            id: inode.number.into(),
        })
    }

    fn read_at(&self, node: Node, offset: u64, buf: &mut [u8]) -> Result<usize> {
        self.read_file(&self.of(node)?, offset, buf)
    }

    fn content(&self, node: Node, most: u64) -> Result<Vec<u8>> {
        self.whole(&self.of(node)?, most)
    }

    fn stored(&self, node: Node) -> Result<Vec<Range<u64>>> {
        self.stored_ranges(&self.of(node)?)
    }

    fn link_target(&self, node: Node) -> Result<Vec<u8>> {
        self.target_of(&self.of(node)?)
    }

    fn attributes(&self, node: Node) -> Result<Vec<Attribute>> {
        self.attributes_of(&self.of(node)?)
    }

    fn check_writable(&self) -> Result<()> {
        self.check_changeable()
    }
}

impl FileSystemMut for Ext {
    fn create(&mut self, folder: Node, name: &[u8], new: &New<'_>, owner: &Owner) -> Result<Node> {
        let folder = self.folder_of(folder)?;
        self.make(folder.number, name, new, owner).map(Node::of)
    }

    fn write_at(&mut self, node: Node, offset: u64, bytes: &[u8]) -> Result<()> {
        let inode = self.file_of(node)?;
        self.put_at(inode.number, offset, bytes)
    }

    fn truncate(&mut self, node: Node, size: u64) -> Result<()> {
        let inode = self.file_of(node)?;
        self.set_len(inode.number, size)
    }

    fn replace(&mut self, node: Node, bytes: &[u8]) -> Result<()> {
        let inode = self.file_of(node)?;
        self.replace_all(inode.number, bytes)
    }

    fn rename(&mut self, from: Node, name: &[u8], to: Node, new: &[u8]) -> Result<Node> {
        let (from, to) = (self.folder_of(from)?, self.folder_of(to)?);
        self.move_entry(from.number, name, to.number, new).map(Node::of)
    }

    fn unlink(&mut self, folder: Node, name: &[u8]) -> Result<()> {
        let folder = self.folder_of(folder)?;
        self.remove(folder.number, name)
    }

    fn set_meta(&mut self, node: Node, meta: &Meta) -> Result<()> {
        let inode = self.of(node)?;
        self.set_meta_of(inode.number, meta)
    }

    fn set_attributes(&mut self, node: Node, attributes: &[Attribute]) -> Result<()> {
        let inode = self.of(node)?;
        self.set_attributes_of(inode.number, attributes)
    }

    fn reload(&mut self) -> Result<()> {
        self.read_again()
    }
}
