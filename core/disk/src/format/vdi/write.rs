//! Writing thin and full images: blocks of 1 MiB in the guest's order, the table and the header last.

use crate::to_usize;
use std::sync::Arc;

use uuid::Uuid;
use zerocopy::{
    IntoBytes,
    byteorder::little_endian::{U32, U64},
};

use super::header::{FREE, Geometry, Header, SIGNATURE, VERSION, kind};
use crate::{
    SECTOR,
    copy::{
        output::Output,
        writer::{Spot, Writer},
    },
    error::Result,
    format::new::NewImage,
    shape::Layout,
};

const BLOCK: u64 = 1 << 20;
/// Inside a block that is stored, zeros are left out in pieces of this size.
const UNIT: u64 = 64 << 10;
/// Hosts align the table and the data like the blocks.
const TABLE_AT: u64 = BLOCK;
/// The largest disk in bytes: readers refuse more.
pub const MAX_SIZE: u64 = 128 << 40;

struct VdiWriter {
    output: Arc<Output>,
    full: bool,
    data_at: u64,
    table: Vec<U32>,
    stored: u32,
}

/// Makes a writer.
///
/// # Errors
/// No room for a full image.
#[expect(
    clippy::cast_possible_truncation,
    reason = "numbers of blocks that were checked to fit when the writer was made"
)]
pub fn create(output: Output, image: &NewImage) -> Result<Box<dyn Writer>> {
    // The table stands before the blocks, so that its length, and the size, has to be known.
    let blocks = image.size.unwrap_or(0).div_ceil(BLOCK);
    let data_at = (TABLE_AT + blocks * 4).next_multiple_of(BLOCK);
    let full = image.shape.layout == Layout::Full;
    let (table, stored) = if full {
        output.allocate(data_at + blocks * BLOCK)?;
        ((0..blocks as u32).map(U32::new).collect(), blocks as u32)
    } else {
        (vec![U32::new(FREE); to_usize(blocks)], 0)
    };
    Ok(Box::new(VdiWriter { output: Arc::new(output), full, data_at, table, stored }))
}

impl Writer for VdiWriter {
    fn takes_any_order(&self) -> bool {
        !self.full
    }

    fn placed(&self, offset: u64) -> Option<Spot> {
        let entry = self.table.get(to_usize(offset / BLOCK)).filter(|entry| entry.get() != FREE)?;
        Some(Spot::new(&self.output, self.data_at + u64::from(entry.get()) * BLOCK + offset % BLOCK))
    }

    fn unit(&self) -> u64 {
        UNIT
    }

    #[expect(clippy::indexing_slicing, reason = "the table was made for the size of the disk")]
    fn place(&mut self, offset: u64, _len: u64) -> Result<Spot> {
        let entry = &mut self.table[(offset / BLOCK) as usize];
        if entry.get() == FREE {
            *entry = U32::new(self.stored);
            self.stored += 1;
        }
        let position = self.data_at + u64::from(entry.get()) * BLOCK + offset % BLOCK;
        Ok(Spot::new(&self.output, position))
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "numbers of blocks that were checked to fit when the writer was made"
    )]
    #[expect(clippy::indexing_slicing, reason = "the table was made for the size of the disk")]
    fn finish(&mut self, size: u64) -> Result<()> {
        self.output.set_len(self.data_at + u64::from(self.stored) * BLOCK)?;
        self.output.write(self.table.as_bytes(), TABLE_AT)?;
        let mut text = [0; 64];
        let creator = b"<<< VDI disk image >>>\n";
        text[..creator.len()].copy_from_slice(creator);
        let none = Geometry { sector_size: U32::new(SECTOR as u32), ..Geometry::default() };
        let header = Header {
            text,
            signature: U32::new(SIGNATURE),
            version: U32::new(VERSION),
            header_size: U32::new(400),
            image_type: U32::new(if self.full { kind::FULL } else { kind::THIN }),
            flags: U32::ZERO,
            comment: [0; 256],
            blocks_offset: U32::new(TABLE_AT as u32),
            data_offset: U32::new(self.data_at as u32),
            legacy_geometry: none,
            translation: U32::ZERO,
            disk_size: U64::new(size),
            block_size: U32::new(BLOCK as u32),
            block_extra: U32::ZERO,
            blocks: U32::new(self.table.len() as u32),
            blocks_allocated: U32::new(self.stored),
            uuid: Uuid::new_v4().to_bytes_le(),
            modification_uuid: Uuid::new_v4().to_bytes_le(),
            parent_uuid: [0; 16],
            parent_modification_uuid: [0; 16],
            geometry: none,
        };
        self.output.write(header.as_bytes(), 0)
    }
}
