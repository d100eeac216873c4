//! Orphans (section "Orphan file"): files that were deleted or cut short while they were in use. They are given back as the
//! kernel would do it on the next mount.

use super::{
    Ext, checksum,
    inode::{Inode, Time, flags},
    superblock::{compat, ro_compat},
};
use crate::error::Result;
use reformis_disk::to_usize;

const ORPHAN_MAGIC: u32 = 0x0b10_ca04;

impl Ext {
    /// Gives back all orphans.
    pub(crate) fn release_orphans(&mut self) -> Result<()> {
        let mut next = self.sb.s_last_orphan.get();
        // A list that comes back to itself ends when there are no more inodes.
        for _ in 0..self.sb.s_inodes_count.get() {
            if next == 0 {
                break;
            }
            if next < self.sb.first_inode() || !self.is_used(next)? {
                return Err(self
                    .device
                    .damaged(format!("its list of orphans names inode {next}, which is not in use")));
            }
            let mut inode = self.inode(next)?;
            // The time of deletion holds the next one.
            next = inode.deletion();
            self.release_orphan(&mut inode)?;
        }
        self.sb.s_last_orphan = 0.into();
        if self.sb.has_compat(compat::ORPHAN_FILE) && self.sb.has_ro(ro_compat::ORPHAN_PRESENT) {
            self.release_orphan_file()?;
            self.sb.s_feature_ro_compat = (self.sb.s_feature_ro_compat.get() & !ro_compat::ORPHAN_PRESENT).into();
        }
        self.flush()
    }

    #[expect(clippy::indexing_slicing, reason = "blocks of at least 1024 bytes, and places inside them")]
    fn release_orphan(&mut self, inode: &mut Inode) -> Result<()> {
        inode.set_deletion(0);
        if inode.links() == 0 {
            return self.destroy(inode);
        }
        // It was being cut short: what lies behind its end goes.
        if inode.is_file() && !inode.has(flags::INLINE_DATA) {
            let map = self.map(inode)?;
            let size = inode.size();
            let map = self.cut(map, size.div_ceil(self.block as u64))?;
            let inside = to_usize(size % self.block as u64);
            if let Some(physical) = map.block(size / self.block as u64).filter(|_| inside > 0) {
                let mut last = self.read_block(physical)?;
                last[inside..].fill(0);
                self.write_block(physical, &last)?;
            }
            self.lay_map(inode, map)?;
            inode.set_time(Time::Change, self.now);
        }
        self.write_inode(inode)
    }

    #[expect(clippy::indexing_slicing, reason = "blocks of at least 1024 bytes, and places inside them")]
    fn release_orphan_file(&mut self) -> Result<()> {
        let file = self.inode(self.sb.s_orphan_file_inum.get())?;
        let map = self.map(&file)?;
        for logical in 0..file.size().div_ceil(self.block as u64) {
            let Some(physical) = map.block(logical) else { continue };
            let mut bytes = self.read_block(physical)?;
            let tail = self.block - 8;
            let word =
                |bytes: &[u8], at: usize| u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
            if word(&bytes, tail) != ORPHAN_MAGIC {
                return Err(self.device.damaged("a block of its orphan file has no mark"));
            }
            for at in (0..tail).step_by(4) {
                let number = word(&bytes, at);
                if number != 0 {
                    let mut inode = self.inode(number)?;
                    self.release_orphan(&mut inode)?;
                    bytes[at..at + 4].fill(0);
                }
            }
            if self.sb.has_ro(ro_compat::METADATA_CSUM) {
                let seed = checksum::crc32c(self.inode_seed(&file), &physical.to_le_bytes());
                let sum = checksum::crc32c(seed, &bytes[..tail]);
                bytes[tail + 4..].copy_from_slice(&sum.to_le_bytes());
            }
            self.write_block(physical, &bytes)?;
        }
        Ok(())
    }
}
