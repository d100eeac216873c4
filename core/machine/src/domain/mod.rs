//! Domain XML, the machine file of libvirt (its documents "Domain XML format" and the schema `domain.rng`).

mod write;

pub use write::{LandedDisk, write};
