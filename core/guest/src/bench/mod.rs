//! The disks of a guest, and the volumes on them.

mod device;
mod disks;

pub use device::Device;
pub(crate) use device::{Layout, Piece};
pub use disks::Bench;
