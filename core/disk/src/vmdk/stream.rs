//! Writing for transport: compressed grains in the guest's order, each table behind its grains, the directory and the
//! footer at the end. Nothing that was written is written again.

use std::{cell::RefCell, fs::File};

use libdeflater::{CompressionLvl, Compressor};
use zerocopy::{
    FromZeros, IntoBytes,
    byteorder::little_endian::{U16, U32, U64},
};

use super::{
    header::{GD_AT_END, GTES, GrainMarker, LINE_ENDS, MAGIC, Marker, SparseHeader, flag, marker},
    write::{DESCRIPTOR_AT, DESCRIPTOR_LEN, GRAIN, check_size, descriptor_block, sector_of},
};
use crate::{
    SECTOR,
    error::Result,
    output::Output,
    pipeline::{Encoder, Writer},
};

struct StreamWriter {
    output: Output,
    sectors: u64,
    directory: Vec<U32>,
    /// The table that is being filled: its number and entries.
    current: Option<(u64, Vec<U32>)>,
    /// First byte of the file that is not given out.
    end: u64,
}

/// Makes a writer for a disk of `size` bytes, a multiple of the sector.
///
/// # Errors
/// [`crate::Error::Unwritable`] for a size beyond 62 TiB.
pub(super) fn create(file: File, name: String, size: u64) -> Result<Box<dyn Writer>> {
    check_size(&name, size)?;
    let sectors = size / SECTOR;
    let directory = vec![U32::ZERO; sectors.div_ceil(GRAIN * GTES) as usize];
    let output = Output { file, name };
    Ok(Box::new(StreamWriter { output, sectors, directory, current: None, end: GRAIN * SECTOR }))
}

thread_local! {
    /// The fastest level: a link is rarely faster than it, and better ones cost more time than they save.
    static COMPRESSOR: RefCell<Compressor> = RefCell::new(Compressor::new(CompressionLvl::fastest()));
}

/// A grain with its marker before it, filled up to whole sectors.
fn encode(offset: u64, grain: &[u8]) -> Vec<u8> {
    if grain.len() < (GRAIN * SECTOR) as usize {
        // The last grain of a disk: some readers take nothing but whole ones.
        let mut whole = grain.to_vec();
        whole.resize((GRAIN * SECTOR) as usize, 0);
        return encode(offset, &whole);
    }
    COMPRESSOR.with_borrow_mut(|compressor| {
        let head = size_of::<GrainMarker>();
        let mut bytes = vec![0; head + compressor.zlib_compress_bound(grain.len())];
        // The room is what the compressor asked for, so there is no error to report.
        let len = compressor.zlib_compress(grain, &mut bytes[head..]).unwrap_or(0);
        let marker = GrainMarker { lba: U64::new(offset / SECTOR), size: U32::new(len as u32) };
        bytes[..head].copy_from_slice(marker.as_bytes());
        bytes.truncate(head + len);
        bytes.resize((head + len).next_multiple_of(SECTOR as usize), 0);
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
        sector_of(at, &self.output.name)
    }

    fn flush(&mut self) -> Result<()> {
        let Some((number, entries)) = self.current.take() else { return Ok(()) };
        self.directory[number as usize] = self.put(marker::GRAIN_TABLE, entries.as_bytes())?;
        Ok(())
    }

    fn header(&self, gd_offset: u64) -> SparseHeader {
        SparseHeader {
            magic: MAGIC,
            version: U32::new(3),
            flags: U32::new(flag::LINE_ENDS | flag::COMPRESSED | flag::MARKERS),
            capacity: U64::new(self.sectors),
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
}

impl Writer for StreamWriter {
    fn output(&self) -> &Output {
        &self.output
    }

    fn unit(&self) -> u64 {
        GRAIN * SECTOR
    }

    fn encoder(&self) -> Option<Encoder> {
        Some(encode)
    }

    fn place(&mut self, offset: u64, len: u64) -> Result<u64> {
        let grain = offset / self.unit();
        let number = grain / GTES;
        if self.current.as_ref().is_none_or(|(current, _)| *current != number) {
            self.flush()?;
        }
        let position = self.end;
        let sector = sector_of(position, &self.output.name)?;
        let (_, entries) = self.current.get_or_insert_with(|| (number, vec![U32::ZERO; GTES as usize]));
        entries[(grain % GTES) as usize] = sector;
        self.end += len;
        Ok(position)
    }

    fn finish(&mut self) -> Result<()> {
        self.flush()?;
        let directory = std::mem::take(&mut self.directory);
        let gd_offset = self.put(marker::GRAIN_DIRECTORY, directory.as_bytes())?;
        let footer = self.header(gd_offset.get().into());
        self.put(marker::FOOTER, footer.as_bytes())?;
        let last = Marker { kind: U32::new(marker::END_OF_STREAM), ..Marker::new_zeroed() };
        self.output.write(last.as_bytes(), self.end)?;
        self.output.set_len(self.end + SECTOR)?;
        self.output
            .write(&descriptor_block("streamOptimized", &self.output.name, self.sectors), DESCRIPTOR_AT * SECTOR)?;
        self.output.write(self.header(GD_AT_END).as_bytes(), 0)
    }
}
