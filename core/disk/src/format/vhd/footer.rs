//! The structures on disk, all big-endian.

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::big_endian::{U16, U32, U64},
};

/// The first bytes of the footer.
pub const COOKIE: [u8; 8] = *b"conectix";
/// The first bytes of the dynamic disk header.
pub(super) const DYNAMIC_COOKIE: [u8; 8] = *b"cxsparse";
pub(super) const VERSION: u32 = 0x0001_0000;
/// An offset that leads nowhere.
pub(super) const NOWHERE: u64 = u64::MAX;
/// Table entry: the block is not stored.
pub(super) const UNUSED: u32 = u32::MAX;
/// Seconds from 1970 to the format's epoch, 2000-01-01.
pub(super) const EPOCH: u64 = 946_684_800;

/// Values of `disk_type`.
pub(super) mod kind {
    pub(crate) const FIXED: u32 = 2;
    pub(crate) const DYNAMIC: u32 = 3;
    pub(crate) const DIFFERENCING: u32 = 4;
}

/// Section "Hard Disk Footer Format"; at the end of the file, and for all but fixed disks at its start too.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Footer {
    pub(super) cookie: [u8; 8],
    pub(super) features: U32,
    pub(super) version: U32,
    /// Where the dynamic disk header lies.
    pub(super) data_offset: U64,
    pub(super) timestamp: U32,
    pub(super) creator_application: [u8; 4],
    pub(super) creator_version: U32,
    pub(super) creator_host: [u8; 4],
    pub(super) original_size: U64,
    pub(super) current_size: U64,
    pub(super) geometry: Geometry,
    pub(super) disk_type: U32,
    pub(super) checksum: U32,
    pub(super) uuid: [u8; 16],
    pub(super) saved_state: u8,
    pub(super) reserved: [u8; 427],
}

/// Cylinders, heads, sectors of a track.
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Geometry {
    pub(super) cylinders: U16,
    pub(super) heads: u8,
    pub(super) sectors: u8,
}

/// Section "Dynamic Disk Header Format".
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct DynamicHeader {
    pub(super) cookie: [u8; 8],
    pub(super) data_offset: U64,
    pub(super) table_offset: U64,
    pub(super) version: U32,
    pub(super) table_entries: U32,
    pub(super) block_size: U32,
    pub(super) checksum: U32,
    pub(super) parent_uuid: [u8; 16],
    pub(super) parent_timestamp: U32,
    pub(super) reserved: U32,
    pub(super) parent_name: [u8; 512],
    pub(super) parent_locators: [Locator; 8],
    pub(super) padding: [u8; 256],
}

/// Section "Parent Locator": one of eight places where the parent may be found.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Locator {
    /// What kind of name it is; zero for none.
    pub(super) platform_code: [u8; 4],
    pub(super) platform_data_space: U32,
    /// Length of the name in bytes.
    pub(super) platform_data_length: U32,
    pub(super) reserved: U32,
    pub(super) platform_data_offset: U64,
}

/// Kinds of locators: names in UTF-16, little-endian, from the image's folder on and from the root on.
pub(super) const RELATIVE: [u8; 4] = *b"W2ru";
pub(super) const ABSOLUTE: [u8; 4] = *b"W2ku";

/// The checksum of both: the complement of the sum of all bytes but those of the checksum itself, at `at`.
#[expect(clippy::indexing_slicing, reason = "structures of a known length")]
pub(super) fn checksum(bytes: &[u8], at: usize) -> u32 {
    let sum = |bytes: &[u8]| bytes.iter().map(|&byte| u32::from(byte)).fold(0, u32::wrapping_add);
    !sum(&bytes[..at]).wrapping_add(sum(&bytes[at + 4..]))
}

/// Where the checksum lies in the footer, and in the dynamic header.
pub(super) const FOOTER_CHECKSUM_AT: usize = 64;
pub(super) const DYNAMIC_CHECKSUM_AT: usize = 36;

impl Geometry {
    /// The appendix "CHS Calculation", for a disk of so many sectors.
    #[expect(clippy::cast_possible_truncation, reason = "the geometry is held to the bounds of its fields just above")]
    pub(super) fn for_sectors(sectors: u64) -> Self {
        let total = sectors.min(65535 * 16 * 255);
        let (mut spt, mut heads, mut tracks);
        if total >= 65535 * 16 * 63 {
            spt = 255;
            heads = 16;
            tracks = total / spt;
        } else {
            spt = 17;
            tracks = total / spt;
            heads = tracks.div_ceil(1024).max(4);
            if tracks >= heads * 1024 || heads > 16 {
                spt = 31;
                heads = 16;
                tracks = total / spt;
            }
            if tracks >= heads * 1024 {
                spt = 63;
                heads = 16;
                tracks = total / spt;
            }
        }
        Self { cylinders: U16::new((tracks / heads) as u16), heads: heads as u8, sectors: spt as u8 }
    }

    /// Sectors of the disk that it describes.
    pub(super) fn total(self) -> u64 {
        u64::from(self.cylinders.get()) * u64::from(self.heads) * u64::from(self.sectors)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn geometry_follows_the_appendix() {
        let chs = |sectors| {
            let g = Geometry::for_sectors(sectors);
            (g.cylinders.get(), g.heads, g.sectors)
        };
        // 40 MiB, 1 GiB, 32 GiB, and more than the largest.
        assert_eq!(chs(81_920), (963, 5, 17));
        assert_eq!(chs(2_097_152), (2080, 16, 63));
        assert_eq!(chs(1 << 26), (16448, 16, 255));
        assert_eq!(chs(1 << 40), (65535, 16, 255));
        assert!(Geometry::for_sectors(81_920).total() <= 81_920);
    }
}
