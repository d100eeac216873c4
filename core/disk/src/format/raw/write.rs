//! Writing bare bytes: a file with holes where the disk is zero, or with all its space present; or into a pipe.

use std::sync::Arc;

use super::packed;
use crate::{
    copy::{
        output::Output,
        writer::{Spot, Writer},
    },
    error::Result,
    format::new::NewImage,
    shape::Layout,
};

/// The piece in which zeros are left out: the block of common file systems.
const UNIT: u64 = 4096;

struct RawWriter {
    output: Arc<Output>,
}

/// Makes a writer for a raw file.
///
/// # Errors
/// When the file system cannot hold a file of that length.
pub fn create(output: Output, image: &NewImage) -> Result<Box<dyn Writer>> {
    if let Some(kind) = image.wrapping {
        return packed::create(output, kind);
    }
    let size = image.size.unwrap_or(0);
    match image.shape.layout {
        Layout::Full => output.allocate(size)?,
        _ if output.is_pipe() => {}
        _ => output.set_len(size)?,
    }
    Ok(Box::new(RawWriter { output: Arc::new(output) }))
}

impl Writer for RawWriter {
    fn unit(&self) -> u64 {
        UNIT
    }

    fn place(&mut self, offset: u64, _len: u64) -> Result<Spot> {
        Ok(Spot::new(&self.output, offset))
    }

    fn takes_any_order(&self) -> bool {
        !self.output.is_pipe()
    }

    fn placed(&self, offset: u64) -> Option<Spot> {
        Some(Spot::new(&self.output, offset))
    }

    fn finish(&mut self, size: u64) -> Result<()> {
        self.output.set_len(size)
    }
}
