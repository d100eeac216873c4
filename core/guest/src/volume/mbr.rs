//! The master boot record, with its logical partitions.

use reformis_disk::{Disk, Result};

use super::partition::{Partition, Role, fits, le32};

/// Logical partitions that are followed.
const MAX_LOGICAL: usize = 128;

#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
fn entry(bytes: &[u8], number: u32, base: u64) -> Option<Partition> {
    let kind = bytes[4];
    let start = base.checked_add(u64::from(le32(bytes, 8)))?.checked_mul(512)?;
    let size = u64::from(le32(bytes, 12)).checked_mul(512)?;
    let role = match kind {
        0xef => Role::Esp,
        0x42 => Role::Dynamic,
        _ => Role::Other,
    };
    (kind != 0).then_some(Partition {
        number,
        start,
        size,
        role,
        active: bytes[0] == 0x80,
        uuid: None,
        label: String::new(),
    })
}

fn is_extended(kind: u8) -> bool {
    matches!(kind, 0x05 | 0x0f | 0x85)
}

#[expect(clippy::cast_possible_truncation, reason = "numbers of partitions, held to some hundred")]
#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes, and an entry of either table its known length")]
pub(super) fn primary(disk: &dyn Disk, mbr: &[u8; 512]) -> Result<Vec<Partition>> {
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
