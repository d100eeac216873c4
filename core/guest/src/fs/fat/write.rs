//! Changing FAT: entries, chains and the bytes in them. Long names are written wherever a short one does not say the same.

use reformis_disk::to_usize;

use super::{
    Fat, names,
    read::{ATTR_FOLDER, ATTR_LONG_NAME, DELETED, Entry, Listing, Root, SLOT, first_of},
};
use crate::error::{Error, Result};

/// The attribute of what was changed since it was last saved elsewhere.
const ATTR_ARCHIVE: u8 = 0x20;
/// The longest folder, in bytes: 65,536 slots.
const MAX_FOLDER: u64 = 2 << 20;
/// The largest file, in bytes.
const MAX_FILE: u64 = u32::MAX as u64;
/// Bytes of zeros that are written at a time.
const PIECE: u64 = 64 << 10;

impl Fat {
    fn folder(&self, place: u64) -> Result<Root> {
        self.folder_at(place)?.ok_or_else(|| Error::WrongKind { path: self.device.name().into(), wanted: "folder" })
    }

    /// The clusters of a file or folder that begins at `first`.
    fn clusters(&self, first: u32) -> Result<Vec<u32>> {
        self.chain(first, u64::MAX)
    }

    /// Makes a file or a folder called `name` in the folder at `folder`; returns its place.
    pub(super) fn make(&mut self, folder: u64, name: &str, is_folder: bool) -> Result<u64> {
        let root = self.folder(folder)?;
        if !names::is_valid(name) {
            return Err(Error::WrongKind { path: name.into(), wanted: "name that FAT can have" });
        }
        if self.find(root, name)?.is_some() {
            return Err(Error::Exists { path: name.into() });
        }
        let first = if is_folder { self.new_folder(root)? } else { 0 };
        let mut slot = [0; SLOT];
        put(&mut slot, 11, &[if is_folder { ATTR_FOLDER } else { ATTR_ARCHIVE }]);
        set_first(&mut slot, first);
        let (date, time) = self.now();
        put(&mut slot, 14, &[time, date, date].map(u16::to_le_bytes).concat());
        put(&mut slot, 22, &[time, date].map(u16::to_le_bytes).concat());
        self.add(root, name, slot)
    }

    /// A cluster with the two entries that a new folder in `parent` begins with.
    fn new_folder(&mut self, parent: Root) -> Result<u32> {
        let Some(first) = self.allocate(1, None)?.first().copied() else { return Ok(0) };
        self.zero(self.cluster_start(first), self.geometry.cluster)?;
        // Of the root it says 0, whichever cluster that is in.
        let above = match parent {
            Root::Chain(cluster) if !self.is_root(parent) => cluster,
            _ => 0,
        };
        let (date, time) = self.now();
        for (number, (name, cluster)) in [(b".          ", first), (b"..         ", above)].into_iter().enumerate() {
            let mut slot = [0; SLOT];
            put(&mut slot, 0, name);
            put(&mut slot, 11, &[ATTR_FOLDER]);
            put(&mut slot, 14, &[time, date, date].map(u16::to_le_bytes).concat());
            put(&mut slot, 22, &[time, date].map(u16::to_le_bytes).concat());
            set_first(&mut slot, cluster);
            self.device.write(self.cluster_start(first) + (number * SLOT) as u64, &slot)?;
        }
        Ok(first)
    }

    fn is_root(&self, folder: Root) -> bool {
        match (folder, self.geometry.root) {
            (Root::Chain(one), Root::Chain(root)) => one == root,
            (Root::Region(..), _) => true,
            _ => false,
        }
    }

    fn zero(&self, at: u64, len: u64) -> Result<()> {
        let zeros = vec![0; to_usize(len.min(PIECE))];
        let mut done = 0;
        while done < len {
            let part = zeros.get(..to_usize((len - done).min(PIECE))).unwrap_or_default();
            self.device.write(at + done, part)?;
            done += part.len() as u64;
        }
        Ok(())
    }

