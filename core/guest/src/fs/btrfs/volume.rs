//! Btrfs as a file system among others. A node is the number of an inode, in the tree of its subvolume.

use std::{
    ops::{ControlFlow, Range},
    sync::Arc,
};

use reformis_disk::budget::Budget;

use super::{
    Btrfs,
    block::Key,
    items::{self, Inode},
    roots::{self, FOLDER},
    sums::name_hash,
};
use crate::{
    bench::Device,
    error::{Error, Result},
    fs::{
        FileSystem, FileSystemMut, Subvolume,
        node::{Attribute, Entry, Facts, Kind, Meta, New, Node, Owner, Stat},
        registry::JOURNAL,
    },
};

/// The number of a folder that stands for a subvolume which is not there (`BTRFS_EMPTY_SUBVOL_DIR_OBJECTID`).
pub(super) const EMPTY: u64 = 2;

/// Starts of names of attributes, and what stands for each.
pub(super) const PREFIXES: [(&[u8], u8); 6] = [
    (b"system.posix_acl_access", 2),
    (b"system.posix_acl_default", 3),
    (b"user.", 1),
    (b"trusted.", 4),
    (b"security.", 6),
    (b"system.", 7),
];

/// The file system on `device` and on those of `others` that belong to it, and whether its log was replayed, as an edit of its own. A log that
/// could not be replayed right is left alone.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::Unsupported`].
pub(crate) fn open(device: &Device, others: &[Device], now: i64) -> Result<(Btrfs, bool)> {
    let mut btrfs = Btrfs::open(device, others, now)?;
    if !btrfs.has_log() {
        return Ok((btrfs, false));
    }
    device
        .bench()
        .begin(JOURNAL, "what programs of the guest had synchronised and the guest had not yet written to its place");
    match btrfs.replay() {
        Ok(()) => Ok((btrfs, true)),
        Err(error) => {
            device.bench().rollback();
            btrfs.reload()?;
            if matches!(error, Error::Unsupported { .. }) { Ok((btrfs, false)) } else { Err(error) }
        }
    }
}

impl Btrfs {
    fn of(&self, node: Node, kind: Kind, wanted: &'static str) -> Result<Inode> {
        let inode = self.inode(node)?;
        if inode.kind() == kind {
            return Ok(inode);
        }
        Err(Error::WrongKind { path: format!("inode {}", node.number), wanted })
    }

    /// The node that an entry of the subvolume `tree` leads to.
    fn leads_to(&self, tree: u64, key: Key) -> Result<Node> {
        let (tree, number) = match key {
            (number, items::ROOT, _) if self.has_child(tree, number)? => (number, FOLDER),
            (_, items::ROOT, _) => (tree, EMPTY),
            (number, ..) => (tree, number),
        };
        Ok(Node { tree, number, stream: 0 })
    }
}

impl FileSystem for Btrfs {
    fn facts(&self) -> Result<Facts> {
        let identity = Some(uuid::Uuid::from_bytes(self.sb.fsid).to_string());
        Ok(Facts { identity, label: self.sb.label.clone() })
    }

    fn free(&self) -> Result<u64> {
        self.left_for_files()
    }

    fn budget(&self) -> &Arc<Budget> {
        self.device.bench().budget()
    }

    fn root(&self) -> Node {
        Node { tree: self.default, number: FOLDER, stream: 0 }
    }

