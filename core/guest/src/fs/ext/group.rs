//! Block groups (section "Block Group Descriptors"): where their bitmaps and inode tables lie, and what they count.

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::little_endian::{U16, U32},
};

use super::{
    Ext, checksum,
    superblock::{incompat, ro_compat},
};
use crate::error::Result;

/// The inodes of the group were never used; its bitmap is not written.
pub(super) const INODE_UNINIT: u16 = 1;
/// Only the group's own tables use its blocks; its bitmap is not written.
pub(super) const BLOCK_UNINIT: u16 = 2;

/// The structure on disk, 64 bytes; file systems without the feature 64BIT have the first 32.
#[derive(Debug, Clone, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct Descriptor {
    bg_block_bitmap_lo: U32,
    bg_inode_bitmap_lo: U32,
    bg_inode_table_lo: U32,
    bg_free_blocks_count_lo: U16,
    bg_free_inodes_count_lo: U16,
    bg_used_dirs_count_lo: U16,
    bg_flags: U16,
    bg_exclude_bitmap_lo: U32,
    bg_block_bitmap_csum_lo: U16,
    bg_inode_bitmap_csum_lo: U16,
    bg_itable_unused_lo: U16,
    bg_checksum: U16,
    bg_block_bitmap_hi: U32,
    bg_inode_bitmap_hi: U32,
    bg_inode_table_hi: U32,
    bg_free_blocks_count_hi: U16,
    bg_free_inodes_count_hi: U16,
    bg_used_dirs_count_hi: U16,
    bg_itable_unused_hi: U16,
    bg_exclude_bitmap_hi: U32,
    bg_block_bitmap_csum_hi: U16,
    bg_inode_bitmap_csum_hi: U16,
    bg_reserved: U32,
}

/// A block group as it is counted with.
#[derive(Debug, Clone)]
pub(super) struct Group {
    pub(super) number: u64,
    raw: Descriptor,
    /// What follows the 64 bytes, where descriptors are larger.
    rest: Vec<u8>,
}

fn wide(low: U32, high: U32) -> u64 {
    u64::from(high.get()) << 32 | u64::from(low.get())
}

fn joined(low: U16, high: U16) -> u32 {
    u32::from(high.get()) << 16 | u32::from(low.get())
}

impl Group {
    pub(super) fn block_bitmap(&self) -> u64 {
        wide(self.raw.bg_block_bitmap_lo, self.raw.bg_block_bitmap_hi)
    }

    pub(super) fn inode_bitmap(&self) -> u64 {
        wide(self.raw.bg_inode_bitmap_lo, self.raw.bg_inode_bitmap_hi)
    }

    pub(super) fn inode_table(&self) -> u64 {
        wide(self.raw.bg_inode_table_lo, self.raw.bg_inode_table_hi)
    }

    pub(super) fn flags(&self) -> u16 {
        self.raw.bg_flags.get()
    }

    pub(super) fn clear_flag(&mut self, flag: u16) {
        self.raw.bg_flags = (self.flags() & !flag).into();
    }

