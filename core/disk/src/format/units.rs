//! What the image formats have in common: the disk is cut into units of one size (clusters, grains, blocks), and a table
//! says of each where it lies. A format answers for one unit; reading and extents of the whole disk are done here, once.

use crate::to_usize;
use std::sync::{Arc, Mutex, PoisonError};

use crate::{
    disk::{Disk, Extent, ExtentKind, read_padded},
    error::{Error, Result, check_range},
    format::cache::TableCache,
    source::{self, Storage},
};

/// How a unit is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Place {
    /// Reads as zero.
    Zero,
    /// Plainly, from this byte of the file on.
    At(u64),
    /// Not here: the disk below has it, of which this one is a delta.
    Below,
    /// In a way that only the format understands: [`UnitMap::unpack`] gives its bytes.
    Packed,
}

/// Units from a given one on that are stored alike.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Span {
    /// How.
    pub(crate) place: Place,
    /// How many, at least one: those stored plainly lie one behind another, and those packed are the rest of one piece.
    pub(crate) units: u64,
}

impl Span {
    /// One unit.
    pub(crate) fn one(place: Place) -> Self {
        Self { place, units: 1 }
    }
}

/// How many table entries, from the first on, go on like it: each `step` more than the one before.
pub(crate) fn run_len(mut entries: impl Iterator<Item = u64>, step: u64) -> u64 {
    let Some(first) = entries.next() else { return 0 };
    let mut last = first;
    let goes_on = |&entry: &u64| {
        last = last.wrapping_add(step);
        entry == last
    };
    1 + entries.take_while(goes_on).count() as u64
}

/// A format's table.
pub(crate) trait UnitMap: Send + Sync {
    /// The file.
    fn storage(&self) -> &dyn Storage;

    /// Guest-visible size in bytes.
    fn size(&self) -> u64;

    /// Bytes of a unit.
    fn unit(&self) -> u64;

    /// The disk that this one is a delta of.
    fn below(&self) -> Option<&Arc<dyn Disk>> {
        None
    }

    /// The file that holds the bytes, where it is another one.
    fn data(&self) -> &dyn Storage {
        self.storage()
    }

    /// Fills `buf` with what is stored plainly from byte `at` of that file on.
    fn read_stored(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        self.data().read_at(at, buf)
    }

    /// Units that are packed together, and begin at a multiple of this number.
    fn packed_units(&self) -> u64 {
        1
    }

    /// How unit `number` is stored, checked against the file.
    fn span_at(&self, number: u64) -> Result<Span>;

    /// Gives the bytes of the piece to which the [`Place::Packed`] unit belongs; `out` is as long as a piece.
    fn unpack(&self, number: u64, out: &mut [u8]) -> Result<()> {
        let what = format!("unit {number} of {} bytes is stored in a way that is not read", out.len());
        Err(Error::damaged(self.storage().name(), None, what))
    }
}

/// Spans that one extent is joined of at the most: whoever asks may want much less than a table's whole length.
const MAX_SPANS: usize = 1024;

/// A disk by its format's table.
pub(crate) struct UnitDisk<M> {
    map: M,
    /// The extent of the disk below that was asked for last. That disk may go through much of its table for it, and each span of
    /// this one is a question within the same extent.
    below: Mutex<Option<Extent>>,
    /// Packed pieces of which a part was wanted, by number: a file system asks for many small parts of few of them.
    unpacked: TableCache<u8>,
}

/// Bytes of unpacked pieces that are kept, as far as they are several.
const UNPACKED: u64 = 4 << 20;

impl<M: UnitMap> UnitDisk<M> {
    /// By `map`.
    pub(crate) fn new(map: M) -> Self {
        let piece = (map.unit() * map.packed_units()).max(1);
        let unpacked = TableCache::new(to_usize(UNPACKED / piece).clamp(2, 64), map.storage().budget());
        Self { map, below: Mutex::new(None), unpacked }
    }

    /// What of the extent at `offset` of the disk below is at `offset` or behind it.
    fn below_at(&self, below: &dyn Disk, offset: u64) -> Result<Extent> {
        let lock = || self.below.lock().unwrap_or_else(PoisonError::into_inner);
        let known = lock().filter(|extent| (extent.start..extent.end()).contains(&offset));
        let extent = match known {
            Some(extent) => extent,
            None => {
                let extent = below.extent_at(offset)?;
                *lock() = Some(extent);
                extent
            }
        };
        Ok(Extent { start: offset, len: extent.end() - offset, ..extent })
    }

