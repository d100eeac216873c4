//! The superblock: 4 KiB at 64 KiB, with copies at 64 MiB and 256 GiB (Linux, `include/uapi/linux/btrfs_tree.h`, `btrfs_super_block`).

use super::{
    bytes::{put, put_u64, u8_at, u16_at, u32_at, u64_at, uuid_at},
    sums::Sum,
};
use crate::{bench::Device, error::Result};

/// Where its copies are.
pub(super) const PLACES: [u64; 3] = [64 << 10, 64 << 20, 256 << 30];
const LEN: usize = 4096;
const MAGIC: u64 = u64::from_le_bytes(*b"_BHRfS_M");

/// Features without which a file system is not read right (`BTRFS_FEATURE_INCOMPAT_*`), and those that are known here: all but zones, the
/// second form of the tree of extents, and the tree of stripes.
const KNOWN: u64 = 0x1_0fff;
const OWN_METADATA_UUID: u64 = 0x400;
/// References of the second kind, and small files among the items of blocks.
const MIXED_BACKREF: u64 = 0x1;
const LONG_NAMES: u64 = 0x40;
const SKINNY_EXTENTS: u64 = 0x100;
const NO_HOLES: u64 = 0x200;
const SIMPLE_QUOTAS: u64 = 0x1_0000;

/// Features without which a file system is not changed right (`BTRFS_FEATURE_COMPAT_RO_*`), and those that are known here.
const FREE_SPACE_TREE: u64 = 0x1;
const FREE_SPACE_IS_VALID: u64 = 0x2;
const SEALED_FILES: u64 = 0x4;
const KNOWN_TO_WRITERS: u64 = FREE_SPACE_TREE | FREE_SPACE_IS_VALID | SEALED_FILES;
/// What its flags may say: that it is written, and that its references are of the second kind.
const KNOWN_FLAGS: u64 = 0x1 | 0xff << 56;

/// Where its own dump of the trees' places begins, how long one is, and how many there are.
const BACKUPS: usize = 2859;
const BACKUP: usize = 168;
const BACKUP_COUNT: usize = 4;

/// What a superblock says.
#[derive(Debug, Clone)]
pub(super) struct Superblock {
    pub(super) fsid: [u8; 16],
    /// What blocks of trees have as theirs.
    pub(super) metadata_uuid: [u8; 16],
    pub(super) generation: u64,
    /// First byte, level and generation of the trees of roots and of chunks.
    pub(super) root: (u64, u8, u64),
    pub(super) chunk_root: (u64, u8, u64),
    /// Bytes, and how many of them are in use.
    pub(super) total: u64,
    pub(super) used: u64,
    /// Bytes of a sector and of a block of a tree.
    pub(super) sector: u32,
    pub(super) node: u32,
    pub(super) sum: Sum,
    /// The number of this device.
    pub(super) device: u64,
    pub(super) label: String,
    /// The chunks that the tree of chunks lies in.
    pub(super) chunks: Vec<u8>,
    /// How many devices it has.
    pub(super) devices: u64,
    /// Where its log begins; 0 where it has none.
    pub(super) log: (u64, u8),
    incompat: u64,
    compat_ro: u64,
    flags: u64,
    /// All of it, as it was read.
    raw: Vec<u8>,
}

impl Superblock {
    /// The newest copy that is sound.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] where there is none.
    pub(super) fn read(device: &Device) -> Result<Self> {
        let mut newest: Option<Self> = None;
        for place in PLACES.into_iter().take_while(|place| place + LEN as u64 <= device.size()) {
            let mut bytes = vec![0; LEN];
            device.read(place, &mut bytes)?;
            if let Some(found) = Self::parse(&bytes, place)
                && newest.as_ref().is_none_or(|known| known.generation < found.generation)
            {
                newest = Some(found);
            }
        }
        let found = newest.ok_or_else(|| device.damaged("no copy of its superblock is sound"))?;
        if found.incompat & !KNOWN != 0 {
            return Err(device.unreadable(format!("it has the features {:#x}", found.incompat & !KNOWN)));
        }
        Ok(found)
    }

