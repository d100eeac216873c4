//! The superblock (Linux kernel documentation, "ext4 Data Structures and Algorithms", section "Super Block").

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::little_endian::{U16, U32, U64},
};

use super::checksum;
use crate::{bench::Device, error::Result};

/// Byte of the superblock in its volume.
pub(super) const OFFSET: u64 = 1024;
const MAGIC: u16 = 0xef53;

pub(super) mod compat {
    pub const HAS_JOURNAL: u32 = 0x4;
    pub const DIR_INDEX: u32 = 0x20;
    pub const SPARSE_SUPER2: u32 = 0x200;
    pub const ORPHAN_FILE: u32 = 0x1000;
}

pub(super) mod incompat {
    pub const FILETYPE: u32 = 0x2;
    pub const RECOVER: u32 = 0x4;
    pub const META_BG: u32 = 0x10;
    pub const EXTENTS: u32 = 0x40;
    pub const BIT64: u32 = 0x80;
    pub const MMP: u32 = 0x100;
    pub const FLEX_BG: u32 = 0x200;
    pub const EA_INODE: u32 = 0x400;
    pub const CSUM_SEED: u32 = 0x2000;
    pub const LARGEDIR: u32 = 0x4000;
    pub const INLINE_DATA: u32 = 0x8000;
    pub const ENCRYPT: u32 = 0x10000;
    pub const CASEFOLD: u32 = 0x20000;
    /// All that is read.
    pub const KNOWN: u32 = FILETYPE
        | RECOVER
        | META_BG
        | EXTENTS
        | BIT64
        | MMP
        | FLEX_BG
        | EA_INODE
        | CSUM_SEED
        | LARGEDIR
        | INLINE_DATA
        | ENCRYPT
        | CASEFOLD;
}

pub(super) mod ro_compat {
    pub const SPARSE_SUPER: u32 = 0x1;
    pub const LARGE_FILE: u32 = 0x2;
    pub const HUGE_FILE: u32 = 0x8;
    pub const GDT_CSUM: u32 = 0x10;
    pub const BIGALLOC: u32 = 0x200;
    pub const DIR_NLINK: u32 = 0x20;
    pub const EXTRA_ISIZE: u32 = 0x40;
    pub const METADATA_CSUM: u32 = 0x400;
    pub const PROJECT: u32 = 0x2000;
    pub const VERITY: u32 = 0x8000;
    pub const ORPHAN_PRESENT: u32 = 0x10000;
    /// All that is kept right when something is written.
    pub const KEPT: u32 = SPARSE_SUPER
        | LARGE_FILE
        | HUGE_FILE
        | GDT_CSUM
        | DIR_NLINK
        | EXTRA_ISIZE
        | METADATA_CSUM
        | PROJECT
        | VERITY
        | ORPHAN_PRESENT;
}

