//! Who refers to what: noted while a change is made, and written into the tree of extents at its end (Linux, `extent-tree.c`).

use std::collections::BTreeMap;

use super::{
    super::{
        Btrfs,
        block::{Block, Key, key_bytes},
        bytes::{u8_at, u64_at},
        items, roots,
    },
    record::{self, Record, Ref},
};
use crate::error::Result;

/// What is to be written about an extent.
#[derive(Debug, Default)]
pub(super) struct Pending {
    len: u64,
    /// Of a block of a tree.
    level: Option<u8>,
    /// Those above refer to what is below it by the block itself from now on.
    is_full: bool,
    changes: BTreeMap<Ref, i64>,
}

/// By where each extent begins.
pub(super) type Noted = BTreeMap<u64, Pending>;

impl Btrfs {
    fn note(&mut self, at: u64, len: u64, level: Option<u8>, one: Ref, change: i64) -> Result<()> {
        let noted = self.changing()?.refs.entry(at).or_default();
        (noted.len, noted.level) = (len, level);
        let count = noted.changes.entry(one).or_default();
        *count = count.saturating_add(change);
        if *count == 0 {
            noted.changes.remove(&one);
        }
        Ok(())
    }

    pub(super) fn note_block(&mut self, at: u64, level: u8, one: Ref, change: i64) -> Result<()> {
        self.note(at, u64::from(self.sb.node), Some(level), one, change)
    }

    pub(super) fn note_full(&mut self, at: u64, level: u8) -> Result<()> {
        let len = u64::from(self.sb.node);
        let noted = self.changing()?.refs.entry(at).or_default();
        (noted.len, noted.level, noted.is_full) = (len, Some(level), true);
        Ok(())
    }

    /// Notes that bytes of a file are referred to once more, or once less.
    pub(super) fn note_data(&mut self, at: u64, len: u64, one: Ref, change: i64) -> Result<()> {
        self.note(at, len, None, one, change)
    }

    /// Notes one more reference, or one less, to each thing that `block` leads to.
    pub(super) fn refer_all(&mut self, block: &Block, one: Ref, change: i64) -> Result<()> {
        if block.level > 0 {
            for (_, child, _) in block.pointers() {
                self.note_block(child, block.level - 1, one, change)?;
            }
            return Ok(());
        }
        for number in 0..block.count {
            let (key, item) = (block.key(number), block.item(number).unwrap_or_default());
            // Bytes that lie in the item itself, and holes, are nobody else's.
            if key.1 != items::EXTENT || item.len() < 53 || u8_at(item, 20) == 0 || u64_at(item, 21) == 0 {
                continue;
            }
            let one = match one {
                Ref::Data { root, .. } => {
                    Ref::Data { root, inode: key.0, offset: key.2.wrapping_sub(u64_at(item, 37)) }
                }
                other => other,
            };
            self.note_data(u64_at(item, 21), u64_at(item, 29), one, change)?;
        }
        Ok(())
    }

    /// The key of an extent's record, and the record; `None` where it has none.
    fn record(&self, at: u64, len: u64, level: Option<u8>) -> Result<Option<(Key, Record)>> {
        let root = self.root_of(roots::EXTENTS)?;
        let keys = level.map(|level| (at, items::BLOCK, u64::from(level))).into_iter().chain([(at, items::DATA, len)]);
        for key in keys {
            if let Some(item) = self.item(root, key)? {
                let record = Record::parse(&item, key.1 == items::BLOCK);
                let unknown =
                    || self.device.unchangeable(format!("references to what lies at {at} are not known here"));
                return Ok(Some((key, record.ok_or_else(unknown)?)));
            }
        }
        Ok(None)
    }

    /// How many refer to a block, and whether they do it by what lies above it alone.
    pub(super) fn shared(&self, at: u64, level: u8) -> Result<(u64, bool)> {
        let record = self.record(at, u64::from(self.sb.node), Some(level))?;
        let (count, is_full) = record.map_or((0, false), |(_, record)| (record.refs, record.flags & record::FULL != 0));
        let noted = self.change.as_ref().and_then(|change| change.refs.get(&at));
        let more: i64 = noted.map_or(0, |noted| noted.changes.values().sum());
        Ok((count.saturating_add_signed(more), is_full || noted.is_some_and(|noted| noted.is_full)))
    }

    /// Writes all that was noted into the tree of extents; what that changes is noted, and written too. Whether there was anything.
    pub(super) fn write_refs(&mut self) -> Result<bool> {
        let mut any = false;
        while let Some((at, noted)) = self.changing()?.refs.pop_first() {
            any = true;
            if noted.is_full || !noted.changes.is_empty() {
                self.write_ref(at, noted)?;
            } else if self.record(at, noted.len, noted.level)?.is_none() {
                // Taken and given back before anything was written about it but its sums.
                if noted.level.is_none() {
                    self.drop_sums(at, noted.len)?;
                }
                self.give_back(at, noted.len)?;
            }
        }
        Ok(any)
    }