    /// Adds the entry `slot`, whose name is not set yet, to a folder; returns its place.
    fn add(&mut self, folder: Root, name: &str, mut slot: [u8; SLOT]) -> Result<u64> {
        let mut listing = self.listing(folder)?;
        let is_own = |slot: &[u8; SLOT]| {
            let [first, ..] = *slot;
            first != 0 && first != DELETED && slot.get(11).is_some_and(|kind| *kind != ATTR_LONG_NAME)
        };
        let used = listing.slots().iter().take_while(|slot| !slot.starts_with(&[0]));
        let taken: Vec<names::Short> =
            used.filter(|slot| is_own(slot)).filter_map(|slot| slot.first_chunk().copied()).collect();
        let (short, is_long) = names::short(name, &taken);
        put(&mut slot, 0, &short);
        let mut slots = if is_long { names::long(name, &short) } else { Vec::new() };
        slots.push(slot);
        let mut at = free_slots(&listing, slots.len());
        if at.is_none() {
            listing = self.grow(listing, slots.len())?;
            at = free_slots(&listing, slots.len());
        }
        let at = at.ok_or_else(|| self.device.damaged("a folder has no room where room was made"))?;
        let end = listing.slots().iter().position(|slot| slot.starts_with(&[0])).unwrap_or(listing.slots().len());
        let place = |number: usize| {
            listing.place(number).ok_or_else(|| self.device.damaged("a folder is shorter than its entries"))
        };
        for (number, slot) in (at..).zip(&slots) {
            self.device.write(place(number)?, slot)?;
        }
        // What lies behind the mark that ends a folder may be anything: the mark moves on.
        let behind = at + slots.len();
        if behind > end && behind < listing.slots().len() {
            self.device.write(place(behind)?, &[0])?;
        }
        place(behind - 1)
    }

    /// Adds clusters to a folder, so that `slots` more have room.
    fn grow(&mut self, listing: Listing, slots: usize) -> Result<Listing> {
        let full = |needed: usize| Error::NoRoom {
            volume: self.device.name().into(),
            unit: "entries of a folder".into(),
            needed: needed as u64,
            free: 0,
        };
        let Root::Chain(first) = listing.root else { return Err(full(slots)) };
        let bytes = (slots * SLOT) as u64;
        let count = bytes.div_ceil(self.geometry.cluster);
        if listing.bytes.len() as u64 + count * self.geometry.cluster > MAX_FOLDER {
            return Err(full(slots));
        }
        let last = self.clusters(first)?.last().copied();
        for cluster in self.allocate(count, last)? {
            self.zero(self.cluster_start(cluster), self.geometry.cluster)?;
        }
        self.listing(listing.root)
    }

    /// Writes `bytes` at `offset` of the file whose entry is at `place`; a gap before them is zero.
    pub(super) fn put_at(&mut self, place: u64, offset: u64, bytes: &[u8]) -> Result<()> {
        let entry = self.entry_at(place)?;
        let end = offset.saturating_add(bytes.len() as u64);
        if end > MAX_FILE {
            return Err(self.device.unchangeable("a file on FAT has less than 4 GiB"));
        }
        let chain = self.chain_for(&entry, entry.size.max(end))?;
        if offset > entry.size {
            self.fill(&chain, entry.size, offset - entry.size)?;
        }
        self.put_bytes(&chain, offset, bytes)?;
        self.set_file(place, chain.first().copied().unwrap_or(0), entry.size.max(end))
    }

    /// Lets the file whose entry is at `place` have `size` bytes: cut off, or filled up with zeros.
    pub(super) fn set_len(&mut self, place: u64, size: u64) -> Result<()> {
        let entry = self.entry_at(place)?;
        if size > MAX_FILE {
            return Err(self.device.unchangeable("a file on FAT has less than 4 GiB"));
        }
        let chain = self.chain_for(&entry, size)?;
        if size > entry.size {
            self.fill(&chain, entry.size, size - entry.size)?;
        }
        self.set_file(place, chain.first().copied().unwrap_or(0), size)
    }

