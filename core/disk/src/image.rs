//! An opened image: its bytes, and what its metadata says.

use std::{ops::Range, sync::Arc};

use crate::{
    disk::{Disk, Extent},
    error::{Error, Result},
    facts::Facts,
    format::above::{self, Reopen},
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
    /// How it was opened; none for a disk below another.
    pub(crate) opened: Option<Arc<dyn Reopen>>,
}

impl Image {
    /// An image in one file.
    pub(crate) fn new(disk: Arc<dyn Disk>, facts: Facts) -> Self {
        Self { disk, facts, files: Vec::new(), opened: None }
    }

    /// Ranges of the disk, in bytes, that are not what the image in `below` has there: what this one, and the disks between the two, keep
    /// themselves. They ascend, and do not touch. None where there are more than `most`; all of the disk, where `below` is not one that
    /// this one is a delta of.
    ///
    /// # Errors
    /// Those of opening the chain and of reading its tables; [`Error::Interrupted`] once `cancelled` says so.
    pub fn above(
        &self,
        below: &dyn Storage,
        most: usize,
        cancelled: &dyn Fn() -> bool,
    ) -> Result<Option<Vec<Range<u64>>>> {
        match &self.opened {
            Some(opened) => above::above(opened.as_ref(), below, most, cancelled),
            None => Ok(Some(vec![0..self.disk.size()])),
        }
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
