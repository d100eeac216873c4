//! The bytes of files: read, written at any place, cut off.

use std::ops::Range;

use reformis_disk::to_usize;

use super::{
    Xfs, fields,
    inode::{Fork, Format, Inode, flags, flags2, mode},
    map::{Map, Run},
    owner::Owner,
};
use crate::error::{Error, Result};

/// Bytes of holes in a file that is taken into memory.
const MAX_HOLES: u64 = 16 << 20;
/// The most blocks that are asked for at once.
const MAX_TAKEN: u64 = 1 << 20;

impl Xfs {
    fn check_readable(&self, inode: &Inode) -> Result<()> {
        if inode.flags() & flags::REALTIME != 0 && inode.is(mode::FILE) {
            return Err(self.device.unreadable(format!("inode {} lies on a real-time device", inode.number)));
        }
        Ok(())
    }

    /// Refuses files whose bytes we could not keep right.
    fn check_plain(&self, inode: &Inode) -> Result<()> {
        self.check_readable(inode)?;
        let known = matches!(inode.format(Fork::Data), Some(Format::Extents | Format::Tree));
        if !known || inode.flags2() & flags2::METADATA != 0 {
            return Err(self.device.unchangeable(format!("inode {} is no plain file", inode.number)));
        }
        Ok(())
    }

    /// Fills `buf` from `offset` of a file, as far as the file goes; the number of bytes.
    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the buffer and the run")]
    pub(super) fn read_file(&self, inode: &Inode, offset: u64, buf: &mut [u8]) -> Result<usize> {
        self.check_readable(inode)?;
        let len = to_usize(inode.size().saturating_sub(offset).min(buf.len() as u64));
        let buf = &mut buf[..len];
        buf.fill(0);
        if len == 0 {
            return Ok(0);
        }
        if inode.format(Fork::Data) == Some(Format::Local) {
            fields::put(buf, 0, fields::slice(inode.fork(Fork::Data), to_usize(offset), len));
            return Ok(len);
        }
        let map = self.map(inode, Fork::Data)?;
        let (block, end) = (self.sb.block(), offset + len as u64);
        let first = map.runs.partition_point(|run| run.end().saturating_mul(block) <= offset);
        for run in &map.runs[first..] {
            let start = run.logical.saturating_mul(block);
            if start >= end {
                break;
            }
            if run.unwritten {
                continue;
            }
            let (from, to) = (start.max(offset), run.end().saturating_mul(block).min(end));
            let target = &mut buf[to_usize(from - offset)..to_usize(to - offset)];
            self.device.read(self.block_byte(run.physical) + (from - start), target)?;
        }
        Ok(len)
    }

    /// The ranges of a file that are stored.
    pub(super) fn stored_ranges(&self, inode: &Inode) -> Result<Vec<Range<u64>>> {
        if inode.format(Fork::Data) == Some(Format::Local) {
            return Ok(std::iter::once(0..inode.size()).collect());
        }
        Ok(self.map(inode, Fork::Data)?.stored(self.sb.block(), inode.size()))
    }

    /// All bytes of a file of at most `most`.
    pub(super) fn whole(&self, inode: &Inode, most: u64) -> Result<Vec<u8>> {
        let size = inode.size();
        // Memory is taken for what is there, not for what a length claims.
        let stored = inode.blocks().saturating_mul(self.sb.block()).saturating_add(MAX_HOLES);
        if size > most || size > stored {
            let path = format!("inode {}", inode.number);
            return Err(Error::TooLarge { path, size, most: most.min(stored) });
        }
        let mut bytes = vec![0; to_usize(size)];
        self.read_file(inode, 0, &mut bytes)?;
        Ok(bytes)
    }

    /// Byte of a block of the file system.
    pub(super) fn block_byte(&self, block: u64) -> u64 {
        let (group, inner) = self.sb.split_block(block);
        self.sb.group_byte(group, inner)
    }

