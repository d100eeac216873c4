//! Mirrors (RAID 1): which of the halves is right is written beside each (Linux, `drivers/md/dm-raid.c`, `struct dm_raid_superblock`).

use super::{
    segments::{Group, Lay, broken},
    text::Section,
};
use crate::bench::Layout;

const MAGIC: u32 = 0x6452_6d44;
/// The most halves that one superblock tells of.
const MAX_LEGS: usize = 64;

/// What is written beside a half.
#[derive(Debug, Clone, Copy)]
struct Superblock {
    /// Changes of the mirror that it knows of.
    events: u64,
    /// A bit for each half that failed.
    failed: u64,
    /// Whether all of it was copied to this half.
    is_whole: bool,
}

impl Group<'_> {
    fn superblock(&self, meta: &str, depth: usize) -> Option<Superblock> {
        let device = self.device_of(meta, depth).ok()?;
        let mut bytes = [0; 64];
        device.read(0, &mut bytes).ok()?;
        let (words, _) = bytes.as_chunks::<8>();
        let word = |index: usize| words.get(index).copied().map(u64::from_le_bytes);
        let low = |word: u64| word & u64::from(u32::MAX);
        (low(word(0)?) == u64::from(MAGIC)).then_some(())?;
        // Magic and features, number of halves and the place of this one, then three numbers of 64 bits.
        Some(Superblock { events: word(2)?, failed: word(3)?, is_whole: word(4)? == u64::MAX })
    }

    /// A mirror: all halves that are right are read and written alike.
    pub(super) fn mirrored(&self, lay: &mut Lay, segment: &Section, len: u64, depth: usize) -> Result<(), String> {
        let names: Vec<&str> = segment.strings("raids").collect();
        let pairs = names.as_chunks::<2>().0;
        if pairs.is_empty() || pairs.len() > MAX_LEGS {
            return Err(broken());
        }
        let known: Vec<Option<Superblock>> = pairs.iter().map(|[meta, _]| self.superblock(meta, depth)).collect();
        let newest = known.iter().flatten().max_by_key(|block| block.events);
        let Some(newest) = newest.copied() else {
            return Err("it is a mirror, and nothing tells which of its halves is right".into());
        };
        let mut halves = Vec::new();
        for (number, ([_, data], own)) in pairs.iter().zip(&known).enumerate() {
            let is_right = own.is_some_and(|own| own.events == newest.events && own.is_whole);
            if is_right && newest.failed & 1 << number == 0 {
                // A half on a disk that is not here is one that is missing.
                halves.extend(self.lay_of(data, depth).ok().filter(|half| half.len() >= len));
            }
        }
        if halves.is_empty() {
            return Err("it is a mirror, and none of its halves that are right is on the disks here".into());
        }
        let mut at = 0;
        while at < len {
            let mut legs = Vec::new();
            let mut end = len;
            for half in &halves {
                let piece = half.pieces.iter().find(|piece| piece.start + piece.len > at).ok_or_else(broken)?;
                let Layout::Linear(disk, start) = piece.layout else { return Err(broken()) };
                end = end.min(piece.start + piece.len);
                legs.push((disk, start + (at - piece.start)));
            }
            lay.push(end - at, Layout::Mirrored(legs))?;
            at = end;
        }
        Ok(())
    }
}
