//! VMDK: sparse extents in one file, plain (`thin`) and compressed for transport (`stream`), and disks whose descriptor
//! names the files that hold them: flat, sparse, in pieces, or as datastores keep deltas.
//!
//! Source: "Virtual Disk Format 5.0", technical note, sections "Descriptor File", "Hosted Sparse Extents", "ESX Server
//! Sparse Extents" and "Stream-Optimized Compressed Sparse Extents".

mod datastore;
mod descriptor;
mod extents;
mod header;
mod metadata;
mod parent;
mod read;
mod several;
mod sparse;
mod starts;
mod stream;
mod write;

pub use descriptor::Descriptor;
pub use read::{open, probe};

use crate::{
    SECTOR,
    copy::{output::Output, writer::Writer},
    error::Result,
    format::new::NewImage,
    shape::Layout,
};

/// The largest disk that hosts take, in bytes.
pub const MAX_SIZE: u64 = 62 << 40;

/// Makes a writer.
///
/// # Errors
/// Those of the layout: no room, no further files, no size where one is needed.
pub fn create(output: Output, image: &NewImage) -> Result<Box<dyn Writer>> {
    let size = image.size.unwrap_or(0);
    Ok(match image.shape.layout {
        Layout::Stream => stream::create(output, image.size)?,
        Layout::Full => several::create_flat(output, size)?,
        Layout::Split => several::create_split(output, size)?,
        Layout::Thin => Box::new(write::ThinWriter::new(output, size / SECTOR, true)),
    })
}
