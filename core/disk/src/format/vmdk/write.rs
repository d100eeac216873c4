//! Writing a plain sparse extent: header, descriptor, both directories and all their tables, then the grains in the guest's
//! order. Tables in whose range nothing is stored are holes of the file.

use crate::to_usize;
use std::{collections::BTreeSet, sync::Arc};

use zerocopy::{
    FromZeros, IntoBytes,
    byteorder::little_endian::{U32, U64},
};

use super::{
    descriptor,
    header::{GTES, LINE_ENDS, MAGIC, SparseHeader, flag},
};
use crate::{
    SECTOR,
    copy::{
        output::Output,
        writer::{Spot, Writer},
    },
    error::{Error, Result},
};

/// Sectors of a grain.
pub(super) const GRAIN: u64 = 128;
/// Where the descriptor lies, and its length, in sectors.
pub(super) const DESCRIPTOR_AT: u64 = 1;
pub(super) const DESCRIPTOR_LEN: u64 = 20;
/// Sectors of a grain table.
const TABLE: u64 = GTES * 4 / SECTOR;
/// The number of a sector of the file, as tables hold it.
pub(super) fn sector_of(position: u64, name: &str) -> Result<U32> {
    u32::try_from(position / SECTOR).map(U32::new).map_err(|_| Error::Unwritable {
        path: name.into(),
        what: "its grains would lie more than 2 TiB into the file, which its tables cannot say".into(),
    })
}

/// The descriptor for the one file that is written, filled up to its room.
pub(super) fn descriptor_block(create_type: &str, output: &Output, sectors: u64) -> Vec<u8> {
    // What comes out of a pipe gets its name later, and readers go by the header.
    let file = if output.is_pipe() { "disk.vmdk".into() } else { output.base_name() };
    let mut text = descriptor::text(create_type, &[format!("RW {sectors} SPARSE \"{file}\"")], sectors).into_bytes();
    text.resize(to_usize(DESCRIPTOR_LEN * SECTOR), 0);
    text
}

/// Writes one sparse extent: a disk, or a piece of one.
pub(super) struct ThinWriter {
    output: Arc<Output>,
    sectors: u64,
    /// Whether the extent is a disk of its own, with its descriptor.
    whole: bool,
    /// First sectors of the redundant directory and of the directory; their tables follow each.
    directories: [u64; 2],
    /// Grain tables.
    tables: u64,
    /// The table that is being filled: its number and entries.
    current: Option<(u64, Vec<U32>)>,
    /// Numbers of the tables that were written.
    written: BTreeSet<u64>,
    /// Whether the file was written to before: it may hold tables of a pass that was cut off.
    is_again: bool,
    /// First byte of the file that is not given out.
    end: u64,
}

impl ThinWriter {
    /// A writer for `sectors` of a disk.
    pub(super) fn new(output: Output, sectors: u64, whole: bool) -> Self {
        let tables = sectors.div_ceil(GRAIN * GTES);
        let directory = (tables * 4).div_ceil(SECTOR);
        let first = DESCRIPTOR_AT + DESCRIPTOR_LEN;
        let second = first + directory + tables * TABLE;
        let over_head = (second + directory + tables * TABLE).next_multiple_of(GRAIN);
        let is_again = output.read(&mut [0], 0).unwrap_or(false);
        let (output, end) = (Arc::new(output), over_head * SECTOR);
        Self {
            output,
            sectors,
            whole,
            directories: [first, second],
            tables,
            current: None,
            written: BTreeSet::new(),
            is_again,
            end,
        }
    }

    fn directory_len(&self) -> u64 {
        (self.tables * 4).div_ceil(SECTOR)
    }

    fn flush(&mut self) -> Result<()> {
        let Some((number, entries)) = self.current.take() else { return Ok(()) };
        for directory in self.directories {
            let at = directory + self.directory_len() + number * TABLE;
            self.output.write(entries.as_bytes(), at * SECTOR)?;
        }
        self.written.insert(number);
        Ok(())
    }

