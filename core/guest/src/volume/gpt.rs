//! The GUID partition table (UEFI specification 2.10, chapter 5).

use reformis_disk::{Disk, Result};
use uuid::{Uuid, uuid};

use super::partition::{Partition, Role, fits, le32, le64};

/// EFI system partition.
const ESP: Uuid = uuid!("C12A7328-F81F-11D2-BA4B-00A0C93EC93B");
/// Where a loader for BIOS keeps its second stage on a GPT disk.
const BIOS_BOOT: Uuid = uuid!("21686148-6449-6E6F-744E-656564454649");
/// The database of a dynamic disk, and its data (Windows, `winioctl.h`: `PARTITION_LDM_..._GUID`).
const DYNAMIC: Uuid = uuid!("5808C8AA-7E8F-42E0-85D2-E1E90434CFB3");
const DYNAMIC_DATA: Uuid = uuid!("AF9B60A0-1431-4F62-BC68-3311714A69AD");
/// Part of a pool of disks (`PARTITION_SPACES_GUID`).
const POOL: Uuid = uuid!("E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D");
/// Bytes of a GPT entry that we take; a table may ask for more.
const MAX_ENTRY: u32 = 4096;
const MAX_ENTRIES: u32 = 1024;

/// The partitions of a disk with sectors of `sector` bytes, by the table at its start or the copy at its end.
pub(super) fn read(disk: &dyn Disk, sector: u64) -> Result<Option<Vec<Partition>>> {
    let last = (disk.size() / sector).saturating_sub(1);
    for at in [1, last] {
        let mut header = vec![0; 512];
        if !fits(disk, at * sector, 512) {
            continue;
        }
        disk.read_at(at * sector, &mut header)?;
        if let Some(partitions) = gpt_at(disk, sector, &header)? {
            return Ok(Some(partitions));
        }
    }
    Ok(None)
}

/// The partitions of the table whose header is `header`; `None` when it or its entries are not what their checksums say.
#[expect(clippy::cast_possible_truncation, reason = "numbers of partitions, held to some hundred")]
#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
fn gpt_at(disk: &dyn Disk, sector: u64, header: &[u8]) -> Result<Option<Vec<Partition>>> {
    let size = le32(header, 12) as usize;
    if &header[..8] != b"EFI PART" || !(92..=512).contains(&size) {
        return Ok(None);
    }
    let mut plain = header[..size].to_vec();
    plain[16..20].fill(0);
    let (first, count, each) = (le64(header, 72), le32(header, 80), le32(header, 84));
    if crc32fast::hash(&plain) != le32(header, 16) || !(128..=MAX_ENTRY).contains(&each) || count > MAX_ENTRIES {
        return Ok(None);
    }
    let Some(start) = first.checked_mul(sector) else { return Ok(None) };
    let mut entries = vec![0; count as usize * each as usize];
    if entries.is_empty() || !fits(disk, start, entries.len() as u64) {
        return Ok(None);
    }
    disk.read_at(start, &mut entries)?;
    if crc32fast::hash(&entries) != le32(header, 88) {
        return Ok(None);
    }
    let partition = |(index, bytes): (usize, &[u8])| {
        let kind = Uuid::from_bytes_le(bytes[..16].try_into().unwrap_or_default());
        let (first, last) = (le64(bytes, 32), le64(bytes, 40));
        let start = first.checked_mul(sector)?;
        let size = last.checked_add(1)?.checked_sub(first)?.checked_mul(sector)?;
        let role = match kind {
            ESP => Role::Esp,
            BIOS_BOOT => Role::BiosBoot,
            DYNAMIC | DYNAMIC_DATA => Role::Dynamic,
            POOL => Role::Pool,
            _ => Role::Other,
        };
        let attributes = le64(bytes, 48);
        let active = attributes & 4 != 0;
        let uuid = Some(Uuid::from_bytes_le(bytes[16..32].try_into().unwrap_or_default()));
        // 36 units of UTF-16 (UEFI specification, "GPT Partition Entry").
        let units = bytes[56..128].chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]]));
        let label = char::decode_utf16(units.take_while(|unit| *unit != 0))
            .map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER))
            .collect();
        let partition = Partition { number: index as u32 + 1, start, size, role, active, uuid, label };
        (!kind.is_nil() && fits(disk, start, size)).then_some(partition)
    };
    Ok(Some(entries.chunks_exact(each as usize).enumerate().filter_map(partition).collect()))
}
