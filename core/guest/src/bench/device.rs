//! Volumes, which lie on one disk of a guest or on several of them.

use std::sync::Arc;

use reformis_disk::{Disk, Extent, to_usize};

use super::disks::Bench;
use crate::error::{Error, Result};

impl std::fmt::Debug for Device {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Device").field("name", &self.name).field("size", &self.size).finish_non_exhaustive()
    }
}

/// A volume is a disk of its own to those who only read.
impl Disk for Device {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> reformis_disk::Result<()> {
        self.read(offset, buf).map_err(|error| match error {
            Error::Disk(error) => error,
            other => reformis_disk::Error::damaged(self.name(), offset, other.to_string()),
        })
    }

    fn extent_at(&self, offset: u64) -> reformis_disk::Result<Extent> {
        Ok(Extent::data(offset, self.size - offset))
    }

    fn check_unchanged(&self) -> reformis_disk::Result<()> {
        self.bench.lock().iter().try_for_each(Disk::check_unchanged)
    }
}

/// How a stretch of a volume lies on the disks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Layout {
    /// In one run: disk, first byte.
    Linear(usize, u64),
    /// In turns of so many bytes on each leg: disk, first byte.
    Striped(u64, Vec<(usize, u64)>),
}

/// A stretch of a volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Piece {
    /// First byte in the volume.
    pub(crate) start: u64,
    /// Bytes.
    pub(crate) len: u64,
    pub(crate) layout: Layout,
}

/// A volume: a partition, a logical volume, or a whole disk.
#[derive(Clone)]
pub struct Device {
    bench: Arc<Bench>,
    name: Arc<str>,
    pieces: Arc<[Piece]>,
    size: u64,
}

impl Device {
    /// The `len` bytes of `disk` from `start` on, cut where the disk ends.
    pub fn part(bench: &Arc<Bench>, disk: usize, start: u64, len: u64, name: &str) -> Self {
        let size = len.min(bench.size(disk).saturating_sub(start));
        let piece = Piece { start: 0, len: size, layout: Layout::Linear(disk, start) };
        Self { bench: bench.clone(), name: name.into(), pieces: [piece].into(), size }
    }

    /// A volume of `pieces`, ascending and without gaps, each inside its disks.
    pub(crate) fn of_pieces(bench: &Arc<Bench>, pieces: Vec<Piece>, name: &str) -> Self {
        let size = pieces.last().map_or(0, |piece| piece.start + piece.len);
        Self { bench: bench.clone(), name: name.into(), pieces: pieces.into(), size }
    }

    /// What to call it in messages.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Bytes.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// Disk and byte where it begins.
    pub(crate) fn start(&self) -> Option<(usize, u64)> {
        match &self.pieces.first()?.layout {
            Layout::Linear(disk, start) => Some((*disk, *start)),
            Layout::Striped(_, legs) => legs.first().copied(),
        }
    }

    /// The disks that it lies on, each once, in the order in which it needs them.
    pub(crate) fn disks(&self) -> Vec<usize> {
        let mut disks = Vec::new();
        for piece in self.pieces.iter() {
            let of_piece = match &piece.layout {
                Layout::Linear(disk, _) => vec![*disk],
                Layout::Striped(_, legs) => legs.iter().map(|(disk, _)| *disk).collect(),
            };
            for disk in of_piece {
                if !disks.contains(&disk) {
                    disks.push(disk);
                }
            }
        }
        disks
    }

    /// The bench that its disks are on.
    pub(crate) fn bench(&self) -> &Arc<Bench> {
        &self.bench
    }

    /// Calls `work` for each run of `len` bytes from `offset`: disk, byte there, and the range of the request.
    #[expect(clippy::indexing_slicing, reason = "legs name disks of this bench, and ranges are cut to the buffer")]
    fn each(
        &self,
        offset: u64,
        len: usize,
        mut work: impl FnMut(usize, u64, std::ops::Range<usize>) -> Result<()>,
    ) -> Result<()> {
        let end = offset.checked_add(len as u64).filter(|end| *end <= self.size);
        let Some(end) = end else {
            let what = format!("something leads to byte {offset}, and it has {} bytes", self.size);
            return Err(self.damaged(what));
        };
        let mut at = offset;
        while at < end {
            let index = self.pieces.partition_point(|piece| piece.start + piece.len <= at);
            let Some(piece) = self.pieces.get(index) else { break };
            let inside = at - piece.start;
            let left = (end - at).min(piece.len - inside);
            let (disk, start, run) = match &piece.layout {
                Layout::Linear(disk, start) => (*disk, start + inside, left),
                Layout::Striped(stripe, legs) => {
                    let (number, rest) = (inside / stripe, inside % stripe);
                    let (disk, start) = legs[to_usize(number % legs.len() as u64)];
                    (disk, start + number / legs.len() as u64 * stripe + rest, left.min(stripe - rest))
                }
            };
            let from = to_usize(at - offset);
            work(disk, start, from..from + to_usize(run))?;
            at += run;
        }
        Ok(())
    }

    /// Fills `buf` from `offset`.
    ///
    /// # Errors
    /// [`Error::Damaged`] behind its end; those of the disk.
    #[expect(clippy::indexing_slicing, reason = "legs name disks of this bench, and ranges are cut to the buffer")]
    pub fn read(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        let overlays = self.bench.lock();
        self.each(offset, buf.len(), |disk, start, range| Ok(overlays[disk].read_at(start, &mut buf[range])?))
    }

    /// Writes `bytes` at `offset`, for the edit that was begun last.
    ///
    /// # Errors
    /// [`Error::Damaged`] behind its end; those of the disk.
    #[expect(clippy::indexing_slicing, reason = "legs name disks of this bench, and ranges are cut to the buffer")]
    pub fn write(&self, offset: u64, bytes: &[u8]) -> Result<()> {
        let mut overlays = self.bench.lock();
        self.each(offset, bytes.len(), |disk, start, range| Ok(overlays[disk].write_at(start, &bytes[range])?))
    }

    /// An error about what lies on it.
    pub(crate) fn damaged(&self, what: impl Into<String>) -> Error {
        Error::Damaged { volume: self.name.to_string(), what: what.into() }
    }

    pub(crate) fn unreadable(&self, what: impl Into<String>) -> Error {
        Error::Unsupported { volume: self.name.to_string(), action: "read", what: what.into() }
    }

    pub(crate) fn unchangeable(&self, what: impl Into<String>) -> Error {
        Error::Unsupported { volume: self.name.to_string(), action: "changed", what: what.into() }
    }
}
