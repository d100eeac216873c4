//! Bytes of files as they are changed: extents that are dropped or cut, and new ones with their sums.

use std::ops::ControlFlow;

use reformis_disk::to_usize;

use super::{
    super::{
        Btrfs,
        bytes::{put, put_u64, u8_at, u64_at},
        items,
    },
    groups::DATA,
    inode::{Inode, flags},
    record::Ref,
};
use crate::{error::Result, fs::node::Node};

/// The longest file whose bytes lie in its item, as the kernel makes them by itself (`max_inline`).
const MOST_INLINE: u64 = 2048;
/// The longest that an item unpacks to, as it is read.
const MOST_UNPACKED: u64 = 1 << 20;
/// Bytes that are written as one extent, at the most.
const PIECE: usize = 16 << 20;
/// Extents that are dropped at once.
const AT_ONCE: usize = 1024;
/// References that are noted before they are written.
const MOST_NOTED: usize = 16 << 10;

/// Kinds of extents (`BTRFS_FILE_EXTENT_*`).
const INLINE: u8 = 0;
const PLAIN: u8 = 1;

impl Btrfs {
    fn round_up(&self, len: u64) -> u64 {
        len.checked_next_multiple_of(u64::from(self.sb.sector)).unwrap_or(u64::MAX)
    }

    fn round_down(&self, len: u64) -> u64 {
        len / u64::from(self.sb.sector) * u64::from(self.sb.sector)
    }

    fn most_inline(&self) -> u64 {
        MOST_INLINE.min(self.most_item().saturating_sub(21) as u64)
    }

