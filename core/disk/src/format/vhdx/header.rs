//! The structures on disk, all little-endian. Identifiers are GUIDs, whose first three fields are little-endian too.

use uuid::{Uuid, uuid};
use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::little_endian::{U16, U32, U64},
};

/// The first eight bytes of the file (section 2.2.1).
pub(super) const FILE_TYPE: [u8; 8] = *b"vhdxfile";
/// The two headers and the two region tables (section 2.2).
pub(super) const HEADERS_AT: [u64; 2] = [64 << 10, 128 << 10];
pub(super) const REGION_TABLES_AT: [u64; 2] = [192 << 10, 256 << 10];
/// Bytes that a checksum of a header covers, and of a region table.
pub(super) const HEADER_BYTES: usize = 4096;
pub(super) const REGION_TABLE_BYTES: usize = 64 << 10;

pub(super) const BAT_REGION: Uuid = uuid!("2dc27766-f623-4200-9d64-115e9bfd4a08");
pub(super) const METADATA_REGION: Uuid = uuid!("8b7ca206-4790-4b9a-b8fe-575f050f886e");

/// Section 2.2.2.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Header {
    pub(super) signature: [u8; 4],
    pub(super) checksum: U32,
    /// The header with the larger one counts.
    pub(super) sequence_number: U64,
    pub(super) file_write_guid: [u8; 16],
    pub(super) data_write_guid: [u8; 16],
    /// Not zero: the log holds writes that are not in their place yet.
    pub(super) log_guid: [u8; 16],
    pub(super) log_version: U16,
    pub(super) version: U16,
    pub(super) log_length: U32,
    pub(super) log_offset: U64,
}

pub(super) const HEADER_SIGNATURE: [u8; 4] = *b"head";

/// Section 2.2.3.1.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct RegionTableHeader {
    pub(super) signature: [u8; 4],
    pub(super) checksum: U32,
    pub(super) entry_count: U32,
    pub(super) reserved: U32,
}

pub(super) const REGION_SIGNATURE: [u8; 4] = *b"regi";

/// Section 2.2.3.2.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct RegionEntry {
    pub(super) guid: [u8; 16],
    pub(super) file_offset: U64,
    pub(super) length: U32,
    /// 1: a reader that does not know the region must refuse the file.
    pub(super) required: U32,
}

/// Where the checksum lies in a header, and in a region table.
const CHECKSUM_AT: usize = 4;

/// CRC-32C of `bytes` with the checksum's own field taken as zero.
#[expect(clippy::indexing_slicing, reason = "the checksum lies inside every structure that has one")]
pub(super) fn checksum(bytes: &[u8]) -> u32 {
    let head = crc32c::crc32c(&bytes[..CHECKSUM_AT]);
    let field = crc32c::crc32c_append(head, &[0; 4]);
    crc32c::crc32c_append(field, &bytes[CHECKSUM_AT + 4..])
}
