//! Writing for transport: compressed grains in the guest's order, each table behind its grains, the directory and the
//! footer at the end. In a pipe nothing is written twice; in a file the header is, once the size of the disk is known.

use crate::to_usize;
use std::{cell::RefCell, sync::Arc};

use libdeflater::Compressor;
use zerocopy::{
    FromZeros, IntoBytes,
    byteorder::little_endian::{U16, U32, U64},
};

use super::{
    header::{GD_AT_END, GTES, GrainMarker, LINE_ENDS, MAGIC, Marker, SparseHeader, flag, marker},
    write::{DESCRIPTOR_AT, DESCRIPTOR_LEN, GRAIN, descriptor_block, sector_of},
};
use crate::{
    SECTOR,
    copy::{
        output::Output,
        writer::{Encoder, Spot, Writer},
    },
    error::{Error, Result},
    format::raw::packed::{fast_compressor, is_packed, storing_compressor},
};

struct StreamWriter {
    output: Arc<Output>,
    directory: Vec<U32>,
    /// The table that is being filled: its number and entries.
    current: Option<(u64, Vec<U32>)>,
    /// First byte of the file that is not given out.
    end: u64,
}

/// Makes a writer.
///
/// # Errors
/// [`Error::Unwritable`] for a pipe when the size is not known, since the header comes first; those of writing it.
pub(super) fn create(output: Output, size: Option<u64>) -> Result<Box<dyn Writer>> {
    let writer = StreamWriter { output: Arc::new(output), directory: Vec::new(), current: None, end: GRAIN * SECTOR };
    if writer.output.is_pipe() {
        let Some(size) = size else {
            let what = "the size of the disk has to be known before a stream begins in a pipe".into();
            return Err(Error::Unwritable { path: writer.output.name().into(), what });
        };
        writer.write_start(size)?;
    }
    Ok(Box::new(writer))
}

thread_local! {
    static COMPRESSORS: RefCell<(Compressor, Compressor)> = RefCell::new((fast_compressor(), storing_compressor()));
}

/// A grain with its marker before it, filled up to whole sectors.
#[expect(clippy::cast_possible_truncation, reason = "a packed grain and a table of known sizes")]
#[expect(clippy::indexing_slicing, reason = "the room was made for it just above")]
fn encode(offset: u64, grain: &[u8]) -> Vec<u8> {
    if grain.len() < to_usize(GRAIN * SECTOR) {
        // The last grain of a disk: some readers take nothing but whole ones.
        let mut whole = grain.to_vec();
        whole.resize(to_usize(GRAIN * SECTOR), 0);
        return encode(offset, &whole);
    }
    COMPRESSORS.with_borrow_mut(|(fast, storing)| {
        let compressor = if is_packed(fast, grain) { storing } else { fast };
        let head = size_of::<GrainMarker>();
        let mut bytes = vec![0; head + compressor.zlib_compress_bound(grain.len())];
        // The room is what the compressor asked for, so there is no error to report.
        let len = compressor.zlib_compress(grain, &mut bytes[head..]).unwrap_or(0);
        let marker = GrainMarker { lba: U64::new(offset / SECTOR), size: U32::new(len as u32) };
        bytes[..head].copy_from_slice(marker.as_bytes());
        bytes.truncate(head + len);
        bytes.resize((head + len).next_multiple_of(to_usize(SECTOR)), 0);
        bytes
    })
}

impl StreamWriter {
    /// Writes metadata behind its marker; returns its first sector.
    fn put(&mut self, kind: u32, bytes: &[u8]) -> Result<U32> {
        let sectors = (bytes.len() as u64).div_ceil(SECTOR);
        let marker = Marker { sectors: U64::new(sectors), kind: U32::new(kind), ..Marker::new_zeroed() };
        self.output.write(marker.as_bytes(), self.end)?;
        let at = self.end + SECTOR;
        self.output.write(bytes, at)?;
        self.end = at + sectors * SECTOR;
        sector_of(at, self.output.name())
    }

    #[expect(clippy::indexing_slicing, reason = "the room was made for it just above")]
    fn flush(&mut self) -> Result<()> {
        let Some((number, entries)) = self.current.take() else { return Ok(()) };
        let sector = self.put(marker::GRAIN_TABLE, entries.as_bytes())?;
        if to_usize(number) >= self.directory.len() {
            self.directory.resize(to_usize(number) + 1, U32::ZERO);
        }
        self.directory[to_usize(number)] = sector;
        Ok(())
    }

    /// Writes header and descriptor.
    fn write_start(&self, size: u64) -> Result<()> {
        self.output.write(header(size / SECTOR, GD_AT_END).as_bytes(), 0)?;
        let text = descriptor_block("streamOptimized", &self.output, size / SECTOR);
        self.output.write(&text, DESCRIPTOR_AT * SECTOR)
    }
}

/// The header of a disk of `sectors`, which is its footer too.
#[expect(clippy::cast_possible_truncation, reason = "a packed grain and a table of known sizes")]
fn header(sectors: u64, gd_offset: u64) -> SparseHeader {
    SparseHeader {
        magic: MAGIC,
        version: U32::new(3),
        flags: U32::new(flag::LINE_ENDS | flag::COMPRESSED | flag::MARKERS),
        capacity: U64::new(sectors),
        grain_size: U64::new(GRAIN),
        descriptor_offset: U64::new(DESCRIPTOR_AT),
        descriptor_size: U64::new(DESCRIPTOR_LEN),
        num_gtes_per_gt: U32::new(GTES as u32),
        gd_offset: U64::new(gd_offset),
        over_head: U64::new(GRAIN),
        line_ends: LINE_ENDS,
        compress_algorithm: U16::new(1),
        ..SparseHeader::new_zeroed()
    }
}

impl Writer for StreamWriter {
    fn unit(&self) -> u64 {
        GRAIN * SECTOR
    }

    fn encoder(&self) -> Option<Encoder> {
        Some(Arc::new(|offset, grain| Some(encode(offset, grain))))
    }

    #[expect(clippy::indexing_slicing, reason = "the place is taken modulo the length of the table")]
    fn place(&mut self, offset: u64, len: u64) -> Result<Spot> {
        let grain = offset / self.unit();
        let number = grain / GTES;
        if self.current.as_ref().is_none_or(|(current, _)| *current != number) {
            self.flush()?;
        }
        let position = self.end;
        let sector = sector_of(position, self.output.name())?;
        let (_, entries) = self.current.get_or_insert_with(|| (number, vec![U32::ZERO; to_usize(GTES)]));
        entries[(grain % GTES) as usize] = sector;
        self.end += len;
        Ok(Spot::new(&self.output, position))
    }

    fn finish(&mut self, size: u64) -> Result<()> {
        self.flush()?;
        let sectors = size / SECTOR;
        let mut directory = std::mem::take(&mut self.directory);
        directory.resize(sectors.div_ceil(GRAIN * GTES) as usize, U32::ZERO);
        let gd_offset = self.put(marker::GRAIN_DIRECTORY, directory.as_bytes())?;
        self.put(marker::FOOTER, header(sectors, gd_offset.get().into()).as_bytes())?;
        let last = Marker { kind: U32::new(marker::END_OF_STREAM), ..Marker::new_zeroed() };
        self.output.write(last.as_bytes(), self.end)?;
        self.output.set_len(self.end + SECTOR)?;
        if self.output.is_pipe() { Ok(()) } else { self.write_start(size) }
    }
}