    /// Extents of a file in the bytes from `from` to `to`, some of them.
    fn extents(&self, inode: &Inode, from: u64, to: u64) -> Result<Vec<(u64, Vec<u8>)>> {
        let mut met = Vec::new();
        self.items(self.root_of(inode.tree)?, (inode.number, items::EXTENT, from), &mut |key, item| {
            if (key.0, key.1) < (inode.number, items::EXTENT) {
                return Ok(ControlFlow::Continue(()));
            }
            if (key.0, key.1) != (inode.number, items::EXTENT) || key.2 >= to || met.len() >= AT_ONCE {
                return Ok(ControlFlow::Break(()));
            }
            let extent = items::Extent::parse(item).map_err(|what| self.device.damaged(what))?;
            if u8_at(item, 20) == INLINE || key.2.saturating_add(extent.len()) > from {
                met.push((key.2, item.to_vec()));
            }
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(met)
    }

    /// Whether a file's bytes lie in its item: then it is no longer than an item may unpack to.
    fn is_inline(&self, inode: &Inode) -> Result<bool> {
        let item = self.item(self.root_of(inode.tree)?, (inode.number, items::EXTENT, 0))?;
        let is_inline = item.is_some_and(|item| u8_at(&item, 20) == INLINE);
        if is_inline && inode.size() > MOST_UNPACKED {
            return Err(self.device.damaged(format!("inode {} is longer than what its item holds", inode.number)));
        }
        Ok(is_inline)
    }

    /// Drops what a file has from `from` to `to`, whole sectors; extents that reach beyond are cut.
    pub(super) fn drop_range(&mut self, inode: &mut Inode, from: u64, to: u64) -> Result<()> {
        if from >= to {
            return Ok(());
        }
        loop {
            let met = self.extents(inode, from, to)?;
            if met.is_empty() {
                return Ok(());
            }
            for (start, item) in met {
                self.drop_extent(inode, start, &item, from, to)?;
            }
            // What is noted takes memory, and a file may have any number of extents.
            if self.changing()?.refs.len() > MOST_NOTED {
                self.write_refs()?;
            }
        }
    }

    fn drop_extent(&mut self, inode: &mut Inode, start: u64, item: &[u8], from: u64, to: u64) -> Result<()> {
        let key = (inode.number, items::EXTENT, start);
        if !self.take(inode.tree, key)? {
            return Err(self.unordered());
        }
        if u8_at(item, 20) == INLINE {
            inode.count(0, u64_at(item, 8));
            return Ok(());
        }
        let (disk, disk_len) = (u64_at(item, 21), u64_at(item, 29));
        let (offset, len) = (u64_at(item, 37), u64_at(item, 45));
        let end = start.saturating_add(len);
        let mut parts: i64 = -1;
        let mut part = item.to_vec();
        put_u64(&mut part, 0, self.change_generation());
        if start < from {
            put_u64(&mut part, 45, from - start);
            self.put(inode.tree, key, part.clone())?;
            parts += 1;
        }
        if end > to {
            // A hole has no place that it is a part of.
            put_u64(&mut part, 37, if disk == 0 { 0 } else { offset.saturating_add(to - start) });
            put_u64(&mut part, 45, end - to);
            self.put(inode.tree, (inode.number, items::EXTENT, to), part)?;
            parts += 1;
        }
        if disk != 0 {
            inode.count(0, end.min(to) - start.max(from));
            let one = Ref::Data { root: inode.tree, inode: inode.number, offset: start.wrapping_sub(offset) };
            self.note_data(disk, disk_len, one, parts)?;
        }
        Ok(())
    }

    /// Lays bytes, whole sectors, at `at` of a file, where it has none.
    fn lay(&mut self, inode: &mut Inode, mut at: u64, mut bytes: &[u8]) -> Result<()> {
        let sector = u64::from(self.sb.sector);
        while !bytes.is_empty() {
            let wanted = bytes.len().min(PIECE) as u64;
            self.make_room_for_blocks(wanted)?;
            let Some((start, len)) = self.take_space(DATA, wanted, sector)? else {
                if self.add_chunk(DATA, bytes.len() as u64)? {
                    continue;
                }
                return Err(self.no_room(DATA, bytes.len() as u64));
            };
            let (piece, rest) = bytes.split_at_checked(to_usize(len)).unwrap_or((bytes, &[]));
            self.write_copies(start, piece)?;
            if inode.has_sums() {
                self.add_sums(start, piece)?;
            }
            let one = Ref::Data { root: inode.tree, inode: inode.number, offset: at };
            self.note_data(start, len, one, 1)?;
            self.put(inode.tree, (inode.number, items::EXTENT, at), self.extent_item(start, len))?;
            inode.count(len, 0);
            (at, bytes) = (at.saturating_add(len), rest);
        }
        Ok(())
    }

    fn extent_item(&self, start: u64, len: u64) -> Vec<u8> {
        let mut item = vec![0; 53];
        put_u64(&mut item, 0, self.change_generation());
        put_u64(&mut item, 8, len);
        put(&mut item, 20, &[PLAIN]);
        // A hole has no place of its own.
        put_u64(&mut item, 21, start);
        put_u64(&mut item, 29, if start == 0 { 0 } else { len });
        put_u64(&mut item, 45, len);
        item
    }

    /// Notes that a file has nothing from `from` to `to`, where its file system wants that said.
    fn lay_hole(&mut self, inode: &mut Inode, from: u64, to: u64) -> Result<()> {
        if from >= to || self.sb.has_no_holes() {
            return Ok(());
        }
        self.drop_range(inode, from, to)?;
        self.put(inode.tree, (inode.number, items::EXTENT, from), self.extent_item(0, to - from))
    }

    /// Lays all bytes of a file, or a link's target, into its item.
    pub(super) fn lay_inline(&mut self, inode: &mut Inode, bytes: &[u8]) -> Result<()> {
        self.drop_range(inode, 0, u64::MAX)?;
        inode.set_size(bytes.len() as u64);
        if bytes.is_empty() {
            return Ok(());
        }
        let mut item = vec![0; 21];
        put_u64(&mut item, 0, self.change_generation());
        put_u64(&mut item, 8, bytes.len() as u64);
        item.extend(bytes);
        inode.count(bytes.len() as u64, 0);
        self.put(inode.tree, (inode.number, items::EXTENT, 0), item)
    }

    /// Bytes of a file as they are, from `from` to `to`; zeros behind its end.
    fn bytes_of(&self, inode: &Inode, from: u64, to: u64) -> Result<Vec<u8>> {
        let node = Node { tree: inode.tree, number: inode.number, stream: 0 };
        let mut known = self.inode(node)?;
        known.size = inode.size();
        let mut bytes = vec![0; to_usize(to.saturating_sub(from))];
        self.read_file(node, known, from, &mut bytes)?;
        Ok(bytes)
    }

    /// Lets what lies behind a file's end in its last sector be zeros, before the end moves on, and its bytes lie outside its item.
    fn smooth_end(&mut self, inode: &mut Inode) -> Result<()> {
        let size = inode.size();
        let from = if self.is_inline(inode)? { 0 } else { self.round_down(size) };
        if from < size {
            let bytes = self.bytes_of(inode, from, self.round_up(size))?;
            self.drop_range(inode, from, self.round_up(size))?;
            self.lay(inode, from, &bytes)?;
        }
        Ok(())
    }

    fn check_open(&self, inode: &Inode) -> Result<()> {
        if inode.flags() & flags::SEALED != 0 {
            return Err(self.device.unchangeable(format!("the bytes of inode {} are sealed", inode.number)));
        }
        Ok(())
    }

    /// Writes `bytes` at `offset` of a file.
    pub(super) fn put_bytes(&mut self, inode: &mut Inode, offset: u64, bytes: &[u8]) -> Result<()> {
        self.check_open(inode)?;
        let size = inode.size();
        let end = offset.checked_add(bytes.len() as u64).filter(|end| *end <= i64::MAX.unsigned_abs());
        let end = end.ok_or_else(|| self.device.unchangeable("a file would be longer than any may be"))?;
        let new_size = size.max(end);
        if new_size <= self.most_inline() {
            let mut all = self.bytes_of(inode, 0, new_size)?;
            put(&mut all, to_usize(offset), bytes);
            return self.lay_inline(inode, &all);
        }
        if offset > size || self.is_inline(inode)? {
            self.smooth_end(inode)?;
        }
        let (from, to) = (self.round_down(offset), self.round_up(end));
        if from > self.round_up(size) {
            self.lay_hole(inode, self.round_up(size), from)?;
        }
        let mut at = from;
        while at < to {
            let stop = to.min(at + PIECE as u64);
            // What is there on both sides of the new bytes, in the same sectors.
            let mut piece = vec![0; to_usize(stop - at)];
            let sector = u64::from(self.sb.sector);
            if at < offset {
                put(&mut piece, 0, &self.bytes_of(inode, at, at + sector)?);
            }
            if stop > end {
                put(&mut piece, to_usize(stop - at - sector), &self.bytes_of(inode, stop - sector, stop)?);
            }
            let first = to_usize(at.max(offset) - offset);
            let last = to_usize(stop.min(end) - offset);
            put(&mut piece, to_usize(at.max(offset) - at), bytes.get(first..last).unwrap_or_default());
            self.drop_range(inode, at, stop)?;
            self.lay(inode, at, &piece)?;
            at = stop;
        }
        inode.set_size(new_size);
        Ok(())
    }

    /// Lets a file have `size` bytes.
    pub(super) fn set_len(&mut self, inode: &mut Inode, size: u64) -> Result<()> {
        self.check_open(inode)?;
        if size > i64::MAX.unsigned_abs() {
            return Err(self.device.unchangeable("a file would be longer than any may be"));
        }
        let old = inode.size();
        if size.max(old) <= self.most_inline() || size < old && self.is_inline(inode)? {
            let all = self.bytes_of(inode, 0, size)?;
            return self.lay_inline(inode, &all);
        }
        if size > old {
            self.smooth_end(inode)?;
            self.lay_hole(inode, self.round_up(old), self.round_up(size))?;
            inode.set_size(size);
            return Ok(());
        }
        self.drop_range(inode, self.round_up(size), u64::MAX)?;
        inode.set_size(size);
        self.smooth_end(inode)
    }
}
