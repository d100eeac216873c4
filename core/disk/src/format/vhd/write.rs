//! Writing dynamic and fixed disks: blocks of 2 MiB in the guest's order, tables, header and footers last.

use crate::to_usize;
use std::{sync::Arc, time::SystemTime};

use uuid::Uuid;
use zerocopy::{
    FromZeros, IntoBytes,
    byteorder::big_endian::{U32, U64},
};

use super::footer::{
    COOKIE, DYNAMIC_CHECKSUM_AT, DYNAMIC_COOKIE, DynamicHeader, EPOCH, FOOTER_CHECKSUM_AT, Footer, Geometry, NOWHERE,
    UNUSED, VERSION, checksum, kind,
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

const BLOCK: u64 = 2 << 20;
/// A bit for each sector of a block.
const BITMAP: u64 = BLOCK / SECTOR / 8;
/// Inside a block that is stored, zeros are left out in pieces of this size.
const UNIT: u64 = 64 << 10;
const HEADER_AT: u64 = SECTOR;
const TABLE_AT: u64 = HEADER_AT + size_of::<DynamicHeader>() as u64;
/// The specification's limit in bytes: 2040 GiB.
pub const MAX_SIZE: u64 = 2040 << 30;

struct VhdWriter {
    output: Arc<Output>,
    full: bool,
    /// Where the table lies; `None` for behind the blocks, when its length shows only at the end.
    table_at: Option<u64>,
    table: Vec<U32>,
    /// First byte of the file that is not given out.
    end: u64,
}

/// Makes a writer.
///
/// # Errors
/// No room for a full image.
pub fn create(output: Output, image: &NewImage) -> Result<Box<dyn Writer>> {
    let full = image.shape.layout == Layout::Full;
    let mut writer = VhdWriter {
        output: Arc::new(output),
        full,
        table_at: None,
        table: Vec::new(),
        end: TABLE_AT.next_multiple_of(PAGE),
    };
    match image.size {
        // In a pipe, what comes before the footer is written as it comes.
        _ if full && writer.output.is_pipe() => {}
        Some(size) if full => writer.output.allocate(size + SECTOR)?,
        Some(size) => {
            writer.grow_table(size.div_ceil(BLOCK));
            writer.table_at = Some(TABLE_AT);
            writer.end = TABLE_AT + table_len(&writer.table);
        }
        None => {}
    }
    Ok(Box::new(writer))
}

/// Where blocks start when the table comes behind them.
const PAGE: u64 = 4096;

/// Bytes that the table takes in the file.
fn table_len(table: &[U32]) -> u64 {
    (table.len() as u64 * 4).next_multiple_of(SECTOR)
}

impl VhdWriter {
    /// Makes the table at least `blocks` long.
    fn grow_table(&mut self, blocks: u64) {
        if to_usize(blocks) > self.table.len() {
            self.table.resize(to_usize(blocks), U32::new(UNUSED));
        }
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "at most 2040 GiB, checked when the writer was made; the stamp lasts until 2136"
    )]
    fn footer(&self, size: u64) -> Footer {
        let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(EPOCH, |d| d.as_secs());
        let full = self.full;
        let mut footer = Footer {
            cookie: COOKIE,
            features: U32::new(2),
            version: U32::new(VERSION),
            data_offset: U64::new(if full { NOWHERE } else { HEADER_AT }),
            timestamp: U32::new(now.saturating_sub(EPOCH) as u32),
            // Readers take the size from the geometry unless the creator is one that they know to mean its size.
            creator_application: *b"win ",
            creator_version: U32::new(0x000a_0000),
            creator_host: *b"Wi2k",
            original_size: U64::new(size),
            current_size: U64::new(size),
            geometry: Geometry::for_sectors(size / SECTOR),
            disk_type: U32::new(if full { kind::FIXED } else { kind::DYNAMIC }),
            checksum: U32::ZERO,
            uuid: *Uuid::new_v4().as_bytes(),
            saved_state: 0,
            reserved: [0; 427],
        };
        footer.checksum = U32::new(checksum(footer.as_bytes(), FOOTER_CHECKSUM_AT));
        footer
    }
}

impl Writer for VhdWriter {
    fn takes_any_order(&self) -> bool {
        !self.full
    }

    fn placed(&self, offset: u64) -> Option<Spot> {
        let entry = self.table.get(to_usize(offset / BLOCK)).filter(|entry| entry.get() != UNUSED)?;
        Some(Spot::new(&self.output, u64::from(entry.get()) * SECTOR + BITMAP + offset % BLOCK))
    }

    fn unit(&self) -> u64 {
        UNIT
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "at most 2040 GiB, checked when the writer was made; the stamp lasts until 2136"
    )]
    #[expect(clippy::indexing_slicing, reason = "the table was grown to hold the block")]
    fn place(&mut self, offset: u64, _len: u64) -> Result<Spot> {
        if self.full {
            return Ok(Spot::new(&self.output, offset));
        }
        self.grow_table(offset / BLOCK + 1);
        let entry = &mut self.table[(offset / BLOCK) as usize];
        if entry.get() == UNUSED {
            *entry = U32::new((self.end / SECTOR) as u32);
            // All sectors count as written: the ones that are not read as zero in any case.
            self.output.write(&[0xff; to_usize(BITMAP)], self.end)?;
            self.end += BITMAP + BLOCK;
        }
        let position = u64::from(entry.get()) * SECTOR + BITMAP + offset % BLOCK;
        Ok(Spot::new(&self.output, position))
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "at most 2040 GiB, checked when the writer was made; the stamp lasts until 2136"
    )]
    fn finish(&mut self, size: u64) -> Result<()> {
        check_size(self.output.name(), Format::Vhd, size)?;
        let footer = self.footer(size);
        if self.full {
            return self.output.write(footer.as_bytes(), size);
        }
        self.grow_table(size.div_ceil(BLOCK));
        let table_at = self.table_at.unwrap_or(self.end);
        if self.table_at.is_none() {
            self.end += table_len(&self.table);
        }
        let mut header = DynamicHeader {
            cookie: DYNAMIC_COOKIE,
            data_offset: U64::new(NOWHERE),
            table_offset: U64::new(table_at),
            version: U32::new(VERSION),
            table_entries: U32::new(size.div_ceil(BLOCK) as u32),
            block_size: U32::new(BLOCK as u32),
            ..DynamicHeader::new_zeroed()
        };
        header.checksum = U32::new(checksum(header.as_bytes(), DYNAMIC_CHECKSUM_AT));
        let mut table = self.table.as_bytes().to_vec();
        table.resize(to_usize(table_len(&self.table)), 0xff);
        self.output.write(&table, table_at)?;
        self.output.write(header.as_bytes(), HEADER_AT)?;
        self.output.write(footer.as_bytes(), self.end)?;
        self.output.write(footer.as_bytes(), 0)
    }
}
