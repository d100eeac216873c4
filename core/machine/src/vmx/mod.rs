//! `.vmx` files: a line for each setting, `key = "value"`, keys in any case.
//!
//! Not described in one public place: the keys are those that hosts of this kind write and document one by one.

mod entries;
mod read;
mod write;

pub use read::{looks_like, read};
pub(crate) use write::unknown;
pub use write::write;
