//! Thin volumes: blocks of a pool that were taken when they were first written (Linux, `drivers/md/dm-thin-metadata.c`).

use super::{
    segments::{Group, Lay, broken},
    tables,
    text::Section,
};
use crate::bench::Layout;

const MAGIC: u64 = 27_022_010;
const SUPERBLOCK_MIX: u32 = 160_774;
/// Bits of a mapping that say when it was made.
const TIME_BITS: u32 = 24;

impl Group<'_> {
    /// A thin volume, as its pool's metadata has it.
    pub(super) fn thin(&self, lay: &mut Lay, segment: &Section, len: u64, depth: usize) -> Result<(), String> {
        if segment.string("external_origin").is_some() {
            return Err("it is a thin volume above another one, which is not read here".into());
        }
        let pool = segment.string("thin_pool").ok_or_else(broken)?;
        let id = segment.number("device_id").ok_or_else(broken)?;
        let pool = self.only_segment(self.volume(pool)?)?;
        let names = [pool.string("metadata"), pool.string("pool")].map(|name| name.ok_or_else(broken));
        let [metadata, data] = names;
        let (metadata, data) = (self.device_of(metadata?, depth)?, self.lay_of(data?, depth)?);
        let head = tables::block(&metadata, 0, SUPERBLOCK_MIX)?;
        let chunk = u64::from(tables::word(&head, 336)) * 512;
        if tables::long(&head, 32) != MAGIC || chunk == 0 || pool.number("chunk_size") != Some(chunk / 512) {
            return Err("the metadata of its pool is not there".into());
        }
        let mut root = None;
        tables::each(&metadata, tables::long(&head, 320), &mut |device, value| {
            if device == id {
                root = Some(value);
            }
            Ok(())
        })?;
        let base = lay.len();
        if let Some(root) = root {
            tables::each(&metadata, root, &mut |block, value| {
                let start = block.checked_mul(chunk).ok_or_else(broken)?;
                let done = lay.len() - base;
                // What lies behind the volume's end was its own when it was larger.
                if start < done || start >= len {
                    return if start < done { Err(broken()) } else { Ok(()) };
                }
                if start > done {
                    lay.push(start - done, Layout::Nowhere)?;
                }
                let from = (value >> TIME_BITS).checked_mul(chunk).ok_or_else(broken)?;
                lay.push_part(&data, from, chunk.min(len - start))
            })?;
        }
        let done = lay.len() - base;
        if done < len {
            lay.push(len - done, Layout::Nowhere)?;
        }
        lay.sealed =
            Some("it is a thin volume: blocks that it shares, and those that it does not have yet, are its pool's");
        Ok(())
    }
}
