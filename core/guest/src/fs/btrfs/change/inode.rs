//! Inodes as they are changed (Linux, `btrfs_inode_item`).

use super::super::{
    Btrfs,
    bytes::{put, put_u32, put_u64, u32_at, u64_at},
    items::{self, INODE_LEN},
};
use crate::{error::Result, fs::node::Node};

/// What an inode's flags say (`BTRFS_INODE_*`).
pub(super) mod flags {
    pub(in super::super) const NO_SUMS: u64 = 0x1;
    pub(in super::super) const IN_PLACE: u64 = 0x2;
    pub(in super::super) const NOT_PACKED: u64 = 0x8;
    pub(in super::super) const PACKED: u64 = 0x800;
    /// Its bytes are sealed (`BTRFS_INODE_RO_VERITY`).
    pub(in super::super) const SEALED: u64 = 1 << 32;
}

/// Kinds in a mode.
pub(super) mod mode {
    pub(in super::super) const KIND: u32 = 0o170_000;
    pub(in super::super) const FOLDER: u32 = 0o040_000;
    pub(in super::super) const FILE: u32 = 0o100_000;
    pub(in super::super) const LINK: u32 = 0o120_000;
}

/// Where each of an inode's times is: seconds, and nanoseconds behind them.
const ACCESS: usize = 112;
const CHANGE: usize = 124;
const MODIFICATION: usize = 136;
const BIRTH: usize = 148;

/// An inode, and where it belongs.
#[derive(Debug, Clone)]
pub(super) struct Inode {
    pub(super) tree: u64,
    pub(super) number: u64,
    bytes: Vec<u8>,
}

impl Inode {
    pub(super) fn size(&self) -> u64 {
        u64_at(&self.bytes, 16)
    }

    pub(super) fn set_size(&mut self, size: u64) {
        put_u64(&mut self.bytes, 16, size);
    }

    /// Counts bytes that its extents have more, or less.
    pub(super) fn count(&mut self, more: u64, less: u64) {
        let bytes = u64_at(&self.bytes, 24).saturating_add(more).saturating_sub(less);
        put_u64(&mut self.bytes, 24, bytes);
    }

    pub(super) fn links(&self) -> u32 {
        u32_at(&self.bytes, 40)
    }

    pub(super) fn set_links(&mut self, links: u32) {
        put_u32(&mut self.bytes, 40, links as usize);
    }

    pub(super) fn set_owner(&mut self, uid: u32, gid: u32) {
        put_u32(&mut self.bytes, 44, uid as usize);
        put_u32(&mut self.bytes, 48, gid as usize);
    }

    pub(super) fn mode(&self) -> u32 {
        u32_at(&self.bytes, 52)
    }

    pub(super) fn set_permissions(&mut self, permissions: u16) {
        let mode = self.mode() & !0o7777 | u32::from(permissions) & 0o7777;
        put_u32(&mut self.bytes, 52, mode as usize);
    }

    pub(super) fn is(&self, kind: u32) -> bool {
        self.mode() & mode::KIND == kind
    }

    pub(super) fn flags(&self) -> u64 {
        u64_at(&self.bytes, 64)
    }

    pub(super) fn has_sums(&self) -> bool {
        self.flags() & flags::NO_SUMS == 0
    }

    fn set_time(&mut self, at: usize, seconds: i64) {
        put(&mut self.bytes, at, &seconds.to_le_bytes());
        put(&mut self.bytes, at + 8, &[0; 4]);
    }

    pub(super) fn set_modified(&mut self, seconds: i64) {
        self.set_time(MODIFICATION, seconds);
    }

    /// What files of a folder have from it.
    fn inherited(&self, kind: u32) -> u64 {
        let packing = self.flags() & (flags::NOT_PACKED | flags::PACKED);
        match self.flags() & flags::IN_PLACE {
            0 => packing,
            in_place if kind == mode::FILE => packing | in_place | flags::NO_SUMS,
            in_place => packing | in_place,
        }
    }
}

impl Btrfs {
    /// An inode that is to be changed.
    pub(super) fn inode_in(&self, node: Node) -> Result<Inode> {
        if node.number == super::super::volume::EMPTY {
            return Err(self.device.unchangeable("the folder stands for a subvolume that a snapshot does not have"));
        }
        let item = self.item(self.tree_of(node)?, (node.number, items::INODE, 0))?;
        let bytes = item.filter(|item| item.len() >= INODE_LEN);
        let bytes = bytes.ok_or_else(|| self.device.damaged(format!("inode {} is not there", node.number)))?;
        Ok(Inode { tree: node.tree, number: node.number, bytes })
    }

    /// A new inode in a subvolume, for something in `folder`.
    pub(super) fn new_inode(&mut self, folder: &Inode, mode: u32) -> Result<Inode> {
        let mut last = 0;
        // Numbers above are the file system's own (`BTRFS_LAST_FREE_OBJECTID`).
        let most = u64::MAX - 255;
        self.items(self.root_of(folder.tree)?, (most, u8::MAX, u64::MAX), &mut |key, _| {
            if key.0 <= most {
                last = key.0;
            }
            Ok(std::ops::ControlFlow::Break(()))
        })?;
        let number = last.max(super::super::roots::FOLDER) + 1;
        if number >= most {
            return Err(self.device.unchangeable("it has no numbers for inodes any more"));
        }
        let mut inode = Inode { tree: folder.tree, number, bytes: vec![0; INODE_LEN] };
        put_u64(&mut inode.bytes, 0, self.change_generation());
        inode.set_links(1);
        put_u32(&mut inode.bytes, 52, mode as usize);
        put_u64(&mut inode.bytes, 64, folder.inherited(mode & mode::KIND));
        for time in [ACCESS, CHANGE, MODIFICATION, BIRTH] {
            inode.set_time(time, self.now);
        }
        Ok(inode)
    }

    /// Writes an inode as it is.
    pub(super) fn keep_inode(&mut self, inode: &Inode) -> Result<()> {
        self.put(inode.tree, (inode.number, items::INODE, 0), inode.bytes.clone())
    }

    /// Says of an inode that what belongs to it changed now, and writes it.
    pub(super) fn write_inode(&mut self, inode: &mut Inode, is_modified: bool) -> Result<()> {
        if is_modified {
            inode.set_time(MODIFICATION, self.now);
        }
        inode.set_time(CHANGE, self.now);
        put_u64(&mut inode.bytes, 8, self.change_generation());
        let sequence = u64_at(&inode.bytes, 72).wrapping_add(1);
        put_u64(&mut inode.bytes, 72, sequence);
        self.put(inode.tree, (inode.number, items::INODE, 0), inode.bytes.clone())
    }
}
