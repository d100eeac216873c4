//! VHD, the first virtual hard disk format.
//!
//! Source: "Virtual Hard Disk Image Format Specification", version 1.0.

mod footer;
mod parent;
mod read;
mod write;

pub use footer::COOKIE;
pub use read::open;
pub use write::{MAX_SIZE, create};
