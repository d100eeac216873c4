//! XFS as a file system among others. A node is the number of an inode.

use std::{
    ops::{ControlFlow, Range},
    sync::Arc,
};

use reformis_disk::budget::Budget;

use super::{
    Xfs,
    inode::{Inode, Time, mode},
    log::State,
};
use crate::{
    bench::Device,
    error::{Error, Result},
    fs::{
        FileSystem, FileSystemMut,
        node::{Attribute, Entry, Facts, Meta, New, Node, Owner, Stat, kind_of},
        registry::JOURNAL,
    },
};

/// The file system on `device`, and whether its log was replayed, as an edit of its own.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::Unsupported`].
pub(crate) fn open(device: &Device, now: i64) -> Result<(Xfs, bool)> {
    let mut xfs = Xfs::open(device.clone(), now)?;
    let span = match xfs.log_state()? {
        State::Clean { lsn } => {
            xfs.lsn = lsn;
            return Ok((xfs, false));
        }
        State::Elsewhere => {
            xfs.log_is_elsewhere = true;
            return Ok((xfs, false));
        }
        State::Dirty(span) => span,
    };
    device.bench().begin(JOURNAL, "what the guest had noted and not yet written to its place");
    if let Err(error) = xfs.replay(span) {
        device.bench().rollback();
        return Err(error);
    }
    Ok((xfs, true))
}

impl Xfs {
    fn of(&self, node: Node, kind: u16, wanted: &'static str) -> Result<Inode> {
        let inode = self.inode(node.number)?;
        if inode.is(kind) {
            Ok(inode)
        } else {
            Err(Error::WrongKind { path: format!("inode {}", node.number), wanted })
        }
    }

    fn folder(&self, node: Node) -> Result<Inode> {
        self.of(node, mode::FOLDER, "folder")
    }

    fn file(&self, node: Node) -> Result<Inode> {
        self.of(node, mode::FILE, "file")
    }
}

impl FileSystem for Xfs {
    fn facts(&self) -> Result<Facts> {
        Ok(Facts { identity: Some(self.uuid().to_string()), label: self.label() })
    }

    fn free(&self) -> Result<u64> {
        Ok(self.sb.sb_fdblocks.get().saturating_mul(self.sb.block()))
    }

    fn budget(&self) -> &Arc<Budget> {
        self.device.bench().budget()
    }

    fn root(&self) -> Node {
        Node::of(self.sb.sb_rootino.get())
    }

    fn lookup(&self, folder: Node, name: &[u8]) -> Result<Option<Entry>> {
        let found = self.find(&self.folder(folder)?, name)?;
        Ok(found.map(|inode| Entry { name: name.into(), node: Node::of(inode) }))
    }

    fn read_dir(&self, folder: Node, visit: &mut dyn FnMut(Entry) -> Result<ControlFlow<()>>) -> Result<()> {
        self.each_entry(&self.folder(folder)?, |entry| visit(Entry { name: entry.name, node: Node::of(entry.inode) }))
    }

    fn stat(&self, node: Node) -> Result<Stat> {
        let inode = self.inode(node.number)?;
        let (kind, special) = kind_of(inode.mode().into(), || inode.device());
        let (uid, gid) = inode.owner();
        Ok(Stat {
            kind,
            special,
            size: inode.size(),
            mode: inode.mode() & 0o7777,
            uid,
            gid,
            modified: inode.time(Time::Modification),
            nanoseconds: inode.nanoseconds(Time::Modification),
            links: inode.links(),
            id: inode.number,
        })
    }

    fn read_at(&self, node: Node, offset: u64, buf: &mut [u8]) -> Result<usize> {
        self.read_file(&self.file(node)?, offset, buf)
    }

    fn content(&self, node: Node, most: u64) -> Result<Vec<u8>> {
        self.whole(&self.file(node)?, most)
    }

    fn stored(&self, node: Node) -> Result<Vec<Range<u64>>> {
        self.stored_ranges(&self.file(node)?)
    }

    fn link_target(&self, node: Node) -> Result<Vec<u8>> {
        self.target_of(&self.inode(node.number)?)
    }

    fn attributes(&self, node: Node) -> Result<Vec<Attribute>> {
        self.attributes_of(&self.inode(node.number)?)
    }

    fn check_writable(&self) -> Result<()> {
        self.check_changeable()
    }
}

impl FileSystemMut for Xfs {
    fn create(&mut self, folder: Node, name: &[u8], new: &New<'_>, owner: &Owner) -> Result<Node> {
        let folder = self.folder(folder)?;
        self.make(folder.number, name, new, owner).map(Node::of)
    }

    fn write_at(&mut self, node: Node, offset: u64, bytes: &[u8]) -> Result<()> {
        let inode = self.file(node)?;
        self.put_at(inode.number, offset, bytes)
    }

    fn truncate(&mut self, node: Node, size: u64) -> Result<()> {
        let inode = self.file(node)?;
        self.set_len(inode.number, size)
    }

    fn rename(&mut self, from: Node, name: &[u8], to: Node, new: &[u8]) -> Result<Node> {
        let (from, to) = (self.folder(from)?, self.folder(to)?);
        self.move_entry(from.number, name, to.number, new).map(Node::of)
    }

    fn unlink(&mut self, folder: Node, name: &[u8]) -> Result<()> {
        let folder = self.folder(folder)?;
        self.remove(folder.number, name)
    }

    fn set_meta(&mut self, node: Node, meta: &Meta) -> Result<()> {
        self.set_meta_of(node.number, meta)
    }

    fn set_attributes(&mut self, node: Node, attributes: &[Attribute]) -> Result<()> {
        self.set_attributes_of(node.number, attributes)
    }

    fn reload(&mut self) -> Result<()> {
        self.read_again()
    }
}
