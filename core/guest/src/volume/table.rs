//! Partition tables: the master boot record with its logical partitions, and the GUID partition table (UEFI
//! specification 2.10, chapter 5).

use reformis_disk::{Disk, Result};
use serde::Serialize;

use super::{gpt, mbr, partition::Partition};

/// The kind of partition table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Table {
    /// Master boot record.
    Mbr,
    /// GUID partition table.
    Gpt,
}

/// Reads the partition table; `None` when there is none. A partition that reaches beyond the disk is left out.
#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
pub(crate) fn read(disk: &dyn Disk) -> Result<Option<(Table, Vec<Partition>)>> {
    if disk.size() < 1024 {
        return Ok(None);
    }
    let mut first = [0; 512];
    disk.read_at(0, &mut first)?;
    if first[510..] != [0x55, 0xaa] || is_boot_sector(&first) {
        return Ok(None);
    }
    let protective = (0..4).any(|index| first[446 + index * 16 + 4] == 0xee);
    if protective {
        for sector in [512, 4096] {
            if let Some(partitions) = gpt::read(disk, sector)? {
                return Ok(Some((Table::Gpt, partitions)));
            }
        }
    }
    Ok(Some((Table::Mbr, mbr::primary(disk, &first)?)))
}

/// Whether a sector with the mark of a master boot record is the first of a file system without partitions.
#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
fn is_boot_sector(sector: &[u8; 512]) -> bool {
    let has = |at: usize, mark: &[u8]| &sector[at..at + mark.len()] == mark;
    has(3, b"NTFS    ") || has(3, b"-FVE-FS-") || has(3, b"EXFAT   ") || has(54, b"FAT1") || has(82, b"FAT32")
}