/// The structure on disk, 1024 bytes.
#[derive(Debug, Clone, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Superblock {
    pub s_inodes_count: U32,
    pub s_blocks_count_lo: U32,
    pub s_r_blocks_count_lo: U32,
    pub s_free_blocks_count_lo: U32,
    pub s_free_inodes_count: U32,
    pub s_first_data_block: U32,
    pub s_log_block_size: U32,
    pub s_log_cluster_size: U32,
    pub s_blocks_per_group: U32,
    pub s_clusters_per_group: U32,
    pub s_inodes_per_group: U32,
    pub s_mtime: U32,
    pub s_wtime: U32,
    pub s_mnt_count: U16,
    pub s_max_mnt_count: U16,
    pub s_magic: U16,
    pub s_state: U16,
    pub s_errors: U16,
    pub s_minor_rev_level: U16,
    pub s_lastcheck: U32,
    pub s_checkinterval: U32,
    pub s_creator_os: U32,
    pub s_rev_level: U32,
    pub s_def_resuid: U16,
    pub s_def_resgid: U16,
    pub s_first_ino: U32,
    pub s_inode_size: U16,
    pub s_block_group_nr: U16,
    pub s_feature_compat: U32,
    pub s_feature_incompat: U32,
    pub s_feature_ro_compat: U32,
    pub s_uuid: [u8; 16],
    pub s_volume_name: [u8; 16],
    pub s_last_mounted: [u8; 64],
    pub s_algorithm_usage_bitmap: U32,
    pub s_prealloc_blocks: u8,
    pub s_prealloc_dir_blocks: u8,
    pub s_reserved_gdt_blocks: U16,
    pub s_journal_uuid: [u8; 16],
    pub s_journal_inum: U32,
    pub s_journal_dev: U32,
    pub s_last_orphan: U32,
    pub s_hash_seed: [U32; 4],
    pub s_def_hash_version: u8,
    pub s_jnl_backup_type: u8,
    pub s_desc_size: U16,
    pub s_default_mount_opts: U32,
    pub s_first_meta_bg: U32,
    pub s_mkfs_time: U32,
    pub s_jnl_blocks: [U32; 17],
    pub s_blocks_count_hi: U32,
    pub s_r_blocks_count_hi: U32,
    pub s_free_blocks_count_hi: U32,
    pub s_min_extra_isize: U16,
    pub s_want_extra_isize: U16,
    pub s_flags: U32,
    pub s_raid_stride: U16,
    pub s_mmp_interval: U16,
    pub s_mmp_block: U64,
    pub s_raid_stripe_width: U32,
    pub s_log_groups_per_flex: u8,
    pub s_checksum_type: u8,
    pub s_encryption_level: u8,
    pub s_reserved_pad: u8,
    pub s_kbytes_written: U64,
    /// Snapshots, the record of errors, mount options, quota inodes: 0x180 to 0x24b.
    pub s_unused_here: [u8; 0x24c - 0x180],
    pub s_backup_bgs: [U32; 2],
    pub s_encryption: [u8; 0x268 - 0x254],
    pub s_lpf_ino: U32,
    pub s_prj_quota_inum: U32,
    pub s_checksum_seed: U32,
    pub s_time_hi: [u8; 12],
    pub s_orphan_file_inum: U32,
    pub s_reserved: [U32; 94],
    pub s_checksum: U32,
}

impl Superblock {
    /// Reads and checks the superblock of `device`.
    #[expect(clippy::cast_possible_truncation, reason = "the lower half is meant, and blocks are at most 64 KiB")]
    pub(super) fn read(device: &Device) -> Result<Self> {
        let mut bytes = [0; 1024];
        device.read(OFFSET, &mut bytes)?;
        let sb: Self = zerocopy::transmute!(bytes);
        let wrong = |what: &str| Err(device.damaged(format!("its superblock {what}")));
        if sb.s_magic.get() != MAGIC {
            return wrong("has no mark of ext2, ext3 or ext4");
        }
        let unknown = sb.s_feature_incompat.get() & !incompat::KNOWN;
        if unknown != 0 {
            return Err(device.unreadable(format!("it uses the incompatible features {unknown:#x}")));
        }
        if sb.s_log_block_size.get() > 6 {
            return wrong("asks for blocks of more than 64 KiB");
        }
        if sb.has_ro(ro_compat::METADATA_CSUM) {
            let found = checksum::crc32c(!0, &bytes[..1020]);
            if sb.s_checksum_type != 1 || found != sb.s_checksum.get() {
                return wrong("does not have the checksum that it states");
            }
        }
        let block = sb.block_size();
        let per_group = (sb.s_blocks_per_group.get(), sb.s_inodes_per_group.get());
        let most = block as u32 * 8;
        let first = sb.s_first_data_block.get();
        if per_group.0 == 0
            || per_group.1 == 0
            || per_group.1 > most
            || (!sb.has_ro(ro_compat::BIGALLOC) && per_group.0 > most)
        {
            return wrong("states groups that no bitmap can hold");
        }
        // Linux, fs/ext4/super.c: without the feature a cluster (or a fragment, as it was called) is a block.
        if !sb.has_ro(ro_compat::BIGALLOC) && sb.s_log_cluster_size != sb.s_log_block_size {
            return wrong("states clusters that are not blocks, and does not have the feature for them");
        }
        if !sb.inode_size().is_power_of_two() || !(128..=block).contains(&sb.inode_size()) {
            return wrong("states an impossible size of inodes");
        }
        let sizes = if sb.has_incompat(incompat::BIT64) { 64..=1024 } else { 32..=32 };
        if !sizes.contains(&sb.desc_size()) || !sb.desc_size().is_power_of_two() {
            return wrong("states an impossible size of group descriptors");
        }
        if first > 1 || u64::from(first) >= sb.blocks() {
            return wrong("states an impossible first block");
        }
        if sb.blocks().checked_mul(block as u64).is_none_or(|len| len > device.size()) {
            let (blocks, has) = (sb.blocks(), device.size());
            return Err(device.damaged(format!("it has {blocks} blocks of {block} bytes, and the volume {has} bytes")));
        }
        if u64::from(sb.s_inodes_count.get()) > sb.groups() * u64::from(per_group.1)
            || sb.groups() > u64::from(u32::MAX)
        {
            return wrong("states more inodes than its groups hold");
        }
        Ok(sb)
    }

