//! The superblock (XFS Algorithms & Data Structures, section "Superblocks"), and where things are by it.

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::{
        big_endian::{U16, U32, U64},
        little_endian,
    },
};

use super::seal;
use crate::{bench::Device, error::Result};

const MAGIC: [u8; 4] = *b"XFSB";
/// Byte of its checksum.
const CHECKSUM: usize = 224;

/// Bits of `sb_versionnum`.
pub(super) mod version {
    pub const NUMBER: u16 = 0x000f;
    pub const LOG_V2: u16 = 0x0400;
    pub const DIR_V2: u16 = 0x2000;
    pub const NO_CASE: u16 = 0x4000;
    pub const MORE: u16 = 0x8000;
}

/// Bits of `sb_features2`.
pub(super) mod features2 {
    pub const PROJECT32: u32 = 0x80;
    pub const FTYPE: u32 = 0x200;
}

/// Bits of `sb_features_ro_compat`.
pub(super) mod ro_compat {
    pub const FINOBT: u32 = 1;
    pub const RMAPBT: u32 = 1 << 1;
    pub const REFLINK: u32 = 1 << 2;
    pub const INOBT_COUNTS: u32 = 1 << 3;
    /// All that is kept right when something is written.
    pub const KEPT: u32 = FINOBT | RMAPBT | REFLINK | INOBT_COUNTS;
}

/// Bits of `sb_features_incompat`.
pub(super) mod incompat {
    pub const FTYPE: u32 = 1;
    pub const SPARSE_INODES: u32 = 1 << 1;
    pub const META_UUID: u32 = 1 << 2;
    pub const BIGTIME: u32 = 1 << 3;
    pub const NEEDS_REPAIR: u32 = 1 << 4;
    pub const NREXT64: u32 = 1 << 5;
    pub const EXCHANGE: u32 = 1 << 6;
    pub const PARENTS: u32 = 1 << 7;
    /// All that is read.
    pub const KNOWN: u32 = FTYPE | SPARSE_INODES | META_UUID | BIGTIME | NEEDS_REPAIR | NREXT64 | EXCHANGE | PARENTS;
    /// All that is kept right when something is written. An exchange of ranges leaves no trace on disk but in a log.
    pub const KEPT: u32 = FTYPE | SPARSE_INODES | META_UUID | BIGTIME | NREXT64 | EXCHANGE;
}

/// Bits of `sb_qflags`: the quotas of users, groups and projects were counted.
const QUOTAS_CHECKED: u16 = 0x0004 | 0x0020 | 0x0100 | 0x0400;

/// The structure on disk, 264 bytes.
#[derive(Debug, Clone, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Superblock {
    pub(super) sb_magicnum: [u8; 4],
    pub(super) sb_blocksize: U32,
    pub(super) sb_dblocks: U64,
    pub(super) sb_rblocks: U64,
    pub(super) sb_rextents: U64,
    pub(super) sb_uuid: [u8; 16],
    pub(super) sb_logstart: U64,
    pub(super) sb_rootino: U64,
    pub(super) sb_rbmino: U64,
    pub(super) sb_rsumino: U64,
    pub(super) sb_rextsize: U32,
    pub(super) sb_agblocks: U32,
    pub(super) sb_agcount: U32,
    pub(super) sb_rbmblocks: U32,
    pub(super) sb_logblocks: U32,
    pub(super) sb_versionnum: U16,
    pub(super) sb_sectsize: U16,
    pub(super) sb_inodesize: U16,
    pub(super) sb_inopblock: U16,
    pub(super) sb_fname: [u8; 12],
    pub(super) sb_blocklog: u8,
    pub(super) sb_sectlog: u8,
    pub(super) sb_inodelog: u8,
    pub(super) sb_inopblog: u8,
    pub(super) sb_agblklog: u8,
    pub(super) sb_rextslog: u8,
    pub(super) sb_inprogress: u8,
    pub(super) sb_imax_pct: u8,
    pub(super) sb_icount: U64,
    pub(super) sb_ifree: U64,
    pub(super) sb_fdblocks: U64,
    pub(super) sb_frextents: U64,
    pub(super) sb_uquotino: U64,
    pub(super) sb_gquotino: U64,
    pub(super) sb_qflags: U16,
    pub(super) sb_flags: u8,
    pub(super) sb_shared_vn: u8,
    pub(super) sb_inoalignmt: U32,
    pub(super) sb_unit: U32,
    pub(super) sb_width: U32,
    pub(super) sb_dirblklog: u8,
    pub(super) sb_logsectlog: u8,
    pub(super) sb_logsectsize: U16,
    pub(super) sb_logsunit: U32,
    pub(super) sb_features2: U32,
    pub(super) sb_bad_features2: U32,
    pub(super) sb_features_compat: U32,
    pub(super) sb_features_ro_compat: U32,
    pub(super) sb_features_incompat: U32,
    pub(super) sb_features_log_incompat: U32,
    pub(super) sb_crc: little_endian::U32,
    pub(super) sb_spino_align: U32,
    pub(super) sb_pquotino: U64,
    pub(super) sb_lsn: U64,
    pub(super) sb_meta_uuid: [u8; 16],
}

