//! Inodes (section "Index Nodes"): what a file is, and where its bytes are told.

use super::{Ext, checksum, group, superblock::ro_compat};
use crate::{error::Result, fs::node::Device};

/// Number of the root folder.
pub(crate) const ROOT: u32 = 2;

pub(super) mod flags {
    pub const ENCRYPT: u32 = 0x800;
    pub const INDEX: u32 = 0x1000;
    pub const HUGE_FILE: u32 = 0x4_0000;
    pub const EXTENTS: u32 = 0x8_0000;
    pub const VERITY: u32 = 0x10_0000;
    pub const INLINE_DATA: u32 = 0x1000_0000;
    pub const CASEFOLD: u32 = 0x4000_0000;
}

/// Kinds of files, as the high bits of a mode have them.
pub(crate) mod mode {
    pub const KIND: u16 = 0xf000;
    pub const FOLDER: u16 = 0x4000;
    pub const FILE: u16 = 0x8000;
    pub const LINK: u16 = 0xa000;
}

/// Fields and their bytes.
mod at {
    pub const MODE: usize = 0x0;
    pub const UID: usize = 0x2;
    pub const SIZE_LO: usize = 0x4;
    pub const ATIME: usize = 0x8;
    pub const CTIME: usize = 0xc;
    pub const MTIME: usize = 0x10;
    pub const DTIME: usize = 0x14;
    pub const GID: usize = 0x18;
    pub const LINKS_COUNT: usize = 0x1a;
    pub const BLOCKS_LO: usize = 0x1c;
    pub const FLAGS: usize = 0x20;
    pub const BLOCK: usize = 0x28;
    pub const GENERATION: usize = 0x64;
    pub const FILE_ACL_LO: usize = 0x68;
    pub const SIZE_HIGH: usize = 0x6c;
    pub const BLOCKS_HIGH: usize = 0x74;
    pub const FILE_ACL_HIGH: usize = 0x76;
    pub const UID_HIGH: usize = 0x78;
    pub const GID_HIGH: usize = 0x7a;
    pub const CHECKSUM_LO: usize = 0x7c;
    pub const EXTRA_ISIZE: usize = 0x80;
    pub const CHECKSUM_HI: usize = 0x82;
    pub const CTIME_EXTRA: usize = 0x84;
    pub const MTIME_EXTRA: usize = 0x88;
    pub const ATIME_EXTRA: usize = 0x8c;
    pub const CRTIME: usize = 0x90;
    pub const CRTIME_EXTRA: usize = 0x94;
}

/// Which time of an inode.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Time {
    Access,
    Change,
    Modification,
    Creation,
}

/// An inode.
#[derive(Debug, Clone)]
pub(crate) struct Inode {
    pub(crate) number: u32,
    /// As on disk, of the file system's inode size.
    pub(super) raw: Vec<u8>,
}

impl Inode {
    #[expect(clippy::indexing_slicing, reason = "an inode has at least 128 bytes, or the file system was refused")]
    fn le16(&self, at: usize) -> u16 {
        u16::from_le_bytes([self.raw[at], self.raw[at + 1]])
    }

    fn le32(&self, at: usize) -> u32 {
        u32::from(self.le16(at)) | u32::from(self.le16(at + 2)) << 16
    }

    #[expect(clippy::indexing_slicing, reason = "an inode has at least 128 bytes, or the file system was refused")]
    fn put16(&mut self, at: usize, value: u16) {
        self.raw[at..at + 2].copy_from_slice(&value.to_le_bytes());
    }

    #[expect(clippy::indexing_slicing, reason = "an inode has at least 128 bytes, or the file system was refused")]
    fn put32(&mut self, at: usize, value: u32) {
        self.raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
    }

    /// Kind and permissions.
    pub(crate) fn mode(&self) -> u16 {
        self.le16(at::MODE)
    }

    pub(super) fn set_mode(&mut self, mode: u16) {
        self.put16(at::MODE, mode);
    }

    pub(crate) fn is_folder(&self) -> bool {
        self.mode() & mode::KIND == mode::FOLDER
    }

    pub(crate) fn is_file(&self) -> bool {
        self.mode() & mode::KIND == mode::FILE
    }

    pub(crate) fn is_link(&self) -> bool {
        self.mode() & mode::KIND == mode::LINK
    }

    pub(crate) fn uid(&self) -> u32 {
        u32::from(self.le16(at::UID)) | u32::from(self.le16(at::UID_HIGH)) << 16
    }

    pub(crate) fn gid(&self) -> u32 {
        u32::from(self.le16(at::GID)) | u32::from(self.le16(at::GID_HIGH)) << 16
    }

    #[expect(clippy::cast_possible_truncation, reason = "the lower half is meant: the upper half is set beside it")]
    pub(super) fn set_owner(&mut self, uid: u32, gid: u32) {
        self.put16(at::UID, uid as u16);
        self.put16(at::UID_HIGH, (uid >> 16) as u16);
        self.put16(at::GID, gid as u16);
        self.put16(at::GID_HIGH, (gid >> 16) as u16);
    }

