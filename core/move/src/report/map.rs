//! A disk as a strip of cells: where it holds data, and where edits wrote.

use std::path::Path;

use reformis_disk::{
    Disk, Format,
    disk::{Extent, ExtentKind},
    format,
    source::Links,
};
use serde::Serialize;

use crate::{
    landing::facts::open_result,
    observer::Context,
    receipt::{DiskRecord, Kind},
};

/// Cells of a strip.
pub(super) const CELLS: usize = 240;
/// Runs that are looked at: one that holds more of them is shown without.
const RUNS: usize = 1 << 20;

/// Where a disk holds data and where it was edited, in cells of the same size.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Map {
    /// Bytes of a cell; the last may be shorter.
    pub cell: u64,
    /// How much of each cell is held by data, in percent, at least 1 where there is any; `None` where the result does not lie here.
    pub held: Option<Vec<u8>>,
    /// Numbers of the cells in which edits wrote.
    pub edited: Vec<usize>,
}

impl Map {
    pub(super) fn of(record: &DiskRecord, folder: &Path, kind: Kind, context: &Context<'_>) -> Self {
        let size = record.after.virtual_size;
        let cell = size.div_ceil(CELLS as u64).max(1);
        // A stranger's receipt may name many ranges, each of the whole disk.
        let mut touched = vec![false; CELLS];
        for range in record.edits.iter().flat_map(|edit| &edit.ranges) {
            for (index, _) in cells(range.start, range.end, cell) {
                touched.get_mut(index).into_iter().for_each(|cell| *cell = true);
            }
        }
        let edited = touched.iter().enumerate().filter(|(_, touched)| **touched).map(|(index, _)| index).collect();
        Self { cell, held: held(record, folder, kind, cell, context), edited }
    }
}

/// The cells that `start..end` touches, and how many of its bytes lie in each.
fn cells(start: u64, end: u64, cell: u64) -> impl Iterator<Item = (usize, u64)> {
    let last = end.saturating_sub(1) / cell;
    let touched = if start < end { start / cell..last + 1 } else { 0..0 };
    touched.map(move |index| {
        let (from, to) = ((index * cell).max(start), (index + 1).saturating_mul(cell).min(end));
        (reformis_disk::to_usize(index), to - from)
    })
}

/// How much of each cell holds data, by the tables of the result, where it lies here and is still of that size.
fn held(record: &DiskRecord, folder: &Path, kind: Kind, cell: u64, context: &Context<'_>) -> Option<Vec<u8>> {
    let links = if kind == Kind::Recast { Links::Trusted } else { Links::OwnFolder };
    let is_there = !record.result.is_empty() && context.wires.store_of(&record.result).is_none();
    let source = is_there.then(|| open_result(folder, &record.result, links, context.budget).ok())??;
    let declared: Option<Format> = record.after.shape.split('/').next().and_then(|format| format.parse().ok());
    let disk = format::open(source.random_access().ok()?, declared).ok()?.disk;
    if disk.size() != record.after.virtual_size {
        return None;
    }
    percentages(disk.as_ref(), cell)
}

fn percentages(disk: &dyn Disk, cell: u64) -> Option<Vec<u8>> {
    let size = disk.size();
    let mut bytes = vec![0u64; reformis_disk::to_usize(size.div_ceil(cell))];
    let (mut at, mut runs) = (0, 0);
    while at < size {
        let Extent { start, len, kind } = disk.extent_at(at).ok()?;
        runs += 1;
        let end = start.checked_add(len).filter(|end| *end > at && runs <= RUNS)?.min(size);
        if kind == ExtentKind::Data {
            for (index, held) in cells(at, end, cell) {
                *bytes.get_mut(index)? += held;
            }
        }
        at = end;
    }
    let percent =
        |held: u64| u8::try_from((held.saturating_mul(100) / cell).clamp(u64::from(held > 0), 100)).unwrap_or(100);
    Some(bytes.into_iter().map(percent).collect())
}

#[cfg(test)]
mod tests {
    use reformis_disk::disk::EmptyDisk;

    use super::*;

    /// A disk that says of each place what `F` says, and is never read.
    struct Told<F>(u64, F);

    impl<F: Fn(u64) -> Extent + Send + Sync> Disk for Told<F> {
        fn size(&self) -> u64 {
            self.0
        }

        fn read_at(&self, _: u64, _: &mut [u8]) -> reformis_disk::Result<()> {
            unreachable!("a map reads nothing")
        }

        fn extent_at(&self, offset: u64) -> reformis_disk::Result<Extent> {
            Ok((self.1)(offset))
        }

        fn check_unchanged(&self) -> reformis_disk::Result<()> {
            Ok(())
        }
    }

    #[test]
    fn every_byte_is_in_its_cell() {
        assert_eq!(cells(0, 10, 4).collect::<Vec<_>>(), [(0, 4), (1, 4), (2, 2)]);
        assert_eq!(cells(3, 5, 4).collect::<Vec<_>>(), [(0, 1), (1, 1)]);
        assert_eq!(cells(8, 12, 4).collect::<Vec<_>>(), [(2, 4)]);
        assert_eq!(cells(5, 5, 4).count() + cells(7, 5, 4).count(), 0);
    }

    #[test]
    fn little_is_not_nothing_and_all_is_a_hundred() {
        let runs = [(0, 100), (150, 151), (950, 1000)];
        let disk = Told(1000, move |at| match runs.iter().find(|(start, end)| (*start..*end).contains(&at)) {
            Some((_, end)) => Extent::data(at, end - at),
            None => Extent::zero(at, runs.iter().map(|(start, _)| *start).find(|start| *start > at).unwrap() - at),
        });
        assert_eq!(percentages(&disk, 100).unwrap(), [100, 1, 0, 0, 0, 0, 0, 0, 0, 50]);
        assert_eq!(percentages(&EmptyDisk::new(250), 100).unwrap(), [0, 0, 0]);
        assert_eq!(percentages(&EmptyDisk::new(0), 1).unwrap(), [0u8; 0]);
    }

    /// A disk whose tables lead nowhere is shown without.
    #[test]
    fn a_run_without_length_ends_it() {
        assert_eq!(percentages(&Told(10, |at| Extent::data(at, 0)), 1), None);
        assert_eq!(percentages(&Told(10, |at| Extent::data(at, if at == 0 { 3 } else { u64::MAX })), 1), None);
        assert_eq!(percentages(&Told(10, |at| Extent::data(at, 99)), 1), Some(vec![100; 10]));
    }
}
