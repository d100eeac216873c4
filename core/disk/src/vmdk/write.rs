//! Writing a plain sparse extent in one file: header, descriptor, both directories and all their tables, then the grains
//! in the guest's order. Tables in whose range nothing is stored are holes of the file.

use std::fs::File;

use zerocopy::{
    FromZeros, IntoBytes,
    byteorder::little_endian::{U32, U64},
};

use super::{
    descriptor,
    header::{GTES, LINE_ENDS, MAGIC, SparseHeader, flag},
};
use crate::{
    ByteSize, SECTOR,
    error::{Error, Result},
    output::Output,
    pipeline::Writer,
};

/// Sectors of a grain.
pub(super) const GRAIN: u64 = 128;
/// Where the descriptor lies, and its length, in sectors.
pub(super) const DESCRIPTOR_AT: u64 = 1;
pub(super) const DESCRIPTOR_LEN: u64 = 20;
/// Sectors of a grain table.
const TABLE: u64 = GTES * 4 / SECTOR;
/// The largest disk that hosts take.
const MAX_SIZE: u64 = 62 << 40;

/// Fails for a disk that is larger than hosts take.
pub(super) fn check_size(name: &str, size: u64) -> Result<()> {
    if size <= MAX_SIZE {
        return Ok(());
    }
    let what = format!("a disk of {} is more than the {} of vmdk", ByteSize(size), ByteSize(MAX_SIZE));
    Err(Error::Unwritable { path: name.into(), what })
}

/// The number of a sector of the file, as tables hold it.
pub(super) fn sector_of(position: u64, name: &str) -> Result<U32> {
    u32::try_from(position / SECTOR).map(U32::new).map_err(|_| Error::Unwritable {
        path: name.into(),
        what: "its grains would lie more than 2 TiB into the file, which its tables cannot say".into(),
    })
}

/// The descriptor for the file called `name`, filled up to its room.
pub(super) fn descriptor_block(create_type: &str, name: &str, sectors: u64) -> Vec<u8> {
    let file = name.rsplit('/').next().unwrap_or(name).replace('"', "");
    let mut text = descriptor::text(create_type, &file, sectors).into_bytes();
    text.resize((DESCRIPTOR_LEN * SECTOR) as usize, 0);
    text
}

struct ThinWriter {
    output: Output,
    sectors: u64,
    /// First sectors of the redundant directory and of the directory; their tables follow each.
    directories: [u64; 2],
    /// Grain tables.
    tables: u64,
    /// The table that is being filled: its number and entries.
    current: Option<(u64, Vec<U32>)>,
    /// First byte of the file that is not given out.
    end: u64,
}

/// Makes a writer for a disk of `size` bytes, a multiple of the sector.
///
/// # Errors
/// [`Error::Unwritable`] for a size beyond 62 TiB.
pub(super) fn create(file: File, name: String, size: u64) -> Result<Box<dyn Writer>> {
    check_size(&name, size)?;
    let sectors = size / SECTOR;
    let tables = sectors.div_ceil(GRAIN * GTES);
    let directory = (tables * 4).div_ceil(SECTOR);
    let first = DESCRIPTOR_AT + DESCRIPTOR_LEN;
    let second = first + directory + tables * TABLE;
    let over_head = (second + directory + tables * TABLE).next_multiple_of(GRAIN);
    let output = Output { file, name };
    let end = over_head * SECTOR;
    Ok(Box::new(ThinWriter { output, sectors, directories: [first, second], tables, current: None, end }))
}

impl ThinWriter {
    fn directory_len(&self) -> u64 {
        (self.tables * 4).div_ceil(SECTOR)
    }

    fn flush(&mut self) -> Result<()> {
        let Some((number, entries)) = self.current.take() else { return Ok(()) };
        for directory in self.directories {
            let at = directory + self.directory_len() + number * TABLE;
            self.output.write(entries.as_bytes(), at * SECTOR)?;
        }
        Ok(())
    }
}

impl Writer for ThinWriter {
    fn output(&self) -> &Output {
        &self.output
    }

    fn unit(&self) -> u64 {
        GRAIN * SECTOR
    }

    fn place(&mut self, offset: u64, len: u64) -> Result<u64> {
        let grain = offset / self.unit();
        let number = grain / GTES;
        if self.current.as_ref().is_none_or(|(current, _)| *current != number) {
            self.flush()?;
        }
        let (_, entries) = self.current.get_or_insert_with(|| (number, vec![U32::ZERO; GTES as usize]));
        let position = self.end;
        for index in 0..len.div_ceil(GRAIN * SECTOR) {
            let at = position + index * GRAIN * SECTOR;
            entries[((grain + index) % GTES) as usize] = sector_of(at, &self.output.name)?;
        }
        self.end += len.next_multiple_of(GRAIN * SECTOR);
        Ok(position)
    }

    fn finish(&mut self) -> Result<()> {
        self.flush()?;
        self.output.set_len(self.end)?;
        for directory in self.directories {
            let first = directory + self.directory_len();
            let entries: Vec<U32> = (0..self.tables).map(|number| U32::new((first + number * TABLE) as u32)).collect();
            self.output.write(entries.as_bytes(), directory * SECTOR)?;
        }
        let text = descriptor_block("monolithicSparse", &self.output.name, self.sectors);
        self.output.write(&text, DESCRIPTOR_AT * SECTOR)?;
        let second = self.directories[1] + self.directory_len() + self.tables * TABLE;
        let header = SparseHeader {
            magic: MAGIC,
            version: U32::new(1),
            // The redundant directory is there too.
            flags: U32::new(flag::LINE_ENDS | flag::REDUNDANT),
            capacity: U64::new(self.sectors),
            grain_size: U64::new(GRAIN),
            descriptor_offset: U64::new(DESCRIPTOR_AT),
            descriptor_size: U64::new(DESCRIPTOR_LEN),
            num_gtes_per_gt: U32::new(GTES as u32),
            rgd_offset: U64::new(self.directories[0]),
            gd_offset: U64::new(self.directories[1]),
            over_head: U64::new(second.next_multiple_of(GRAIN)),
            line_ends: LINE_ENDS,
            ..SparseHeader::new_zeroed()
        };
        self.output.write(header.as_bytes(), 0)
    }
}
