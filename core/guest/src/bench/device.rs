//! Volumes, which lie on one disk of a guest or on several of them.

use std::sync::Arc;

use reformis_disk::{Disk, Extent, budget::Hold};

use super::{
    cipher::Cipher,
    disks::Bench,
    map::{Layout, Map, Piece},
};
use crate::error::{Error, Result};

impl std::fmt::Debug for Device {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Device").field("name", &self.map.name).field("size", &self.map.size).finish_non_exhaustive()
    }
}

/// A volume is a disk of its own to those who only read.
impl Disk for Device {
    fn size(&self) -> u64 {
        self.map.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> reformis_disk::Result<()> {
        self.read(offset, buf).map_err(|error| match error {
            Error::Disk(error) => error,
            other => reformis_disk::Error::damaged(self.name(), offset, other.to_string()),
        })
    }

    fn extent_at(&self, offset: u64) -> reformis_disk::Result<Extent> {
        Ok(Extent::data(offset, self.map.size - offset))
    }

    fn check_unchanged(&self) -> reformis_disk::Result<()> {
        self.bench.lock().iter().try_for_each(Disk::check_unchanged)
    }
}

/// A volume: a partition, a logical volume, an array, what a key opens, or a whole disk.
#[derive(Clone)]
pub struct Device {
    bench: Arc<Bench>,
    map: Map,
    /// Memory for its pieces, where a stranger's metadata has them.
    _hold: Option<Arc<Hold>>,
}

impl Device {
    /// The `len` bytes of `disk` from `start` on, cut where the disk ends.
    pub fn part(bench: &Arc<Bench>, disk: usize, start: u64, len: u64, name: &str) -> Self {
        let len = len.min(bench.size(disk).saturating_sub(start));
        Self::of_pieces(bench, vec![Piece { start: 0, len, layout: Layout::Linear(disk, start) }], name)
    }

    /// A volume of `pieces`, ascending and without gaps, each inside its disks.
    pub(crate) fn of_pieces(bench: &Arc<Bench>, pieces: Vec<Piece>, name: &str) -> Self {
        Self { bench: bench.clone(), map: Map::new(name, pieces), _hold: None }
    }

    /// The same, which is only read where there is a reason, with the memory that its pieces take.
    pub(crate) fn sealed(self, reason: Option<&str>, hold: Hold) -> Self {
        Self { map: Map { sealed: reason.map(Into::into), ..self.map }, _hold: Some(Arc::new(hold)), ..self }
    }

    /// The same, whose bytes a cipher turns into those that lie there.
    pub(crate) fn through(self, cipher: Arc<dyn Cipher>) -> Self {
        Self { map: Map { cipher: Some(cipher), ..self.map }, ..self }
    }

    /// The number of a disk of its bench whose bytes are the volume's: partitions and further volumes may lie on it.
    pub(crate) fn as_disk(&self) -> usize {
        self.bench.add_layer(self.map.clone())
    }

    /// What to call it in messages.
    pub fn name(&self) -> &str {
        &self.map.name
    }

    /// Bytes.
    pub fn size(&self) -> u64 {
        self.map.size
    }

    /// Disk and byte from which on its bytes lie in one run; the disk may be a volume that others lie on, and is one where they do not.
    pub(crate) fn base(&self) -> (usize, u64) {
        match &self.map.pieces[..] {
            [Piece { layout: Layout::Linear(disk, start), .. }] if self.map.cipher.is_none() => (*disk, *start),
            _ => (self.as_disk(), 0),
        }
    }

    /// The disk of the guest that it begins on.
    pub(crate) fn first_disk(&self) -> usize {
        self.disks().first().copied().unwrap_or(0)
    }

    /// The disks of the guest that it lies on, each once, in the order in which it needs them.
    pub(crate) fn disks(&self) -> Vec<usize> {
        self.bench.below(&self.map)
    }

    /// The bench that its disks are on.
    pub(crate) fn bench(&self) -> &Arc<Bench> {
        &self.bench
    }

    /// Fills `buf` from `offset`.
    ///
    /// # Errors
    /// [`Error::Damaged`] behind its end; those of the disk.
    pub fn read(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.bench.with_stack(|stack| self.map.read(stack, offset, buf))
    }

    /// Writes `bytes` at `offset`, for the edit that was begun last.
    ///
    /// # Errors
    /// [`Error::Damaged`] behind its end; those of the disk.
    pub fn write(&self, offset: u64, bytes: &[u8]) -> Result<()> {
        self.bench.with_stack(|stack| self.map.write(stack, offset, bytes))
    }

    /// An error about what lies on it.
    pub(crate) fn damaged(&self, what: impl Into<String>) -> Error {
        self.map.damaged(what)
    }

    pub(crate) fn unreadable(&self, what: impl Into<String>) -> Error {
        Error::Unsupported { volume: self.name().to_string(), action: "read", what: what.into() }
    }

    pub(crate) fn unchangeable(&self, what: impl Into<String>) -> Error {
        self.map.unchangeable(what)
    }
}
