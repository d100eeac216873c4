//! VHDX, the second virtual hard disk format.
//!
//! Source: "[MS-VHDX]: Virtual Hard Disk v2 (VHDX) File Format", sections 2.2 to 2.6.

mod header;
mod log;
mod metadata;
mod parent;
mod read;
mod table;
mod write;

pub use metadata::MAX_SIZE;
pub use read::{open, probe};
pub use write::create;
