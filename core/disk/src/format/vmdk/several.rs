//! Writing a disk in several files: a descriptor, and flat or sparse extents beside it.

use std::sync::Arc;

use super::{
    descriptor,
    write::{GRAIN, ThinWriter},
};
use crate::{
    SECTOR,
    copy::{
        output::Output,
        writer::{Spot, Writer},
    },
    error::Result,
};

/// Sectors of a piece: what hosts make of disks that are to lie in files of at most 2 GiB.
const PIECE: u64 = 4_192_256;

/// The name of a file beside the descriptor `name`.
fn beside(name: &str, what: &str) -> String {
    let stem = name.strip_suffix(".vmdk").unwrap_or(name);
    format!("{stem}-{what}.vmdk")
}

/// All the bytes in one file.
struct FlatWriter {
    descriptor: Output,
    flat: Arc<Output>,
}

/// Makes a writer for a flat disk of `size` bytes; `output` becomes the descriptor.
///
/// # Errors
/// When there is no room, or further files cannot be made.
pub(super) fn create_flat(output: Output, size: u64) -> Result<Box<dyn Writer>> {
    let flat = output.piece(&beside(&output.base_name(), "flat"))?;
    flat.allocate(size)?;
    Ok(Box::new(FlatWriter { descriptor: output, flat: Arc::new(flat) }))
}

impl Writer for FlatWriter {
    fn unit(&self) -> u64 {
        GRAIN * SECTOR
    }

    fn place(&mut self, offset: u64, _len: u64) -> Result<Spot> {
        Ok(Spot::new(&self.flat, offset))
    }

    fn finish(&mut self, size: u64) -> Result<()> {
        let sectors = size / SECTOR;
        let line = format!("RW {sectors} FLAT \"{}\" 0", self.flat.base_name());
        self.descriptor.write(descriptor::text("monolithicFlat", &[line], sectors).as_bytes(), 0)
    }
}

/// Sparse pieces, one after the other; the ones that are full are closed.
struct SplitWriter {
    descriptor: Output,
    sectors: u64,
    /// Pieces that were begun.
    begun: u64,
    /// The last of them.
    current: Option<ThinWriter>,
}

/// Makes a writer for a disk of `size` bytes in pieces; `output` becomes the descriptor.
///
/// # Errors
/// When further files cannot be made.
pub(super) fn create_split(output: Output, size: u64) -> Result<Box<dyn Writer>> {
    let mut writer = SplitWriter { descriptor: output, sectors: size / SECTOR, begun: 0, current: None };
    writer.begin(0)?;
    Ok(Box::new(writer))
}

impl SplitWriter {
    fn name(&self, piece: u64) -> String {
        beside(&self.descriptor.base_name(), &format!("s{:03}", piece + 1))
    }

    fn sectors_of(&self, piece: u64) -> u64 {
        PIECE.min(self.sectors - piece * PIECE)
    }

    /// Makes `piece` the current one; those before it that hold nothing are made too.
    fn begin(&mut self, piece: u64) -> Result<()> {
        while self.begun <= piece {
            self.close()?;
            let output = self.descriptor.piece(&self.name(self.begun))?;
            self.current = Some(ThinWriter::new(output, self.sectors_of(self.begun), false));
            self.begun += 1;
        }
        Ok(())
    }

    fn close(&mut self) -> Result<()> {
        match self.current.take() {
            Some(mut writer) => writer.finish(self.sectors_of(self.begun - 1) * SECTOR),
            None => Ok(()),
        }
    }
}

impl Writer for SplitWriter {
    fn unit(&self) -> u64 {
        GRAIN * SECTOR
    }

    fn place(&mut self, offset: u64, len: u64) -> Result<Spot> {
        // A piece is a whole number of the pipeline's blocks, so that no run lies in two.
        let piece = offset / (PIECE * SECTOR);
        self.begin(piece)?;
        match &mut self.current {
            Some(writer) => writer.place(offset - piece * PIECE * SECTOR, len),
            None => Err(crate::Error::OutOfRange { offset, len, size: self.sectors * SECTOR }),
        }
    }

    fn finish(&mut self, _size: u64) -> Result<()> {
        let pieces = self.sectors.div_ceil(PIECE).max(1);
        self.begin(pieces - 1)?;
        self.close()?;
        let lines: Vec<String> =
            (0..pieces).map(|piece| format!("RW {} SPARSE \"{}\"", self.sectors_of(piece), self.name(piece))).collect();
        self.descriptor.write(descriptor::text("twoGbMaxExtentSparse", &lines, self.sectors).as_bytes(), 0)
    }
}
