//! VMDK, the sparse extent in one file: plain (`thin`) and compressed for transport (`stream`).
//!
//! Source: "Virtual Disk Format 5.0", technical note, sections "Hosted Sparse Extents" and "Stream-Optimized
//! Compressed Sparse Extents".

mod descriptor;
mod header;
mod read;
mod starts;

pub use descriptor::Descriptor;
pub use read::{open, probe};
