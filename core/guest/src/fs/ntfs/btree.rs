//! Changing an index: entries in and out of its tree, whose blocks are split when they are full and given back when they are empty.

use std::cmp::Ordering;

use reformis_disk::to_usize;

use super::{
    Ntfs,
    bitmap::set_bits,
    file::File,
    index::{Entry, Index, block_with, entries_at, root_with},
    record::{Attribute, Mapped, STRIDE, Value, kind},
    store::{NEW, made},
    stream::fix,
};
use crate::error::{Error, Result};

/// How the keys of an index are ordered; `None` for a damaged one.
pub(super) type Order<'a> = &'a dyn Fn(&Ntfs, &[u8], &[u8]) -> Option<Ordering>;

/// A node on the way, its entries, and which of them leads on.
type Step = (Option<u64>, Vec<Entry>, usize);

/// An index that is changed. Its file is stored by the caller afterwards.
pub(super) struct Tree<'a> {
    pub(super) fs: &'a mut Ntfs,
    pub(super) file: &'a mut File,
    /// The name of the index.
    pub(super) name: &'a [u16],
    pub(super) order: Order<'a>,
}

impl Tree<'_> {
    fn damaged(&self, what: &str) -> Error {
        self.fs.device.damaged(format!("file record {} {what}", self.file.number))
    }

    fn index(&self) -> Result<Index<'_>> {
        Index::of(self.fs, self.file, self.name)
    }

    /// The way to where `key` is, or would be; whether it is there.
    fn path_to(&self, key: &[u8]) -> Result<(Vec<Step>, bool)> {
        let index = self.index()?;
        let mut path: Vec<Step> = Vec::new();
        let mut number = None;
        loop {
            if path.len() > 24 {
                return Err(self.damaged("has an index that is too deep"));
            }
            let entries = index.node(number)?;
            let mut place = entries.len() - 1;
            let mut is_there = false;
            for (at, entry) in entries.iter().enumerate().filter(|(_, entry)| !entry.is_last) {
                let order = (self.order)(self.fs, key, &entry.key);
                match order.ok_or_else(|| self.damaged("has an index with a damaged key"))? {
                    Ordering::Greater => continue,
                    other => {
                        (place, is_there) = (at, other == Ordering::Equal);
                        break;
                    }
                }
            }
            let below = entries.get(place).and_then(|entry| entry.below);
            path.push((number, entries, place));
            if is_there || below.is_none() {
                return Ok((path, is_there));
            }
            number = below;
        }
    }

    fn attribute(&mut self, kind: u32) -> Result<usize> {
        let found = self.file.attributes.iter().position(|one| one.kind == kind && one.name == self.name);
        found.ok_or_else(|| self.damaged("has an index without all its attributes"))
    }

    /// Calls `work` with an attribute of the index, which is taken out meanwhile.
    fn with<T>(&mut self, kind: u32, work: impl FnOnce(&mut Ntfs, &mut Attribute) -> Result<T>) -> Result<T> {
        let place = self.attribute(kind)?;
        let mut attribute = self.file.attributes.swap_remove(place);
        let outcome = work(self.fs, &mut attribute);
        self.file.attributes.push(attribute);
        outcome
    }

    /// Bytes that the entries of a node may take.
    fn room(&self, number: Option<u64>) -> Result<usize> {
        let block = to_usize(self.index()?.block);
        Ok(match number {
            Some(_) => block.saturating_sub(24 + entries_at(block)),
            // The root shares its record with all else that the file has.
            None => self.fs.geometry.record / 2 - 48,
        })
    }

    fn fits(&self, number: Option<u64>, entries: &[Entry]) -> Result<bool> {
        Ok(entries.iter().map(Entry::len).sum::<usize>() <= self.room(number)?)
    }

    fn write(&mut self, number: Option<u64>, entries: &[Entry]) -> Result<()> {
        let Some(number) = number else {
            return self.with(kind::INDEX_ROOT, |_, root| {
                if let Value::Resident { bytes, .. } = &mut root.value {
                    *bytes = root_with(bytes, entries);
                }
                Ok(())
            });
        };
        let index = self.index()?;
        let (offset, mut bytes) = (number * index.unit, block_with(&index.bytes(number)?, entries));
        let fixed = fix(&mut bytes);
        self.with(kind::INDEX_ALLOCATION, |fs, blocks| fs.overwrite(blocks, offset, &fixed))
    }

    /// Takes a block for the tree.
    fn take_block(&mut self) -> Result<u64> {
        let index = self.index()?;
        let (block, unit) = (index.block, index.unit);
        for kind in [kind::INDEX_ALLOCATION, kind::BITMAP] {
            if self.file.find(kind, self.name).is_none() {
                let mut attribute = made(kind, self.name, Vec::new());
                if kind == kind::INDEX_ALLOCATION {
                    let none = Mapped { runs: Vec::new(), allocated: 0, size: 0, initialized: 0, unit: 0 };
                    attribute.value = Value::Mapped(none);
                }
                attribute.id = NEW;
                self.file.attributes.push(attribute);
            }
        }
        let blocks = self.file.find(kind::INDEX_ALLOCATION, self.name).map_or(0, Attribute::size) / block;
        let free = self.with(kind::BITMAP, |fs, bits| {
            let mut bytes = fs.all_of(bits)?;
            let is_set =
                |number: &u64| bytes.get(to_usize(number / 8)).is_some_and(|byte| byte >> (number % 8) & 1 == 1);
            let free = (0..blocks).find(|number| !is_set(number)).unwrap_or(blocks);
            let len = bytes.len().max(to_usize(free / 64 + 1) * 8);
            bytes.resize(len, 0);
            set_bits(&mut bytes, free..free + 1, true);
            fs.put(bits, 0, &bytes)?;
            Ok(free)
        })?;
        let offset = free * block;
        let number = offset / unit;
        let mut bytes = vec![0; to_usize(block)];
        let head = [
            &b"INDX"[..],
            &40_u16.to_le_bytes(),
            &u16::try_from(bytes.len() / STRIDE + 1).unwrap_or_default().to_le_bytes(),
        ];
        bytes.splice(..8, head.concat());
        bytes.splice(16..24, number.to_le_bytes());
        let mut bytes = block_with(&bytes, &[Entry::last(None)]);
        let fixed = fix(&mut bytes);
        self.with(kind::INDEX_ALLOCATION, |fs, blocks| fs.put(blocks, offset, &fixed))?;
        Ok(number)
    }

    fn free_block(&mut self, number: u64) -> Result<()> {
        let index = self.index()?;
        let place = number * index.unit / index.block;
        self.with(kind::BITMAP, |fs, bits| {
            let mut bytes = fs.all_of(bits)?;
            set_bits(&mut bytes, place..place + 1, false);
            fs.put(bits, 0, &bytes)
        })
    }

    /// Puts an entry in; its key is not there yet.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; those of reading and writing.
    pub(super) fn insert(&mut self, entry: Entry) -> Result<()> {
        let (mut path, is_there) = self.path_to(&entry.key)?;
        if is_there {
            return Err(self.damaged("has an index that holds something already"));
        }
        let Some((number, mut entries, place)) = path.pop() else { return Ok(()) };
        entries.insert(place, entry);
        self.settle(number, entries, path)
    }

    /// Writes the entries of a node to which `path` leads: it is split as long as they do not fit.
    fn settle(&mut self, mut number: Option<u64>, mut entries: Vec<Entry>, mut path: Vec<Step>) -> Result<()> {
        while !self.fits(number, &entries)? {
            let Some(full) = number else {
                // The root's entries go into a block below it, and that is split when it is too full.
                let block = self.take_block()?;
                let root = vec![Entry::last(Some(block))];
                self.write(None, &root)?;
                path.push((None, root, 0));
                number = Some(block);
                continue;
            };
            if entries.len() < 3 {
                return Err(self.damaged("has an index whose blocks are too small for a name"));
            }
            let half = entries.iter().map(Entry::len).sum::<usize>() / 2;
            let mut sum = 0;
            let middle = entries.iter().position(|entry| {
                sum += entry.len();
                sum > half
            });
            let middle = middle.unwrap_or(1).clamp(1, entries.len() - 2);
            let upper = entries.split_off(middle + 1);
            let Some(mut between) = entries.pop() else { return Ok(()) };
            let mut lower = entries;
            lower.push(Entry::last(between.below));
            let block = self.take_block()?;
            self.write(Some(full), &lower)?;
            self.write(Some(block), &upper)?;
            let Some((above, mut above_entries, place)) = path.pop() else { return Ok(()) };
            if let Some(entry) = above_entries.get_mut(place) {
                entry.below = Some(block);
            }
            between.below = Some(full);
            above_entries.insert(place, between);
            (number, entries) = (above, above_entries);
        }
        self.write(number, &entries)
    }

    /// Takes the entry with this key out; whether it was there.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; those of reading and writing.
    pub(super) fn remove(&mut self, key: &[u8]) -> Result<bool> {
        let (mut path, is_there) = self.path_to(key)?;
        if !is_there {
            return Ok(false);
        }
        let Some((number, mut entries, place)) = path.pop() else { return Ok(false) };
        if let Some(below) = entries.get(place).and_then(|entry| entry.below) {
            // The last entry of all that comes before it takes its place. Taking that out may move this one.
            let last = self.last_below(below)?;
            self.remove(&last.key)?;
            let (mut path, _) = self.path_to(key)?;
            let Some((number, mut entries, place)) = path.pop() else { return Ok(false) };
            if let Some(entry) = entries.get_mut(place) {
                *entry = Entry { below: entry.below, ..last };
            }
            self.settle(number, entries, path)?;
            return Ok(true);
        }
        entries.remove(place);
        self.write(number, &entries)?;
        path.push((number, entries, place));
        self.tidy(path)?;
        self.drop_blocks()?;
        Ok(true)
    }

    /// The last entry of all that lies below block `number`, which is in a leaf.
    fn last_below(&self, mut number: u64) -> Result<Entry> {
        for _ in 0..24 {
            let mut entries = self.index()?.node(Some(number))?;
            match entries.pop().and_then(|last| last.below) {
                Some(below) => number = below,
                None => return entries.pop().ok_or_else(|| self.damaged("has an index with an empty block")),
            }
        }
        Err(self.damaged("has an index that is too deep"))
    }

    /// Puts what `made` makes of the entry with this key in its place, of the same length; whether it lies in the root, which is
    /// stored with its file.
    pub(super) fn exchange(&mut self, key: &[u8], made: impl FnOnce(Entry) -> Entry) -> Result<bool> {
        let (mut path, is_there) = self.path_to(key)?;
        let Some((number, mut entries, place)) = path.pop().filter(|_| is_there) else { return Ok(false) };
        let old = entries.get(place).cloned().unwrap_or_else(|| Entry::last(None));
        let new = made(old.clone());
        if new == old {
            return Ok(false);
        }
        if let Some(entry) = entries.get_mut(place) {
            *entry = new;
        }
        self.write(number, &entries)?;
        Ok(number.is_none())
    }

    /// Takes nodes out that have become empty, from the last one of `path` upwards.
    fn tidy(&mut self, mut path: Vec<Step>) -> Result<()> {
        while let Some((number, entries, _)) = path.pop() {
            let (Some(number), [only]) = (number, entries.as_slice()) else { return Ok(()) };
            // With something below, it only hands on.
            let heir = only.below;
            let Some((above, mut above_entries, place)) = path.pop() else { return Ok(()) };
            if heir.is_some() {
                if let Some(entry) = above_entries.get_mut(place) {
                    entry.below = heir;
                }
                self.write(above, &above_entries)?;
                return self.free_block(number);
            }
            // An empty leaf: the entry above it, or the one before that, goes into a neighbour.
            let is_last = place + 1 == above_entries.len();
            let displaced = match (is_last, place.checked_sub(1)) {
                (false, _) => above_entries.remove(place),
                (true, Some(before)) => {
                    let before = above_entries.remove(before);
                    if let Some(last) = above_entries.last_mut() {
                        last.below = before.below;
                    }
                    before
                }
                (true, None) => {
                    // Nothing but an empty leaf below: the node above is an empty leaf itself.
                    above_entries = vec![Entry::last(None)];
                    self.write(above, &above_entries)?;
                    self.free_block(number)?;
                    path.push((above, above_entries, 0));
                    continue;
                }
            };
            self.write(above, &above_entries)?;
            self.free_block(number)?;
            let again = Entry { below: None, ..displaced };
            let key = again.key.clone();
            path.push((above, above_entries, 0));
            // What is left above may be empty but for what it hands on.
            self.tidy(path)?;
            debug_assert!(!self.path_to(&key)?.1, "it was taken out");
            return self.insert(again);
        }
        Ok(())
    }

    /// Drops the blocks of an index that has none in use.
    fn drop_blocks(&mut self) -> Result<()> {
        if self.index()?.node(None)?.iter().any(|entry| entry.below.is_some()) {
            return Ok(());
        }
        for kind in [kind::INDEX_ALLOCATION, kind::BITMAP] {
            let Ok(place) = self.attribute(kind) else { continue };
            let attribute = self.file.attributes.remove(place);
            if let Value::Mapped(mapped) = attribute.value {
                self.fs.give_back(&mapped.runs)?;
            }
        }
        Ok(())
    }
}
