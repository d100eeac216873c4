//! The bytes of a hive: those of its file, and over them what a log or an edit changed.

use std::{
    cell::RefCell,
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

use reformis_disk::{
    budget::{Budget, Hold},
    to_usize,
};

use crate::error::{Error, Result};

/// Bytes of a page, as of a bin's smallest part.
pub(crate) const PAGE: usize = 4096;
/// Pages of the file that are remembered.
const KEPT: usize = 1024;
/// Bytes that are read at a time.
const AHEAD: usize = 16;

/// Where a hive lies.
pub(crate) trait Source {
    /// Bytes.
    fn len(&self) -> u64;

    /// Fills `buf` from `offset`.
    ///
    /// # Errors
    /// Those of reading; what lies behind the end is one.
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()>;
}

/// A hive in memory.
impl Source for Vec<u8> {
    fn len(&self) -> u64 {
        self.as_slice().len() as u64
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        let found = usize::try_from(offset).ok().and_then(|at| self.get(at..at.checked_add(buf.len())?));
        let short = || Error::Damaged { volume: "a hive".into(), what: "it is cut short".into() };
        buf.copy_from_slice(found.ok_or_else(short)?);
        Ok(())
    }
}

/// The bytes of a hive.
pub(super) struct Pages {
    source: Box<dyn Source>,
    /// Pages that were read, as the file has them.
    read: RefCell<HashMap<u64, Box<[u8]>>>,
    /// Pages that are other than the file's.
    changed: BTreeMap<u64, Box<[u8]>>,
    /// Bytes with what was added.
    pub(super) len: u64,
    hold: Hold,
}

impl Pages {
    pub(super) fn new(source: Box<dyn Source>, budget: &Arc<Budget>) -> Self {
        let len = source.len();
        Self { source, read: RefCell::default(), changed: BTreeMap::new(), len, hold: budget.hold() }
    }

    /// Calls `work` with a page.
    fn with<T>(&self, page: u64, work: impl FnOnce(&[u8]) -> T) -> Result<T> {
        if let Some(changed) = self.changed.get(&page) {
            return Ok(work(changed));
        }
        let mut read = self.read.borrow_mut();
        if let Some(known) = read.get(&page) {
            return Ok(work(known));
        }
        if read.len() + AHEAD > KEPT {
            read.clear();
        }
        // What is read next lies near, as a rule.
        let (start, size) = (page * PAGE as u64, self.source.len());
        let mut bytes = vec![0; PAGE * AHEAD];
        let there = to_usize(size.saturating_sub(start).min(bytes.len() as u64));
        if there > 0 {
            self.source.read_at(start, bytes.get_mut(..there).unwrap_or_default())?;
        }
        for (number, piece) in (page..).zip(bytes.chunks(PAGE)).take(there.div_ceil(PAGE).max(1)) {
            read.insert(number, piece.into());
        }
        Ok(work(bytes.get(..PAGE).unwrap_or_default()))
    }

    /// Fills `buf` from `offset`; `None` behind the end.
    #[expect(clippy::indexing_slicing, reason = "pieces are cut to the page and to the buffer")]
    pub(super) fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<Option<()>> {
        if offset.checked_add(buf.len() as u64).is_none_or(|end| end > self.len) {
            return Ok(None);
        }
        let mut done = 0;
        while done < buf.len() {
            let at = offset + done as u64;
            let inside = to_usize(at % PAGE as u64);
            let len = (PAGE - inside).min(buf.len() - done);
            self.with(at / PAGE as u64, |page| buf[done..done + len].copy_from_slice(&page[inside..inside + len]))?;
            done += len;
        }
        Ok(Some(()))
    }

    /// Writes `bytes` at `offset`, inside the length.
    #[expect(clippy::indexing_slicing, reason = "pieces are cut to the page and to the bytes")]
    pub(super) fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<()> {
        let mut done = 0;
        while done < bytes.len() {
            let at = offset + done as u64;
            let (page, inside) = (at / PAGE as u64, to_usize(at % PAGE as u64));
            let len = (PAGE - inside).min(bytes.len() - done);
            if !self.changed.contains_key(&page) {
                self.hold.grow(PAGE as u64 + 64)?;
                let copy = self.with(page, |bytes| bytes.to_vec().into_boxed_slice())?;
                self.changed.insert(page, copy);
            }
            if let Some(page) = self.changed.get_mut(&page) {
                page[inside..inside + len].copy_from_slice(&bytes[done..done + len]);
            }
            done += len;
        }
        Ok(())
    }

    /// What is other than in the file: each run of bytes, and where it begins. Bytes behind the file's end are given as pages.
    pub(super) fn differences(&self) -> Result<Vec<(u64, Vec<u8>)>> {
        let mut found: Vec<(u64, Vec<u8>)> = Vec::new();
        let size = self.source.len();
        for (page, bytes) in &self.changed {
            let start = page * PAGE as u64;
            let len = to_usize(self.len.saturating_sub(start).min(PAGE as u64));
            let there = to_usize(size.saturating_sub(start).min(len as u64));
            let mut old = vec![0; there];
            if there > 0 {
                self.source.read_at(start, &mut old)?;
            }
            for (at, byte) in bytes.iter().enumerate().take(len) {
                if old.get(at) == Some(byte) {
                    continue;
                }
                let at = start + at as u64;
                match found.last_mut() {
                    Some((first, run)) if *first + run.len() as u64 == at => run.push(*byte),
                    _ => found.push((at, vec![*byte])),
                }
            }
        }
        Ok(found)
    }
}
