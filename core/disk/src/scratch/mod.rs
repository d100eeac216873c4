//! What a guest writes while its disk is lent: a sparse file above a disk that does not change.
//!
//! The file has a header, a map with two bits for each block, and the blocks at the places that they have in the disk. So it
//! takes the room of what was written, and is found again by whoever opens it later.
//!
//! A crash loses no more than a drive with a cache would: what the guest flushed is there, whole; what it wrote later may
//! be there or not. For this the blocks reach the file system before the map that counts them in, and the map in memory is
//! written by [`Scratch::flush`] alone.

mod header;
mod map;

use std::{
    fs::File,
    ops::Range,
    os::unix::fs::FileExt,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use rustix::fs::FallocateFlags;

use crate::{
    disk::{Disk, Extent, ExtentKind},
    error::{Error, Result, check_range},
    overlay::{Edit, add_range},
    to_usize,
};
use header::Header;
use map::{Map, State};

/// Bytes of a block, the piece in which written bytes are kept.
pub const BLOCK: u64 = 4096;

/// Zeros of one block.
const ZEROS: [u8; 4096] = [0; 4096];

/// A disk that can be written.
pub trait Writable: Disk {
    /// Writes `bytes` at `offset`.
    ///
    /// # Errors
    /// [`Error::OutOfRange`]; what the system says.
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<()>;

    /// Makes `len` bytes from `offset` on read as zero, with no room taken for whole blocks.
    ///
    /// # Errors
    /// As [`Writable::write_at`].
    fn write_zeroes(&self, offset: u64, len: u64) -> Result<()>;

    /// Returns when everything that was written before the call outlives a crash.
    ///
    /// # Errors
    /// What the system says; what was written since the last flush may be lost then.
    fn flush(&self) -> Result<()>;
}

/// A disk that does not change, and what was written above it, in a file.
pub struct Scratch {
    base: Arc<dyn Disk>,
    file: File,
    name: String,
    header: Header,
    map: Mutex<Map>,
    /// Held by whoever gives blocks a state: two that write different sectors of one block both find a place in it.
    placing: Mutex<()>,
    flushing: Mutex<()>,
}

impl Scratch {
    /// Begins to keep in `file`, which is empty and called `name` in messages, what is written above `base`.
    ///
    /// # Errors
    /// What the system says; a file system may have no file as long as the disk.
    pub fn create(file: File, name: impl Into<String>, base: Arc<dyn Disk>) -> Result<Self> {
        let (header, name) = (Header::new(base.size()), name.into());
        let write = || {
            file.set_len(header.file_len())?;
            file.write_all_at(&header.to_bytes(), 0)
        };
        write().map_err(Error::io("writing", &name, None))?;
        Ok(Self::over(file, name, base, header))
    }

    /// Opens what was kept in `file` above `base`.
    ///
    /// # Errors
    /// [`Error::Damaged`] when it is no such file, was kept above a disk of another size, or is cut short.
    pub fn open(file: File, name: impl Into<String>, base: Arc<dyn Disk>) -> Result<Self> {
        let name = name.into();
        let header = Header::read(&file, &name)?;
        if header.size != base.size() {
            let what = format!("it was kept above a disk of {} bytes, and this one has {}", header.size, base.size());
            return Err(Error::damaged(&name, 16, what));
        }
        let len = file.metadata().map_err(Error::io("looking at", &name, None))?.len();
        if len != header.file_len() {
            let what = format!("it has {len} bytes in place of {}", header.file_len());
            return Err(Error::damaged(&name, None, what));
        }
        Ok(Self::over(file, name, base, header))
    }

    fn over(file: File, name: String, base: Arc<dyn Disk>, header: Header) -> Self {
        let map = Mutex::new(Map::new(header.blocks()));
        Self { base, file, name, header, map, placing: Mutex::new(()), flushing: Mutex::new(()) }
    }

    /// Keeps what `edits` changed in `edited`, as the disk is when it is lent: it is not counted as written by the guest.
    ///
    /// # Errors
    /// What the system says.
    pub fn keep_edits(&self, edited: &dyn Disk, edits: &[Edit]) -> Result<()> {
        let mut blocks = Vec::new();
        for range in edits.iter().flat_map(|edit| &edit.ranges) {
            add_range(&mut blocks, range.start / BLOCK..range.end.div_ceil(BLOCK));
        }
        let mut block = vec![0; to_usize(BLOCK)];
        for number in blocks.into_iter().flatten() {
            let start = number * BLOCK;
            // A disk that is made larger on the way ends in zeros.
            let len = to_usize(BLOCK.min(edited.size().saturating_sub(start)));
            block.fill(0);
            let Some(inside) = block.get_mut(..len) else { continue };
            edited.read_at(start, inside)?;
            let inside = block.get(..to_usize(self.len_of(number))).unwrap_or_default();
            self.put(number, 0, inside)?;
            self.set(number..number + 1, State::Edited)?;
        }
        Ok(())
    }

    /// The ranges that were written since the disk was lent, in whole blocks. Of more than `most` ranges, those that lie
    /// nearest to each other are joined.
    ///
    /// # Errors
    /// What reading the map gives.
    pub fn written(&self, most: usize) -> Result<Vec<Range<u64>>> {
        let mut ranges: Vec<Range<u64>> = Vec::new();
        let mut step = 1;
        let mut block = 0;
        while block < self.header.blocks() {
            let (state, end) = self.run(block)?;
            if matches!(state, State::Written | State::Zero) {
                let (start, end) = (block / step * step, end.next_multiple_of(step));
                match ranges.last_mut() {
                    Some(last) if last.end >= start => last.end = end,
                    _ => ranges.push(start..end),
                }
                while ranges.len() > most.max(1) {
                    step *= 2;
                    coarser(&mut ranges, step);
                }
            }
            block = end;
        }
        let in_bytes = |range: Range<u64>| range.start * BLOCK..(range.end * BLOCK).min(self.header.size);
        Ok(ranges.into_iter().map(in_bytes).collect())
    }

    /// Bytes of file system room that it takes.
    pub fn room(&self) -> u64 {
        use std::os::unix::fs::MetadataExt;
        self.file.metadata().map_or(0, |metadata| metadata.blocks() * 512)
    }

    fn map(&self) -> MutexGuard<'_, Map> {
        self.map.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The state of block `block`, and the block behind the run of that state, as far as one look at the map tells.
    fn run(&self, block: u64) -> Result<(State, u64)> {
        self.map().run(block, &self.file).map_err(Error::io("reading the map of", &self.name, None))
    }

    fn set(&self, blocks: Range<u64>, state: State) -> Result<()> {
        let is_full = {
            let mut map = self.map();
            map.set(blocks, state, &self.file).map_err(Error::io("reading the map of", &self.name, None))?;
            map.is_full()
        };
        if is_full { self.flush() } else { Ok(()) }
    }

    /// Bytes of block `number`: the last one may be shorter.
    fn len_of(&self, number: u64) -> u64 {
        BLOCK.min(self.header.size.saturating_sub(number * BLOCK))
    }

    fn put(&self, block: u64, inside: u64, bytes: &[u8]) -> Result<()> {
        let at = self.header.data() + block * BLOCK + inside;
        self.file.write_all_at(bytes, at).map_err(Error::io("writing", &self.name, Some(at)))
    }

    /// Writes into one block, of which `bytes` are a part.
    fn write_part(&self, block: u64, inside: u64, bytes: &[u8]) -> Result<()> {
        let mut whole = vec![0; to_usize(self.len_of(block))];
        // Read before anybody has to wait: the disk may be far away, and does not change.
        if self.run(block)?.0 == State::Base {
            self.base.read_at(block * BLOCK, &mut whole)?;
        }
        let _placing = self.placing.lock().unwrap_or_else(PoisonError::into_inner);
        match self.run(block)?.0 {
            State::Written => return self.put(block, inside, bytes),
            State::Edited => self.put(block, inside, bytes)?,
            State::Base | State::Zero => {
                // Zero only came to be since it was looked at, or was all along.
                if self.run(block)?.0 == State::Zero {
                    whole.fill(0);
                }
                let place = to_usize(inside)..to_usize(inside) + bytes.len();
                if let Some(place) = whole.get_mut(place) {
                    place.copy_from_slice(bytes);
                }
                self.put(block, 0, &whole)?;
            }
        }
        self.set(block..block + 1, State::Written)
    }

    /// Writes whole blocks.
    fn write_blocks(&self, first: u64, bytes: &[u8]) -> Result<()> {
        let blocks = first..first + (bytes.len() as u64).div_ceil(BLOCK);
        let (state, end) = self.run(first)?;
        if state == State::Written && end >= blocks.end {
            return self.put(first, 0, bytes);
        }
        let _placing = self.placing.lock().unwrap_or_else(PoisonError::into_inner);
        self.put(first, 0, bytes)?;
        self.set(blocks, State::Written)
    }

    /// `offset` and `len` as a part of a block at the start, whole blocks, and a part at the end; the parts may be empty, and
    /// the end of the disk counts as the end of a block.
    fn cut(&self, offset: u64, len: u64) -> (Range<u64>, Range<u64>, Range<u64>) {
        let end = offset + len;
        let from = offset.next_multiple_of(BLOCK).min(end);
        let to = if end == self.header.size { end } else { (end / BLOCK * BLOCK).max(from) };
        (offset..from, from..to, to..end)
    }
}

/// Makes the ranges of blocks `step` blocks coarse.
fn coarser(ranges: &mut Vec<Range<u64>>, step: u64) {
    let mut joined: Vec<Range<u64>> = Vec::with_capacity(ranges.len() / 2 + 1);
    for range in ranges.drain(..) {
        let (start, end) = (range.start / step * step, range.end.next_multiple_of(step));
        match joined.last_mut() {
            Some(last) if last.end >= start => last.end = end,
            _ => joined.push(start..end),
        }
    }
    *ranges = joined;
}

impl Writable for Scratch {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<()> {
        check_range(offset, bytes.len(), self.header.size)?;
        let (head, middle, tail) = self.cut(offset, bytes.len() as u64);
        let piece =
            |range: &Range<u64>| bytes.get(to_usize(range.start - offset)..to_usize(range.end - offset)).unwrap_or(&[]);
        if !head.is_empty() {
            self.write_part(head.start / BLOCK, head.start % BLOCK, piece(&head))?;
        }
        if !middle.is_empty() {
            self.write_blocks(middle.start / BLOCK, piece(&middle))?;
        }
        if !tail.is_empty() {
            self.write_part(tail.start / BLOCK, 0, piece(&tail))?;
        }
        Ok(())
    }

    fn write_zeroes(&self, offset: u64, len: u64) -> Result<()> {
        if offset.checked_add(len).is_none_or(|end| end > self.header.size) {
            return check_range(offset, usize::MAX, self.header.size);
        }
        let (head, middle, tail) = self.cut(offset, len);
        for part in [&head, &tail] {
            if !part.is_empty() {
                let zeros = ZEROS.get(..to_usize(part.end - part.start)).unwrap_or(&ZEROS);
                self.write_part(part.start / BLOCK, part.start % BLOCK, zeros)?;
            }
        }
        if middle.is_empty() {
            return Ok(());
        }
        let blocks = middle.start / BLOCK..middle.end.div_ceil(BLOCK);
        let _placing = self.placing.lock().unwrap_or_else(PoisonError::into_inner);
        self.set(blocks.clone(), State::Zero)?;
        // The room is given back; where the file system cannot, it stays taken.
        let (at, len) = (self.header.data() + blocks.start * BLOCK, (blocks.end - blocks.start) * BLOCK);
        rustix::fs::fallocate(&self.file, FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE, at, len).ok();
        Ok(())
    }

    fn flush(&self) -> Result<()> {
        let _flushing = self.flushing.lock().unwrap_or_else(PoisonError::into_inner);
        let failed = || Error::io("flushing", &self.name, None);
        let changed = self.map().changed();
        self.file.sync_data().map_err(failed())?;
        if changed.is_empty() {
            return Ok(());
        }
        for (page, _, bytes) in &changed {
            self.file.write_all_at(bytes, header::place_of_page(*page)).map_err(failed())?;
        }
        self.file.sync_data().map_err(failed())?;
        self.map().kept(&changed);
        Ok(())
    }
}

impl Disk for Scratch {
    fn size(&self) -> u64 {
        self.header.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(offset, buf.len(), self.header.size)?;
        let mut at = offset;
        let mut rest = buf;
        while !rest.is_empty() {
            let (state, end) = self.run(at / BLOCK)?;
            let len = to_usize((end * BLOCK).min(self.header.size) - at).min(rest.len());
            let (now, later) = rest.split_at_mut(len);
            match state {
                State::Base => self.base.read_at(at, now)?,
                State::Zero => now.fill(0),
                State::Edited | State::Written => {
                    let place = self.header.data() + at;
                    self.file.read_exact_at(now, place).map_err(Error::io("reading", &self.name, Some(place)))?;
                }
            }
            at += len as u64;
            rest = later;
        }
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let (state, end) = self.run(offset / BLOCK)?;
        let len = (end * BLOCK).min(self.header.size) - offset;
        Ok(match state {
            State::Base => {
                let below = self.base.extent_at(offset)?;
                Extent { len: below.len.min(len), ..below }
            }
            State::Zero => Extent { start: offset, len, kind: ExtentKind::Zero },
            State::Edited | State::Written => Extent::data(offset, len),
        })
    }

    fn check_unchanged(&self) -> Result<()> {
        self.base.check_unchanged()
    }
}

#[cfg(test)]
mod tests;
