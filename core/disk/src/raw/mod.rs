//! The guest's bytes as they are.

mod read;
mod write;

pub use read::{RawDisk, open, probe};
pub use write::create;