    fn write_ref(&mut self, at: u64, noted: Pending) -> Result<()> {
        let wrong = |this: &Self| this.device.damaged(format!("the tree of extents does not fit what lies at {at}"));
        let known = self.record(at, noted.len, noted.level)?;
        let is_new = known.is_none();
        let is_skinny = self.sb.has_skinny_extents();
        let (key, mut record) = match known {
            Some(known) => known,
            None => {
                let flags = if noted.level.is_some() { record::BLOCK } else { record::DATA };
                let (key, info) = match noted.level {
                    Some(level) if is_skinny => ((at, items::BLOCK, u64::from(level)), Vec::new()),
                    Some(level) => ((at, items::DATA, noted.len), self.block_info(at, level)),
                    None => ((at, items::DATA, noted.len), Vec::new()),
                };
                let generation = self.change_generation();
                (key, Record { refs: 0, generation, flags, info, inline: Vec::new() })
            }
        };
        if noted.is_full {
            record.flags |= record::FULL;
        }
        // Removed first, so that what is added has their room.
        let mut changes: Vec<(Ref, i64)> = noted.changes.into_iter().collect();
        changes.sort_by_key(|(_, change)| *change);
        for (one, change) in changes {
            record.refs = record.refs.checked_add_signed(change).ok_or_else(|| wrong(self))?;
            if let Some(place) = record.inline.iter().position(|(known, _)| *known == one) {
                let left = record.inline.get(place).and_then(|(_, count)| added(*count, change));
                match left.ok_or_else(|| wrong(self))? {
                    0 => drop(record.inline.remove(place)),
                    left => record.inline.iter_mut().skip(place).take(1).for_each(|(_, count)| *count = left),
                }
            } else if let Some((key, count)) = self.own_ref(at, one)? {
                match added(count, change).ok_or_else(|| wrong(self))? {
                    0 => drop(self.take(roots::EXTENTS, key)?),
                    left => self.put(roots::EXTENTS, key, one.own_item(left))?,
                }
            } else {
                let count = added(0, change).ok_or_else(|| wrong(self))?;
                // As much of a leaf as the kernel gives to one extent (`BTRFS_MAX_EXTENT_ITEM_SIZE`).
                if record.takes(one, self.most_item() / 16) {
                    record.inline.push((one, count));
                } else {
                    let key = self.free_key(at, one)?;
                    self.put(roots::EXTENTS, key, one.own_item(count))?;
                }
            }
        }
        if record.refs > 0 {
            self.put(roots::EXTENTS, key, record.encode())?;
            return if is_new { self.count_space(at, noted.len, true) } else { Ok(()) };
        }
        if is_new {
            return Err(wrong(self));
        }
        self.take(roots::EXTENTS, key)?;
        self.count_space(at, noted.len, false)?;
        if noted.level.is_none() {
            self.drop_sums(at, noted.len)?;
        }
        if record.generation == self.change_generation() {
            self.give_back(at, noted.len)?;
        }
        Ok(())
    }

    /// The first key of a block, and its level.
    fn block_info(&self, at: u64, level: u8) -> Vec<u8> {
        let block = self.change.as_ref().and_then(|change| change.block(at));
        let key = block.filter(|block| block.count > 0).map_or((0, 0, 0), |block| block.key(0));
        [&key_bytes(key)[..], &[level]].concat()
    }

    /// The key of a reference that has an item of its own, and how often it refers.
    fn own_ref(&self, at: u64, one: Ref) -> Result<Option<(Key, u32)>> {
        let root = self.root_of(roots::EXTENTS)?;
        let mut key = (at, one.kind(), one.sequence());
        while let Some(item) = self.item(root, key)? {
            match Ref::of_own_item(key.1, key.2, &item) {
                Some((known, count)) if known == one => return Ok(Some((key, count))),
                // Files whose references have the same number stand one behind the other.
                Some(_) => key.2 = key.2.wrapping_add(1),
                None => return Err(self.device.damaged(format!("a reference to what lies at {at} is not sound"))),
            }
        }
        Ok(None)
    }

    /// A key for a reference that gets an item of its own.
    fn free_key(&self, at: u64, one: Ref) -> Result<Key> {
        let root = self.root_of(roots::EXTENTS)?;
        let mut key = (at, one.kind(), one.sequence());
        while self.item(root, key)?.is_some() {
            key.2 = key.2.wrapping_add(1);
        }
        Ok(key)
    }
}

fn added(count: u32, change: i64) -> Option<u32> {
    u32::try_from(i64::from(count) + change).ok()
}
