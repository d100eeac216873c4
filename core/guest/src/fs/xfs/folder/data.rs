//! Blocks of entries: each entry where it lies, with free places between them.

use super::Entry;
use crate::fs::xfs::fields::{be16, be32, be64, byte, low8, low16, put, put16, put32, put64, slice};

/// Marks a free place.
const FREE_MARK: u16 = 0xffff;
/// Free places that a block's head names.
const BEST: usize = 3;

/// A block of entries in memory.
#[derive(Debug, Clone)]
pub(super) struct Block {
    /// Entries with their byte in the block.
    pub(super) entries: Vec<(usize, Entry)>,
    /// Bytes of the whole block.
    pub(super) size: usize,
    v5: bool,
    has_kinds: bool,
    /// Whether the folder's index is at the end of the block.
    pub(super) has_index: bool,
}

/// Bytes of the head of a block.
pub(super) fn head(v5: bool) -> usize {
    if v5 { 64 } else { 16 }
}

/// Bytes of an entry with a name of `name` bytes.
pub(super) fn size_of_entry(name: usize, has_kinds: bool) -> usize {
    (8 + 1 + name + usize::from(has_kinds) + 2).next_multiple_of(8)
}

impl Block {
    pub(super) fn empty(size: usize, v5: bool, has_kinds: bool) -> Self {
        Self { entries: Vec::new(), size, v5, has_kinds, has_index: false }
    }

    /// Reads a block.
    ///
    /// # Errors
    /// What is wrong with it, after "a block of the folder …".
    pub(super) fn read(bytes: &[u8], v5: bool, has_kinds: bool) -> Result<Self, &'static str> {
        let has_index = match (slice(bytes, 0, 4), v5) {
            (b"XDD3", true) | (b"XD2D", false) => false,
            (b"XDB3", true) | (b"XD2B", false) => true,
            _ => return Err("does not begin with its mark"),
        };
        let mut end = bytes.len();
        if has_index {
            let count = be32(bytes, end - 8) as usize;
            end = count
                .checked_mul(8)
                .and_then(|index| (end - 8).checked_sub(index))
                .ok_or("has an index without an end")?;
        }
        let mut block = Self { entries: Vec::new(), size: bytes.len(), v5, has_kinds, has_index };
        let mut at = head(v5);
        while at < end {
            if be16(bytes, at) == FREE_MARK {
                let len = usize::from(be16(bytes, at + 2));
                if len < 8 || !len.is_multiple_of(8) || at + len > end {
                    return Err("has a free place that cannot be");
                }
                at += len;
                continue;
            }
            let name = usize::from(byte(bytes, at + 8));
            let len = size_of_entry(name, has_kinds);
            if name == 0 || at + len > end {
                return Err("has an entry that cannot be");
            }
            let kind = if has_kinds { byte(bytes, at + 9 + name) } else { 0 };
            let entry = Entry { name: slice(bytes, at + 9, name).into(), inode: be64(bytes, at), kind };
            block.entries.push((at, entry));
            at += len;
        }
        Ok(block)
    }

    /// Free places: byte and length.
    pub(super) fn free(&self) -> Vec<(usize, usize)> {
        let mut found = Vec::new();
        let mut at = head(self.v5);
        for (start, entry) in &self.entries {
            if *start > at {
                found.push((at, start - at));
            }
            at = start + size_of_entry(entry.name.len(), self.has_kinds);
        }
        if at < self.size {
            found.push((at, self.size - at));
        }
        found
    }

    /// Bytes of the largest free place.
    pub(super) fn best(&self) -> usize {
        self.free().iter().map(|(_, len)| *len).max().unwrap_or(0)
    }

    /// Puts an entry into the first free place that holds it; its byte.
    pub(super) fn add(&mut self, entry: Entry) -> Option<usize> {
        let wanted = size_of_entry(entry.name.len(), self.has_kinds);
        let (at, _) = self.free().into_iter().find(|(_, len)| *len >= wanted)?;
        let index = self.entries.partition_point(|(start, _)| *start < at);
        self.entries.insert(index, (at, entry));
        Some(at)
    }

    /// The bytes of the block; with an index of these hashes and places at its end, when it has one.
    pub(super) fn bytes(&self, index: &[(u32, u32)]) -> Vec<u8> {
        let mut bytes = vec![0; self.size];
        let magic: &[u8] = match (self.has_index, self.v5) {
            (false, true) => b"XDD3",
            (false, false) => b"XD2D",
            (true, true) => b"XDB3",
            (true, false) => b"XD2B",
        };
        put(&mut bytes, 0, magic);
        for (at, entry) in &self.entries {
            put64(&mut bytes, *at, entry.inode);
            put(&mut bytes, at + 8, &[low8(entry.name.len())]);
            put(&mut bytes, at + 9, &entry.name);
            if self.has_kinds {
                put(&mut bytes, at + 9 + entry.name.len(), &[entry.kind]);
            }
            let end = at + size_of_entry(entry.name.len(), self.has_kinds);
            put16(&mut bytes, end - 2, low16(*at));
        }
        let mut free = self.free();
        if self.has_index {
            let room = index.len() * 8 + 8;
            let start = self.size - room;
            for (number, (hash, place)) in index.iter().enumerate() {
                put32(&mut bytes, start + number * 8, *hash);
                put32(&mut bytes, start + number * 8 + 4, *place);
            }
            put32(&mut bytes, self.size - 8, u32::try_from(index.len()).unwrap_or(0));
            if let Some((_, len)) = free.last_mut() {
                *len = len.saturating_sub(room);
            }
            free.retain(|(_, len)| *len > 0);
        }
        for (at, len) in &free {
            put16(&mut bytes, *at, FREE_MARK);
            put16(&mut bytes, at + 2, low16(*len));
            put16(&mut bytes, at + len - 2, low16(*at));
        }
        free.sort_by_key(|(at, len)| (std::cmp::Reverse(*len), *at));
        let best = if self.v5 { 48 } else { 4 };
        for (number, (at, len)) in free.iter().take(BEST).enumerate() {
            put16(&mut bytes, best + number * 4, low16(*at));
            put16(&mut bytes, best + number * 4 + 2, low16(*len));
        }
        bytes
    }

    /// A block with the index of its folder at its end, with these entries one behind the other; `None` when they do not fit.
    pub(super) fn with_index(entries: &[Entry], size: usize, v5: bool, has_kinds: bool) -> Option<Self> {
        let mut block = Self { has_index: true, ..Self::packed(entries, size, v5, has_kinds)? };
        let used = block.entries.last().map_or(head(v5), |(at, entry)| at + size_of_entry(entry.name.len(), has_kinds));
        block.has_index = used + entries.len() * 8 + 8 <= size;
        block.has_index.then_some(block)
    }

    /// A block with these entries one behind the other; `None` when they do not fit.
    pub(super) fn packed(entries: &[Entry], size: usize, v5: bool, has_kinds: bool) -> Option<Self> {
        let mut block = Self::empty(size, v5, has_kinds);
        let mut at = head(v5);
        for entry in entries {
            let len = size_of_entry(entry.name.len(), has_kinds);
            if at + len > size {
                return None;
            }
            block.entries.push((at, entry.clone()));
            at += len;
        }
        Some(block)
    }
}
