//! Items: inodes, entries of folders, extents of files (Linux, `btrfs_inode_item`, `btrfs_dir_item`, `btrfs_file_extent_item`).

use super::{
    block::{Key, key_of},
    bytes::{u8_at, u16_at, u32_at, u64_at},
};
use crate::fs::node::{Device, Kind, Special, Stat, kind_of};

pub(super) const INODE: u8 = 1;
/// Names of an inode, by the folder they are in; and those that have no room there.
pub(super) const NAMES: u8 = 12;
pub(super) const LONG_NAMES: u8 = 13;
pub(super) const ATTRIBUTE: u8 = 24;
pub(super) const ENTRY: u8 = 84;
pub(super) const ENTRY_BY_PLACE: u8 = 96;
pub(super) const EXTENT: u8 = 108;
pub(super) const SUM: u8 = 128;
pub(super) const ROOT: u8 = 132;
pub(super) const ROOT_ENTRY: u8 = 156;
/// Extents: bytes of files, with their length, or blocks of trees, with their level.
pub(super) const DATA: u8 = 168;
pub(super) const BLOCK: u8 = 169;
pub(super) const GROUP: u8 = 192;
pub(super) const DEVICE_EXTENT: u8 = 204;
pub(super) const DEVICE: u8 = 216;
pub(super) const CHUNK: u8 = 228;
/// What is known of quotas as a whole (`BTRFS_QGROUP_STATUS_KEY`).
pub(super) const QUOTA_STATUS: u8 = 240;
/// What is only there for a while, and what is there for good (`BTRFS_TEMPORARY_ITEM_KEY`, `BTRFS_DEV_REPLACE_KEY`).
pub(super) const TEMPORARY: u8 = 248;
pub(super) const REPLACEMENT: u8 = 250;
/// The object that all devices are of.
pub(super) const DEVICES: u64 = 1;
/// The object that all chunks are of.
pub(super) const CHUNKS: u64 = 256;
/// The object that sums are of.
pub(super) const SUMS: u64 = u64::MAX - 9;
/// Bytes of an inode.
pub(super) const INODE_LEN: usize = 160;

/// An inode.
#[derive(Debug, Clone, Copy)]
pub(super) struct Inode {
    pub(super) size: u64,
    pub(super) mode: u32,
    links: u32,
    owner: (u32, u32),
    modified: i64,
    nanoseconds: u32,
    device: u64,
    flags: u64,
}

impl Inode {
    pub(super) fn parse(bytes: &[u8]) -> Option<Self> {
        (bytes.len() >= INODE_LEN).then(|| Self {
            size: u64_at(bytes, 16),
            links: u32_at(bytes, 40),
            owner: (u32_at(bytes, 44), u32_at(bytes, 48)),
            mode: u32_at(bytes, 52),
            flags: u64_at(bytes, 64),
            modified: i64::from_le_bytes(u64_at(bytes, 136).to_le_bytes()),
            nanoseconds: u32_at(bytes, 144).min(999_999_999),
            device: u64_at(bytes, 56),
        })
    }

    /// A folder with nothing in it, which stands for a subvolume that a snapshot does not have.
    pub(super) fn empty_folder() -> Self {
        Self { size: 0, mode: 0o040_755, links: 1, owner: (0, 0), modified: 0, nanoseconds: 0, device: 0, flags: 0 }
    }

    pub(super) fn kind(self) -> Kind {
        self.kind_and_device().0
    }

    /// What it is. A device is stored as the kernel has it in memory (Linux, `include/linux/kdev_t.h`).
    fn kind_and_device(self) -> (Kind, Option<Special>) {
        let low = |number: u64| u32::try_from(number & u64::from(u32::MAX)).unwrap_or_default();
        kind_of(self.mode, || Device { major: low(self.device >> 20), minor: low(self.device & 0xf_ffff) })
    }

    /// Whether its bytes have sums.
    pub(super) fn has_sums(self) -> bool {
        self.flags & 1 == 0
    }

    pub(super) fn stat(self, id: u64) -> Stat {
        let (kind, special) = self.kind_and_device();
        Stat {
            kind,
            special,
            size: self.size,
            mode: u16::try_from(self.mode & 0o7777).unwrap_or(0),
            uid: self.owner.0,
            gid: self.owner.1,
            modified: self.modified,
            nanoseconds: self.nanoseconds,
            links: self.links,
            id,
        }
    }
}

/// An entry of a folder, or an attribute: what it leads to, its name, and its bytes.
pub(super) struct Named<'i> {
    pub(super) leads_to: Key,
    pub(super) name: &'i [u8],
    pub(super) value: &'i [u8],
}

/// All that lie in one item: names with the same number share it.
pub(super) fn named(mut item: &[u8]) -> impl Iterator<Item = Named<'_>> {
    std::iter::from_fn(move || {
        let (value, name) = (usize::from(u16_at(item, 25)), usize::from(u16_at(item, 27)));
        let (head, rest) = item.split_at_checked(30)?;
        let (name, rest) = rest.split_at_checked(name)?;
        let (value, rest) = rest.split_at_checked(value)?;
        item = rest;
        Some(Named { leads_to: key_of(head), name, value })
    })
}

/// How an extent is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Packing {
    None,
    Zlib,
    Lzo,
    Zstd,
}

/// Where a stretch of a file is.
#[derive(Debug, Clone)]
pub(super) enum Extent {
    /// In the item itself: the bytes, how they are packed, and how many there are.
    Inline(Vec<u8>, Packing, u64),
    /// Nowhere: so many zeros.
    Hole(u64),
    /// In an extent: its first byte and length, how it is packed, bytes when it is not, and the part of those that is meant.
    At { start: u64, len: u64, packing: Packing, whole: u64, offset: u64, part: u64 },
}

impl Extent {
    pub(super) fn parse(item: &[u8]) -> Result<Self, &'static str> {
        let packing = match u8_at(item, 16) {
            0 => Packing::None,
            1 => Packing::Zlib,
            2 => Packing::Lzo,
            3 => Packing::Zstd,
            _ => return Err("an extent is packed in a way that is not known here"),
        };
        if u8_at(item, 17) != 0 || u16_at(item, 18) != 0 {
            return Err("an extent is encrypted or encoded");
        }
        let whole = u64_at(item, 8);
        match (u8_at(item, 20), item.len()) {
            (0, 21..) => Ok(Self::Inline(item.get(21..).unwrap_or_default().to_vec(), packing, whole)),
            (1 | 2, 53..) => {
                let (start, len) = (u64_at(item, 21), u64_at(item, 29));
                let (offset, part) = (u64_at(item, 37), u64_at(item, 45));
                // What was reserved and never written to is zeros.
                if start == 0 || u8_at(item, 20) == 2 {
                    return Ok(Self::Hole(part));
                }
                let fits = offset.checked_add(part).is_some_and(|end| end <= whole);
                match fits && (packing != Packing::None || whole <= len) {
                    true => Ok(Self::At { start, len, packing, whole, offset, part }),
                    false => Err("an extent leads outside itself"),
                }
            }
            _ => Err("an extent is not sound"),
        }
    }

    /// Bytes of the file that it stands for.
    pub(super) fn len(&self) -> u64 {
        match self {
            Self::Inline(_, _, len) | Self::Hole(len) => *len,
            Self::At { part, .. } => *part,
        }
    }
}
