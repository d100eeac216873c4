//! How the bytes of a volume lie on the disks of a guest, and on volumes that others lie on.

use std::{ops::Range, sync::Arc};

use reformis_disk::{Disk, overlay::Overlay, to_usize};

use super::cipher::Cipher;
use crate::error::{Error, Result};

/// How a stretch of a volume lies on the disks. A disk is told by its number; behind the disks come the volumes that others lie on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Layout {
    /// In one run: disk, first byte.
    Linear(usize, u64),
    /// In turns of so many bytes on each leg: disk, first byte.
    Striped(u64, Vec<(usize, u64)>),
    /// The same on each leg: disk, first byte.
    Mirrored(Vec<(usize, u64)>),
    /// In turns, of which each lies on so many legs that follow each other.
    Chunks(Chunks),
    /// Nowhere: zeros, and no place for anything else.
    Nowhere,
}

/// Chunks that lie on several legs each (RAID 10; Linux, `drivers/md/raid10.c`, `__raid10_find_phys`).
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Chunks {
    /// Bytes of a chunk.
    pub(crate) chunk: u64,
    /// Legs that hold each, one beside the other, at least one.
    pub(crate) copies: usize,
    /// How often all of that is there again, at least once: each time on other legs.
    pub(crate) far: usize,
    /// How many bytes behind the others those are.
    pub(crate) stride: u64,
    /// Whether they lie between the others, row by row.
    pub(crate) is_between: bool,
    /// Legs among which they are moved on; the last ones are a group of their own where the number does not come out even.
    pub(crate) set: usize,
    /// Disk and first byte of each leg; none where it is not there, or is not right.
    pub(crate) legs: Vec<Option<(usize, u64)>>,
}

impl Chunks {
    /// Where the chunk of this number lies: the legs that are there, each with the byte of it.
    fn places(&self, number: u64) -> Option<Vec<(usize, u64)>> {
        let places = self.slots(number)?.into_iter().filter_map(|(leg, at)| {
            let (disk, start) = (*self.legs.get(leg)?)?;
            Some((disk, start + at))
        });
        Some(places.collect::<Vec<_>>()).filter(|places| !places.is_empty())
    }

    /// The legs that the chunk of this number is on, be they there or not, and how many bytes behind the start of each.
    pub(crate) fn slots(&self, number: u64) -> Option<Vec<(usize, u64)>> {
        let legs = self.legs.len() as u64;
        let first = number * self.copies as u64;
        let (row, mut leg) = (first.checked_div(legs)?, to_usize(first.checked_rem(legs)?));
        let mut start = row * if self.is_between { self.far as u64 } else { 1 } * self.chunk;
        let mut slots = Vec::new();
        for _ in 0..self.copies {
            slots.push((leg, start));
            let (mut other, mut at) = (leg, start);
            for _ in 1..self.far {
                other = self.moved_on(other)?;
                at += self.stride;
                slots.push((other, at));
            }
            leg += 1;
            if leg == self.legs.len() {
                (leg, start) = (0, start + self.chunk);
            }
        }
        Some(slots)
    }

    /// The leg that the next far copy of what is on `leg` is on.
    fn moved_on(&self, leg: usize) -> Option<usize> {
        let (group, next) = (leg.checked_div(self.set)?, leg + self.copies);
        let rest = self.legs.len().checked_rem(self.set)?;
        let last = self.legs.len().checked_div(self.set)?.saturating_sub(1) * self.set;
        if rest > 0 && next > last {
            return Some((next - last).checked_rem(self.set + rest)? + last);
        }
        Some(next.checked_rem(self.set)? + self.set * group)
    }
}

impl Layout {
    /// The disks that it needs.
    pub(super) fn disks(&self) -> Vec<usize> {
        self.legs().into_iter().map(|(disk, _)| disk).collect()
    }

    /// Its legs: disk, first byte.
    pub(super) fn legs(&self) -> Vec<(usize, u64)> {
        match self {
            Self::Linear(disk, start) => vec![(*disk, *start)],
            Self::Striped(_, legs) | Self::Mirrored(legs) => legs.clone(),
            Self::Chunks(chunks) => chunks.legs.iter().flatten().copied().collect(),
            Self::Nowhere => Vec::new(),
        }
    }
}

/// A stretch of a volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Piece {
    /// First byte in the volume.
    pub(crate) start: u64,
    /// Bytes.
    pub(crate) len: u64,
    pub(crate) layout: Layout,
}

/// How a volume lies.
#[derive(Clone)]
pub(crate) struct Map {
    pub(super) name: Arc<str>,
    /// Ascending and without gaps.
    pub(super) pieces: Arc<[Piece]>,
    /// Bytes.
    pub(super) size: u64,
    /// Why it is only read.
    pub(super) sealed: Option<Arc<str>>,
    /// What turns its bytes into those that lie there.
    pub(super) cipher: Option<Arc<dyn Cipher>>,
}