    pub(super) fn free_blocks(&self) -> u32 {
        joined(self.raw.bg_free_blocks_count_lo, self.raw.bg_free_blocks_count_hi)
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "the lower half is meant: the upper half is set beside it, or is not kept"
    )]
    pub(super) fn set_free_blocks(&mut self, count: u32) {
        self.raw.bg_free_blocks_count_lo = (count as u16).into();
        self.raw.bg_free_blocks_count_hi = ((count >> 16) as u16).into();
    }

    pub(super) fn free_inodes(&self) -> u32 {
        joined(self.raw.bg_free_inodes_count_lo, self.raw.bg_free_inodes_count_hi)
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "the lower half is meant: the upper half is set beside it, or is not kept"
    )]
    pub(super) fn set_free_inodes(&mut self, count: u32) {
        self.raw.bg_free_inodes_count_lo = (count as u16).into();
        self.raw.bg_free_inodes_count_hi = ((count >> 16) as u16).into();
    }

    pub(super) fn used_folders(&self) -> u32 {
        joined(self.raw.bg_used_dirs_count_lo, self.raw.bg_used_dirs_count_hi)
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "the lower half is meant: the upper half is set beside it, or is not kept"
    )]
    pub(super) fn set_used_folders(&mut self, count: u32) {
        self.raw.bg_used_dirs_count_lo = (count as u16).into();
        self.raw.bg_used_dirs_count_hi = ((count >> 16) as u16).into();
    }

    /// Inodes at the table's end that were never used.
    pub(super) fn unused_inodes(&self) -> u32 {
        joined(self.raw.bg_itable_unused_lo, self.raw.bg_itable_unused_hi)
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "the lower half is meant: the upper half is set beside it, or is not kept"
    )]
    pub(super) fn set_unused_inodes(&mut self, count: u32) {
        self.raw.bg_itable_unused_lo = (count as u16).into();
        self.raw.bg_itable_unused_hi = ((count >> 16) as u16).into();
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "the lower half is meant: the upper half is set beside it, or is not kept"
    )]
    fn set_block_bitmap_checksum(&mut self, sum: u32) {
        self.raw.bg_block_bitmap_csum_lo = (sum as u16).into();
        self.raw.bg_block_bitmap_csum_hi = ((sum >> 16) as u16).into();
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "the lower half is meant: the upper half is set beside it, or is not kept"
    )]
    fn set_inode_bitmap_checksum(&mut self, sum: u32) {
        self.raw.bg_inode_bitmap_csum_lo = (sum as u16).into();
        self.raw.bg_inode_bitmap_csum_hi = ((sum >> 16) as u16).into();
    }
}

impl Ext {
    /// Byte of a group's descriptor.
    fn descriptor_offset(&self, group: u64) -> u64 {
        let size = self.sb.desc_size() as u64;
        let block = self.block as u64;
        let per_block = block / size;
        let meta = group / per_block;
        let first_data = u64::from(self.sb.s_first_data_block.get());
        // Blocks of 1 KiB leave the first one to the boot sector, and larger ones hold it beside the superblock. Where clusters are taken, the
        // first group begins with that block all the same (Linux, `fs/ext4/super.c`, `descriptor_loc`).
        let superblock = u64::from(block == 1024);
        let table = if self.sb.has_incompat(incompat::META_BG) && meta >= self.sb.s_first_meta_bg.get().into() {
            let first = meta * per_block;
            let start = first_data + first * u64::from(self.sb.s_blocks_per_group.get());
            start
                + u64::from(self.sb.has_copy(first))
                + if first == 0 { superblock.saturating_sub(first_data) } else { 0 }
        } else {
            superblock + 1 + meta
        };
        table * block + group % per_block * size
    }

