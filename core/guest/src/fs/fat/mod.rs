//! FAT12, FAT16 and FAT32, for EFI system partitions (Microsoft's FAT specification of 2000).

mod names;
mod read;
mod table;
mod volume;
mod write;

use crate::bench::Device;

/// A file system.
pub(crate) struct Fat {
    device: Device,
    geometry: read::Geometry,
    /// The time that changes are made at, in seconds since 1970.
    now: i64,
    /// Where the search for free clusters begins.
    next_free: u64,
}

impl Fat {
    /// The serial number, as `/dev/disk/by-uuid` has it.
    fn serial(&self) -> String {
        let id = self.geometry.volume_id;
        format!("{:04X}-{:04X}", id >> 16, id & 0xffff)
    }
}
