//! The file that a format's writer fills: named in messages, written at positions.

use std::{fs::File, os::unix::fs::FileExt};

use rustix::fs::{FallocateFlags, fallocate};

use crate::error::{Error, Result};

/// A file and its name.
pub struct Output {
    pub(crate) file: File,
    pub(crate) name: String,
}

impl Output {
    /// Another handle of the same file.
    pub(crate) fn try_clone(&self) -> Result<Self> {
        let file = self.file.try_clone().map_err(Error::io("opening", &self.name, None))?;
        Ok(Self { file, name: self.name.clone() })
    }

    /// Flushes all that was written to disk.
    ///
    /// # Errors
    /// What the system says.
    pub fn sync(&self) -> Result<()> {
        self.file.sync_all().map_err(Error::io("flushing", &self.name, None))
    }

    /// Writes `bytes` at `position`.
    pub(crate) fn write(&self, bytes: &[u8], position: u64) -> Result<()> {
        self.file.write_all_at(bytes, position).map_err(Error::io("writing", &self.name, Some(position)))
    }

    /// Sets the length in bytes; what is added reads as zero.
    pub(crate) fn set_len(&self, len: u64) -> Result<()> {
        self.file.set_len(len).map_err(Error::io("setting the length of", &self.name, None))
    }

    /// Takes the space for `len` bytes, which read as zero, from the file system.
    pub(crate) fn allocate(&self, len: u64) -> Result<()> {
        if len == 0 {
            return Ok(());
        }
        let result = fallocate(&self.file, FallocateFlags::empty(), 0, len).map_err(std::io::Error::from);
        result.map_err(Error::io("taking the space for", &self.name, None))
    }
}
