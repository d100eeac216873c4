//! A storage as a stream with a position.

use crate::to_usize;
use std::io::{self, Read, Seek, SeekFrom};

use super::Storage;

/// A storage as the readers of archives want it; they read headers only, and no more of them than the budget.
pub(super) struct Cursor<'a> {
    storage: &'a dyn Storage,
    at: u64,
    budget: u64,
}

impl<'a> Cursor<'a> {
    /// From the start of `storage`, for at most `budget` bytes.
    pub(super) fn new(storage: &'a dyn Storage, budget: u64) -> Self {
        Self { storage, at: 0, budget }
    }
}

impl Read for Cursor<'_> {
    #[expect(clippy::indexing_slicing, reason = "cut to the buffer just above")]
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = (buf.len() as u64).min(self.storage.len().saturating_sub(self.at));
        if len > self.budget {
            return Err(io::Error::other("the archive's headers and names take more than 16 MiB"));
        }
        let buf = &mut buf[..to_usize(len)];
        self.storage.read_at(self.at, buf).map_err(|error| io::Error::other(error.to_string()))?;
        self.at += len;
        self.budget -= len;
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
