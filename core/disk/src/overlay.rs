//! Changes above a disk that is never written: which bytes, and why.

use crate::to_usize;
use std::{collections::BTreeMap, ops::Range, sync::Arc};

use serde::{Deserialize, Serialize};

use crate::{
    disk::{Disk, Extent, ExtentKind},
    error::{Result, check_range},
};

/// Bytes of a page, the piece in which changed bytes are kept.
const PAGE: u64 = 4096;

/// One named change and the ranges it wrote.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Edit {
    /// A short stable name, such as "device-names".
    pub name: String,
    /// Why it was made, as a sentence.
    pub reason: String,
    /// The byte ranges it wrote, ascending, neither touching nor overlapping.
    pub ranges: Vec<Range<u64>>,
}

/// A disk with edits. Reading sees them; the disk below does not change.
pub struct Overlay {
    base: Arc<dyn Disk>,
    pages: BTreeMap<u64, Box<[u8]>>,
    edits: Vec<Edit>,
    /// The pages that the edit begun last wrote, as they were before it.
    undo: BTreeMap<u64, Option<Box<[u8]>>>,
}

impl Overlay {
    /// An overlay without edits.
    pub fn new(base: Arc<dyn Disk>) -> Self {
        Self { base, pages: BTreeMap::new(), edits: Vec::new(), undo: BTreeMap::new() }
    }

    /// Begins a new edit; what is written from now on is recorded as its doing.
    pub fn begin(&mut self, name: impl Into<String>, reason: impl Into<String>) {
        self.undo.clear();
        self.edits.push(Edit { name: name.into(), reason: reason.into(), ranges: Vec::new() });
    }

    /// Takes back the edit that was begun last, as if it had never been.
    pub fn rollback(&mut self) {
        for (page, before) in std::mem::take(&mut self.undo) {
            match before {
                Some(bytes) => self.pages.insert(page, bytes),
                None => self.pages.remove(&page),
            };
        }
        self.edits.pop();
    }

    /// Bytes of memory that the changes take.
    pub fn memory(&self) -> u64 {
        self.pages.len() as u64 * PAGE
    }

    /// Writes `bytes` at `offset` for the edit that was begun last. Bytes that are the same already are left out of
    /// the record: they did not change.
    ///
    /// # Errors
    /// [`crate::Error::OutOfRange`]; those of reading the disk below.
    pub fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<()> {
        check_range(offset, bytes.len(), self.size())?;
        let mut at = offset;
        let mut rest = bytes;
        while !rest.is_empty() {
            let page = at / PAGE;
            let inside = (at % PAGE) as usize;
            let len = rest.len().min(to_usize(PAGE) - inside);
            let (now, later) = rest.split_at(len);
            self.write_in_page(page, inside, now)?;
            at += len as u64;
            rest = later;
        }
        Ok(())
    }

    #[expect(clippy::indexing_slicing, reason = "pages and pieces are cut to each other just above")]
    fn write_in_page(&mut self, page: u64, inside: usize, bytes: &[u8]) -> Result<()> {
        let start = page * PAGE;
        let mut before = vec![0; to_usize(PAGE.min(self.size() - start))];
        self.read_at(start, &mut before)?;
        let target = &mut before[inside..inside + bytes.len()];
        let Some(first) = target.iter().zip(bytes).position(|(a, b)| a != b) else { return Ok(()) };
        let last = target.iter().zip(bytes).rposition(|(a, b)| a != b).unwrap_or(first);
        target.copy_from_slice(bytes);
        let replaced = self.pages.insert(page, before.into());
        self.undo.entry(page).or_insert(replaced);
        if let Some(edit) = self.edits.last_mut() {
            let at = start + inside as u64;
            add_range(&mut edit.ranges, at + first as u64..at + last as u64 + 1);
        }
        Ok(())
    }

    /// The edits made, in order; one that changed nothing has no ranges.
    pub fn edits(&self) -> &[Edit] {
        &self.edits
    }
}