    /// The bytes to write, with the checksum made right.
    #[expect(clippy::indexing_slicing, reason = "a superblock has 1024 bytes")]
    pub(super) fn sealed(&mut self) -> [u8; 1024] {
        if self.has_ro(ro_compat::METADATA_CSUM) {
            self.s_checksum = checksum::crc32c(!0, &self.as_bytes()[..1020]).into();
        }
        zerocopy::transmute!(self.clone())
    }

    pub(super) fn has_compat(&self, bits: u32) -> bool {
        self.s_feature_compat.get() & bits != 0
    }

    pub(super) fn has_incompat(&self, bits: u32) -> bool {
        self.s_feature_incompat.get() & bits != 0
    }

    pub(super) fn has_ro(&self, bits: u32) -> bool {
        self.s_feature_ro_compat.get() & bits != 0
    }

    /// Bytes of a block.
    pub(super) fn block_size(&self) -> usize {
        1024 << self.s_log_block_size.get()
    }

    /// Blocks that are taken and given back together.
    pub(super) fn cluster_blocks(&self) -> u64 {
        let (cluster, block) = (self.s_log_cluster_size.get(), self.s_log_block_size.get());
        if self.has_ro(ro_compat::BIGALLOC) { 1_u64.checked_shl(cluster.saturating_sub(block)).unwrap_or(1) } else { 1 }
    }

    /// Bytes of an inode.
    pub(super) fn inode_size(&self) -> usize {
        if self.s_rev_level.get() == 0 { 128 } else { self.s_inode_size.get().into() }
    }

    /// The first inode that is not the file system's own.
    pub(super) fn first_inode(&self) -> u32 {
        if self.s_rev_level.get() == 0 { 11 } else { self.s_first_ino.get() }
    }

    /// Bytes of a group descriptor.
    pub(super) fn desc_size(&self) -> usize {
        if self.has_incompat(incompat::BIT64) { self.s_desc_size.get().into() } else { 32 }
    }

    /// Number of blocks.
    pub(super) fn blocks(&self) -> u64 {
        let high = if self.has_incompat(incompat::BIT64) { self.s_blocks_count_hi.get() } else { 0 };
        u64::from(high) << 32 | u64::from(self.s_blocks_count_lo.get())
    }

    pub(super) fn free_blocks(&self) -> u64 {
        let high = if self.has_incompat(incompat::BIT64) { self.s_free_blocks_count_hi.get() } else { 0 };
        u64::from(high) << 32 | u64::from(self.s_free_blocks_count_lo.get())
    }

    #[expect(clippy::cast_possible_truncation, reason = "the lower half is meant, and blocks are at most 64 KiB")]
    pub(super) fn set_free_blocks(&mut self, free: u64) {
        self.s_free_blocks_count_lo = (free as u32).into();
        if self.has_incompat(incompat::BIT64) {
            self.s_free_blocks_count_hi = ((free >> 32) as u32).into();
        }
    }

    /// Number of block groups.
    pub(super) fn groups(&self) -> u64 {
        (self.blocks() - u64::from(self.s_first_data_block.get())).div_ceil(self.s_blocks_per_group.get().into())
    }

    /// What every checksum of metadata starts from.
    pub(super) fn checksum_seed(&self) -> u32 {
        if self.has_incompat(incompat::CSUM_SEED) {
            self.s_checksum_seed.get()
        } else {
            checksum::crc32c(!0, &self.s_uuid)
        }
    }

    /// Whether `group` holds a copy of the superblock and of the descriptors.
    pub(super) fn has_copy(&self, group: u64) -> bool {
        let power_of = |base: u64| {
            std::iter::successors(Some(base), |n| n.checked_mul(base)).take_while(|n| *n <= group).any(|n| n == group)
        };
        if group == 0 {
            true
        } else if self.has_compat(compat::SPARSE_SUPER2) {
            self.s_backup_bgs.iter().any(|backup| u64::from(backup.get()) == group)
        } else {
            group == 1 || !self.has_ro(ro_compat::SPARSE_SUPER) || [3, 5, 7].into_iter().any(power_of)
        }
    }
}
