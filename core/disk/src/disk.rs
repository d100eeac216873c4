//! The one abstraction everything stands on: a size, and bytes at offsets.

use std::ops::Range;

use crate::error::Result;
use crate::to_usize;

/// What a run of guest-visible bytes is known to be without reading it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ExtentKind {
    /// Stored somewhere; may still turn out to be zero when read.
    Data,
    /// Reads as zero, and nothing is stored for it.
    Zero,
}

/// A run of bytes that is all of one [`ExtentKind`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Extent {
    /// Offset of the first byte, in bytes.
    pub start: u64,
    /// Length in bytes; never zero inside a disk.
    pub len: u64,
    /// What is known of the run.
    pub kind: ExtentKind,
}

impl Extent {
    /// A run of stored bytes.
    pub fn data(start: u64, len: u64) -> Self {
        Self { start, len, kind: ExtentKind::Data }
    }

    /// A run that reads as zero.
    pub fn zero(start: u64, len: u64) -> Self {
        Self { start, len, kind: ExtentKind::Zero }
    }

    /// Offset of the first byte after the run.
    pub fn end(&self) -> u64 {
        self.start + self.len
    }

    /// The run cut to end at `size` at the latest.
    pub fn clipped(self, size: u64) -> Self {
        Self { len: self.len.min(size.saturating_sub(self.start)), ..self }
    }
}

/// A disk as its guest sees it, however it is stored. Reading never changes what is read.
pub trait Disk: Send + Sync {
    /// Guest-visible size in bytes.
    fn size(&self) -> u64;

    /// Fills `buf` with the guest-visible bytes at `offset`.
    ///
    /// # Errors
    /// [`crate::Error::OutOfRange`] when the range ends after [`Disk::size`]; whatever the storage says otherwise.
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()>;

    /// The run that starts at `offset` (less than [`Disk::size`]) and is all data or all known zero.
    /// Bulk data is not read for it; the format's tables may be.
    fn extent_at(&self, offset: u64) -> Result<Extent>;

    /// Fails with [`crate::Error::Changed`] when a file below was written since it was opened.
    fn check_unchanged(&self) -> Result<()>;
}

/// All extents of `disk` from start to end, neighbours of one kind joined.
///
/// # Errors
/// Those of [`Disk::extent_at`].
pub fn extents(disk: &dyn Disk) -> impl Iterator<Item = Result<Extent>> + '_ {
    let mut at = 0;
    // What was asked for and is not part of the extent before it.
    let mut ahead: Option<Result<Extent>> = None;
    std::iter::from_fn(move || {
        if at >= disk.size() {
            return None;
        }
        let mut joined = match ahead.take().unwrap_or_else(|| disk.extent_at(at)) {
            Ok(extent) => extent,
            Err(error) => {
                at = disk.size();
                return Some(Err(error));
            }
        };
        while joined.end() < disk.size() {
            match disk.extent_at(joined.end()) {
                Ok(next) if next.kind == joined.kind => joined.len += next.len,
                other => {
                    ahead = Some(other);
                    break;
                }
            }
        }
        at = joined.end();
        Some(Ok(joined))
    })
}

/// Bytes of `disk` that are stored, as far as its tables tell.
///
/// # Errors
/// Those of [`Disk::extent_at`].
pub fn data_bytes(disk: &dyn Disk) -> Result<u64> {
    let mut sum = 0;
    for extent in extents(disk) {
        let extent = extent?;
        if extent.kind == ExtentKind::Data {
            sum += extent.len;
        }
    }
    Ok(sum)
}

/// Adds `run` behind `runs`, joined to the last of them where it goes on from there; false where that would make more than `most`.
pub fn add_run(runs: &mut Vec<Range<u64>>, run: Range<u64>, most: usize) -> bool {
    let is_full = runs.len() >= most;
    match runs.last_mut() {
        Some(last) if last.end == run.start => last.end = run.end,
        _ if is_full => return false,
        _ => runs.push(run),
    }
    true
}

/// A disk that holds nothing: every byte is zero.
#[derive(Debug, Clone, Copy)]
pub struct EmptyDisk {
    size: u64,
}

impl EmptyDisk {
    /// An empty disk of `size` bytes.
    pub fn new(size: u64) -> Self {
        Self { size }
    }
}

impl Disk for EmptyDisk {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        crate::error::check_range(offset, buf.len(), self.size)?;
        buf.fill(0);
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        Ok(Extent::zero(offset, self.size - offset))
    }

    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }
}

/// Fills `buf` from `offset` of `disk`; behind its end there are zeros.
pub(crate) fn read_padded(disk: &dyn Disk, offset: u64, buf: &mut [u8]) -> Result<()> {
    let inside = to_usize(disk.size().saturating_sub(offset).min(buf.len() as u64));
    let (head, tail) = buf.split_at_mut(inside);
    tail.fill(0);
    if head.is_empty() { Ok(()) } else { disk.read_at(offset, head) }
}

/// A part of a disk; where the disk ends before it, zeros.
pub(crate) struct Window {
    inner: std::sync::Arc<dyn Disk>,
    start: u64,
    size: u64,
}

impl Window {
    /// The `size` bytes of `inner` from `start` on.
    pub(crate) fn shared(inner: std::sync::Arc<dyn Disk>, start: u64, size: u64) -> std::sync::Arc<dyn Disk> {
        std::sync::Arc::new(Self { inner, start, size })
    }
}

impl Disk for Window {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        crate::error::check_range(offset, buf.len(), self.size)?;
        read_padded(self.inner.as_ref(), self.start.saturating_add(offset), buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let at = self.start.saturating_add(offset);
        if at >= self.inner.size() {
            return Ok(Extent::zero(offset, self.size - offset));
        }
        let extent = self.inner.extent_at(at)?;
        Ok(Extent { start: offset, ..extent }.clipped(self.size))
    }

    fn check_unchanged(&self) -> Result<()> {
        self.inner.check_unchanged()
    }
}

/// A disk made longer by zeros at its end: hosts count in sectors, files need not.
pub struct GrownDisk {
    inner: std::sync::Arc<dyn Disk>,
    size: u64,
}

impl GrownDisk {
    /// `inner`, followed by zeros up to `size` bytes; a smaller `size` leaves it as it is.
    pub fn new(inner: std::sync::Arc<dyn Disk>, size: u64) -> Self {
        let size = size.max(inner.size());
        Self { inner, size }
    }
}

impl Disk for GrownDisk {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        crate::error::check_range(offset, buf.len(), self.size)?;
        read_padded(self.inner.as_ref(), offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        if offset < self.inner.size() {
            self.inner.extent_at(offset)
        } else {
            Ok(Extent::zero(offset, self.size - offset))
        }
    }

    fn check_unchanged(&self) -> Result<()> {
        self.inner.check_unchanged()
    }
}
