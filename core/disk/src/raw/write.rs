//! Writing bare bytes: a file with holes where the disk is zero, or with all its space present.

use std::fs::File;

use crate::{error::Result, output::Output, pipeline::Writer, shape::Layout};

/// The piece in which zeros are left out: the block of common file systems.
const UNIT: u64 = 4096;

struct RawWriter {
    output: Output,
    size: u64,
}

/// Makes a writer for a raw file of `size` bytes.
///
/// # Errors
/// When the file system cannot hold a file of that length.
pub fn create(file: File, name: String, layout: Layout, size: u64) -> Result<Box<dyn Writer>> {
    let output = Output { file, name };
    match layout {
        Layout::Full => output.allocate(size)?,
        _ => output.set_len(size)?,
    }
    Ok(Box::new(RawWriter { output, size }))
}

impl Writer for RawWriter {
    fn output(&self) -> &Output {
        &self.output
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