    /// Takes blocks for a part of a fork that has none.
    ///
    /// # Errors
    /// [`Error::NoRoom`].
    pub(super) fn fill_hole(&mut self, inode: &mut Inode, fork: Fork, map: &mut Map, from: u64, to: u64) -> Result<()> {
        let near = self.sb.split_inode(inode.number).0;
        let mut at = from;
        while at < to {
            let taken = self.take_run(near, fields::low32((to - at).min(MAX_TAKEN)))?;
            let (group, block) = self.sb.split_block(taken.start);
            let mut group = self.group(group)?;
            let owner = Owner::file(inode.number, fork == Fork::Attributes, at, false);
            self.add_owner(&mut group, block, taken.len, owner)?;
            self.keep(group);
            map.put(Run { logical: at, physical: taken.start, len: taken.len.into(), unwritten: false });
            inode.count_blocks(taken.len.into());
            at += u64::from(taken.len);
        }
        Ok(())
    }

    /// Gives back the blocks of a part of a fork; those that other files share stay theirs.
    ///
    /// # Errors
    /// [`Error::Damaged`].
    pub(super) fn release(&mut self, inode: &mut Inode, fork: Fork, map: &mut Map, from: u64, to: u64) -> Result<()> {
        for run in map.take(from, to) {
            let (number, block) = self.sb.split_block(run.physical);
            let len = fields::low32(run.len);
            let mut group = self.group(number)?;
            let owner = Owner::file(inode.number, fork == Fork::Attributes, run.logical, run.unwritten);
            self.remove_owner(&mut group, block, len, owner)?;
            let freed =
                if fork == Fork::Data { self.share(&mut group, block, len, false)? } else { vec![(block, len)] };
            for (start, len) in freed {
                self.give_run(&mut group, start, len)?;
            }
            self.keep(group);
            inode.count_blocks(-i64::from(len));
        }
        Ok(())
    }

    /// Writes `bytes` at `offset` into blocks that are the file's alone; those that are not there, or not so, are taken.
    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the buffer and to its blocks")]
    fn fill(&mut self, inode: &mut Inode, map: &mut Map, offset: u64, bytes: &[u8]) -> Result<()> {
        let block = self.sb.block();
        let end = offset + bytes.len() as u64;
        let shares = inode.flags2() & flags2::REFLINK != 0;
        let mut at = offset;
        while at < end {
            let logical = at / block;
            let index = map.runs.partition_point(|run| run.end() <= logical);
            let run = map.runs.get(index).copied();
            let inside = run.filter(|run| run.logical <= logical);
            // As far as what is there is of one kind.
            let bound = inside.map_or_else(|| run.map_or(u64::MAX, |run| run.logical), |run| run.end());
            let until = bound.saturating_mul(block).min(end);
            let piece = &bytes[to_usize(at - offset)..to_usize(until - offset)];
            if let Some(run) = inside.filter(|run| !run.unwritten && !shares) {
                self.device.write(self.block_byte(run.physical) + (at - run.logical * block), piece)?;
            } else {
                let (first, last) = (logical, until.div_ceil(block));
                let mut whole = vec![0; to_usize((last - first) * block)];
                if inside.is_some_and(|run| !run.unwritten) {
                    let old = Inode { number: inode.number, bytes: inode.bytes.clone() };
                    self.read_mapped(map, &old, first, &mut whole)?;
                }
                whole[to_usize(at - first * block)..][..piece.len()].copy_from_slice(piece);
                self.release(inode, Fork::Data, map, first, last)?;
                self.fill_hole(inode, Fork::Data, map, first, last)?;
                for run in map.runs.iter().filter(|run| run.end() > first && run.logical < last) {
                    let (from, to) = (run.logical.max(first), run.end().min(last));
                    let part = &whole[to_usize((from - first) * block)..to_usize((to - first) * block)];
                    self.device.write(self.block_byte(run.physical + (from - run.logical)), part)?;
                }
            }
            at = until;
        }
        Ok(())
    }

    /// Fills `buf` with the blocks of a map from `first` on.
    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the buffer")]
    fn read_mapped(&self, map: &Map, inode: &Inode, first: u64, buf: &mut [u8]) -> Result<()> {
        let block = self.sb.block();
        for (index, target) in buf.chunks_mut(to_usize(block)).enumerate() {
            if let Some(physical) = map.block(first + index as u64) {
                self.device.read(self.block_byte(physical), target)?;
            }
            // What lies behind the end was never the file's.
            let start = (first + index as u64) * block;
            if start + block > inode.size() {
                let kept = to_usize(inode.size().saturating_sub(start));
                target[kept..].fill(0);
            }
        }
        Ok(())
    }