    /// Length in bytes.
    pub(crate) fn size(&self) -> u64 {
        u64::from(self.le32(at::SIZE_HIGH)) << 32 | u64::from(self.le32(at::SIZE_LO))
    }

    #[expect(clippy::cast_possible_truncation, reason = "the lower half is meant: the upper half is set beside it")]
    pub(super) fn set_size(&mut self, size: u64) {
        self.put32(at::SIZE_LO, size as u32);
        self.put32(at::SIZE_HIGH, (size >> 32) as u32);
    }

    pub(super) fn flags(&self) -> u32 {
        self.le32(at::FLAGS)
    }

    pub(super) fn has(&self, flag: u32) -> bool {
        self.flags() & flag != 0
    }

    pub(super) fn set_flag(&mut self, flag: u32, value: bool) {
        let flags = if value { self.flags() | flag } else { self.flags() & !flag };
        self.put32(at::FLAGS, flags);
    }

    pub(crate) fn links(&self) -> u16 {
        self.le16(at::LINKS_COUNT)
    }

    pub(super) fn set_links(&mut self, links: u16) {
        self.put16(at::LINKS_COUNT, links);
    }

    pub(super) fn generation(&self) -> u32 {
        self.le32(at::GENERATION)
    }

    /// The 60 bytes that hold a map, a short link, or the start of inline data.
    #[expect(clippy::indexing_slicing, reason = "an inode has at least 128 bytes, or the file system was refused")]
    pub(super) fn block(&self) -> &[u8] {
        &self.raw[at::BLOCK..at::BLOCK + 60]
    }

    #[expect(clippy::indexing_slicing, reason = "an inode has at least 128 bytes, or the file system was refused")]
    pub(super) fn block_mut(&mut self) -> &mut [u8] {
        &mut self.raw[at::BLOCK..at::BLOCK + 60]
    }

    /// The block of extended attributes; 0 when there is none.
    pub(super) fn attribute_block(&self) -> u64 {
        u64::from(self.le16(at::FILE_ACL_HIGH)) << 32 | u64::from(self.le32(at::FILE_ACL_LO))
    }

    #[expect(clippy::cast_possible_truncation, reason = "the lower half is meant: the upper half is set beside it")]
    pub(super) fn set_attribute_block(&mut self, block: u64) {
        self.put32(at::FILE_ACL_LO, block as u32);
        self.put16(at::FILE_ACL_HIGH, (block >> 32) as u16);
    }

    /// Blocks of the file system that the file uses, its tables among them. `block_size` is in bytes.
    pub(super) fn used_blocks(&self, block_size: usize) -> u64 {
        let count = u64::from(self.le16(at::BLOCKS_HIGH)) << 32 | u64::from(self.le32(at::BLOCKS_LO));
        if self.has(flags::HUGE_FILE) { count } else { count / (block_size as u64 / 512) }
    }

    #[expect(clippy::cast_possible_truncation, reason = "the lower half is meant: the upper half is set beside it")]
    pub(super) fn set_used_blocks(&mut self, blocks: u64, block_size: usize) {
        let count = if self.has(flags::HUGE_FILE) { blocks } else { blocks * (block_size as u64 / 512) };
        self.put32(at::BLOCKS_LO, count as u32);
        self.put16(at::BLOCKS_HIGH, (count >> 32) as u16);
    }

    /// The time of deletion; for an orphan, the next one.
    pub(super) fn deletion(&self) -> u32 {
        self.le32(at::DTIME)
    }

    pub(super) fn set_deletion(&mut self, value: u32) {
        self.put32(at::DTIME, value);
    }

    /// Bytes behind the first 128 that are fields; what follows holds extended attributes.
    pub(super) fn extra_size(&self) -> usize {
        if self.raw.len() < 132 { 0 } else { usize::from(self.le16(at::EXTRA_ISIZE)).min(self.raw.len() - 128) }
    }

    pub(super) fn set_extra_size(&mut self, size: u16) {
        if self.raw.len() > 128 {
            self.put16(at::EXTRA_ISIZE, size);
        }
    }

    fn has_extra(&self, field: usize) -> bool {
        field + 4 <= 128 + self.extra_size()
    }

    /// Seconds since 1970.
    pub(crate) fn modified(&self) -> i64 {
        let low = i64::from(self.le32(at::MTIME).cast_signed());
        let extra = if self.has_extra(at::MTIME_EXTRA) { self.le32(at::MTIME_EXTRA) } else { 0 };
        low + (i64::from(extra & 3) << 32)
    }

    /// Nanoseconds of [`Inode::modified`].
    pub(crate) fn nanoseconds(&self) -> u32 {
        if self.has_extra(at::MTIME_EXTRA) { (self.le32(at::MTIME_EXTRA) >> 2).min(999_999_999) } else { 0 }
    }