    /// As a disk of any format.
    pub(crate) fn shared(self) -> Arc<dyn Disk>
    where
        M: 'static,
    {
        Arc::new(self)
    }

    /// Reads from packed units; the range lies in one piece.
    #[expect(clippy::indexing_slicing, reason = "the ranges were cut to the buffer and to the unit")]
    fn read_unpacked(&self, number: u64, offset: u64, buf: &mut [u8]) -> Result<()> {
        let piece = self.map.unit() * self.map.packed_units();
        // A whole piece is unpacked where it is wanted.
        if buf.len() as u64 == piece {
            return self.map.unpack(number, buf);
        }
        let whole = self.unpacked.get(number / self.map.packed_units(), || {
            let hold = source::hold(self.map.storage(), piece, "what is packed together")?;
            let mut bytes = vec![0; to_usize(piece)];
            self.map.unpack(number, &mut bytes)?;
            Ok::<_, Error>(hold.of(bytes))
        })?;
        buf.copy_from_slice(&whole[to_usize(offset % piece)..][..buf.len()]);
        Ok(())
    }
}

impl<M: UnitMap> Disk for UnitDisk<M> {
    fn size(&self) -> u64 {
        self.map.size()
    }

    #[expect(clippy::indexing_slicing, reason = "the ranges were cut to the buffer and to the unit")]
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(offset, buf.len(), self.size())?;
        let unit = self.map.unit();
        // Plain units that lie behind one another in the file are read in one go: first byte there, place in `buf`.
        let mut run: Option<(u64, std::ops::Range<usize>)> = None;
        let mut done = 0;
        while done < buf.len() {
            let at = offset + done as u64;
            let (number, inside) = (at / unit, at % unit);
            let span = self.map.span_at(number)?;
            let whole = match span.place {
                Place::Packed => self.map.packed_units() - number % self.map.packed_units(),
                _ => span.units,
            };
            let len = to_usize((whole.saturating_mul(unit) - inside).min((buf.len() - done) as u64));
            let here = done..done + len;
            match (span.place, &mut run) {
                (Place::At(start), Some((first, range))) if *first + range.len() as u64 == start + inside => {
                    range.end = here.end;
                }
                (place, run) => {
                    if let Some((first, range)) = run.take() {
                        self.map.read_stored(first, &mut buf[range])?;
                    }
                    match place {
                        Place::At(start) => *run = Some((start + inside, here.clone())),
                        Place::Zero => buf[here.clone()].fill(0),
                        Place::Below => match self.map.below() {
                            Some(disk) => read_padded(disk.as_ref(), at, &mut buf[here.clone()])?,
                            None => buf[here.clone()].fill(0),
                        },
                        Place::Packed => self.read_unpacked(number, at, &mut buf[here.clone()])?,
                    }
                }
            }
            done = here.end;
        }
        match run {
            Some((first, range)) => self.map.read_stored(first, &mut buf[range]),
            None => Ok(()),
        }
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let unit = self.map.unit();
        let mut number = offset / unit;
        let mut kind = None;
        for _ in 0..MAX_SPANS {
            if number.saturating_mul(unit) >= self.size() {
                break;
            }
            let span = self.map.span_at(number)?;
            let after = number.saturating_add(span.units.max(1));
            let here = match (span.place, self.map.below()) {
                (Place::Below, Some(below)) if offset.max(number * unit) < below.size() => {
                    if kind.is_some() {
                        break;
                    }
                    let end = after.saturating_mul(unit).min(self.size());
                    return Ok(self.below_at(below.as_ref(), offset)?.clipped(end));
                }
                (Place::Zero | Place::Below, _) => ExtentKind::Zero,
                (Place::At(_) | Place::Packed, _) => ExtentKind::Data,
            };
            if *kind.get_or_insert(here) != here {
                break;
            }
            number = after;
        }
        let end = number.saturating_mul(unit).min(self.size());
        Ok(Extent { start: offset, len: end - offset, kind: kind.unwrap_or(ExtentKind::Zero) })
    }

    fn check_unchanged(&self) -> Result<()> {
        if let Some(below) = self.map.below() {
            below.check_unchanged()?;
        }
        self.map.data().check_unchanged()?;
        self.map.storage().check_unchanged()
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;
    use crate::{disk::extents, source::MemoryStorage};

    const UNITS: u64 = 10_000;

    /// A disk of one hole, which counts how often it is asked.
    #[derive(Default)]
    struct Hole(AtomicUsize);

    impl Disk for Hole {
        fn size(&self) -> u64 {
            UNITS * 512
        }

        fn read_at(&self, _: u64, buf: &mut [u8]) -> Result<()> {
            buf.fill(0);
            Ok(())
        }

        fn extent_at(&self, offset: u64) -> Result<Extent> {
            self.0.fetch_add(1, Ordering::Relaxed);
            Ok(Extent::zero(offset, self.size() - offset))
        }

        fn check_unchanged(&self) -> Result<()> {
            Ok(())
        }
    }

    /// A delta whose table has an entry for every sector: every hundredth is here.
    struct Delta {
        storage: MemoryStorage,
        below: Arc<dyn Disk>,
    }

    impl UnitMap for Delta {
        fn storage(&self) -> &dyn Storage {
            &self.storage
        }

        fn size(&self) -> u64 {
            UNITS * 512
        }

        fn unit(&self) -> u64 {
            512
        }

        fn below(&self) -> Option<&Arc<dyn Disk>> {
            Some(&self.below)
        }

        fn span_at(&self, number: u64) -> Result<Span> {
            Ok(Span::one(if number % 100 == 50 { Place::At(0) } else { Place::Below }))
        }
    }

    /// Two units are packed together: each byte is the number of its piece. Counts how often it unpacks.
    struct Packed {
        storage: MemoryStorage,
        unpacked: Arc<AtomicUsize>,
    }

    impl UnitMap for Packed {
        fn storage(&self) -> &dyn Storage {
            &self.storage
        }

        fn size(&self) -> u64 {
            200 * 1024
        }

        fn unit(&self) -> u64 {
            512
        }

        fn packed_units(&self) -> u64 {
            2
        }

        fn span_at(&self, number: u64) -> Result<Span> {
            Ok(Span { place: Place::Packed, units: 2 - number % 2 })
        }

        fn unpack(&self, number: u64, out: &mut [u8]) -> Result<()> {
            self.unpacked.fetch_add(1, Ordering::Relaxed);
            out.fill((number / 2) as u8);
            Ok(())
        }
    }

    #[test]
    fn parts_of_a_packed_piece_are_unpacked_once() {
        let unpacked = Arc::new(AtomicUsize::new(0));
        let storage = MemoryStorage::new("x", vec![0; 512]);
        let budget = storage.budget().clone();
        let disk = UnitDisk::new(Packed { storage, unpacked: unpacked.clone() });
        let mut part = [0; 100];
        for _ in 0..5 {
            for piece in [3, 7, 190] {
                for inside in [0, 500, 924] {
                    disk.read_at(piece * 1024 + inside, &mut part).unwrap();
                    assert_eq!(part, [piece as u8; 100]);
                }
            }
        }
        assert_eq!(unpacked.load(Ordering::Relaxed), 3);
        assert_eq!(budget.used(), 3 * 1024);
        // Whole pieces go where they are wanted, and leave those that are kept alone.
        let mut all = vec![0; 200 * 1024];
        disk.read_at(0, &mut all).unwrap();
        assert!(all.chunks(1024).enumerate().all(|(piece, bytes)| bytes == [piece as u8; 1024]));
        assert_eq!(unpacked.load(Ordering::Relaxed), 203);
        assert_eq!(budget.used(), 3 * 1024);
    }

    #[test]
    fn the_disk_below_is_not_asked_again_for_each_unit() {
        let hole = Arc::new(Hole::default());
        let storage = MemoryStorage::new("x", vec![0; 512]);
        let disk = UnitDisk::new(Delta { storage, below: hole.clone() });
        let found: Vec<Extent> = extents(&disk).collect::<Result<_>>().unwrap();
        let data = |extent: &&Extent| extent.kind == ExtentKind::Data;
        assert_eq!(found.iter().filter(data).count(), 100);
        assert!(found.iter().filter(data).all(|extent| extent.start / 512 % 100 == 50 && extent.len == 512));
        assert_eq!(found.iter().map(|extent| extent.len).sum::<u64>(), UNITS * 512);
        assert_eq!(hole.0.load(Ordering::Relaxed), 1);
    }
}