impl Superblock {
    /// The first superblock of the volume on `device`.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] for sizes that cannot be; [`crate::Error::Unsupported`] for features that are not known.
    pub(super) fn read(device: &Device) -> Result<Self> {
        let mut bytes = [0; size_of::<Self>()];
        device.read(0, &mut bytes)?;
        let sb: Self = zerocopy::transmute!(bytes);
        if sb.sb_magicnum != MAGIC {
            return Err(device.damaged("it does not begin with the mark of its kind"));
        }
        sb.check_known(device)?;
        sb.check_sizes(device)?;
        if sb.is_v5() {
            let mut sector = vec![0; usize::from(sb.sb_sectsize.get())];
            device.read(0, &mut sector)?;
            if !seal::is_sound(&sector, CHECKSUM) {
                return Err(device.damaged("its superblock has a wrong checksum"));
            }
        }
        Ok(sb)
    }

    fn check_known(&self, device: &Device) -> Result<()> {
        let number = self.sb_versionnum.get() & version::NUMBER;
        if number != 4 && number != 5 {
            return Err(device.unreadable(format!("it is of version {number}, and versions 4 and 5 are known")));
        }
        let unknown = self.sb_features_incompat.get() & !incompat::KNOWN;
        if self.is_v5() && unknown != 0 {
            return Err(device.unreadable(format!("it uses the features {unknown:#x}")));
        }
        if number == 4 && self.sb_versionnum.get() & version::DIR_V2 == 0 {
            return Err(device.unreadable("its folders are of the first version"));
        }
        Ok(())
    }

    fn check_sizes(&self, device: &Device) -> Result<()> {
        let log = |size: u64, log: u8, least: u8, most: u8| (least..=most).contains(&log) && size == 1 << log;
        let sizes = [
            ("block", u64::from(self.sb_blocksize.get()), self.sb_blocklog, 9, 16),
            ("sector", u64::from(self.sb_sectsize.get()), self.sb_sectlog, 9, 15),
            ("inode", u64::from(self.sb_inodesize.get()), self.sb_inodelog, 8, 11),
        ];
        if let Some((what, size, ..)) =
            sizes.iter().find(|(_, size, own, least, most)| !log(*size, *own, *least, *most))
        {
            return Err(device.damaged(format!("its {what} size of {size} bytes cannot be")));
        }
        let (blocks, per, groups) = (self.sb_dblocks.get(), u64::from(self.sb_agblocks.get()), self.groups());
        let sound = self.sb_inodelog <= self.sb_blocklog
            && self.sb_sectlog <= self.sb_blocklog
            && self.sb_inopblog == self.sb_blocklog - self.sb_inodelog
            && self.sb_inopblock.get() == 1 << self.sb_inopblog
            && per >= 64
            && self.sb_agblklog < 32
            && per.next_power_of_two() == 1 << self.sb_agblklog
            && groups > 0
            && blocks <= u64::from(groups) * per
            && blocks > u64::from(groups - 1) * per
            && u32::from(self.sb_dirblklog) + u32::from(self.sb_blocklog) <= 16
            && u32::from(self.sb_agblklog) + u32::from(self.sb_inopblog) <= 32;
        if !sound {
            return Err(device.damaged("the sizes of its parts do not fit together"));
        }
        if blocks.checked_mul(self.block()).is_none_or(|bytes| bytes > device.size()) {
            let bytes = device.size();
            return Err(device.damaged(format!("it has {blocks} blocks, more than its {bytes} bytes hold")));
        }
        Ok(())
    }

