//! The structures on disk, all big-endian.

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::big_endian::{U16, U32, U64},
};

/// The first four bytes of every image.
pub const MAGIC: [u8; 4] = *b"QFI\xfb";

/// Section "Header": the fields of version 2.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct HeaderV2 {
    pub(super) magic: [u8; 4],
    pub(super) version: U32,
    pub(super) backing_file_offset: U64,
    pub(super) backing_file_size: U32,
    pub(super) cluster_bits: U32,
    /// Guest-visible size in bytes.
    pub(super) size: U64,
    /// 0 none, 1 AES, 2 LUKS.
    pub(super) crypt_method: U32,
    /// Number of entries.
    pub(super) l1_size: U32,
    pub(super) l1_table_offset: U64,
    pub(super) refcount_table_offset: U64,
    pub(super) refcount_table_clusters: U32,
    pub(super) nb_snapshots: U32,
    pub(super) snapshots_offset: U64,
}

/// Section "Header": what version 3 adds.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct HeaderV3 {
    pub(super) incompatible_features: U64,
    pub(super) compatible_features: U64,
    pub(super) autoclear_features: U64,
    /// Width of a refcount is `1 << refcount_order` bits.
    pub(super) refcount_order: U32,
    /// Length of the whole header in bytes.
    pub(super) header_length: U32,
}

/// Section "Header": what a header of 112 bytes adds.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct HeaderMore {
    /// 0 deflate, 1 zstd.
    pub(super) compression_type: u8,
    pub(super) padding: [u8; 7],
}

/// Bits of `incompatible_features`.
pub(super) mod incompatible {
    /// The refcounts may be wrong, and the data is right.
    pub(crate) const DIRTY: u64 = 1 << 0;
    pub(crate) const CORRUPT: u64 = 1 << 1;
    /// Data clusters lie in a file of their own.
    pub(crate) const EXTERNAL_DATA: u64 = 1 << 2;
    /// The header says how clusters are compressed.
    pub(crate) const COMPRESSION_TYPE: u64 = 1 << 3;
    /// L2 entries have 128 bits, with a bitmap of subclusters.
    pub(crate) const EXTENDED_L2: u64 = 1 << 4;
    pub(crate) const KNOWN: u64 = (1 << 5) - 1;
}

/// Bits of `compatible_features`.
pub(super) const LAZY_REFCOUNTS: u64 = 1;
/// Bits of `autoclear_features`: the external data file is a raw disk.
pub(super) const RAW_EXTERNAL: u64 = 1 << 1;

/// Types of header extensions (section "Header extensions").
pub(super) mod extension {
    pub(crate) const END: u32 = 0;
    pub(crate) const BACKING_FORMAT: u32 = 0xe279_2aca;
    pub(crate) const EXTERNAL_DATA: u32 = 0x4441_5441;
    pub(crate) const BITMAPS: u32 = 0x2385_2875;
}

/// Section "Snapshots": an entry of the table, before its extra data, ID and name.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct SnapshotHeader {
    pub(super) l1_table_offset: U64,
    /// Number of entries.
    pub(super) l1_size: U32,
    pub(super) id_size: U16,
    pub(super) name_size: U16,
    pub(super) seconds: U32,
    pub(super) nanoseconds: U32,
    /// How long the guest had run, in nanoseconds.
    pub(super) guest_clock: U64,
    /// Bytes of the machine's memory, unless the extra data says so.
    pub(super) vm_state_size: U32,
    pub(super) extra_data_size: U32,
}

/// What the extra data of a snapshot begins with.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct SnapshotExtra {
    pub(super) vm_state_size: U64,
    /// Size of the disk then, in bytes.
    pub(super) virtual_size: U64,
}

/// L1 and L2 entries: the host offset in bits 9 to 55.
pub(super) const OFFSET_MASK: u64 = 0x00ff_ffff_ffff_fe00;
/// L1 and L2 entries: the refcount is exactly one, so writing in place is allowed.
pub(super) const COPIED: u64 = 1 << 63;
/// L2 entries: the cluster is compressed.
pub(super) const COMPRESSED: u64 = 1 << 62;
/// L2 entries, version 3: the cluster reads as zero.
pub(super) const ZERO: u64 = 1;
/// Subclusters of a cluster, where L2 entries are extended.
pub(super) const SUBCLUSTERS: u64 = 32;

/// Bits of an L2 entry that hold the offset of a compressed cluster; above them stands its number of sectors.
pub(super) fn compressed_offset_bits(cluster_bits: u32) -> u32 {
    62 - (cluster_bits - 8)
}
