//! What a format's writer is to the pipeline.

use std::sync::Arc;

use crate::{copy::output::Output, digest::ContentDigest, error::Result};

/// Takes a disk, in order, and gives it its place in files.
pub trait Writer: Send {
    /// Bytes that the format stores as a whole or not at all: a divisor of [`crate::digest::BLOCK`], or a multiple.
    fn unit(&self) -> u64;

    /// What turns a unit into the bytes that are stored for it; `None` when all are stored as they are.
    fn encoder(&self) -> Option<Encoder> {
        None
    }

    /// Gives the guest's bytes at `offset` a place. Offsets ascend and start at a unit; the `len` bytes are whole units
    /// inside one block, except at the end of the disk. What is never placed reads as zero.
    ///
    /// # Errors
    /// Those of writing tables.
    fn place(&mut self, offset: u64, len: u64) -> Result<Spot>;

    /// Gives the unit of `plain` bytes at `offset`, of which the encoder made `len` bytes, a place: like
    /// [`Writer::place`].
    ///
    /// # Errors
    /// Those of writing tables.
    fn place_encoded(&mut self, offset: u64, _plain: u64, len: u64) -> Result<Spot> {
        self.place(offset, len)
    }

    /// Whether places may be asked for in any order, unit by unit, and more than once: a unit that has one keeps it.
    fn takes_any_order(&self) -> bool {
        false
    }

    /// Where the unit at `offset` lies, in a format that places more than a unit at once, if that has a place: its bytes may be those of
    /// a pass that was cut off.
    fn placed(&self, _offset: u64) -> Option<Spot> {
        None
    }

    /// Writes what closes the files of a disk of `size` bytes: tables, headers, lengths. All placed bytes have been
    /// stored by then, but for zeros: a file has to be made as long as its places reach.
    ///
    /// # Errors
    /// Those of writing.
    fn finish(&mut self, size: u64) -> Result<()>;
}

/// A place in a file.
pub struct Spot {
    pub(crate) output: Arc<Output>,
    pub(crate) position: u64,
}

impl Spot {
    /// Byte `position` of `output`.
    pub(crate) fn new(output: &Arc<Output>, position: u64) -> Self {
        Self { output: output.clone(), position }
    }

    /// Writes `bytes` from byte `at` of the place on.
    pub(super) fn write(&self, at: u64, bytes: &[u8]) -> Result<()> {
        self.output.write(bytes, self.position + at)
    }
}

/// Encodes the unit that lies at a guest offset: what it returns is stored; `None` when the unit is to be stored as it is.
/// Called on any core, in any order.
pub type Encoder = Arc<dyn Fn(u64, &[u8]) -> Option<Vec<u8>> + Send + Sync>;

/// What was carried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Copied {
    /// Guest-visible size in bytes.
    pub size: u64,
    /// Digest of the guest-visible bytes.
    pub digest: ContentDigest,
    /// Bytes that were stored: what was neither a hole nor found to be zero.
    pub stored: u64,
}