    /// The device that this stands for (Linux, `fs/ext4/inode.c`: the older form first, and the newer one behind it).
    pub(super) fn device(&self) -> Device {
        match self.le16(at::BLOCK) {
            0 => Device::of(self.le32(at::BLOCK + 4)),
            old => Device::of_old(old),
        }
    }

    /// Sets a time to `seconds` since 1970.
    #[expect(clippy::cast_possible_truncation, reason = "the lower half is meant: the upper half is set beside it")]
    pub(super) fn set_time(&mut self, which: Time, seconds: i64) {
        let (low, extra) = match which {
            Time::Access => (at::ATIME, at::ATIME_EXTRA),
            Time::Change => (at::CTIME, at::CTIME_EXTRA),
            Time::Modification => (at::MTIME, at::MTIME_EXTRA),
            Time::Creation => (at::CRTIME, at::CRTIME_EXTRA),
        };
        if which != Time::Creation || self.has_extra(low) {
            self.put32(low, seconds as u32);
        }
        if self.has_extra(extra) {
            // The two lowest bits count how often the signed 32 bits of the field went round.
            let epoch = (seconds - i64::from((seconds as u32).cast_signed())) >> 32;
            self.put32(extra, epoch as u32 & 3);
        }
    }
}

impl Ext {
    /// Byte of an inode in the volume.
    fn inode_offset(&self, number: u32) -> Result<u64> {
        if number == 0 || number > self.sb.s_inodes_count.get() {
            return Err(self.device.damaged(format!("something names inode {number}, which it does not have")));
        }
        let (group, index) = self.inode_place(number);
        let group = self.group(group)?;
        let start = group.inode_table();
        self.check_blocks(start, self.inode_table_blocks(), "an inode table")?;
        Ok(start * self.block as u64 + index * self.sb.inode_size() as u64)
    }

    /// Group of an inode, and its place there.
    pub(super) fn inode_place(&self, number: u32) -> (u64, u64) {
        let index = u64::from(number.saturating_sub(1));
        let per_group = u64::from(self.sb.s_inodes_per_group.get());
        (index / per_group, index % per_group)
    }

    /// Reads an inode.
    pub(crate) fn inode(&self, number: u32) -> Result<Inode> {
        let inode = self.inode_unchecked(number)?;
        if let Some(sum) = self.inode_checksum(&inode) {
            let high = if inode.extra_size() >= 4 { inode.le16(at::CHECKSUM_HI) } else { 0 };
            let stated = u32::from(high) << 16 | u32::from(inode.le16(at::CHECKSUM_LO));
            let mask = if inode.extra_size() >= 4 { !0 } else { 0xffff };
            if sum & mask != stated {
                return Err(self.device.damaged(format!("inode {number} has a wrong checksum")));
            }
        }
        Ok(inode)
    }

    /// Reads an inode that may never have been used.
    pub(super) fn inode_unchecked(&self, number: u32) -> Result<Inode> {
        let mut raw = vec![0; self.sb.inode_size()];
        self.device.read(self.inode_offset(number)?, &mut raw)?;
        Ok(Inode { number, raw })
    }

    /// What the checksums of an inode and of its blocks start from.
    pub(super) fn inode_seed(&self, inode: &Inode) -> u32 {
        let seed = checksum::crc32c(self.seed, &inode.number.to_le_bytes());
        checksum::crc32c(seed, &inode.generation().to_le_bytes())
    }

    #[expect(clippy::indexing_slicing, reason = "an inode has at least 128 bytes, or the file system was refused")]
    fn inode_checksum(&self, inode: &Inode) -> Option<u32> {
        if !self.sb.has_ro(ro_compat::METADATA_CSUM) {
            return None;
        }
        let mut plain = inode.raw.clone();
        plain[at::CHECKSUM_LO..at::CHECKSUM_LO + 2].fill(0);
        if inode.extra_size() >= 4 {
            plain[at::CHECKSUM_HI..at::CHECKSUM_HI + 2].fill(0);
        }
        Some(checksum::crc32c(self.inode_seed(inode), &plain))
    }

    /// Writes an inode, with its checksum.
    #[expect(clippy::cast_possible_truncation, reason = "the lower half is meant: the upper half is set beside it")]
    pub(super) fn write_inode(&self, inode: &mut Inode) -> Result<()> {
        if let Some(sum) = self.inode_checksum(inode) {
            inode.put16(at::CHECKSUM_LO, sum as u16);
            if inode.extra_size() >= 4 {
                inode.put16(at::CHECKSUM_HI, (sum >> 16) as u16);
            }
        }
        self.device.write(self.inode_offset(inode.number)?, &inode.raw)
    }

    /// Whether the bitmap says that an inode is used.
    pub(super) fn is_used(&self, number: u32) -> Result<bool> {
        let (group, index) = self.inode_place(number);
        Ok(group::is_set(&self.inode_bitmap(&self.group(group)?)?, index))
    }
}
