//! Cells: what a hive is made of, used and free (regf, versions 1.3 to 1.6; no public specification, names as in its signatures).

use std::collections::BTreeMap;

use reformis_disk::{budget::Hold, to_usize};

use super::{Hive, pages::PAGE};
use crate::error::Result;

/// Where nothing is.
pub(super) const NONE: u32 = u32::MAX;
/// Bytes of the base block.
pub(super) const BASE: u64 = PAGE as u64;
/// Bytes of a page, which bins have whole ones of.
const PAGE_LEN: u32 = 4096;
/// Bytes of a bin's head.
const BIN: u32 = 32;
/// The longest cell that is read, in bytes.
const MOST: usize = 1 << 20;

/// Cells that are free, and the bins that all cells are in.
pub(super) struct Free {
    /// First and length of each free cell.
    cells: BTreeMap<u32, u32>,
    /// First and length of each bin.
    bins: BTreeMap<u32, u32>,
    hold: Hold,
}

impl Hive {
    /// Bytes of all bins.
    pub(super) fn bins(&self) -> u32 {
        u32::try_from(self.pages.len - BASE).unwrap_or(NONE)
    }

    /// The head of a cell: its length, and whether it is used.
    fn cell_at(&self, at: u32) -> Result<(u32, bool)> {
        let mut head = [0; 4];
        self.pages
            .read_at(BASE + u64::from(at), &mut head)?
            .ok_or_else(|| self.damaged("something leads behind its end"))?;
        let size = i32::from_le_bytes(head);
        let len = size.unsigned_abs();
        if len < 8 || !len.is_multiple_of(8) || at.checked_add(len).is_none_or(|end| end > self.bins()) {
            return Err(self.damaged(format!("the cell at {at:#x} has {size} bytes")));
        }
        Ok((len, size < 0))
    }

    /// Bytes that a used cell has.
    pub(super) fn room(&self, at: u32) -> Result<usize> {
        if !at.is_multiple_of(8) || at == 0 {
            return Err(self.damaged(format!("something leads to {at:#x}, which is no cell")));
        }
        match self.cell_at(at)? {
            (len, true) => Ok(len as usize - 4),
            (_, false) => Err(self.damaged(format!("the cell at {at:#x} is free, and something leads to it"))),
        }
    }

    /// Up to `most` bytes of a used cell.
    pub(super) fn head(&self, at: u32, most: usize) -> Result<Vec<u8>> {
        let mut bytes = vec![0; self.room(at)?.min(most)];
        let outside = || self.damaged("something leads behind its end");
        self.pages.read_at(BASE + u64::from(at) + 4, &mut bytes)?.ok_or_else(outside)?;
        Ok(bytes)
    }

    /// All bytes of a used cell, `least` of them at least.
    pub(super) fn cell(&self, at: u32, least: usize) -> Result<Vec<u8>> {
        let bytes = self.head(at, MOST)?;
        if bytes.len() < least {
            return Err(self.damaged(format!("the cell at {at:#x} has {} bytes, and {least} are needed", bytes.len())));
        }
        Ok(bytes)
    }

    /// Writes `bytes` into a used cell from its byte `from` on, as far as it has them.
    pub(super) fn write(&mut self, at: u32, from: usize, bytes: &[u8]) -> Result<()> {
        self.pages.write_at(BASE + u64::from(at) + 4 + from as u64, bytes)
    }

    /// Marks a cell.
    fn mark(&mut self, at: u32, len: u32, is_used: bool) -> Result<()> {
        let size = if is_used { len.cast_signed().wrapping_neg() } else { len.cast_signed() };
        self.pages.write_at(BASE + u64::from(at), &size.to_le_bytes())
    }

    /// Finds all free cells and all bins, once.
    fn look_for_free(&mut self) -> Result<()> {
        if self.free.is_some() {
            return Ok(());
        }
        let mut found = Free { cells: BTreeMap::new(), bins: BTreeMap::new(), hold: self.budget.hold() };
        let mut at = 0;
        while at < self.bins() {
            let mut head = [0; 12];
            let short = || self.damaged("a bin is cut short");
            self.pages.read_at(BASE + u64::from(at), &mut head)?.ok_or_else(short)?;
            let (place, len) = (Self::long(&head, 4), Self::long(&head, 8));
            let end = at.checked_add(len).filter(|end| *end <= self.bins() && len > 0 && len.is_multiple_of(PAGE_LEN));
            let Some(end) = end.filter(|_| head.starts_with(b"hbin") && place == at) else {
                return Err(self.damaged(format!("the bin at {at:#x} is not one")));
            };
            found.hold.grow(48)?;
            found.bins.insert(at, len);
            let mut cell = at + BIN;
            while cell < end {
                let (len, is_used) = self.cell_at(cell)?;
                if cell + len > end {
                    return Err(self.damaged(format!("the cell at {cell:#x} goes on behind its bin")));
                }
                if !is_used {
                    found.hold.grow(48)?;
                    found.cells.insert(cell, len);
                }
                cell += len;
            }
            at = end;
        }
        self.free = Some(found);
        Ok(())
    }