/// Where a run of a request is.
enum Place<'p> {
    /// On one disk, at this byte.
    At(usize, u64),
    /// On each leg, so many bytes behind its start.
    OnEach(&'p [(usize, u64)], u64),
    /// At each of these.
    AtEach(Vec<(usize, u64)>),
    Nowhere,
}

/// The disks, and the volumes that others lie on.
pub(super) struct Stack<'s> {
    pub(super) disks: &'s mut [Overlay],
    /// How many disks there are: the first layer's number.
    pub(super) count: usize,
    pub(super) layers: &'s [Arc<Map>],
}

impl Stack<'_> {
    fn layer(&self, number: usize) -> Option<Arc<Map>> {
        number.checked_sub(self.count).and_then(|number| self.layers.get(number)).cloned()
    }

    #[expect(clippy::indexing_slicing, reason = "a number that is no layer's is that of a disk of this bench")]
    fn read(&mut self, disk: usize, at: u64, buf: &mut [u8]) -> Result<()> {
        match self.layer(disk) {
            // A layer lies on those before it alone, so that this ends.
            Some(layer) => layer.read(self, at, buf),
            None => Ok(self.disks[disk].read_at(at, buf)?),
        }
    }

    #[expect(clippy::indexing_slicing, reason = "a number that is no layer's is that of a disk of this bench")]
    fn write(&mut self, disk: usize, at: u64, bytes: &[u8]) -> Result<()> {
        match self.layer(disk) {
            Some(layer) => layer.write(self, at, bytes),
            None => Ok(self.disks[disk].write_at(at, bytes)?),
        }
    }
}

impl Map {
    /// A map of `pieces`, ascending and without gaps, each inside its disks.
    pub(super) fn new(name: &str, pieces: Vec<Piece>) -> Self {
        let size = pieces.last().map_or(0, |piece| piece.start + piece.len);
        Self { name: name.into(), pieces: pieces.into(), size, sealed: None, cipher: None }
    }

    /// The disks that it lies on, each once, in the order in which it needs them.
    pub(super) fn disks(&self) -> Vec<usize> {
        let mut disks = Vec::new();
        for disk in self.pieces.iter().flat_map(|piece| piece.layout.disks()) {
            if !disks.contains(&disk) {
                disks.push(disk);
            }
        }
        disks
    }

