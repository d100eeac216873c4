//! A partition, and what reading any table of them takes.

use reformis_disk::Disk;
use serde::Serialize;
use uuid::Uuid;

/// What a partition is for, as far as booting goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// EFI system partition.
    Esp,
    /// Second stage of a loader for BIOS.
    BiosBoot,
    /// Part of a dynamic disk of a Windows system: its volumes are told by a database of their own.
    Dynamic,
    /// Part of a pool of disks (Storage Spaces).
    Pool,
    /// Anything else.
    Other,
}

impl Role {
    /// Why what lies in it cannot be read, where the partition alone does not say what that is.
    pub fn trouble(self) -> Option<&'static str> {
        match self {
            Self::Dynamic => Some("it is part of a dynamic disk, whose volumes this version cannot read"),
            Self::Pool => Some("it is part of a pool of disks (Storage Spaces), which this version cannot read"),
            Self::Esp | Self::BiosBoot | Self::Other => None,
        }
    }
}

/// A partition.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Partition {
    /// Its number, from 1, as the table counts.
    pub number: u32,
    /// First byte.
    pub start: u64,
    /// Length in bytes.
    pub size: u64,
    /// What it is for.
    pub role: Role,
    /// Whether the table marks it as the one to boot.
    pub active: bool,
    /// Its own UUID, where the table has one.
    pub uuid: Option<Uuid>,
    /// Its own name, where the table has one.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub label: String,
}

#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
pub(super) fn le32(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap_or_default())
}

#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
pub(super) fn le64(bytes: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap_or_default())
}

/// Whether a partition is inside the disk and holds anything.
pub(super) fn fits(disk: &dyn Disk, start: u64, size: u64) -> bool {
    size > 0 && start.checked_add(size).is_some_and(|end| end <= disk.size())
}