    /// Its bytes in a sector that holds `sector` now, sealed by `lsn`.
    pub(super) fn sealed(&mut self, sector: &mut [u8], lsn: u64) {
        if self.is_v5() {
            self.sb_lsn = lsn.into();
        }
        if let Some(target) = sector.get_mut(..size_of::<Self>()) {
            // What was made before version 5 ends earlier: what lies behind stays.
            let len = if self.is_v5() { target.len() } else { 208 };
            super::fields::put(target, 0, self.as_bytes().get(..len).unwrap_or_default());
        }
        if self.is_v5() {
            seal::seal(sector, CHECKSUM);
        }
    }

    pub(super) fn is_v5(&self) -> bool {
        self.sb_versionnum.get() & version::NUMBER == 5
    }

    pub(super) fn has_ro(&self, bits: u32) -> bool {
        self.is_v5() && self.sb_features_ro_compat.get() & bits != 0
    }

    pub(super) fn has_incompat(&self, bits: u32) -> bool {
        self.is_v5() && self.sb_features_incompat.get() & bits != 0
    }

    pub(super) fn has_version(&self, bits: u16) -> bool {
        self.sb_versionnum.get() & bits != 0
    }

    pub(super) fn has_features2(&self, bits: u32) -> bool {
        self.has_version(version::MORE) && self.sb_features2.get() & bits != 0
    }

    /// Whether entries of folders say what they stand for.
    pub(super) fn has_kinds(&self) -> bool {
        self.has_incompat(incompat::FTYPE) || !self.is_v5() && self.has_features2(features2::FTYPE)
    }

    /// Whether quotas were counted; their own kernel counts them anew where that mark is missing.
    pub(super) fn has_counted_quotas(&self) -> bool {
        self.sb_qflags.get() & QUOTAS_CHECKED != 0
    }

    /// Takes the mark away that quotas were counted.
    pub(super) fn forget_quotas(&mut self) {
        self.sb_qflags = (self.sb_qflags.get() & !QUOTAS_CHECKED).into();
    }

    /// The UUID that its structures carry.
    pub(super) fn own_uuid(&self) -> [u8; 16] {
        if self.has_incompat(incompat::META_UUID) { self.sb_meta_uuid } else { self.sb_uuid }
    }

    /// Bytes of a block.
    pub(super) fn block(&self) -> u64 {
        self.sb_blocksize.get().into()
    }

    /// Allocation groups.
    pub(super) fn groups(&self) -> u32 {
        self.sb_agcount.get()
    }

    /// Blocks of a group; the last one may have fewer.
    pub(super) fn group_blocks(&self, group: u32) -> u32 {
        let per = self.sb_agblocks.get();
        let start = u64::from(group) * u64::from(per);
        u32::try_from(self.sb_dblocks.get().saturating_sub(start).min(per.into())).unwrap_or(per)
    }

    /// The block `block` of a group, as one of the file system.
    pub(super) fn fs_block(&self, group: u32, block: u32) -> u64 {
        u64::from(group) << self.sb_agblklog | u64::from(block)
    }

    /// Group of a block, and its number there; a group that is not there for nonsense.
    pub(super) fn split_block(&self, block: u64) -> (u32, u32) {
        let group = u32::try_from(block >> self.sb_agblklog).unwrap_or(u32::MAX);
        (group, super::fields::low32(block & ((1 << self.sb_agblklog) - 1)))
    }

    /// Byte of a block of a group.
    pub(super) fn group_byte(&self, group: u32, block: u32) -> u64 {
        (u64::from(group) * u64::from(self.sb_agblocks.get()) + u64::from(block)) << self.sb_blocklog
    }

    /// Bits of the number of an inode that say which one of its group it is.
    pub(super) fn group_inode_bits(&self) -> u8 {
        self.sb_agblklog + self.sb_inopblog
    }

    /// Group of an inode, and its number there.
    pub(super) fn split_inode(&self, inode: u64) -> (u32, u32) {
        let bits = self.group_inode_bits();
        let group = u32::try_from(inode >> bits).unwrap_or(u32::MAX);
        (group, super::fields::low32(inode & ((1 << bits) - 1)))
    }

    /// Bytes of a block of a folder.
    pub(super) fn folder_block(&self) -> usize {
        1 << (self.sb_blocklog + self.sb_dirblklog)
    }
}
