//! Where blocks come from: disks, cut into pieces so that holes are left out, or bytes that can only be read forwards.

use std::{
    io,
    ops::Range,
    sync::atomic::{AtomicU64, Ordering},
};

use super::block::Buffer;
use crate::{
    container::packed,
    digest::BLOCK,
    disk::{Disk, Extent, ExtentKind},
    error::{Error, Result},
    to_usize,
};

/// A part of the disks: one block, or a run of whole blocks known to be zero.
#[derive(Debug, Clone, Copy)]
pub(super) struct Piece {
    pub(super) offset: u64,
    pub(super) len: u64,
}

/// What is to be done with a piece of `N` disks.
pub(super) struct Task<const N: usize> {
    pub(super) piece: Piece,
    /// Position in the order.
    pub(super) ticket: u64,
    /// Of each disk, the ranges in the block that have to be read, ascending; `None` for a run of zeros.
    pub(super) data: Option<[Vec<Range<usize>>; N]>,
}

/// Pieces between two checks that the source is still the same: about 1 GiB.
const CHECK_EVERY: u64 = 1024;

/// Holes between two runs of a block that are read over: a read costs more than their zeros.
const SMALL_HOLE: usize = 32 << 10;

/// Where pieces come from.
pub(super) trait Feed<const N: usize>: Send {
    /// The next piece in the disks' order; `None` at their end. What can only be read forwards is read into `buffers` at
    /// once.
    fn next(&mut self, buffers: &mut [Buffer; N]) -> Result<Option<Task<N>>>;
}

/// Disks of one size, cut into pieces: a run is skipped where all are known to be zero.
pub(super) struct Disks<'a, const N: usize> {
    /// Each with its extent around `at`, or one before it.
    disks: [(&'a dyn Disk, Extent); N],
    size: u64,
    at: u64,
    ticket: u64,
}

impl<'a, const N: usize> Disks<'a, N> {
    pub(super) fn new(disks: [&'a dyn Disk; N]) -> Self {
        let size = disks.iter().map(|disk| disk.size()).min().unwrap_or(0);
        Self { disks: disks.map(|disk| (disk, Extent::zero(0, 0))), size, at: 0, ticket: 0 }
    }

    /// From byte `at` on, the start of a block.
    pub(super) fn starting(self, at: u64) -> Self {
        Self { at, ..self }
    }
}

/// The extent of `disk` that `at` lies in, where `last` was asked for before.
fn around(disk: &dyn Disk, last: &mut Extent, at: u64) -> Result<Extent> {
    while last.end() <= at {
        *last = disk.extent_at(at)?;
        if last.len == 0 {
            return Err(Error::OutOfRange { offset: at, len: 0, size: disk.size() });
        }
    }
    Ok(*last)
}

/// The ranges of the block that lies at `block` of `disk` which have to be read.
fn data_of(disk: &dyn Disk, last: &mut Extent, block: &Range<u64>) -> Result<Vec<Range<usize>>> {
    let mut data: Vec<Range<usize>> = Vec::new();
    let mut at = block.start;
    while at < block.end {
        let extent = around(disk, last, at)?;
        let end = extent.end().min(block.end);
        if extent.kind == ExtentKind::Data {
            let range = to_usize(at - block.start)..to_usize(end - block.start);
            match data.last_mut() {
                Some(before) if range.start - before.end <= SMALL_HOLE => before.end = range.end,
                _ => data.push(range),
            }
        }
        at = end;
    }
    Ok(data)
}

impl<const N: usize> Feed<N> for Disks<'_, N> {
    fn next(&mut self, _: &mut [Buffer; N]) -> Result<Option<Task<N>>> {
        let at = self.at;
        if at >= self.size {
            return Ok(None);
        }
        if self.ticket % CHECK_EVERY == CHECK_EVERY - 1 {
            self.disks.iter().try_for_each(|(disk, _)| disk.check_unchanged())?;
        }
        // Up to where all disks are known to be zero.
        let mut zero_end = self.size;
        for (disk, last) in &mut self.disks {
            let extent = around(*disk, last, at)?;
            zero_end = zero_end.min(if extent.kind == ExtentKind::Zero { extent.end() } else { at });
        }
        let whole = if zero_end == self.size { zero_end } else { zero_end / BLOCK * BLOCK };
        let (end, data) = if whole > at {
            (whole, None)
        } else {
            let block = at..(at + BLOCK).min(self.size);
            let mut data = std::array::from_fn(|_| Vec::new());
            for ((disk, last), data) in self.disks.iter_mut().zip(&mut data) {
                *data = data_of(*disk, last, &block)?;
            }
            (block.end, Some(data))
        };
        let task = Task { piece: Piece { offset: at, len: end - at }, ticket: self.ticket, data };
        self.at = end;
        self.ticket += 1;
        Ok(Some(task))
    }
}

/// Bytes that can only be read forwards, cut into blocks as they come.
pub(super) struct Forward<'a> {
    stream: &'a mut (dyn io::Read + Send),
    name: &'a str,
    /// How far it was read; the length of the whole at the end.
    at: &'a AtomicU64,
    ticket: u64,
    ended: bool,
}

impl<'a> Forward<'a> {
    pub(super) fn new(stream: &'a mut (dyn io::Read + Send), name: &'a str, at: &'a AtomicU64) -> Self {
        Self { stream, name, at, ticket: 0, ended: false }
    }
}

impl Forward<'_> {
    /// The next block, read into `buffer`, and its place in the order.
    fn block(&mut self, buffer: &mut Buffer) -> Result<Option<(Piece, u64)>> {
        let offset = self.at.load(Ordering::Relaxed);
        let buf = buffer.whole();
        let len = if self.ended { 0 } else { packed::fill(self.stream, buf, self.name, offset)? };
        self.ended = len < buf.len();
        if len == 0 {
            return Ok(None);
        }
        self.at.store(offset + len as u64, Ordering::Relaxed);
        let ticket = self.ticket;
        self.ticket += 1;
        Ok(Some((Piece { offset, len: len as u64 }, ticket)))
    }
}

impl Feed<1> for Forward<'_> {
    fn next(&mut self, [buffer]: &mut [Buffer; 1]) -> Result<Option<Task<1>>> {
        let block = self.block(buffer)?;
        Ok(block.map(|(piece, ticket)| Task { piece, ticket, data: Some([whole(piece)]) }))
    }
}

/// Beside a disk that is read at the same places.
impl Feed<2> for Forward<'_> {
    fn next(&mut self, [buffer, _]: &mut [Buffer; 2]) -> Result<Option<Task<2>>> {
        let block = self.block(buffer)?;
        Ok(block.map(|(piece, ticket)| Task { piece, ticket, data: Some([whole(piece), whole(piece)]) }))
    }
}

/// All of a piece that is one block.
fn whole(piece: Piece) -> Vec<Range<usize>> {
    std::iter::once(0..to_usize(piece.len)).collect()
}
