//! VMDK: sparse extents in one file, plain (`thin`) and compressed for transport (`stream`), and disks whose descriptor
//! names the files that hold them.
//!
//! Source: "Virtual Disk Format 5.0", technical note, sections "Hosted Sparse Extents" and "Stream-Optimized
//! Compressed Sparse Extents".

mod descriptor;
mod extents;
mod header;
mod read;
mod starts;
mod stream;
mod write;

pub use descriptor::Descriptor;
pub use read::{open, probe};

use crate::{error::Result, pipeline::Writer, shape::Layout};

/// Makes a writer for a disk of `size` bytes, a multiple of the sector.
///
/// # Errors
/// [`crate::Error::Unwritable`] for a size beyond the format's limit.
pub fn create(file: std::fs::File, name: String, layout: Layout, size: u64) -> Result<Box<dyn Writer>> {
    match layout {
        Layout::Stream => stream::create(file, name, size),
        _ => write::create(file, name, size),
    }
}