    /// Reads the descriptor of a group.
    #[expect(
        clippy::indexing_slicing,
        reason = "a descriptor has 32 or 64 bytes, as the superblock was checked to say"
    )]
    pub(super) fn group(&self, number: u64) -> Result<Group> {
        if number >= self.sb.groups() {
            return Err(self.device.damaged(format!("something names block group {number}, which it does not have")));
        }
        let mut bytes = vec![0; self.sb.desc_size().max(64)];
        self.device.read(self.descriptor_offset(number), &mut bytes[..self.sb.desc_size()])?;
        let (raw, rest) = bytes.split_at(64);
        let raw = Descriptor::read_from_bytes(raw).map_err(|_| self.device.damaged("a group descriptor is short"))?;
        let group = Group { number, raw, rest: rest.to_vec() };
        if let Some(sum) = self.descriptor_checksum(&group)
            && sum != group.raw.bg_checksum.get()
        {
            return Err(self.device.damaged(format!("the descriptor of block group {number} has a wrong checksum")));
        }
        Ok(group)
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "the lower half is meant: the upper half is set beside it, or is not kept"
    )]
    #[expect(
        clippy::indexing_slicing,
        reason = "a descriptor has 32 or 64 bytes, as the superblock was checked to say"
    )]
    fn descriptor_checksum(&self, group: &Group) -> Option<u16> {
        let mut bytes = [group.raw.as_bytes(), &group.rest].concat();
        bytes.truncate(self.sb.desc_size());
        let number = (group.number as u32).to_le_bytes();
        if self.sb.has_ro(ro_compat::METADATA_CSUM) {
            bytes[0x1e..0x20].fill(0);
            let seed = checksum::crc32c(self.seed, &number);
            Some(checksum::crc32c(seed, &bytes) as u16)
        } else if self.sb.has_ro(ro_compat::GDT_CSUM) {
            let seed = checksum::crc16(checksum::crc16(!0, &self.sb.s_uuid), &number);
            // The checksum's own two bytes are left out, not taken as zero.
            Some(checksum::crc16(checksum::crc16(seed, &bytes[..0x1e]), &bytes[0x20..]))
        } else {
            None
        }
    }

    /// Writes the descriptor of a group, with its checksum.
    pub(super) fn write_group(&self, group: &mut Group) -> Result<()> {
        if let Some(sum) = self.descriptor_checksum(group) {
            group.raw.bg_checksum = sum.into();
        }
        let mut bytes = [group.raw.as_bytes(), &group.rest].concat();
        bytes.truncate(self.sb.desc_size());
        self.device.write(self.descriptor_offset(group.number), &bytes)
    }

    /// The first block of a group.
    pub(super) fn group_start(&self, group: u64) -> u64 {
        u64::from(self.sb.s_first_data_block.get()) + group * u64::from(self.sb.s_blocks_per_group.get())
    }

    /// The number of blocks in a group; the last may be shorter.
    pub(super) fn group_blocks(&self, group: u64) -> u64 {
        u64::from(self.sb.s_blocks_per_group.get()).min(self.sb.blocks() - self.group_start(group))
    }

    /// The bitmap of a group's blocks, made where it was never written.
    pub(super) fn block_bitmap(&self, group: &Group) -> Result<Vec<u8>> {
        if group.flags() & BLOCK_UNINIT == 0 {
            let bitmap = self.read_block(group.block_bitmap())?;
            let covered = self.sb.s_clusters_per_group.get() as usize / 8;
            let stated = (group.raw.bg_block_bitmap_csum_lo, group.raw.bg_block_bitmap_csum_hi);
            self.check_bitmap(group, &bitmap, covered, stated, "blocks")?;
            return Ok(bitmap);
        }
        let mut bitmap = vec![0; self.block];
        for block in self.own_blocks(group) {
            set(&mut bitmap, block, true);
        }
        fill_end(&mut bitmap, self.group_blocks(group.number));
        Ok(bitmap)
    }

    /// Refuses a bitmap that is not the one that was written: what is changed in it would be sealed anew, and pass for sound.
    fn check_bitmap(&self, group: &Group, bitmap: &[u8], covered: usize, stated: (U16, U16), of: &str) -> Result<()> {
        if !self.sb.has_ro(ro_compat::METADATA_CSUM) {
            return Ok(());
        }
        let sum = checksum::crc32c(self.seed, bitmap.get(..covered).unwrap_or(bitmap));
        // Descriptors of 32 bytes have room for half of it.
        let (sum, stated) = if self.sb.desc_size() >= 64 {
            (sum, joined(stated.0, stated.1))
        } else {
            (sum & 0xffff, stated.0.get().into())
        };
        if sum == stated {
            return Ok(());
        }
        let number = group.number;
        Err(self.device.damaged(format!("the bitmap of {of} of block group {number} has a wrong checksum")))
    }

    /// The blocks of a group, from its start, that its own tables use.
    fn own_blocks(&self, group: &Group) -> Vec<u64> {
        let (start, len) = (self.group_start(group.number), self.group_blocks(group.number));
        let mut used = Vec::new();
        let per_block = (self.block / self.sb.desc_size()) as u64;
        let meta = self.sb.has_incompat(incompat::META_BG);
        let first_meta = u64::from(self.sb.s_first_meta_bg.get());
        let has_copy = self.sb.has_copy(group.number);
        if has_copy {
            used.push(0);
        }
        if !meta || group.number < first_meta * per_block {
            if has_copy {
                let tables = if meta { first_meta } else { self.sb.groups().div_ceil(per_block) };
                used.extend(1..1 + tables + u64::from(self.sb.s_reserved_gdt_blocks.get()));
            }
        } else if [0, 1, per_block - 1].contains(&(group.number % per_block)) {
            used.push(u64::from(has_copy));
        }
        let table_blocks = self.inode_table_blocks();
        let tables = [(group.block_bitmap(), 1), (group.inode_bitmap(), 1), (group.inode_table(), table_blocks)];
        for (first, count) in tables {
            used.extend((first..first.saturating_add(count)).filter_map(|block| block.checked_sub(start)));
        }
        used.retain(|block| *block < len);
        used
    }

    pub(super) fn inode_table_blocks(&self) -> u64 {
        (u64::from(self.sb.s_inodes_per_group.get()) * self.sb.inode_size() as u64).div_ceil(self.block as u64)
    }

    /// Writes the bitmap of a group's blocks and notes its checksum in the descriptor, which is not written yet.
    #[expect(clippy::indexing_slicing, reason = "cut to the bitmap")]
    pub(super) fn write_block_bitmap(&self, group: &mut Group, bitmap: &[u8]) -> Result<()> {
        if self.sb.has_ro(ro_compat::METADATA_CSUM) {
            let covered = self.sb.s_clusters_per_group.get() as usize / 8;
            group.set_block_bitmap_checksum(checksum::crc32c(self.seed, &bitmap[..covered.min(bitmap.len())]));
        }
        group.clear_flag(BLOCK_UNINIT);
        self.write_block(group.block_bitmap(), bitmap)
    }

    /// The bitmap of a group's inodes, made where it was never written.
    pub(super) fn inode_bitmap(&self, group: &Group) -> Result<Vec<u8>> {
        if group.flags() & INODE_UNINIT == 0 {
            let bitmap = self.read_block(group.inode_bitmap())?;
            let covered = self.sb.s_inodes_per_group.get() as usize / 8;
            let stated = (group.raw.bg_inode_bitmap_csum_lo, group.raw.bg_inode_bitmap_csum_hi);
            self.check_bitmap(group, &bitmap, covered, stated, "inodes")?;
            return Ok(bitmap);
        }
        let mut bitmap = vec![0; self.block];
        fill_end(&mut bitmap, self.sb.s_inodes_per_group.get().into());
        Ok(bitmap)
    }

    /// Writes the bitmap of a group's inodes and notes its checksum in the descriptor, which is not written yet.
    #[expect(clippy::indexing_slicing, reason = "cut to the bitmap")]
    pub(super) fn write_inode_bitmap(&self, group: &mut Group, bitmap: &[u8]) -> Result<()> {
        if self.sb.has_ro(ro_compat::METADATA_CSUM) {
            let covered = self.sb.s_inodes_per_group.get() as usize / 8;
            group.set_inode_bitmap_checksum(checksum::crc32c(self.seed, &bitmap[..covered.min(bitmap.len())]));
        }
        group.clear_flag(INODE_UNINIT);
        self.write_block(group.inode_bitmap(), bitmap)
    }
}

/// Whether bit `index` is set.
pub(super) fn is_set(bitmap: &[u8], index: u64) -> bool {
    bitmap.get((index / 8) as usize).is_none_or(|byte| byte >> (index % 8) & 1 == 1)
}

/// Sets bit `index` to `value`.
pub(super) fn set(bitmap: &mut [u8], index: u64, value: bool) {
    if let Some(byte) = bitmap.get_mut((index / 8) as usize) {
        let bit = 1 << (index % 8);
        *byte = if value { *byte | bit } else { *byte & !bit };
    }
}

/// Marks everything from bit `from` on as used: there is nothing behind it.
fn fill_end(bitmap: &mut [u8], from: u64) {
    for index in from..bitmap.len() as u64 * 8 {
        set(bitmap, index, true);
    }
}
