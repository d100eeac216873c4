//! A storage as a stream with a position.

use crate::to_usize;
use std::io::{self, Read, Seek, SeekFrom};

use crate::{budget::Hold, source::Storage};

/// A storage as the readers of archives want it; they read headers only, and no more of them than is allowed.
pub(super) struct Cursor<'a> {
    storage: &'a dyn Storage,
    at: u64,
    left: u64,
    weight: u64,
    hold: Hold,
}

impl<'a> Cursor<'a> {
    /// From the start of `storage`, for at most `most` bytes. The reader keeps `weight` bytes of memory, at the most, for each
    /// byte that it reads; they are counted as long as the cursor lives.
    pub(super) fn new(storage: &'a dyn Storage, most: u64, weight: u64) -> Self {
        Self { storage, at: 0, left: most, weight, hold: storage.budget().hold() }
    }
}

impl Read for Cursor<'_> {
    #[expect(clippy::indexing_slicing, reason = "cut to the buffer just above")]
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = (buf.len() as u64).min(self.storage.len().saturating_sub(self.at));
        if len > self.left {
            return Err(io::Error::other("the archive's headers and names take more than 16 MiB"));
        }
        self.hold.grow(len.saturating_mul(self.weight)).map_err(io::Error::other)?;
        let buf = &mut buf[..to_usize(len)];
        self.storage.read_at(self.at, buf).map_err(|error| io::Error::other(error.to_string()))?;
        self.at += len;
        self.left -= len;
        Ok(buf.len())
    }
}

impl Seek for Cursor<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let target = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => self.storage.len().checked_add_signed(by),
        };
        self.at = target.ok_or_else(|| io::Error::other("a member's length leads out of the archive"))?;
        Ok(self.at)
    }
}
