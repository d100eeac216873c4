//! Writing dynamic and fixed disks: blocks in the guest's order, then the tables, and the file type identifier last.

use crate::to_usize;
use std::sync::Arc;

use uuid::Uuid;
use zerocopy::{
    FromZeros, IntoBytes,
    byteorder::little_endian::{U16, U32, U64},
};

use super::{
    header::{
        BAT_REGION, FILE_TYPE, HEADER_BYTES, HEADER_SIGNATURE, HEADERS_AT, Header, METADATA_REGION, REGION_SIGNATURE,
        REGION_TABLE_BYTES, REGION_TABLES_AT, RegionEntry, RegionTableHeader, checksum,
    },
    metadata::Metadata,
    table::{self, state},
};
use crate::{
    SECTOR,
    copy::{
        output::Output,
        writer::{Spot, Writer},
    },
    error::Result,
    format::{check_size, new::NewImage},
    shape::{Format, Layout},
};

const MIB: u64 = 1 << 20;
/// The largest block that we choose, which is what hosts choose for every disk.
const LARGEST_BLOCK: u64 = 32 * MIB;
/// The block of a disk whose size shows only at its end.
const OPEN_BLOCK: u64 = 8 * MIB;
/// Blocks of a disk, up to which they are made smaller.
const BLOCKS: u64 = 65_536;
/// Inside a block that is stored, zeros are left out in pieces of this size.
const UNIT: u64 = 64 << 10;
const LOG_AT: u64 = MIB;
const LOG_LEN: u64 = MIB;
const METADATA_AT: u64 = 2 * MIB;
const METADATA_LEN: u64 = MIB;
const TABLE_AT: u64 = 3 * MIB;

/// The block of a disk of `size` bytes: the smallest that gives a table of at most 512 KiB. A block is stored as a whole, so
/// that a small disk in large blocks would make a file much larger than what it holds. Blocks are powers of two from 1 MiB on
/// (MS-VHDX, section 2.6.2.1).
fn block_for(size: u64) -> u64 {
    size.div_ceil(BLOCKS).checked_next_power_of_two().unwrap_or(LARGEST_BLOCK).clamp(MIB, LARGEST_BLOCK)
}

struct VhdxWriter {
    output: Arc<Output>,
    full: bool,
    /// Bytes of a block.
    block: u64,
    ratio: u64,
    table: Vec<U64>,
    /// Where the table lies; `None` for behind the blocks, when its length shows only at the end.
    table_at: Option<u64>,
    /// First byte of the file that is not given out.
    end: u64,
}

/// Makes a writer.
///
/// # Errors
/// No room for a full image.
pub fn create(output: Output, image: &NewImage) -> Result<Box<dyn Writer>> {
    let full = image.shape.layout == Layout::Full;
    let block = image.size.map_or(OPEN_BLOCK, block_for);
    let ratio = table::ratio(block, SECTOR);
    let output = Arc::new(output);
    let mut writer = VhdxWriter { output, full, block, ratio, table: Vec::new(), table_at: None, end: TABLE_AT };
    if let Some(size) = image.size {
        writer.grow_table(size.div_ceil(block));
        writer.table_at = Some(TABLE_AT);
        writer.end = TABLE_AT + table_len(&writer.table);
        if full {
            for number in 0..size.div_ceil(block) {
                writer.block(number);
            }
            writer.output.allocate(writer.end)?;
        }
    }
    Ok(Box::new(writer))
}

/// Bytes that the table takes in the file.
fn table_len(table: &[U64]) -> u64 {
    (table.len() as u64 * 8).next_multiple_of(MIB).max(MIB)
}

impl VhdxWriter {
    /// Makes the table at least long enough for so many blocks.
    fn grow_table(&mut self, blocks: u64) {
        let entries = to_usize(table::entries(blocks, self.ratio));
        if entries > self.table.len() {
            self.table.resize(entries, U64::ZERO);
        }
    }

    /// First byte of block `number` in the file; it is given one when it has none.
    #[expect(clippy::indexing_slicing, reason = "the table was made for the size of the disk")]
    fn block(&mut self, number: u64) -> u64 {
        let entry = &mut self.table[to_usize(table::index(number, self.ratio))];
        if entry.get() == state::NOT_PRESENT {
            *entry = U64::new(self.end | state::FULLY_PRESENT);
            self.end += self.block;
        }
        entry.get() & table::OFFSET_MASK
    }

