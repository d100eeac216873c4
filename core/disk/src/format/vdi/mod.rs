//! VDI, versions 0.1 and 1.
//!
//! Source: the format's description as its makers published it in their forum ("All about VDIs"), and the field names of
//! that description.

mod header;
mod parent;
mod read;
mod write;

pub use header::probe;
pub use read::open;
pub use write::{MAX_SIZE, create};
