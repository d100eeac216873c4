//! What a guest keeps on its disks, read from outside: partition tables, what lies in each partition, and what a
//! firmware would start. Nothing here writes, and nothing here needs root rights or a mount.

mod bench;
mod boot;
mod error;
mod ext;
mod fat;
mod found;
mod fs;
mod initramfs;
mod lvm;
mod modules;
mod node;
mod partitions;
mod tree;
mod volumes;

pub use bench::{Bench, Device};
pub use boot::{Family, Look, look};
pub use error::{Error, Result};
pub use found::{Found, find, resolve};
pub use node::{Attribute, Kind, New, Owner, Stat};
pub use partitions::{Partition, Role, Table};
pub use tree::Tree;
pub use volumes::{Volume, probe};
