//! `$Bitmap`: which clusters are in use.

use super::{Ntfs, number, record::kind};
use crate::error::Result;

/// Bytes of the bitmap that are looked at at a time.
const PIECE: usize = 64 << 10;

impl Ntfs {
    /// Clusters that are free.
    ///
    /// # Errors
    /// Those of reading.
    pub(super) fn free_clusters(&self) -> Result<u64> {
        let file = self.file(number::BITMAP)?;
        let Some(bitmap) = file.find(kind::DATA, &[]) else { return Ok(0) };
        let mut piece = vec![0; PIECE];
        let (mut used, mut at) = (0, 0);
        let len = self.geometry.clusters.div_ceil(8);
        while at < len {
            let read = self.read_value(bitmap, at, &mut piece)?;
            if read == 0 {
                break;
            }
            let last = self.geometry.clusters - at * 8;
            for (index, byte) in piece.iter().take(read).enumerate() {
                // Bits behind the last cluster are set.
                let left = last.saturating_sub(8 * index as u64).min(8);
                let mask = if left == 8 { 0xff } else { (1_u8 << left) - 1 };
                used += u64::from((byte & mask).count_ones());
            }
            at += read as u64;
        }
        Ok(self.geometry.clusters.saturating_sub(used))
    }
}