    /// The clusters of a file, as many as `size` bytes need: more are taken, or those behind given back.
    fn chain_for(&mut self, entry: &Entry, size: u64) -> Result<Vec<u32>> {
        if entry.is_folder {
            return Err(Error::WrongKind { path: self.device.name().into(), wanted: "file" });
        }
        let mut chain = self.clusters(entry.cluster)?;
        let needed = to_usize(size.div_ceil(self.geometry.cluster));
        if needed < chain.len() {
            let rest = chain.split_off(needed);
            self.release(&rest, chain.last().copied())?;
        } else {
            let more = self.allocate((needed - chain.len()) as u64, chain.last().copied())?;
            chain.extend(more);
        }
        Ok(chain)
    }

    /// Writes `bytes` at `offset` of the clusters, those behind one another at once.
    fn put_bytes(&self, chain: &[u32], offset: u64, mut bytes: &[u8]) -> Result<()> {
        let size = self.geometry.cluster;
        let mut at = offset;
        while !bytes.is_empty() {
            let number = to_usize(at / size);
            let rest = chain.get(number..).unwrap_or_default();
            let Some(first) = rest.first() else { return Err(self.device.damaged("a file has too few clusters")) };
            let together = (*first..).zip(rest).take_while(|(expected, found)| expected == *found).count() as u64;
            let len = (together * size - at % size).min(bytes.len() as u64);
            let (now, later) = bytes.split_at(to_usize(len));
            self.device.write(self.cluster_start(*first) + at % size, now)?;
            at += len;
            bytes = later;
        }
        Ok(())
    }

    fn fill(&self, chain: &[u32], offset: u64, len: u64) -> Result<()> {
        let zeros = vec![0; to_usize(len.min(PIECE))];
        let mut done = 0;
        while done < len {
            let part = zeros.get(..to_usize((len - done).min(PIECE))).unwrap_or_default();
            self.put_bytes(chain, offset + done, part)?;
            done += part.len() as u64;
        }
        Ok(())
    }

    /// Sets the first cluster, the length and the time of a file's entry.
    #[expect(clippy::cast_possible_truncation, reason = "compared with the largest file before")]
    fn set_file(&self, place: u64, first: u32, size: u64) -> Result<()> {
        let mut slot = [0; SLOT];
        self.read(place, &mut slot)?;
        set_first(&mut slot, first);
        put(&mut slot, 28, &(size as u32).to_le_bytes());
        let (date, time) = self.now();
        put(&mut slot, 18, &date.to_le_bytes());
        put(&mut slot, 22, &[time, date].map(u16::to_le_bytes).concat());
        if let Some(attributes) = slot.get_mut(11) {
            *attributes |= ATTR_ARCHIVE;
        }
        self.device.write(place, &slot)
    }

    /// Removes `name` from the folder at `folder`: a file, or a folder with nothing in it.
    pub(super) fn remove(&mut self, folder: u64, name: &str) -> Result<()> {
        let root = self.folder(folder)?;
        let entry = self.find(root, name)?.ok_or_else(|| Error::NotFound { path: name.into() })?;
        if entry.is_folder && !self.entries(Root::Chain(entry.cluster))?.is_empty() {
            return Err(Error::WrongKind { path: name.into(), wanted: "folder with nothing in it" });
        }
        let chain = self.clusters(entry.cluster)?;
        self.release(&chain, None)?;
        self.erase(root, &entry)
    }

    /// Marks the slots of an entry as free.
    fn erase(&self, folder: Root, entry: &Entry) -> Result<()> {
        let listing = self.listing(folder)?;
        for number in entry.slots.clone() {
            let place = listing.place(number);
            let place = place.ok_or_else(|| self.device.damaged("a folder is shorter than its entries"))?;
            self.device.write(place, &[DELETED])?;
        }
        Ok(())
    }