    /// Takes a cell for `len` bytes, which are zero.
    ///
    /// # Errors
    /// Those of reading; [`crate::Error::Unsupported`] when the hive would be too large.
    pub(super) fn take(&mut self, len: usize) -> Result<u32> {
        let wanted = u32::try_from(len.saturating_add(4)).ok().and_then(|len| len.checked_next_multiple_of(8));
        let wanted = wanted.filter(|len| *len < 1 << 30).ok_or_else(|| self.unchangeable("a value is too long"))?;
        self.look_for_free()?;
        let best = |free: &Free| {
            let fitting = free.cells.iter().filter(|(_, len)| **len >= wanted);
            fitting.min_by_key(|(at, len)| (**len, **at)).map(|(at, len)| (*at, *len))
        };
        let (at, len) = match self.free.as_ref().and_then(best) {
            Some(found) => found,
            None => self.add_bin(wanted)?,
        };
        let rest = len - wanted;
        if let Some(free) = &mut self.free {
            free.cells.remove(&at);
            if rest > 0 {
                free.cells.insert(at + wanted, rest);
            }
        }
        if rest > 0 {
            self.mark(at + wanted, rest, false)?;
        }
        self.mark(at, wanted, true)?;
        self.pages.write_at(BASE + u64::from(at) + 4, &vec![0; wanted as usize - 4])?;
        Ok(at)
    }

    /// Adds a bin with room for a cell of so many bytes: that cell.
    fn add_bin(&mut self, wanted: u32) -> Result<(u32, u32)> {
        let at = self.bins();
        let len = (wanted + BIN).next_multiple_of(PAGE_LEN);
        if at.checked_add(len).is_none_or(|end| end > 1 << 31) {
            return Err(self.unchangeable("it would be larger than a hive can be"));
        }
        self.pages.len += u64::from(len);
        let head = [&b"hbin"[..], &at.to_le_bytes(), &len.to_le_bytes(), &[0; 8], &self.now.to_le_bytes()].concat();
        for page in 0..len / PAGE_LEN {
            self.pages.write_at(BASE + u64::from(at + page * PAGE_LEN), &[0; PAGE])?;
        }
        self.pages.write_at(BASE + u64::from(at), &head)?;
        let cell = (at + BIN, len - BIN);
        self.mark(cell.0, cell.1, false)?;
        if let Some(free) = &mut self.free {
            free.hold.grow(96)?;
            free.bins.insert(at, len);
            free.cells.insert(cell.0, cell.1);
        }
        Ok(cell)
    }

    /// Gives a used cell back; free ones beside it in its bin become one with it.
    pub(super) fn give_back(&mut self, at: u32) -> Result<()> {
        self.look_for_free()?;
        let (mut len, _) = (self.room(at)? + 4, ());
        let Some(free) = &mut self.free else { return Ok(()) };
        let Some((bin, bin_len)) = free.bins.range(..=at).next_back().map(|(bin, len)| (*bin, *len)) else {
            return Ok(());
        };
        let next = at + u32::try_from(len).unwrap_or_default();
        if next < bin + bin_len
            && let Some(more) = free.cells.remove(&next)
        {
            len += more as usize;
        }
        let mut first = at;
        let before = free.cells.range(bin..at).next_back().map(|(at, len)| (*at, *len));
        if let Some((before, before_len)) = before.filter(|(before, len)| before + len == at) {
            free.cells.remove(&before);
            first = before;
            len += before_len as usize;
        }
        let len = u32::try_from(len).unwrap_or_default();
        free.hold.grow(48)?;
        free.cells.insert(first, len);
        self.mark(first, len, false)
    }

    /// A cell that holds `bytes` in place of the one at `old`, if there is one: the same, where it has room.
    pub(super) fn exchange(&mut self, old: u32, bytes: &[u8]) -> Result<u32> {
        if old != NONE && self.room(old)? >= bytes.len() {
            self.write(old, 0, bytes)?;
            return Ok(old);
        }
        let new = self.take(bytes.len())?;
        self.write(new, 0, bytes)?;
        if old != NONE {
            self.give_back(old)?;
        }
        Ok(new)
    }

    /// A number in a cell.
    pub(super) fn long(bytes: &[u8], at: usize) -> u32 {
        bytes.get(at..).and_then(|rest| rest.first_chunk()).map_or(NONE, |four| u32::from_le_bytes(*four))
    }

    /// A short number in a cell.
    pub(super) fn word(bytes: &[u8], at: usize) -> usize {
        bytes.get(at..).and_then(|rest| rest.first_chunk()).map_or(0, |two| u16::from_le_bytes(*two).into())
    }

    /// A length that lies in memory.
    pub(super) fn size(len: u32) -> usize {
        to_usize(len.into())
    }
}
