//! An opened image: its bytes, and what its metadata says.

use std::sync::Arc;

use crate::{
    disk::{Disk, Extent},
    error::{Error, Result},
    facts::Facts,
    source::Storage,
    trouble::Trouble,
};

/// An opened image.
#[derive(Clone)]
pub struct Image {
    /// Its bytes. Where there is trouble, every read is an error that tells it.
    pub disk: Arc<dyn Disk>,
    /// What its metadata says.
    pub facts: Facts,
    /// The files that it consists of beside the one that was opened: extents, external data, and the disks below.
    pub files: Vec<Arc<dyn Storage>>,
}

impl Image {
    /// An image in one file.
    pub(crate) fn new(disk: Arc<dyn Disk>, facts: Facts) -> Self {
        Self { disk, facts, files: Vec::new() }
    }
}

/// A disk that cannot be read, and why.
pub(crate) struct Refused {
    size: u64,
    trouble: Trouble,
}

impl Refused {
    /// A disk of `size` bytes.
    pub(crate) fn new(size: u64, trouble: Trouble) -> Self {
        Self { size, trouble }
    }
}

impl Disk for Refused {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, _: u64, _: &mut [u8]) -> Result<()> {
        Err(Error::Trouble(self.trouble.clone()))
    }

    fn extent_at(&self, _: u64) -> Result<Extent> {
        Err(Error::Trouble(self.trouble.clone()))
    }

    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }
}