    fn subvolume(&self, wanted: &Subvolume) -> Result<Option<Node>> {
        let top = |tree| Node { tree, number: FOLDER, stream: 0 };
        let path = match wanted {
            Subvolume::Number(0) => return Ok(Some(top(roots::TOP))),
            Subvolume::Number(number) => return Ok(self.tree(*number)?.map(|_| top(*number))),
            Subvolume::Path(path) => path,
        };
        let mut node = top(roots::TOP);
        for name in path.split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            match self.lookup(node, name) {
                Ok(Some(entry)) => node = entry.node,
                Ok(None) | Err(Error::WrongKind { .. }) => return Ok(None),
                Err(error) => return Err(error),
            }
        }
        // Any other folder is not a tree of its own.
        Ok(Some(node).filter(|node| node.number == FOLDER))
    }

    fn subvolumes(&self) -> Result<Vec<Vec<u8>>> {
        let mut all = Vec::new();
        self.paths(roots::TOP, b"", 0, &mut all)?;
        Ok(all.into_iter().map(|(_, path)| path).collect())
    }

    fn lookup(&self, folder: Node, name: &[u8]) -> Result<Option<Entry>> {
        self.of(folder, Kind::Folder, "folder")?;
        if folder.number == EMPTY {
            return Ok(None);
        }
        let item = self.item(self.tree_of(folder)?, (folder.number, items::ENTRY, name_hash(name)))?;
        let found = item.iter().flat_map(|item| items::named(item)).find(|named| named.name == name);
        let node = found.map(|named| self.leads_to(folder.tree, named.leads_to)).transpose()?;
        Ok(node.map(|node| Entry { name: name.into(), node }))
    }

    fn read_dir(&self, folder: Node, visit: &mut dyn FnMut(Entry) -> Result<ControlFlow<()>>) -> Result<()> {
        self.of(folder, Kind::Folder, "folder")?;
        if folder.number == EMPTY {
            return Ok(());
        }
        self.each(self.tree_of(folder)?, folder.number, items::ENTRY_BY_PLACE, &mut |_, item| {
            for named in items::named(item).take(1) {
                let node = self.leads_to(folder.tree, named.leads_to)?;
                if visit(Entry { name: named.name.into(), node })?.is_break() {
                    return Ok(ControlFlow::Break(()));
                }
            }
            Ok(ControlFlow::Continue(()))
        })
    }

    fn stat(&self, node: Node) -> Result<Stat> {
        Ok(self.inode(node)?.stat(node.number))
    }

    fn read_at(&self, node: Node, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let inode = self.of(node, Kind::File, "file")?;
        self.read_file(node, inode, offset, buf)
    }

    fn stored(&self, node: Node) -> Result<Vec<Range<u64>>> {
        let inode = self.of(node, Kind::File, "file")?;
        self.stored_ranges(node, inode)
    }

    fn link_target(&self, node: Node) -> Result<Vec<u8>> {
        let inode = self.of(node, Kind::Link, "link")?;
        self.link(node, inode)
    }

    fn attributes(&self, node: Node) -> Result<Vec<Attribute>> {
        let (mut found, mut hold) = (Vec::new(), self.budget().hold());
        if node.number == EMPTY {
            return Ok(found);
        }
        self.each(self.tree_of(node)?, node.number, items::ATTRIBUTE, &mut |_, item| {
            for named in items::named(item) {
                let prefix = PREFIXES.iter().find(|(prefix, _)| named.name.starts_with(prefix));
                if let Some((prefix, index)) = prefix {
                    hold.grow((named.name.len() + named.value.len()) as u64)?;
                    let name = named.name.get(prefix.len()..).unwrap_or_default().to_vec();
                    found.push(Attribute { index: *index, name, value: named.value.to_vec() });
                }
            }
            Ok(if found.len() < 4096 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
        })?;
        Ok(found)
    }

    fn check_writable(&self) -> Result<()> {
        self.check_changeable()
    }
}

impl FileSystemMut for Btrfs {
    fn create(&mut self, folder: Node, name: &[u8], new: &New<'_>, owner: &Owner) -> Result<Node> {
        self.make(folder, name, new, owner)
    }

    fn write_at(&mut self, node: Node, offset: u64, bytes: &[u8]) -> Result<()> {
        self.write_bytes(node, offset, bytes)
    }

    fn truncate(&mut self, node: Node, size: u64) -> Result<()> {
        self.cut(node, size)
    }

    fn rename(&mut self, from: Node, name: &[u8], to: Node, new: &[u8]) -> Result<Node> {
        self.move_entry(from, name, to, new)
    }

    fn unlink(&mut self, folder: Node, name: &[u8]) -> Result<()> {
        self.remove(folder, name)
    }

    fn set_meta(&mut self, node: Node, meta: &Meta) -> Result<()> {
        self.set_meta_of(node, meta)
    }

    fn set_attributes(&mut self, node: Node, attributes: &[Attribute]) -> Result<()> {
        self.set_attributes_of(node, attributes)
    }

    fn reload(&mut self) -> Result<()> {
        self.read_again()
    }
}
