//! Domain XML, the machine file of libvirt (its documents "Domain XML format" and the schema `domain.rng`).

mod read;
mod write;

pub use read::{looks_like, read};
pub(crate) use write::kept;
pub use write::write;