    /// Makes tables of which this writer wrote none zero, where an earlier pass wrote some.
    fn clear_others(&self) -> Result<()> {
        let mut found = vec![0; to_usize(TABLE * SECTOR)];
        for number in (0..self.tables).filter(|number| !self.written.contains(number)) {
            for directory in self.directories {
                let at = (directory + self.directory_len() + number * TABLE) * SECTOR;
                if self.output.read(&mut found, at)? && found.iter().any(|byte| *byte != 0) {
                    self.output.write(&vec![0; found.len()], at)?;
                }
            }
        }
        Ok(())
    }

    /// The entries of a table: zeros, or what this writer wrote there before. What changed since a first pass comes in any order.
    fn entries(&self, number: u64) -> Result<Vec<U32>> {
        let mut entries = vec![U32::ZERO; to_usize(GTES)];
        let at = self.directories[0] + self.directory_len() + number * TABLE;
        if self.written.contains(&number) && !self.output.read(entries.as_mut_bytes(), at * SECTOR)? {
            let what = "a table that was written is no longer there".to_string();
            return Err(Error::Unwritable { path: self.output.name().into(), what });
        }
        Ok(entries)
    }
}

impl Writer for ThinWriter {
    fn takes_any_order(&self) -> bool {
        true
    }

    fn unit(&self) -> u64 {
        GRAIN * SECTOR
    }

    #[expect(clippy::indexing_slicing, reason = "the place is taken modulo the length of the table")]
    fn place(&mut self, offset: u64, len: u64) -> Result<Spot> {
        let grain = offset / self.unit();
        let number = grain / GTES;
        if self.current.as_ref().is_none_or(|(current, _)| *current != number) {
            self.flush()?;
            self.current = Some((number, self.entries(number)?));
        }
        let (_, entries) = self.current.get_or_insert_with(|| (number, vec![U32::ZERO; to_usize(GTES)]));
        let taken = u64::from(entries[(grain % GTES) as usize].get());
        if taken > 0 {
            return Ok(Spot::new(&self.output, taken * SECTOR));
        }
        let position = self.end;
        for index in 0..len.div_ceil(GRAIN * SECTOR) {
            let at = position + index * GRAIN * SECTOR;
            entries[((grain + index) % GTES) as usize] = sector_of(at, self.output.name())?;
        }
        self.end += len.next_multiple_of(GRAIN * SECTOR);
        Ok(Spot::new(&self.output, position))
    }

    #[expect(clippy::cast_possible_truncation, reason = "places that were checked to fit when the writer was made")]
    fn finish(&mut self, _size: u64) -> Result<()> {
        self.flush()?;
        if self.is_again {
            self.clear_others()?;
        }
        self.output.set_len(self.end)?;
        for directory in self.directories {
            let first = directory + self.directory_len();
            let entries: Vec<U32> = (0..self.tables).map(|number| U32::new((first + number * TABLE) as u32)).collect();
            self.output.write(entries.as_bytes(), directory * SECTOR)?;
        }
        if self.whole {
            let text = descriptor_block("monolithicSparse", &self.output, self.sectors);
            self.output.write(&text, DESCRIPTOR_AT * SECTOR)?;
        }
        let second = self.directories[1] + self.directory_len() + self.tables * TABLE;
        let header = SparseHeader {
            magic: MAGIC,
            version: U32::new(1),
            // The redundant directory is there too.
            flags: U32::new(flag::LINE_ENDS | flag::REDUNDANT),
            capacity: U64::new(self.sectors),
            grain_size: U64::new(GRAIN),
            descriptor_offset: U64::new(if self.whole { DESCRIPTOR_AT } else { 0 }),
            descriptor_size: U64::new(if self.whole { DESCRIPTOR_LEN } else { 0 }),
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
