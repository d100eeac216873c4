//! Sums of bytes of files: one after the other for each sector, in items of many (Linux, `file-item.c`).

use std::ops::ControlFlow;

use reformis_disk::to_usize;

use super::super::{Btrfs, items, roots};
use crate::error::Result;

/// Bytes of sums in one item that is made here.
const MOST: usize = 2048;
/// Items that are changed at once.
const AT_ONCE: usize = 256;

impl Btrfs {
    /// Adds the sums of `bytes`, whole sectors that lie at `start`.
    pub(super) fn add_sums(&mut self, start: u64, bytes: &[u8]) -> Result<()> {
        let sector = self.sb.sector as usize;
        let each = (MOST.min(self.most_item() / 2) / self.sb.sum.len()).max(1);
        for (number, part) in (0..).zip(bytes.chunks(each * sector)) {
            let sums: Vec<u8> = part.chunks(sector).flat_map(|sector| self.sb.sum.make(sector)).collect();
            let at = start + number * (each * sector) as u64;
            self.put(roots::SUMS, (items::SUMS, items::SUM, at), sums)?;
        }
        Ok(())
    }

    /// Takes away the sums of `len` bytes from `start` on; those around them in the same items stay.
    pub(super) fn drop_sums(&mut self, start: u64, len: u64) -> Result<()> {
        let (sector, each, end) = (u64::from(self.sb.sector), self.sb.sum.len(), start.saturating_add(len));
        loop {
            let met = self.sums_between(start, end)?;
            if met.is_empty() {
                return Ok(());
            }
            for (at, item) in met {
                if !self.take(roots::SUMS, (items::SUMS, items::SUM, at))? {
                    return Err(self.unordered());
                }
                let before = to_usize(start.saturating_sub(at) / sector) * each;
                let until = to_usize(end.saturating_sub(at) / sector) * each;
                if let Some(left) = item.get(..before).filter(|left| !left.is_empty() && at < start) {
                    self.put(roots::SUMS, (items::SUMS, items::SUM, at), left.to_vec())?;
                }
                if let Some(right) = item.get(until..).filter(|right| right.len() >= each) {
                    self.put(roots::SUMS, (items::SUMS, items::SUM, end), right.to_vec())?;
                }
            }
        }
    }

    /// Items with sums of what lies between `start` and `end`, some of them.
    fn sums_between(&self, start: u64, end: u64) -> Result<Vec<(u64, Vec<u8>)>> {
        let (sector, each) = (u64::from(self.sb.sector), self.sb.sum.len());
        let mut met = Vec::new();
        self.items(self.root_of(roots::SUMS)?, (items::SUMS, items::SUM, start), &mut |key, item| {
            if (key.0, key.1) == (items::SUMS, items::SUM) && key.2 < end && met.len() < AT_ONCE {
                let stop = key.2.saturating_add((item.len() / each) as u64 * sector);
                if stop > start {
                    met.push((key.2, item.to_vec()));
                }
                return Ok(ControlFlow::Continue(()));
            }
            let is_before = (key.0, key.1) < (items::SUMS, items::SUM);
            Ok(if is_before { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
        })?;
        Ok(met)
    }
}
