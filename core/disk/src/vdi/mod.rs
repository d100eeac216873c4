//! VDI, version 1.1.
//!
//! Source: the format's description as its makers published it in their forum ("All about VDIs"), and the field names of
//! that description.

mod header;
mod read;
mod write;

pub use read::{open, probe};
pub use write::create;
