//! The disks of a guest, and the volumes on them.

pub(crate) mod cipher;
mod device;
mod disks;
mod map;

pub use device::Device;
pub use disks::Bench;
pub(crate) use map::{Chunks, Layout, Piece};
