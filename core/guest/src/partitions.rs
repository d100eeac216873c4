//! Partition tables: the master boot record with its logical partitions, and the GUID partition table (UEFI
//! specification 2.10, chapter 5).

use reformis_disk::{Disk, Result};
use serde::Serialize;
use uuid::{Uuid, uuid};

/// EFI system partition.
const ESP: Uuid = uuid!("C12A7328-F81F-11D2-BA4B-00A0C93EC93B");
/// Where a loader for BIOS keeps its second stage on a GPT disk.
const BIOS_BOOT: Uuid = uuid!("21686148-6449-6E6F-744E-656564454649");
/// Bytes of a GPT entry that we take; a table may ask for more.
const MAX_ENTRY: u32 = 4096;
const MAX_ENTRIES: u32 = 1024;
/// Logical partitions that are followed.
const MAX_LOGICAL: usize = 128;

/// The kind of partition table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Table {
    /// Master boot record.
    Mbr,
    /// GUID partition table.
    Gpt,
}

/// What a partition is for, as far as booting goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// EFI system partition.
    Esp,
    /// Second stage of a loader for BIOS.
    BiosBoot,
    /// Anything else.
    Other,
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
}

#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
fn le32(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap_or_default())
}

#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
fn le64(bytes: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap_or_default())
}

/// Reads the partition table; `None` when there is none. A partition that reaches beyond the disk is left out.
#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
pub(crate) fn read(disk: &dyn Disk) -> Result<Option<(Table, Vec<Partition>)>> {
    if disk.size() < 1024 {
        return Ok(None);
    }
    let mut mbr = [0; 512];
    disk.read_at(0, &mut mbr)?;
    if mbr[510..] != [0x55, 0xaa] || is_boot_sector(&mbr) {
        return Ok(None);
    }
    let protective = (0..4).any(|index| mbr[446 + index * 16 + 4] == 0xee);
    if protective {
        for sector in [512, 4096] {
            if let Some(partitions) = gpt(disk, sector)? {
                return Ok(Some((Table::Gpt, partitions)));
            }
        }
    }
    Ok(Some((Table::Mbr, primary(disk, &mbr)?)))
}

/// Whether a sector with the mark of a master boot record is the first of a file system without partitions.
#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
fn is_boot_sector(sector: &[u8; 512]) -> bool {
    let has = |at: usize, mark: &[u8]| &sector[at..at + mark.len()] == mark;
    has(3, b"NTFS    ") || has(3, b"-FVE-FS-") || has(3, b"EXFAT   ") || has(54, b"FAT1") || has(82, b"FAT32")
}

/// Whether a partition is inside the disk and holds anything.
fn fits(disk: &dyn Disk, start: u64, size: u64) -> bool {
    size > 0 && start.checked_add(size).is_some_and(|end| end <= disk.size())
}

#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
fn entry(bytes: &[u8], number: u32, base: u64) -> Option<Partition> {
    let kind = bytes[4];
    let start = base.checked_add(u64::from(le32(bytes, 8)))?.checked_mul(512)?;
    let size = u64::from(le32(bytes, 12)).checked_mul(512)?;
    let role = if kind == 0xef { Role::Esp } else { Role::Other };
    (kind != 0).then_some(Partition { number, start, size, role, active: bytes[0] == 0x80, uuid: None })
}

fn is_extended(kind: u8) -> bool {
    matches!(kind, 0x05 | 0x0f | 0x85)
}

#[expect(clippy::cast_possible_truncation, reason = "numbers of partitions, held to some hundred")]
#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
fn primary(disk: &dyn Disk, mbr: &[u8; 512]) -> Result<Vec<Partition>> {
    let mut partitions = Vec::new();
    for index in 0..4 {
        let bytes = &mbr[446 + index * 16..][..16];
        let Some(partition) = entry(bytes, index as u32 + 1, 0) else { continue };
        if !fits(disk, partition.start, partition.size) {
            continue;
        }
        if is_extended(bytes[4]) {
            logical(disk, partition.start / 512, &mut partitions)?;
        } else {
            partitions.push(partition);
        }
    }
    partitions.sort_by_key(|partition| partition.number);
    Ok(partitions)
}

/// Follows the chain of tables that starts at sector `first`; each next one is relative to the first.
#[expect(clippy::cast_possible_truncation, reason = "numbers of partitions, held to some hundred")]
#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
fn logical(disk: &dyn Disk, first: u64, partitions: &mut Vec<Partition>) -> Result<()> {
    let mut at = first;
    for number in 0..MAX_LOGICAL {
        let mut table = [0; 512];
        if !fits(disk, at * 512, 512) {
            return Ok(());
        }
        disk.read_at(at * 512, &mut table)?;
        if table[510..] != [0x55, 0xaa] {
            return Ok(());
        }
        let found = entry(&table[446..462], number as u32 + 5, at);
        partitions.extend(found.filter(|partition| fits(disk, partition.start, partition.size)));
        let next = &table[462..478];
        if !is_extended(next[4]) {
            return Ok(());
        }
        at = first + u64::from(le32(next, 8));
    }
    Ok(())
}

fn gpt(disk: &dyn Disk, sector: u64) -> Result<Option<Vec<Partition>>> {
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
            _ => Role::Other,
        };
        let attributes = le64(bytes, 48);
        let active = attributes & 4 != 0;
        let uuid = Some(Uuid::from_bytes_le(bytes[16..32].try_into().unwrap_or_default()));
        let partition = Partition { number: index as u32 + 1, start, size, role, active, uuid };
        (!kind.is_nil() && fits(disk, start, size)).then_some(partition)
    };
    Ok(Some(entries.chunks_exact(each as usize).enumerate().filter_map(partition).collect()))
}