    #[expect(clippy::cast_possible_truncation, reason = "lengths that are ours and small")]
    fn write_headers(&self) -> Result<()> {
        let (file_guid, data_guid) = (Uuid::new_v4().to_bytes_le(), Uuid::new_v4().to_bytes_le());
        for (index, at) in HEADERS_AT.into_iter().enumerate() {
            let header = Header {
                signature: HEADER_SIGNATURE,
                sequence_number: U64::new(index as u64 + 1),
                file_write_guid: file_guid,
                data_write_guid: data_guid,
                version: U16::new(1),
                log_length: U32::new(LOG_LEN as u32),
                log_offset: U64::new(LOG_AT),
                ..Header::new_zeroed()
            };
            self.write_checked(header.as_bytes(), HEADER_BYTES, at)?;
        }
        Ok(())
    }

    #[expect(clippy::cast_possible_truncation, reason = "lengths that are ours and small")]
    fn write_regions(&self, table_at: u64) -> Result<()> {
        let entry = |guid: Uuid, at: u64, len: u64| RegionEntry {
            guid: guid.to_bytes_le(),
            file_offset: U64::new(at),
            length: U32::new(len as u32),
            required: U32::new(1),
        };
        let header = RegionTableHeader {
            signature: REGION_SIGNATURE,
            checksum: U32::ZERO,
            entry_count: U32::new(2),
            reserved: U32::ZERO,
        };
        let entries =
            [entry(BAT_REGION, table_at, table_len(&self.table)), entry(METADATA_REGION, METADATA_AT, METADATA_LEN)];
        let bytes = [header.as_bytes(), entries.as_bytes()].concat();
        REGION_TABLES_AT.into_iter().try_for_each(|at| self.write_checked(&bytes, REGION_TABLE_BYTES, at))
    }

    /// Writes a structure that is filled up to `len` with zeros and checked as a whole.
    #[expect(clippy::indexing_slicing, reason = "the table was made for the size of the disk")]
    fn write_checked(&self, structure: &[u8], len: usize, at: u64) -> Result<()> {
        let mut bytes = structure.to_vec();
        bytes.resize(len, 0);
        let sum = checksum(&bytes);
        bytes[4..8].copy_from_slice(&sum.to_le_bytes());
        self.output.write(&bytes, at)
    }
}

impl Writer for VhdxWriter {
    fn takes_any_order(&self) -> bool {
        !self.full
    }

    fn placed(&self, offset: u64) -> Option<Spot> {
        let entry = self.table.get(to_usize(table::index(offset / self.block, self.ratio)))?.get();
        let position = (entry & table::OFFSET_MASK) + offset % self.block;
        (entry != state::NOT_PRESENT).then(|| Spot::new(&self.output, position))
    }

    fn unit(&self) -> u64 {
        UNIT
    }

    fn place(&mut self, offset: u64, _len: u64) -> Result<Spot> {
        self.grow_table(offset / self.block + 1);
        let position = self.block(offset / self.block) + offset % self.block;
        Ok(Spot::new(&self.output, position))
    }

    fn finish(&mut self, size: u64) -> Result<()> {
        check_size(self.output.name(), Format::Vhdx, size)?;
        self.grow_table(size.div_ceil(self.block));
        let table_at = self.table_at.unwrap_or(self.end);
        if self.table_at.is_none() {
            self.end += table_len(&self.table);
        }
        self.output.set_len(self.end)?;
        self.output.write(self.table.as_bytes(), table_at)?;
        let metadata = Metadata {
            block: self.block,
            full: self.full,
            parent: None,
            size,
            disk_id: Uuid::new_v4(),
            logical_sector: SECTOR,
            physical_sector: 4096,
        };
        self.output.write(&metadata.to_bytes(), METADATA_AT)?;
        self.write_regions(table_at)?;
        self.write_headers()?;
        let creator: Vec<u8> = "reformis\0".encode_utf16().flat_map(u16::to_le_bytes).collect();
        self.output.write(&[&FILE_TYPE[..], &creator].concat(), 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn small_disks_get_small_blocks_and_large_ones_small_tables() {
        for (size, block) in [
            (0, MIB),
            (2 << 30, MIB),
            (64 << 30, MIB),
            ((64 << 30) + 1, 2 * MIB),
            (1 << 40, 16 * MIB),
            (2 << 40, 32 * MIB),
            (64 << 40, 32 * MIB),
        ] {
            assert_eq!(block_for(size), block, "{size}");
        }
    }
}
