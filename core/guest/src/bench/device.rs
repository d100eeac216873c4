//! Volumes, which lie on one disk of a guest or on several of them.

use std::sync::Arc;

use reformis_disk::{Disk, Extent, budget::Hold, to_usize};

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
    /// The same on each leg: disk, first byte.
    Mirrored(Vec<(usize, u64)>),
    /// Nowhere: zeros, and no place for anything else.
    Nowhere,
}

/// Where a run of a request is.
enum Place<'p> {
    /// On one disk, at this byte.
    At(usize, u64),
    /// On each leg, so many bytes behind its start.
    OnEach(&'p [(usize, u64)], u64),
    Nowhere,
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
    /// Why it is only read.
    sealed: Option<Arc<str>>,
    /// Memory for its pieces, where a stranger's metadata has them.
    _hold: Option<Arc<Hold>>,
}

impl Device {
    /// The `len` bytes of `disk` from `start` on, cut where the disk ends.
    pub fn part(bench: &Arc<Bench>, disk: usize, start: u64, len: u64, name: &str) -> Self {
        let size = len.min(bench.size(disk).saturating_sub(start));
        let piece = Piece { start: 0, len: size, layout: Layout::Linear(disk, start) };
        Self { bench: bench.clone(), name: name.into(), pieces: [piece].into(), size, sealed: None, _hold: None }
    }

    /// A volume of `pieces`, ascending and without gaps, each inside its disks.
    pub(crate) fn of_pieces(bench: &Arc<Bench>, pieces: Vec<Piece>, name: &str) -> Self {
        let size = pieces.last().map_or(0, |piece| piece.start + piece.len);
        Self { bench: bench.clone(), name: name.into(), pieces: pieces.into(), size, sealed: None, _hold: None }
    }

    /// The same, which is only read where there is a reason, with the memory that its pieces take.
    pub(crate) fn sealed(self, reason: Option<&str>, hold: Hold) -> Self {
        Self { sealed: reason.map(Into::into), _hold: Some(Arc::new(hold)), ..self }
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
            Layout::Striped(_, legs) | Layout::Mirrored(legs) => legs.first().copied(),
            Layout::Nowhere => None,
        }
    }

    /// The disks that it lies on, each once, in the order in which it needs them.
    pub(crate) fn disks(&self) -> Vec<usize> {
        let mut disks = Vec::new();
        for piece in self.pieces.iter() {
            let of_piece = match &piece.layout {
                Layout::Linear(disk, _) => vec![*disk],
                Layout::Striped(_, legs) | Layout::Mirrored(legs) => legs.iter().map(|(disk, _)| *disk).collect(),
                Layout::Nowhere => Vec::new(),
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

    /// Calls `work` for each run of `len` bytes from `offset`: where it is, and the range of the request.
    #[expect(clippy::indexing_slicing, reason = "legs name disks of this bench, and ranges are cut to the buffer")]
    fn each(
        &self,
        offset: u64,
        len: usize,
        mut work: impl FnMut(Place<'_>, std::ops::Range<usize>) -> Result<()>,
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
            let (place, run) = match &piece.layout {
                Layout::Linear(disk, start) => (Place::At(*disk, start + inside), left),
                Layout::Mirrored(legs) => (Place::OnEach(legs, inside), left),
                Layout::Nowhere => (Place::Nowhere, left),
                Layout::Striped(stripe, legs) => {
                    let (number, rest) = (inside / stripe, inside % stripe);
                    let (disk, start) = legs[to_usize(number % legs.len() as u64)];
                    let at = start + number / legs.len() as u64 * stripe + rest;
                    (Place::At(disk, at), left.min(stripe - rest))
                }
            };
            let from = to_usize(at - offset);
            work(place, from..from + to_usize(run))?;
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
        self.each(offset, buf.len(), |place, range| {
            match place {
                Place::At(disk, at) => overlays[disk].read_at(at, &mut buf[range])?,
                Place::OnEach(legs, inside) => {
                    if let Some((disk, start)) = legs.first() {
                        overlays[*disk].read_at(start + inside, &mut buf[range])?;
                    }
                }
                Place::Nowhere => buf[range].fill(0),
            }
            Ok(())
        })
    }

    /// Writes `bytes` at `offset`, for the edit that was begun last.
    ///
    /// # Errors
    /// [`Error::Damaged`] behind its end; those of the disk.
    #[expect(clippy::indexing_slicing, reason = "legs name disks of this bench, and ranges are cut to the buffer")]
    pub fn write(&self, offset: u64, bytes: &[u8]) -> Result<()> {
        if let Some(reason) = &self.sealed {
            return Err(self.unchangeable(reason.to_string()));
        }
        let mut overlays = self.bench.lock();
        self.each(offset, bytes.len(), |place, range| {
            match place {
                Place::At(disk, at) => overlays[disk].write_at(at, &bytes[range])?,
                Place::OnEach(legs, inside) => {
                    for (disk, start) in legs {
                        overlays[*disk].write_at(start + inside, &bytes[range.clone()])?;
                    }
                }
                Place::Nowhere => return Err(self.unchangeable("a part of it lies nowhere")),
            }
            Ok(())
        })
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
