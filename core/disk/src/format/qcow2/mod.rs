//! qcow2, versions 2 and 3.
//!
//! Source: "QCow2 image file format", the document that travels with the format (`docs/interop/qcow2` of its home
//! project), sections "Header", "Header extensions", "Host cluster management", "Cluster mapping" and "Snapshots".

mod checked;
mod compressed;
mod extensions;
mod header;
mod read;
mod refcounts;
mod snapshots;
mod write;

pub use header::MAGIC;
pub use read::{open, probe};
pub use write::{MAX_SIZE, create};
