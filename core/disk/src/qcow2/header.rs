//! The structures on disk, all big-endian.

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::big_endian::{U32, U64},
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

/// Bits of `incompatible_features`.
pub(super) mod incompatible {
    pub(crate) const DIRTY: u64 = 1 << 0;
    pub(crate) const CORRUPT: u64 = 1 << 1;
    /// The header says how clusters are compressed.
    pub(crate) const COMPRESSION_TYPE: u64 = 1 << 3;
    /// Bits that do not stand in the way of reading: a dirty image has wrong refcounts, and its data is right.
    pub(crate) const READABLE: u64 = DIRTY | COMPRESSION_TYPE;
}

/// Names of the incompatible bits, for messages.
pub(super) const INCOMPATIBLE_NAMES: [&str; 5] =
    ["dirty", "corrupt", "external data file", "compression type", "extended L2 entries"];

/// L1 and L2 entries: the host offset in bits 9 to 55.
pub(super) const OFFSET_MASK: u64 = 0x00ff_ffff_ffff_fe00;
/// L1 and L2 entries: the refcount is exactly one, so writing in place is allowed.
pub(super) const COPIED: u64 = 1 << 63;
/// L2 entries: the cluster is compressed.
pub(super) const COMPRESSED: u64 = 1 << 62;
/// L2 entries, version 3: the cluster reads as zero.
pub(super) const ZERO: u64 = 1;

/// An L2 entry, decoded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Cluster {
    /// Not stored here: the backing file has it, and where there is none it is zero.
    Unallocated,
    /// Reads as zero.
    Zero,
    /// Stored plainly at this byte of the file.
    At(u64),
    /// Stored compressed; the entry says where.
    Compressed(u64),
}

impl Cluster {
    /// Decodes a standard L2 entry; the zero flag exists from version 3 on.
    pub(super) fn from_entry(entry: u64, version: u32) -> Self {
        if entry & COMPRESSED != 0 {
            Self::Compressed(entry)
        } else if version >= 3 && entry & ZERO != 0 {
            Self::Zero
        } else if entry & OFFSET_MASK == 0 {
            Self::Unallocated
        } else {
            Self::At(entry & OFFSET_MASK)
        }
    }
}
