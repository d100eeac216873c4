//! The structures on disk, all little-endian; positions and lengths count sectors of 512 bytes.

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::little_endian::{U16, U32, U64},
};

/// The first four bytes of a hosted sparse extent.
pub(super) const MAGIC: [u8; 4] = *b"KDMV";
/// `gd_offset` of a stream: the grain directory was written last, and the header's copy at the end knows where.
pub(super) const GD_AT_END: u64 = u64::MAX;

/// Section "Hosted Sparse Extent Header" (`SparseExtentHeader`).
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct SparseHeader {
    pub(super) magic: [u8; 4],
    pub(super) version: U32,
    pub(super) flags: U32,
    /// Guest-visible size.
    pub(super) capacity: U64,
    /// Size of a grain: a power of two, more than 8.
    pub(super) grain_size: U64,
    pub(super) descriptor_offset: U64,
    pub(super) descriptor_size: U64,
    /// Entries of a grain table: 512.
    pub(super) num_gtes_per_gt: U32,
    /// The redundant grain directory.
    pub(super) rgd_offset: U64,
    pub(super) gd_offset: U64,
    /// Everything before the first grain.
    pub(super) over_head: U64,
    pub(super) unclean_shutdown: u8,
    /// `\n`, ` `, `\r`, `\n`: shows a file that was transferred as text.
    pub(super) line_ends: [u8; 4],
    /// 0 none, 1 deflate.
    pub(super) compress_algorithm: U16,
    pub(super) pad: [u8; 433],
}

/// `SparseHeader::line_ends` as it was written.
pub(super) const LINE_ENDS: [u8; 4] = *b"\n \r\n";

/// Bits of `SparseHeader::flags`.
pub(super) mod flag {
    /// `line_ends` is there to be checked.
    pub(crate) const LINE_ENDS: u32 = 1 << 0;
    /// `rgd_offset` is there to be used.
    pub(crate) const REDUNDANT: u32 = 1 << 1;
    /// A grain table entry of 1 means a grain of zeros.
    pub(crate) const ZEROED_GRAIN: u32 = 1 << 2;
    /// Grains are compressed.
    pub(crate) const COMPRESSED: u32 = 1 << 16;
    /// Grains and metadata carry markers.
    pub(crate) const MARKERS: u32 = 1 << 17;
}

/// What precedes a compressed grain: "Grain Marker".
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct GrainMarker {
    /// The grain's place in the guest's disk.
    pub(super) lba: U64,
    /// Bytes of compressed data that follow at once.
    pub(super) size: U32,
}

/// Section "Markers": a sector before metadata of a stream.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Marker {
    /// Sectors of metadata that follow.
    pub(super) sectors: U64,
    /// Zero: what tells it from a grain.
    pub(super) size: U32,
    pub(super) kind: U32,
    pub(super) pad: [u8; 496],
}

/// Values of `Marker::kind`.
pub(super) mod marker {
    pub(crate) const END_OF_STREAM: u32 = 0;
    pub(crate) const GRAIN_TABLE: u32 = 1;
    pub(crate) const GRAIN_DIRECTORY: u32 = 2;
    pub(crate) const FOOTER: u32 = 3;
}

/// Entries of a grain table; the technical note knows no other number.
pub(super) const GTES: u64 = 512;

/// Grain table entry: not stored.
pub(super) const GTE_UNALLOCATED: u32 = 0;
/// Grain table entry with [`flag::ZEROED_GRAIN`]: a grain of zeros.
pub(super) const GTE_ZEROED: u32 = 1;

/// The first four bytes of a datastore's sparse extent.
pub(super) const COWD_MAGIC: [u8; 4] = *b"COWD";
/// Entries of its grain tables, and of those of [`SeHeader`].
pub(super) const DATASTORE_GTES: u64 = 4096;

/// Section "ESX Server Sparse Extents" (`COWDisk_Header`), as far as it matters for reading.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct CowdHeader {
    pub(super) magic: [u8; 4],
    pub(super) version: U32,
    pub(super) flags: U32,
    /// Guest-visible size.
    pub(super) sectors: U32,
    pub(super) grain_size: U32,
    pub(super) gd_offset: U32,
    pub(super) gd_entries: U32,
    pub(super) free_sector: U32,
}

/// The first eight bytes of a space-efficient sparse extent.
pub(super) const SE_MAGIC: u64 = 0xcafe_babe;
/// The first eight bytes of its volatile header.
pub(super) const SE_VOLATILE_MAGIC: u64 = 0xcafe_cafe;

/// The constant header of a space-efficient sparse extent. Its makers have not published it; the field names are those in
/// which free software that reads it agrees.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct SeHeader {
    pub(super) magic: U64,
    /// The major version in the upper half.
    pub(super) version: U64,
    /// Guest-visible size.
    pub(super) capacity: U64,
    pub(super) grain_size: U64,
    /// Size of a grain table.
    pub(super) grain_table_size: U64,
    pub(super) flags: U64,
    pub(super) reserved: [U64; 4],
    pub(super) volatile_header_offset: U64,
    pub(super) volatile_header_size: U64,
    pub(super) journal_header_offset: U64,
    pub(super) journal_header_size: U64,
    pub(super) journal_offset: U64,
    pub(super) journal_size: U64,
    pub(super) grain_dir_offset: U64,
    pub(super) grain_dir_size: U64,
    pub(super) grain_tables_offset: U64,
    pub(super) grain_tables_size: U64,
    pub(super) free_bitmap_offset: U64,
    pub(super) free_bitmap_size: U64,
    pub(super) backmap_offset: U64,
    pub(super) backmap_size: U64,
    pub(super) grains_offset: U64,
    pub(super) grains_size: U64,
}

/// Its volatile header.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct SeVolatileHeader {
    pub(super) magic: U64,
    pub(super) free_gt_number: U64,
    pub(super) next_txn_seq_number: U64,
    /// Not zero: the journal holds writes that are not in their place yet.
    pub(super) replay_journal: U64,
}
