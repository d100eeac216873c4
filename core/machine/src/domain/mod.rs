//! Domain XML, the machine file of libvirt (its documents "Domain XML format" and the schema `domain.rng`).

mod read;
mod served;
mod write;

pub use read::{looks_like, read};
pub use served::{Served, ServedAt};
pub(crate) use write::kept;
pub use write::{write, write_served};
