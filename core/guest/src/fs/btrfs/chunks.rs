//! Where the bytes of the file system's own address space lie on its devices (Linux, `btrfs_chunk`).

use std::collections::BTreeMap;

use reformis_disk::to_usize;

use super::bytes::{u16_at, u64_at};

/// Kinds of chunks (`BTRFS_BLOCK_GROUP_*`).
mod kind {
    pub(super) const RAID0: u64 = 0x8;
    pub(super) const RAID10: u64 = 0x40;
    pub(super) const RAID56: u64 = 0x180;
}

/// Bytes of a chunk in front of its stripes, and of a stripe.
const HEAD: usize = 48;
const STRIPE: usize = 32;
/// Chunks that a file system may have here.
const MOST: usize = 1 << 20;

/// A chunk.
#[derive(Debug, Clone)]
pub(super) struct Chunk {
    len: u64,
    kind: u64,
    stripe: u64,
    copies: usize,
    /// Device and first byte of each.
    stripes: Vec<(u64, u64)>,
}

/// All chunks, by where they begin.
#[derive(Debug, Clone, Default)]
pub(super) struct Chunks(BTreeMap<u64, Chunk>);

/// Where a run lies: device, first byte, and how many bytes.
pub(super) type Place = (u64, u64, u64);

impl Chunk {
    /// The chunk in `bytes`, and how many of them it takes; why it is not read otherwise.
    pub(super) fn parse(bytes: &[u8]) -> Result<(Self, usize), &'static str> {
        let (len, stripe, kind) = (u64_at(bytes, 0), u64_at(bytes, 16), u64_at(bytes, 24));
        let (count, copies) = (usize::from(u16_at(bytes, 44)), usize::from(u16_at(bytes, 46)));
        let end = HEAD + count * STRIPE;
        if kind & kind::RAID56 != 0 {
            return Err("it is RAID 5 or 6, which is not read here");
        }
        let copies = if kind & kind::RAID10 != 0 { copies } else { 1 };
        let is_striped = kind & (kind::RAID0 | kind::RAID10) != 0;
        let fits = len > 0 && count > 0 && copies > 0 && count.is_multiple_of(copies) && bytes.len() >= end;
        if !fits || is_striped && !(512..=1 << 30).contains(&stripe) {
            return Err("a chunk of it is not sound");
        }
        let stripes = (0..count).map(|number| {
            let at = HEAD + number * STRIPE;
            (u64_at(bytes, at), u64_at(bytes, at + 8))
        });
        Ok((Self { len, kind, stripe, copies, stripes: stripes.collect() }, end))
    }

    /// Where the byte `inside` lies in the copy of this number, and how many bytes follow it there.
    fn place(&self, inside: u64, copy: usize) -> Option<Place> {
        let left = self.len.checked_sub(inside)?;
        if !self.is_striped() {
            let (device, start) = self.stripes.get(copy)?;
            return Some((*device, start.checked_add(inside)?, left));
        }
        let (number, rest) = (inside / self.stripe, inside % self.stripe);
        let groups = (self.stripes.len() / self.copies) as u64;
        let index = to_usize(number % groups) * self.copies + copy;
        let (device, start) = self.stripes.get(index).filter(|_| copy < self.copies)?;
        let at = start.checked_add((number / groups).checked_mul(self.stripe)?)?.checked_add(rest)?;
        Some((*device, at, left.min(self.stripe - rest)))
    }

    fn is_striped(&self) -> bool {
        self.kind & (kind::RAID0 | kind::RAID10) != 0
    }

    /// How many copies of each byte there are.
    fn count(&self) -> usize {
        if self.is_striped() { self.copies } else { self.stripes.len() }
    }
}

impl Chunks {
    /// One more, which begins at `start`.
    pub(super) fn add(&mut self, start: u64, chunk: Chunk) -> Result<(), &'static str> {
        if self.0.len() >= MOST || start.checked_add(chunk.len).is_none() {
            return Err("it has too many chunks");
        }
        self.0.insert(start, chunk);
        Ok(())
    }

    fn of(&self, at: u64) -> Option<(u64, &Chunk)> {
        let (start, chunk) = self.0.range(..=at).next_back()?;
        (at - start < chunk.len).then_some((*start, chunk))
    }

    /// Whether a copy of each byte lies on devices that `is_here`.
    pub(super) fn are_on(&self, is_here: impl Fn(u64) -> bool) -> bool {
        self.0.values().all(|chunk| {
            chunk.stripes.chunks(chunk.count().max(1)).all(|group| group.iter().any(|(device, _)| is_here(*device)))
        })
    }

    /// Where each chunk begins, and its length.
    pub(super) fn all(&self) -> impl Iterator<Item = (u64, u64)> {
        self.0.iter().map(|(start, chunk)| (*start, chunk.len))
    }

    /// The byte behind the last chunk.
    pub(super) fn end(&self) -> u64 {
        self.0.last_key_value().map_or(0, |(start, chunk)| start.saturating_add(chunk.len))
    }

    /// Where the bytes of devices at `places` lie in the chunk that begins at `start`.
    pub(super) fn mirrors(&self, start: u64, places: &[u64]) -> Vec<u64> {
        let Some(chunk) = self.0.get(&start) else { return Vec::new() };
        let inside = chunk.stripes.iter().enumerate().flat_map(|(number, (_, first))| {
            places.iter().filter_map(move |place| Some((number, place.checked_sub(*first)?)))
        });
        let addresses = inside.filter_map(|(number, inside)| {
            let address = if chunk.is_striped() {
                let (row, rest) = (inside / chunk.stripe, inside % chunk.stripe);
                let groups = (chunk.stripes.len() / chunk.copies) as u64;
                let row = row.checked_mul(groups)?.checked_add((number / chunk.copies) as u64)?;
                row.checked_mul(chunk.stripe)?.checked_add(rest)?
            } else {
                inside
            };
            (address < chunk.len).then_some(start + address)
        });
        addresses.collect()
    }

    /// Copies of the byte at `at`.
    pub(super) fn copies(&self, at: u64) -> usize {
        self.of(at).map_or(0, |(_, chunk)| chunk.count())
    }

    /// Where the copy of this number of the byte at `at` lies.
    pub(super) fn place(&self, at: u64, copy: usize) -> Option<Place> {
        let (start, chunk) = self.of(at)?;
        chunk.place(at - start, copy)
    }
}