    /// Gives what is called `name` in one folder another name, in that folder or in another one; returns its new place.
    pub(super) fn move_entry(&mut self, from: u64, name: &str, to: u64, new: &str) -> Result<u64> {
        let (old, target) = (self.folder(from)?, self.folder(to)?);
        let entry = self.find(old, name)?.ok_or_else(|| Error::NotFound { path: name.into() })?;
        if !names::is_valid(new) {
            return Err(Error::WrongKind { path: new.into(), wanted: "name that FAT can have" });
        }
        let other = self.find(target, new)?;
        // A name may change its letters' case alone.
        if other.is_some_and(|other| other.place != entry.place) {
            return Err(Error::Exists { path: new.into() });
        }
        if entry.is_folder && self.is_below(to, entry.cluster)? {
            return Err(Error::WrongKind { path: new.into(), wanted: "folder outside the one that is moved" });
        }
        let mut slot = [0; SLOT];
        self.read(entry.place, &mut slot)?;
        self.erase(old, &entry)?;
        let place = self.add(target, new, slot)?;
        if entry.is_folder && from != to {
            let above = match target {
                Root::Chain(cluster) if !self.is_root(target) => cluster,
                _ => 0,
            };
            let second = self.cluster_start(entry.cluster) + SLOT as u64;
            let mut own = [0; SLOT];
            self.read(second, &mut own)?;
            set_first(&mut own, above);
            self.device.write(second, &own)?;
        }
        Ok(place)
    }

    /// Whether the folder at `place` is the one in `cluster`, or lies below it.
    fn is_below(&self, place: u64, cluster: u32) -> Result<bool> {
        let mut folder = self.folder(place)?;
        // A folder is not deeper than there are clusters.
        for _ in 0..self.geometry.clusters {
            let Root::Chain(own) = folder else { return Ok(false) };
            if own == cluster {
                return Ok(true);
            }
            if self.is_root(folder) {
                return Ok(false);
            }
            let mut slot = [0; SLOT];
            self.read(self.cluster_start(own) + SLOT as u64, &mut slot)?;
            let above = first_of(&slot);
            folder = if above == 0 { self.geometry.root } else { Root::Chain(above) };
        }
        Ok(true)
    }

    /// Date and time of changes, as entries have them: from 1980 to 2107.
    #[expect(clippy::cast_sign_loss, reason = "parts of a date after 1980")]
    fn now(&self) -> (u16, u16) {
        let time = jiff::Timestamp::from_second(self.now.clamp(315_532_800, 4_354_819_199)).unwrap_or_default();
        let civil = time.to_zoned(jiff::tz::TimeZone::UTC).datetime();
        let number = |value: i8| value as u16;
        let date = (civil.year() as u16).saturating_sub(1980) << 9 | number(civil.month()) << 5 | number(civil.day());
        (date, number(civil.hour()) << 11 | number(civil.minute()) << 5 | (number(civil.second()) / 2))
    }
}

/// The first of `count` free slots in a row; those behind the mark that ends the folder are free.
fn free_slots(listing: &Listing, count: usize) -> Option<usize> {
    let mut run = 0;
    let mut ended = false;
    for (number, slot) in listing.slots().iter().enumerate() {
        ended |= slot.starts_with(&[0]);
        run = if ended || slot.starts_with(&[DELETED]) { run + 1 } else { 0 };
        if run == count {
            return Some(number + 1 - count);
        }
    }
    None
}

fn put(slot: &mut [u8; SLOT], at: usize, bytes: &[u8]) {
    for (target, byte) in slot.iter_mut().skip(at).zip(bytes) {
        *target = *byte;
    }
}

#[expect(clippy::cast_possible_truncation, reason = "the halves are set apart")]
fn set_first(slot: &mut [u8; SLOT], cluster: u32) {
    put(slot, 20, &((cluster >> 16) as u16).to_le_bytes());
    put(slot, 26, &(cluster as u16).to_le_bytes());
}