    fn parse(bytes: &[u8], place: u64) -> Option<Self> {
        let (sum, rest) = bytes.split_at_checked(32)?;
        let kind = Sum::of(u16_at(bytes, 196))?;
        if u64_at(bytes, 64) != MAGIC || u64_at(bytes, 48) != place || !kind.holds(rest, sum) {
            return None;
        }
        let (sector, node) = (u32_at(bytes, 144), u32_at(bytes, 148));
        let fits = |size: u32| size.is_power_of_two() && (512..=64 << 10).contains(&size);
        let chunks = bytes.get(811..811 + (u32_at(bytes, 160) as usize).min(2048))?.to_vec();
        if !fits(sector) || !fits(node) || node < sector || node < 1024 {
            return None;
        }
        let (fsid, incompat, generation) = (uuid_at(bytes, 32), u64_at(bytes, 188), u64_at(bytes, 72));
        let label = bytes.get(299..555)?.split(|byte| *byte == 0).next().unwrap_or_default();
        Some(Self {
            fsid,
            metadata_uuid: if incompat & OWN_METADATA_UUID != 0 { uuid_at(bytes, 571) } else { fsid },
            generation,
            root: (u64_at(bytes, 80), u8_at(bytes, 198), generation),
            chunk_root: (u64_at(bytes, 88), u8_at(bytes, 199), u64_at(bytes, 164)),
            total: u64_at(bytes, 112),
            used: u64_at(bytes, 120),
            sector,
            node,
            sum: kind,
            device: u64_at(bytes, 201),
            label: String::from_utf8_lossy(label).into(),
            chunks,
            devices: u64_at(bytes, 136),
            log: (u64_at(bytes, 96), u8_at(bytes, 200)),
            incompat,
            compat_ro: u64_at(bytes, 180),
            flags: u64_at(bytes, 56),
            raw: bytes.to_vec(),
        })
    }

    /// Why it is not changed, by what it says of itself.
    pub(super) fn unchangeable(&self) -> Option<String> {
        let ro = self.compat_ro & !KNOWN_TO_WRITERS;
        if ro != 0 {
            return Some(format!("it has the features {ro:#x}"));
        }
        let reason = if self.incompat & SIMPLE_QUOTAS != 0 {
            "it counts what its subvolumes take (simple quotas)"
        } else if self.incompat & MIXED_BACKREF == 0 {
            "its references are of a kind that is not written any more"
        } else if self.flags & !KNOWN_FLAGS != 0 {
            "its superblock says that something with it is not finished"
        } else if self.compat_ro & (FREE_SPACE_TREE | FREE_SPACE_IS_VALID) == FREE_SPACE_TREE {
            "its tree of free space is marked as wrong"
        } else {
            return None;
        };
        Some(reason.to_string())
    }

    pub(super) fn has_skinny_extents(&self) -> bool {
        self.incompat & SKINNY_EXTENTS != 0
    }

    pub(super) fn has_no_holes(&self) -> bool {
        self.incompat & NO_HOLES != 0
    }

    pub(super) fn has_long_names(&self) -> bool {
        self.incompat & LONG_NAMES != 0
    }

    pub(super) fn has_free_space_tree(&self) -> bool {
        self.compat_ro & FREE_SPACE_TREE != 0
    }

    fn backups(&self) -> impl Iterator<Item = u64> {
        (0..BACKUP_COUNT).map(|slot| u64_at(&self.raw, BACKUPS + slot * BACKUP + 8))
    }

    /// The slot of the oldest of the four generations whose trees it remembers.
    pub(super) fn next_backup(&self) -> usize {
        self.backups().enumerate().min_by_key(|(_, generation)| *generation).map_or(0, |(slot, _)| slot)
    }

    /// Lets the superblock of a device say what `newest` says; `used` bytes of the device belong to chunks, where that has changed.
    pub(super) fn follow(&mut self, newest: &Self, used: Option<u64>, slot: usize, backup: &[u8]) {
        let old = self.generation;
        let raw = &mut self.raw;
        put_u64(raw, 72, newest.generation);
        put_u64(raw, 80, newest.root.0);
        put_u64(raw, 88, newest.chunk_root.0);
        put_u64(raw, 96, newest.log.0);
        put_u64(raw, 120, newest.used);
        put_u64(raw, 164, newest.chunk_root.2);
        put(raw, 198, &[newest.root.1, newest.chunk_root.1, newest.log.1]);
        if let Some(used) = used {
            put_u64(raw, 201 + 16, used);
        }
        // The list of subvolumes' UUIDs is as right as it was. What the older kind of list of free places says is of another generation from
        // now on, by which the kernel knows that it has to look itself.
        if u64_at(raw, 563) == old {
            put_u64(raw, 563, newest.generation);
        }
        put(raw, BACKUPS + slot * BACKUP, backup);
        self.generation = newest.generation;
    }

    /// Writes every copy.
    pub(super) fn write(&self, device: &Device) -> Result<()> {
        let mut bytes = self.raw.clone();
        let size = u64_at(&bytes, 201 + 8).min(device.size());
        for place in PLACES.into_iter().take_while(|place| place + LEN as u64 <= size) {
            put_u64(&mut bytes, 48, place);
            put(&mut bytes, 0, &[0; 32]);
            let sum = self.sum.make(bytes.get(32..).unwrap_or_default());
            put(&mut bytes, 0, &sum);
            device.write(place, &bytes)?;
        }
        Ok(())
    }
}
