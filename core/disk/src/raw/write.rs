//! Writing bare bytes: a file with holes where the disk is zero.

use std::fs::File;

use crate::{
    error::{Error, Result},
    pipeline::Writer,
    shape::Layout,
};

/// The piece in which zeros are left out: the block of common file systems.
const UNIT: u64 = 4096;

struct RawWriter {
    file: File,
    name: String,
    size: u64,
}

/// Makes a writer for a thin raw file of `size` bytes.
///
/// # Errors
/// When the file system cannot hold a file of that length.
pub fn create(file: File, name: String, _layout: Layout, size: u64) -> Result<Box<dyn Writer>> {
    file.set_len(size).map_err(Error::io("setting the length of", &name, None))?;
    Ok(Box::new(RawWriter { file, name, size }))
}

impl Writer for RawWriter {
    fn file(&self) -> &File {
        &self.file
    }

    fn name(&self) -> &str {
        &self.name
    }

    fn unit(&self) -> u64 {
        UNIT
    }

    fn place(&mut self, offset: u64, len: u64) -> Result<u64> {
        crate::error::check_range(offset, len as usize, self.size)?;
        Ok(offset)
    }

    fn finish(&mut self) -> Result<()> {
        Ok(())
    }
}
