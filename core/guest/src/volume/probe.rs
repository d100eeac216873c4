//! What lies in a partition, by the marks at its start.

use reformis_disk::to_usize;
use reformis_disk::{Disk, Result};
use serde::Serialize;

/// What a volume is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Volume {
    /// ext2, ext3 or ext4 (Linux, `fs/ext4/ext4.h`: magic 0xEF53 at byte 1080).
    Ext,
    /// XFS (magic `XFSB`).
    Xfs,
    /// Btrfs (magic `_BHRfS_M` at byte 65600).
    Btrfs,
    /// Swap space of Linux (`SWAPSPACE2` at the end of the first page).
    Swap,
    /// Swap space that holds a suspended system (Linux, `kernel/power/swap.c`: `S1SUSPEND` where swap has its mark).
    Hibernation,
    /// A physical volume of LVM2 (`LABELONE` in one of the first four sectors).
    Lvm,
    /// LUKS, versions 1 and 2: encrypted.
    Luks,
    /// FAT12, FAT16 or FAT32.
    Fat,
    /// exFAT.
    ExFat,
    /// NTFS.
    Ntfs,
    /// A volume of the NT family that is encrypted as a whole (`-FVE-FS-`).
    Fve,
    /// UFS2 (magic 0x19540119 at byte 66908).
    Ufs,
    /// A member of a software RAID of Linux (Linux, `md_p.h`: magic 0xa92b4efc at byte 0 or 4096).
    Md,
    /// A member of a ZFS pool (the first uberblock's magic 0x00bab10c).
    Zfs,
}

impl Volume {
    /// The words for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Ext => "ext",
            Self::Xfs => "XFS",
            Self::Btrfs => "Btrfs",
            Self::Swap => "swap",
            Self::Hibernation => "a suspended system",
            Self::Lvm => "LVM",
            Self::Luks => "LUKS",
            Self::Fat => "FAT",
            Self::ExFat => "exFAT",
            Self::Ntfs => "NTFS",
            Self::Fve => "BitLocker",
            Self::Ufs => "UFS",
            Self::Md => "software RAID",
            Self::Zfs => "ZFS",
        }
    }

    /// Whether what lies in it can be read here, or is not for reading.
    pub fn is_read(self) -> bool {
        let is_between = matches!(self, Self::Swap | Self::Hibernation | Self::Lvm | Self::Md);
        is_between || matches!(self, Self::Ext | Self::Xfs | Self::Btrfs | Self::Fat | Self::Ntfs)
    }

    /// Whether what is in it can be read only with a key.
    pub fn is_encrypted(self) -> bool {
        matches!(self, Self::Luks | Self::Fve)
    }
}

/// The bytes in which a member of a ZFS pool keeps its uberblocks (`sys/vdev_impl.h`).
const ZFS_BLOCKS: std::ops::Range<u64> = 128 << 10..256 << 10;

/// Mark, its byte, and what it stands for; the first that fits counts.
const MARKS: &[(u64, &[u8], Volume)] = &[
    (0, b"LUKS\xba\xbe", Volume::Luks),
    (3, b"-FVE-FS-", Volume::Fve),
    (3, b"NTFS    ", Volume::Ntfs),
    (3, b"EXFAT   ", Volume::ExFat),
    (0, b"XFSB", Volume::Xfs),
    (1080, &[0x53, 0xef], Volume::Ext),
    (65_600, b"_BHRfS_M", Volume::Btrfs),
    (4086, b"SWAPSPACE2", Volume::Swap),
    (4086, b"S1SUSPEND", Volume::Hibernation),
    (0, b"LABELONE", Volume::Lvm),
    (512, b"LABELONE", Volume::Lvm),
    (1024, b"LABELONE", Volume::Lvm),
    (1536, b"LABELONE", Volume::Lvm),
    (66_908, &[0x19, 0x01, 0x54, 0x19], Volume::Ufs),
    (4096, &[0xfc, 0x4e, 0x2b, 0xa9], Volume::Md),
    (0, &[0xfc, 0x4e, 0x2b, 0xa9], Volume::Md),
    (54, b"FAT1", Volume::Fat),
    (82, b"FAT32", Volume::Fat),
];

/// What the volume that starts at byte `start` and is `size` bytes long is; `None` when no mark is known.
///
/// # Errors
/// Those of reading.
#[expect(clippy::indexing_slicing, reason = "a block of the ring has 1024 bytes")]
pub fn probe(disk: &dyn Disk, start: u64, size: u64) -> Result<Option<Volume>> {
    let len = size.min(68 << 10).min(disk.size().saturating_sub(start));
    let mut head = vec![0; len as usize];
    disk.read_at(start, &mut head)?;
    let fits = |(at, mark, _): &&(u64, &[u8], Volume)| {
        let at = to_usize(*at);
        head.get(at..at + mark.len()).is_some_and(|found| found == *mark)
    };
    let known = MARKS.iter().find(fits).map(|(.., volume)| *volume);
    if known.is_some() || size < ZFS_BLOCKS.end {
        return Ok(known);
    }
    // Which of the uberblocks is in use changes; each is at least 1 KiB.
    let mut ring = vec![0; to_usize(ZFS_BLOCKS.end - ZFS_BLOCKS.start)];
    if start + ZFS_BLOCKS.end > disk.size() {
        return Ok(None);
    }
    disk.read_at(start + ZFS_BLOCKS.start, &mut ring)?;
    let is_zfs = ring.chunks_exact(1024).any(|block| block[..8] == 0x00ba_b10c_u64.to_le_bytes());
    Ok(is_zfs.then_some(Volume::Zfs))
}
