//! The guest's bytes as they are.

pub(crate) mod packed;
mod read;
mod write;

pub use read::{RawDisk, open, probe};
pub use write::create;
