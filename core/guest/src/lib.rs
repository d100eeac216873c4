//! What a guest keeps on its disks, read from outside: partition tables, what lies in each partition, and what a
//! firmware would start. Nothing here writes, and nothing here needs root rights or a mount.

mod boot;
mod esp;
mod partitions;
mod volumes;

pub use boot::{Family, Look, look};
pub use partitions::{Partition, Role, Table};
pub use volumes::{Volume, probe};
