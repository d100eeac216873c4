//! qcow2, versions 2 and 3.
//!
//! Source: "QCow2 image file format", the document that travels with the format (`docs/interop/qcow2` of its home
//! project), sections "Header", "Host cluster management" and "Cluster mapping".

mod compressed;
mod header;
mod read;
mod write;

pub use header::MAGIC;
pub use read::{open, probe};
pub use write::create;
