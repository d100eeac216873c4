//! What items of the log say, as far as more than one part of the replay wants it.

use super::transactions::{Item, le16, le32, le64};

/// Kinds of items.
pub(super) mod kind {
    pub const EFI: u16 = 0x1236;
    pub const EFD: u16 = 0x1237;
    pub const INODE: u16 = 0x123b;
    pub const BUFFER: u16 = 0x123c;
    pub const QUOTA: u16 = 0x123d;
    pub const QUOTA_OFF: u16 = 0x123e;
    pub const INODE_CREATE: u16 = 0x123f;
    pub const RUI: u16 = 0x1240;
    pub const RUD: u16 = 0x1241;
    pub const CUI: u16 = 0x1242;
    pub const CUD: u16 = 0x1243;
    pub const BUI: u16 = 0x1244;
    pub const BUD: u16 = 0x1245;
    pub const ATTRI: u16 = 0x1246;
    pub const ATTRD: u16 = 0x1247;
}

/// Bytes that one bit of a buffer's map stands for.
const CHUNK: usize = 128;

/// A buffer that was changed.
#[derive(Debug)]
pub(super) struct Buffer<'a> {
    item: &'a Item,
    /// First sector of 512 bytes.
    pub(super) sector: u64,
    /// Bytes.
    pub(super) len: usize,
    pub(super) flags: u16,
}

impl<'a> Buffer<'a> {
    pub(super) const INODES: u16 = 1;
    pub(super) const CANCEL: u16 = 2;
    pub(super) const QUOTAS: u16 = 0x1c;

    pub(super) fn of(item: &'a Item) -> Self {
        let head = item.region(0);
        Self { item, sector: le64(head, 8), len: usize::from(le16(head, 6)) * 512, flags: le16(head, 4) }
    }

    /// What kind of structure is in it.
    pub(super) fn structure(&self) -> u16 {
        self.flags >> 11
    }

    pub(super) fn is_cancel(&self) -> bool {
        self.flags & Self::CANCEL != 0
    }

    /// The stretches that changed, each with its first byte in the buffer.
    pub(super) fn changes(&self) -> Vec<(usize, &'a [u8])> {
        let head = self.item.region(0);
        let bits = (le32(head, 16) as usize).min(head.len() / 4) * 32;
        let is_set = |bit: usize| le32(head, 20 + bit / 32 * 4) >> (bit % 32) & 1 != 0;
        let mut found = Vec::new();
        let mut bit = 0;
        for region in self.item.regions.iter().skip(1) {
            while bit < bits && !is_set(bit) {
                bit += 1;
            }
            let start = bit;
            // A stretch may be split over regions.
            while bit < bits && is_set(bit) && bit - start < region.len().div_ceil(CHUNK) {
                bit += 1;
            }
            let len = ((bit - start) * CHUNK).min(region.len());
            found.push((start * CHUNK, region.get(..len).unwrap_or_default()));
        }
        found
    }
}
