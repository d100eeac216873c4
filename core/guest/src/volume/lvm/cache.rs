//! Cached volumes: what was written to the cache and not yet to its place is read from the cache (Linux,
//! `drivers/md/dm-cache-metadata.c`).

use std::collections::BTreeMap;

use super::{
    segments::{Group, Lay, broken},
    tables,
    text::Section,
};

// Octal, as it stands there.
const MAGIC: u64 = 0o6_142_003;
const SUPERBLOCK_MIX: u32 = 9_031_977;
/// Flags of a mapping, below the number of its block.
const FLAG_BITS: u32 = 16;
const VALID: u64 = 1;
const DIRTY: u64 = 2;
/// What a block of the cache takes in memory.
const REMEMBERED: u64 = 64;

impl Group<'_> {
    /// A volume with a cache before it.
    pub(super) fn cached(&self, lay: &mut Lay, segment: &Section, len: u64, depth: usize) -> Result<(), String> {
        let origin = self.lay_of(segment.string("origin").ok_or_else(broken)?, depth)?;
        let Some(pool) = segment.string("cache_pool") else {
            return Err("its cache is a single volume, which is not read here".into());
        };
        let pool = self.only_segment(self.volume(pool)?)?;
        let mode = segment.string("cache_mode").or_else(|| pool.string("cache_mode")).unwrap_or("writethrough");
        lay.sealed = Some("it has a cache before it, which would not know of the change");
        if mode != "writeback" {
            return lay.push_part(&origin, 0, len);
        }
        let names = [pool.string("metadata"), pool.string("data")].map(|name| name.ok_or_else(broken));
        let [metadata, data] = names;
        let (metadata, data) = (self.device_of(metadata?, depth)?, self.lay_of(data?, depth)?);
        let head = tables::block(&metadata, 0, SUPERBLOCK_MIX)?;
        let chunk = u64::from(tables::word(&head, 232)) * 512;
        if tables::long(&head, 32) != MAGIC || chunk == 0 {
            return Err("the metadata of its cache is not there".into());
        }
        // A cache that was not shut down knows less than it has: then all of it may be newer.
        let was_shut_down = tables::word(&head, 4) & 1 != 0;
        let mut hold = self.bench.budget().hold();
        let mut dirty_bits: Vec<u64> = Vec::new();
        let has_bits = tables::word(&head, 40) >= 2;
        if has_bits && was_shut_down {
            tables::array(&metadata, tables::long(&head, 284), |_, bits| {
                hold.grow(8).map_err(|error| error.to_string())?;
                dirty_bits.push(bits);
                Ok(())
            })?;
        }
        let mut newer: BTreeMap<u64, u64> = BTreeMap::new();
        tables::array(&metadata, tables::long(&head, 192), |block, value| {
            let by_bit = || {
                let word = usize::try_from(block / 64).ok().and_then(|index| dirty_bits.get(index));
                word.is_some_and(|bits| bits >> (block % 64) & 1 != 0)
            };
            let is_dirty = !was_shut_down || if has_bits { by_bit() } else { value & DIRTY != 0 };
            if value & VALID != 0 && is_dirty {
                hold.grow(REMEMBERED).map_err(|error| error.to_string())?;
                newer.insert(value >> FLAG_BITS, block);
            }
            Ok(())
        })?;
        let mut done = 0;
        for (block, cached) in newer {
            let start = block.checked_mul(chunk).ok_or_else(broken)?;
            if start >= len {
                break;
            }
            lay.push_part(&origin, done, start - done)?;
            done = (start + chunk).min(len);
            lay.push_part(&data, cached.checked_mul(chunk).ok_or_else(broken)?, done - start)?;
        }
        lay.push_part(&origin, done, len - done)
    }
}
