//! Writing dynamic and fixed disks: blocks of 2 MiB in the guest's order, tables, header and footers last.

use std::{fs::File, time::SystemTime};

use uuid::Uuid;
use zerocopy::{
    IntoBytes,
    byteorder::big_endian::{U32, U64},
};

use super::footer::{
    COOKIE, DYNAMIC_CHECKSUM_AT, DYNAMIC_COOKIE, DynamicHeader, EPOCH, FOOTER_CHECKSUM_AT, Footer, Geometry, NOWHERE,
    UNUSED, VERSION, checksum, kind,
};
use crate::{
    ByteSize, SECTOR,
    error::{Error, Result},
    output::Output,
    pipeline::Writer,
    shape::Layout,
};

const BLOCK: u64 = 2 << 20;
/// A bit for each sector of a block.
const BITMAP: u64 = BLOCK / SECTOR / 8;
/// Inside a block that is stored, zeros are left out in pieces of this size.
const UNIT: u64 = 64 << 10;
const HEADER_AT: u64 = SECTOR;
const TABLE_AT: u64 = HEADER_AT + size_of::<DynamicHeader>() as u64;
/// The specification's limit: 2040 GiB.
const MAX_SIZE: u64 = 2040 << 30;

struct VhdWriter {
    output: Output,
    size: u64,
    layout: Layout,
    table: Vec<U32>,
    /// First byte of the file that is not given out.
    end: u64,
}

/// Makes a writer for a disk of `size` bytes, a multiple of the sector.
///
/// # Errors
/// [`Error::Unwritable`] for a size beyond 2040 GiB; no room for a full image.
pub fn create(file: File, name: String, layout: Layout, size: u64) -> Result<Box<dyn Writer>> {
    if size > MAX_SIZE {
        let what = format!(
            "a disk of {} is more than the {} that vhd holds; vhdx holds 64 TiB",
            ByteSize(size),
            ByteSize(MAX_SIZE)
        );
        return Err(Error::Unwritable { path: name, what });
    }
    let output = Output { file, name };
    let entries = if layout == Layout::Full {
        output.allocate(size + SECTOR)?;
        0
    } else {
        size.div_ceil(BLOCK)
    };
    // The table fills whole sectors; what is over is unused.
    let table = vec![U32::new(UNUSED); (entries * 4).next_multiple_of(SECTOR) as usize / 4];
    let end = TABLE_AT + table.len() as u64 * 4;
    Ok(Box::new(VhdWriter { output, size, layout, table, end }))
}

impl VhdWriter {
    fn footer(&self) -> Footer {
        let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(EPOCH, |d| d.as_secs());
        let full = self.layout == Layout::Full;
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
            original_size: U64::new(self.size),
            current_size: U64::new(self.size),
            geometry: Geometry::for_sectors(self.size / SECTOR),
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
    fn output(&self) -> &Output {
        &self.output
    }

    fn unit(&self) -> u64 {
        UNIT
    }

    fn place(&mut self, offset: u64, _len: u64) -> Result<u64> {
        if self.layout == Layout::Full {
            return Ok(offset);
        }
        let entry = &mut self.table[(offset / BLOCK) as usize];
        if entry.get() == UNUSED {
            *entry = U32::new((self.end / SECTOR) as u32);
            // All sectors count as written: the ones that are not read as zero in any case.
            self.output.write(&[0xff; BITMAP as usize], self.end)?;
            self.end += BITMAP + BLOCK;
        }
        Ok(u64::from(entry.get()) * SECTOR + BITMAP + offset % BLOCK)
    }

    fn finish(&mut self) -> Result<()> {
        let footer = self.footer();
        if self.layout == Layout::Full {
            return self.output.write(footer.as_bytes(), self.size);
        }
        let mut header = DynamicHeader {
            cookie: DYNAMIC_COOKIE,
            data_offset: U64::new(NOWHERE),
            table_offset: U64::new(TABLE_AT),
            version: U32::new(VERSION),
            table_entries: U32::new(self.size.div_ceil(BLOCK) as u32),
            block_size: U32::new(BLOCK as u32),
            checksum: U32::ZERO,
            parent_uuid: [0; 16],
            parent_timestamp: U32::ZERO,
            reserved: U32::ZERO,
            parent_name: [0; 512],
            parent_locators: [0; 192],
            padding: [0; 256],
        };
        header.checksum = U32::new(checksum(header.as_bytes(), DYNAMIC_CHECKSUM_AT));
        self.output.write(self.table.as_bytes(), TABLE_AT)?;
        self.output.write(header.as_bytes(), HEADER_AT)?;
        self.output.write(footer.as_bytes(), self.end)?;
        self.output.write(footer.as_bytes(), 0)
    }
}