    /// Makes the end of a file fit to grow from: nothing lies behind it, and the rest of its last block is zero.
    fn settle_end(&mut self, inode: &mut Inode, map: &mut Map, until: u64) -> Result<()> {
        let (size, block) = (inode.size(), self.sb.block());
        self.release(inode, Fork::Data, map, size.div_ceil(block), u64::MAX >> 10)?;
        let end = size.next_multiple_of(block).min(until);
        if end > size && map.block(size / block).is_some() {
            self.fill(inode, map, size, &vec![0; to_usize(end - size)])?;
        }
        Ok(())
    }

    /// Writes `bytes` at `offset` of a file; a gap before them is a hole.
    pub(super) fn put_at(&mut self, number: u64, offset: u64, bytes: &[u8]) -> Result<()> {
        self.begin_change()?;
        let mut inode = self.inode(number)?;
        self.check_plain(&inode)?;
        let end = offset.checked_add(bytes.len() as u64).filter(|end| *end <= i64::MAX.unsigned_abs());
        let end = end.ok_or_else(|| self.device.unchangeable("no file is that long"))?;
        let mut map = self.map(&inode, Fork::Data)?;
        // What is there already may be written over with nothing left, unless it is shared.
        let there: u64 = map.stored(self.sb.block(), u64::MAX).iter().map(|range| range.end - range.start).sum();
        if inode.flags2() & flags2::REFLINK != 0 || end > inode.size() || there < inode.size() {
            self.check_left((bytes.len() as u64).div_ceil(self.sb.block()))?;
        }
        if end > inode.size() {
            let gap = offset.max(inode.size());
            self.settle_end(&mut inode, &mut map, gap)?;
        }
        self.fill(&mut inode, &mut map, offset, bytes)?;
        if !bytes.is_empty() {
            inode.set_size(inode.size().max(end));
        }
        self.finish_file(&mut inode, map)
    }

    /// Lets a file have `size` bytes: cut off, or with a hole at its end.
    pub(super) fn set_len(&mut self, number: u64, size: u64) -> Result<()> {
        self.begin_change()?;
        let mut inode = self.inode(number)?;
        self.check_plain(&inode)?;
        if size > i64::MAX.unsigned_abs() {
            return Err(self.device.unchangeable("no file is that long"));
        }
        let mut map = self.map(&inode, Fork::Data)?;
        if size > inode.size() {
            self.settle_end(&mut inode, &mut map, size)?;
        } else {
            let first = size.div_ceil(self.sb.block());
            self.release(&mut inode, Fork::Data, &mut map, first, u64::MAX >> 10)?;
        }
        inode.set_size(size);
        self.finish_file(&mut inode, map)
    }

    fn finish_file(&mut self, inode: &mut Inode, map: Map) -> Result<()> {
        if map.runs.is_empty() {
            inode.set_flags(inode.flags() & !flags::PREALLOCATED);
        }
        self.lay_map(inode, Fork::Data, map)?;
        self.touch(inode);
        self.write_inode(inode)?;
        self.flush()
    }

    /// Writes `bytes` into blocks of a fork that has none there, from block `from` on.
    pub(super) fn lay_bytes(
        &mut self,
        inode: &mut Inode,
        fork: Fork,
        map: &mut Map,
        from: u64,
        bytes: &[u8],
    ) -> Result<()> {
        let block = to_usize(self.sb.block());
        let to = from + bytes.len().div_ceil(block) as u64;
        self.fill_hole(inode, fork, map, from, to)?;
        for (logical, piece) in (from..to).zip(bytes.chunks(block)) {
            let physical =
                map.block(logical).ok_or_else(|| self.device.damaged("a block that was taken is not there"))?;
            let mut whole = piece.to_vec();
            whole.resize(block, 0);
            self.device.write(self.block_byte(physical), &whole)?;
        }
        Ok(())
    }
}
