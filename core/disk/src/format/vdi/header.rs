//! The structures on disk, all little-endian.

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::little_endian::{U32, U64},
};

use crate::{
    error::{Error, Result},
    source::{Storage, read_vec},
};

/// At byte 64, behind a line of text.
pub(super) const SIGNATURE: u32 = 0xbeda_107f;
/// Version 1.1.
pub(super) const VERSION: u32 = 0x0001_0001;
/// Table entry: nothing is stored, the parent's block if there is a parent.
pub(super) const FREE: u32 = u32::MAX;
/// Table entry: a block of zeros, freed by the guest.
pub(super) const ZERO: u32 = u32::MAX - 1;

/// Values of `image_type`.
pub(super) mod kind {
    pub(crate) const THIN: u32 = 1;
    pub(crate) const FULL: u32 = 2;
    pub(crate) const UNDO: u32 = 3;
    pub(crate) const DELTA: u32 = 4;
}

/// Cylinders, heads, sectors, bytes of a sector.
#[derive(Debug, Clone, Copy, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Geometry {
    pub(super) cylinders: U32,
    pub(super) heads: U32,
    pub(super) sectors: U32,
    pub(super) sector_size: U32,
}

/// The pre-header and the header of version 0.1: the table follows it, and the blocks follow the table.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct OldHeader {
    pub(super) text: [u8; 64],
    pub(super) signature: U32,
    pub(super) version: U32,
    pub(super) image_type: U32,
    pub(super) flags: U32,
    pub(super) comment: [u8; 256],
    pub(super) legacy_geometry: Geometry,
    pub(super) disk_size: U64,
    pub(super) block_size: U32,
    pub(super) blocks: U32,
    pub(super) blocks_allocated: U32,
    pub(super) uuid: [u8; 16],
    pub(super) modification_uuid: [u8; 16],
    pub(super) parent_uuid: [u8; 16],
}

/// The pre-header and the header of version 1.1.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Header {
    pub(super) text: [u8; 64],
    pub(super) signature: U32,
    pub(super) version: U32,
    /// Bytes of the header from here on.
    pub(super) header_size: U32,
    pub(super) image_type: U32,
    pub(super) flags: U32,
    pub(super) comment: [u8; 256],
    /// Byte at which the block table starts.
    pub(super) blocks_offset: U32,
    /// Byte at which the blocks start.
    pub(super) data_offset: U32,
    pub(super) legacy_geometry: Geometry,
    pub(super) translation: U32,
    /// Guest-visible size in bytes.
    pub(super) disk_size: U64,
    pub(super) block_size: U32,
    /// Bytes before the data of each block.
    pub(super) block_extra: U32,
    pub(super) blocks: U32,
    pub(super) blocks_allocated: U32,
    pub(super) uuid: [u8; 16],
    pub(super) modification_uuid: [u8; 16],
    pub(super) parent_uuid: [u8; 16],
    pub(super) parent_modification_uuid: [u8; 16],
    pub(super) geometry: Geometry,
}

impl Header {
    /// What an old header says, in the fields of this one.
    #[expect(clippy::cast_possible_truncation, reason = "the length of a small structure")]
    pub(super) fn from_old(old: &OldHeader) -> Self {
        let table_at = size_of::<OldHeader>() as u32;
        Self {
            text: old.text,
            signature: old.signature,
            version: old.version,
            header_size: U32::new(0),
            image_type: old.image_type,
            flags: old.flags,
            comment: old.comment,
            blocks_offset: U32::new(table_at),
            data_offset: U32::new(table_at.saturating_add(old.blocks.get().saturating_mul(4))),
            legacy_geometry: old.legacy_geometry,
            translation: U32::ZERO,
            disk_size: old.disk_size,
            block_size: old.block_size,
            block_extra: U32::ZERO,
            blocks: old.blocks,
            blocks_allocated: old.blocks_allocated,
            uuid: old.uuid,
            modification_uuid: old.modification_uuid,
            parent_uuid: old.parent_uuid,
            // It does not say; every state of the parent is the right one.
            parent_modification_uuid: [0; 16],
            geometry: old.legacy_geometry,
        }
    }
}

/// Whether a file that starts with `head` is an image.
pub fn probe(head: &[u8]) -> bool {
    head.get(64..68) == Some(&SIGNATURE.to_le_bytes())
}

/// Reads the header, whatever its version.
pub(super) fn read_header(storage: &dyn Storage) -> Result<Header> {
    let path = storage.name().to_string();
    let bytes = read_vec(storage, 0, size_of::<OldHeader>(), "the header")?;
    let old = OldHeader::read_from_bytes(&bytes).map_err(|_| Error::damaged(&path, 0, "no header"))?;
    if old.signature.get() != SIGNATURE {
        return Err(Error::damaged(&path, 64, "the signature of a VDI image is missing"));
    }
    match old.version.get() {
        0x0000_0001 => Ok(Header::from_old(&old)),
        version if version >> 16 == 1 => {
            let bytes = read_vec(storage, 0, size_of::<Header>(), "the header")?;
            Header::read_from_bytes(&bytes).map_err(|_| Error::damaged(&path, 0, "no header"))
        }
        version => {
            let what = format!("it is of version {}.{}; versions 0.1 and 1 are known", version >> 16, version & 0xffff);
            Err(Error::Unsupported { path, what })
        }
    }
}