/// Adds `new` to ascending `ranges`, joining what it touches.
#[expect(clippy::indexing_slicing, reason = "pages and pieces are cut to each other just above")]
pub fn add_range(ranges: &mut Vec<Range<u64>>, mut new: Range<u64>) {
    let from = ranges.partition_point(|range| range.end < new.start);
    let to = ranges.partition_point(|range| range.start <= new.end);
    if from < to {
        new = new.start.min(ranges[from].start)..new.end.max(ranges[to - 1].end);
    }
    ranges.splice(from..to, [new]);
}

impl Disk for Overlay {
    fn size(&self) -> u64 {
        self.base.size()
    }

    #[expect(clippy::indexing_slicing, reason = "pages and pieces are cut to each other just above")]
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.base.read_at(offset, buf)?;
        let end = offset + buf.len() as u64;
        for (page, bytes) in self.pages.range(offset / PAGE..end.div_ceil(PAGE)) {
            let start = page * PAGE;
            let (from, to) = (start.max(offset), (start + bytes.len() as u64).min(end));
            if from < to {
                let piece = &bytes[to_usize(from - start)..to_usize(to - start)];
                buf[to_usize(from - offset)..to_usize(to - offset)].copy_from_slice(piece);
            }
        }
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let below = self.base.extent_at(offset)?;
        if below.kind == ExtentKind::Data {
            return Ok(below);
        }
        // A run of zeros ends where the first written page starts.
        let written = self.pages.range(offset / PAGE..).next().map(|(page, _)| page * PAGE);
        Ok(match written {
            Some(start) if start <= offset => Extent::data(offset, (start + PAGE).min(self.size()) - offset),
            Some(start) if start < below.end() => Extent::zero(offset, start - offset),
            _ => below,
        })
    }

    fn check_unchanged(&self) -> Result<()> {
        self.base.check_unchanged()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::disk::{EmptyDisk, extents};

    const SIZE: u64 = 40_000;

    proptest! {
        /// Against a plain vector: what is read, which extents are data, and that every changed byte is in the record.
        #[test]
        fn behaves_like_a_vector_and_records_every_change(
            writes in prop::collection::vec((0..SIZE, prop::collection::vec(any::<u8>(), 1..9000)), 0..12),
        ) {
            let mut model = vec![0; SIZE as usize];
            let mut overlay = Overlay::new(Arc::new(EmptyDisk::new(SIZE)));
            for (index, (offset, bytes)) in writes.iter().enumerate() {
                overlay.begin(format!("edit-{index}"), "because");
                let at = *offset as usize;
                if at + bytes.len() > model.len() {
                    prop_assert!(overlay.write_at(*offset, bytes).is_err());
                    continue;
                }
                overlay.write_at(*offset, bytes).unwrap();
                if index % 3 == 2 {
                    overlay.rollback();
                    continue;
                }
                model[at..at + bytes.len()].copy_from_slice(bytes);
            }
            let mut read = vec![1; SIZE as usize];
            overlay.read_at(0, &mut read).unwrap();
            prop_assert_eq!(&read, &model);
            let mut middle = vec![1; 7000];
            overlay.read_at(3001, &mut middle).unwrap();
            prop_assert_eq!(&middle[..], &model[3001..10001]);
            let mut recorded = vec![false; SIZE as usize];
            for edit in overlay.edits() {
                for pair in edit.ranges.windows(2) {
                    prop_assert!(pair[0].end < pair[1].start);
                }
                for range in &edit.ranges {
                    recorded[range.start as usize..range.end as usize].fill(true);
                }
            }
            let mut end = 0;
            for extent in extents(&overlay) {
                let extent = extent.unwrap();
                prop_assert_eq!(extent.start, end);
                end = extent.end();
                for at in extent.start as usize..end as usize {
                    prop_assert!(model[at] == 0 || (extent.kind == ExtentKind::Data && recorded[at]));
                }
            }
            prop_assert_eq!(end, SIZE);
        }
    }
}