    /// Calls `work` for each run of `len` bytes from `offset`: where it is, and the range of the request.
    #[expect(clippy::indexing_slicing, reason = "a leg's number is less than how many there are")]
    fn each(&self, offset: u64, len: usize, mut work: impl FnMut(Place<'_>, Range<usize>) -> Result<()>) -> Result<()> {
        let end = offset.checked_add(len as u64).filter(|end| *end <= self.size);
        let Some(end) = end else {
            let what = format!("something leads to byte {offset}, and it has {} bytes", self.size);
            return Err(self.damaged(what));
        };
        let mut at = offset;
        while at < end {
            let index = self.pieces.partition_point(|piece| piece.start + piece.len <= at);
            let Some(piece) = self.pieces.get(index) else { break };
            let inside = at - piece.start;
            let left = (end - at).min(piece.len - inside);
            let (place, run) = match &piece.layout {
                Layout::Linear(disk, start) => (Place::At(*disk, start + inside), left),
                Layout::Mirrored(legs) => (Place::OnEach(legs, inside), left),
                Layout::Nowhere => (Place::Nowhere, left),
                Layout::Striped(stripe, legs) => {
                    let (number, rest) = (inside / stripe, inside % stripe);
                    let (disk, start) = legs[to_usize(number % legs.len() as u64)];
                    let at = start + number / legs.len() as u64 * stripe + rest;
                    (Place::At(disk, at), left.min(stripe - rest))
                }
                Layout::Chunks(chunks) => {
                    let (number, rest) = (inside / chunks.chunk, inside % chunks.chunk);
                    let places = chunks.places(number).ok_or_else(|| self.damaged("no disk has a part of it"))?;
                    let places = places.into_iter().map(|(disk, at)| (disk, at + rest)).collect();
                    (Place::AtEach(places), left.min(chunks.chunk - rest))
                }
            };
            let from = to_usize(at - offset);
            work(place, from..from + to_usize(run))?;
            at += run;
        }
        Ok(())
    }

    pub(super) fn read(&self, stack: &mut Stack<'_>, offset: u64, buf: &mut [u8]) -> Result<()> {
        let Some(cipher) = &self.cipher else { return self.read_plain(stack, offset, buf) };
        self.in_sectors(cipher.sector(), offset, buf.len())?.try_for_each(|(at, inside, range)| {
            let mut sectors = vec![0; inside.end.next_multiple_of(cipher.sector())];
            self.read_plain(stack, at, &mut sectors)?;
            cipher.decrypt(at, &mut sectors);
            copy(buf, range, &sectors, inside);
            Ok(())
        })
    }

    pub(super) fn write(&self, stack: &mut Stack<'_>, offset: u64, bytes: &[u8]) -> Result<()> {
        if let Some(reason) = &self.sealed {
            return Err(self.unchangeable(reason.to_string()));
        }
        let Some(cipher) = &self.cipher else { return self.write_plain(stack, offset, bytes) };
        self.in_sectors(cipher.sector(), offset, bytes.len())?.try_for_each(|(at, inside, range)| {
            let mut sectors = vec![0; inside.end.next_multiple_of(cipher.sector())];
            self.read_plain(stack, at, &mut sectors)?;
            cipher.decrypt(at, &mut sectors);
            copy(&mut sectors, inside, bytes, range);
            cipher.encrypt(at, &mut sectors);
            self.write_plain(stack, at, &sectors)
        })
    }

    /// Cuts a request into runs of whole sectors: the first byte of each, what of it is asked for, and the range of the request.
    fn in_sectors(
        &self,
        sector: usize,
        offset: u64,
        len: usize,
    ) -> Result<impl Iterator<Item = (u64, Range<usize>, Range<usize>)> + use<>> {
        let fits = offset.checked_add(len as u64).is_some_and(|end| end <= self.size);
        if !fits || sector == 0 {
            return Err(self.damaged(format!("something leads to byte {offset}, and it has {} bytes", self.size)));
        }
        let mut done = 0;
        Ok(std::iter::from_fn(move || {
            if done >= len {
                return None;
            }
            let at = offset + done as u64;
            let first = at / sector as u64 * sector as u64;
            let before = to_usize(at - first);
            let run = (len - done).min(RUN - before.min(RUN / 2));
            let range = done..done + run;
            done += run;
            Some((first, before..before + run, range))
        }))
    }

    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the buffer")]
    fn read_plain(&self, stack: &mut Stack<'_>, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.each(offset, buf.len(), |place, range| {
            let buf = &mut buf[range];
            match place {
                Place::At(disk, at) => stack.read(disk, at, buf)?,
                Place::OnEach(legs, inside) => {
                    if let Some((disk, start)) = legs.first() {
                        stack.read(*disk, start + inside, buf)?;
                    }
                }
                Place::AtEach(places) => {
                    if let Some((disk, at)) = places.first() {
                        stack.read(*disk, *at, buf)?;
                    }
                }
                Place::Nowhere => buf.fill(0),
            }
            Ok(())
        })
    }

    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the buffer")]
    fn write_plain(&self, stack: &mut Stack<'_>, offset: u64, bytes: &[u8]) -> Result<()> {
        self.each(offset, bytes.len(), |place, range| {
            let bytes = &bytes[range];
            match place {
                Place::At(disk, at) => stack.write(disk, at, bytes),
                Place::OnEach(legs, inside) => {
                    legs.iter().try_for_each(|(disk, start)| stack.write(*disk, start + inside, bytes))
                }
                Place::AtEach(places) => places.iter().try_for_each(|(disk, at)| stack.write(*disk, *at, bytes)),
                Place::Nowhere => Err(self.unchangeable("a part of it lies nowhere")),
            }
        })
    }

    /// An error about what lies on it.
    pub(super) fn damaged(&self, what: impl Into<String>) -> Error {
        Error::Damaged { volume: self.name.to_string(), what: what.into() }
    }

    pub(super) fn unchangeable(&self, what: impl Into<String>) -> Error {
        Error::Unsupported { volume: self.name.to_string(), action: "changed", what: what.into() }
    }
}

/// The longest run that is turned at once, in bytes.
const RUN: usize = 64 << 10;

#[expect(clippy::indexing_slicing, reason = "both ranges are of the same length, and inside")]
fn copy(to: &mut [u8], at: Range<usize>, from: &[u8], of: Range<usize>) {
    to[at].copy_from_slice(&from[of]);
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, max_global_rejects: 4096, ..ProptestConfig::default() })]

        /// Copies of a chunk are on different legs, and no place is two chunks'.
        #[test]
        fn copies_of_chunks_lie_apart(
            legs in 2..9_usize,
            copies in 1..4_usize,
            far in 1..4_usize,
            is_between in any::<bool>(),
            improved in any::<bool>(),
        ) {
            prop_assume!(copies * far <= legs && (copies == 1 || far == 1));
            let (chunk, each) = (8, 24_u64);
            let count = each * legs as u64 / copies as u64;
            let rows = (count * (copies * far) as u64).div_ceil(legs as u64);
            let stride = if is_between { chunk } else { rows.div_ceil(far as u64) * chunk };
            let set = if improved { copies * far } else { legs };
            let chunks = Chunks { chunk, copies, far, stride, is_between, set, legs: vec![Some((0, 0)); legs] };
            let mut taken = HashSet::new();
            for number in 0..count {
                let slots = chunks.slots(number).unwrap();
                prop_assert_eq!(slots.len(), copies * far);
                let apart: HashSet<usize> = slots.iter().map(|(leg, _)| *leg).collect();
                prop_assert_eq!(apart.len(), slots.len(), "{:?}", slots);
                for slot in slots {
                    prop_assert!(taken.insert(slot), "{:?} is taken twice", slot);
                }
            }
        }
    }
}
