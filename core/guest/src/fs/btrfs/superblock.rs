//! The superblock: 4 KiB at 64 KiB, with copies at 64 MiB and 256 GiB (Linux, `include/uapi/linux/btrfs_tree.h`, `btrfs_super_block`).

use super::{
    bytes::{u8_at, u16_at, u32_at, u64_at, uuid_at},
    sums::Sum,
};
use crate::{bench::Device, error::Result};

const PLACES: [u64; 3] = [64 << 10, 64 << 20, 256 << 30];
const LEN: usize = 4096;
const MAGIC: u64 = u64::from_le_bytes(*b"_BHRfS_M");

/// Features without which a file system is not read right (`BTRFS_FEATURE_INCOMPAT_*`), and those that are known here: all but zones, the
/// second form of the tree of extents, and the tree of stripes.
const KNOWN: u64 = 0x1_0fff;
const OWN_METADATA_UUID: u64 = 0x400;

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
    incompat: u64,
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
            incompat,
        })
    }
}
