//! The table of clusters, and the count of those that are free.

use reformis_disk::to_usize;

use super::Fat;
use crate::error::{Error, Result};

/// Entries of the table that are looked at together: an even number, so that a piece of 12 bits each ends with a byte.
const PIECE: u64 = 32 << 10;
/// Byte of the count in its sector, and what it says when it is not known (section "FAT32 FSInfo Sector Structure").
const FREE_COUNT: u64 = 488;
const NOT_KNOWN: u32 = u32::MAX;

impl Fat {
    /// Byte of the entry of `cluster` in the table at `table`, and its length.
    fn entry_place(&self, table: u64, cluster: u32) -> (u64, usize) {
        let number = u64::from(cluster);
        match self.geometry.bits {
            12 => (table + number + number / 2, 2),
            16 => (table + number * 2, 2),
            _ => (table + number * 4, 4),
        }
    }

    /// What the table at `table` says of `cluster`, with the bits that belong to others.
    fn raw(&self, table: u64, cluster: u32) -> Result<u32> {
        let (at, len) = self.entry_place(table, cluster);
        let mut bytes = [0; 4];
        self.read(at, bytes.get_mut(..len).unwrap_or_default())?;
        Ok(u32::from_le_bytes(bytes))
    }

    /// The cluster behind `cluster`; `None` at the end of the chain.
    pub(super) fn next(&self, cluster: u32) -> Result<Option<u32>> {
        let raw = self.raw(self.geometry.table, cluster)?;
        let value = match self.geometry.bits {
            12 if cluster.is_multiple_of(2) => raw & 0xfff,
            12 => raw >> 4,
            16 => raw,
            _ => raw & 0x0fff_ffff,
        };
        Ok(Some(value).filter(|&next| self.has(next)))
    }

    /// Lets all tables say `value` of `cluster`.
    fn set(&self, cluster: u32, value: u32) -> Result<()> {
        for &table in &self.geometry.tables {
            let raw = self.raw(table, cluster)?;
            let new = match self.geometry.bits {
                12 if cluster.is_multiple_of(2) => raw & 0xf000 | value & 0x0fff,
                12 => raw & 0x000f | (value & 0x0fff) << 4,
                16 => value & 0xffff,
                // The upper four bits are kept.
                _ => raw & 0xf000_0000 | value & 0x0fff_ffff,
            };
            let (at, len) = self.entry_place(table, cluster);
            self.device.write(at, new.to_le_bytes().get(..len).unwrap_or_default())?;
        }
        Ok(())
    }

    /// Calls `each` with every cluster from `first` on that is free, until it says that it is enough. The table is looked
    /// through in pieces: it may have 1 GiB.
    fn each_free(&self, first: u64, mut each: impl FnMut(u32) -> bool) -> Result<()> {
        let bits = u64::from(self.geometry.bits);
        let end = self.geometry.clusters + 2;
        let mut piece = vec![0; to_usize(PIECE * bits / 8)];
        let start = first.max(2) / PIECE * PIECE;
        for base in (start..end).step_by(to_usize(PIECE)) {
            let count = PIECE.min(end - base);
            let len = to_usize((count * bits).div_ceil(8));
            let table = piece.get_mut(..len).unwrap_or_default();
            self.read(self.geometry.table + base * bits / 8, table)?;
            let byte = |at: u64| u32::from(table.get(to_usize(at)).copied().unwrap_or(0));
            for cluster in base.max(first).max(2)..base + count {
                let at = (cluster - base) * bits / 8;
                let value = match (bits, cluster % 2) {
                    (12, 0) => byte(at) | (byte(at + 1) & 0xf),
                    (12, _) => byte(at) >> 4 | byte(at + 1),
                    (16, _) => byte(at) | byte(at + 1),
                    _ => byte(at) | byte(at + 1) | byte(at + 2) | (byte(at + 3) & 0x0f),
                };
                let Ok(number) = u32::try_from(cluster) else { return Ok(()) };
                if value == 0 && !each(number) {
                    return Ok(());
                }
            }
        }
        Ok(())
    }

    /// Number of free clusters.
    pub(super) fn free_clusters(&self) -> Result<u64> {
        let mut free = 0;
        self.each_free(2, |_| {
            free += 1;
            true
        })?;
        Ok(free)
    }

    /// Takes `count` clusters, makes a chain of them, and links it behind `last`.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; nothing is changed then.
    pub(super) fn allocate(&mut self, count: u64, last: Option<u32>) -> Result<Vec<u32>> {
        let wanted = to_usize(count);
        let mut taken: Vec<u32> = Vec::new();
        if wanted > 0 {
            let hint = self.next_free;
            for (first, until) in [(hint, u64::MAX), (2, hint)] {
                self.each_free(first, |number| {
                    if u64::from(number) < until && taken.len() < wanted {
                        taken.push(number);
                    }
                    taken.len() < wanted && u64::from(number) < until
                })?;
            }
        }
        if taken.len() < wanted {
            let unit = format!("clusters of {} bytes", self.geometry.cluster);
            let free = self.free_clusters()?;
            return Err(Error::NoRoom { volume: self.device.name().into(), unit, needed: count, free });
        }
        let mut before = last;
        for &cluster in &taken {
            if let Some(before) = before {
                self.set(before, cluster)?;
            }
            before = Some(cluster);
        }
        if let (Some(end), false) = (before, taken.is_empty()) {
            self.set(end, u32::MAX)?;
            self.next_free = u64::from(end) + 1;
        }
        self.count_free(-i64::try_from(count).unwrap_or(i64::MAX))?;
        Ok(taken)
    }

    /// Gives back clusters; what comes before them ends at `last` then.
    pub(super) fn release(&mut self, clusters: &[u32], last: Option<u32>) -> Result<()> {
        if clusters.is_empty() {
            return Ok(());
        }
        if let Some(last) = last {
            self.set(last, u32::MAX)?;
        }
        clusters.iter().try_for_each(|cluster| self.set(*cluster, 0))?;
        self.count_free(clusters.len() as i64)
    }

    /// Adds to the count of free clusters, where one is kept.
    fn count_free(&self, more: i64) -> Result<()> {
        let Some(info) = self.geometry.info else { return Ok(()) };
        let mut bytes = [0; 4];
        self.read(info + FREE_COUNT, &mut bytes)?;
        let count = u32::from_le_bytes(bytes);
        if count == NOT_KNOWN {
            return Ok(());
        }
        // A count that was wrong is not made right by counting on: it is not known.
        let new = u32::try_from(i64::from(count) + more).ok().filter(|new| u64::from(*new) <= self.geometry.clusters);
        self.device.write(info + FREE_COUNT, &new.unwrap_or(NOT_KNOWN).to_le_bytes())
    }
}
