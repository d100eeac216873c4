//! Bytes of files: extents, plain and packed, and their sums.

use std::{
    io::Read,
    ops::{ControlFlow, Range},
    sync::Arc,
};

use reformis_disk::to_usize;

use super::{
    Btrfs,
    block::Root,
    items::{self, Extent, Inode, Packing},
    lzo, roots,
};
use crate::{
    error::{Error, Result},
    fs::node::Node,
};

/// The most bytes that a packed extent has, packed and not; the kernel makes them of 128 KiB.
const MOST: u64 = 1 << 20;
/// Bytes of a plain extent that are read at once.
const PIECE: u64 = 256 << 10;

impl Btrfs {
    /// The tree that a node is in.
    pub(super) fn tree_of(&self, node: Node) -> Result<Root> {
        let gone = || self.device.damaged(format!("there is no subvolume {}", node.tree));
        self.tree(node.tree)?.ok_or_else(gone)
    }

    /// The inode of a node.
    pub(super) fn inode(&self, node: Node) -> Result<Inode> {
        if node.number == super::volume::EMPTY {
            return Ok(Inode::empty_folder());
        }
        let item = self.item(self.tree_of(node)?, (node.number, items::INODE, 0))?;
        let inode = item.as_deref().and_then(Inode::parse);
        inode.ok_or_else(|| self.device.damaged(format!("inode {} is not there", node.number)))
    }

    /// Fills `buf` from `offset` of a file, as far as it goes.
    pub(super) fn read_file(&self, node: Node, inode: Inode, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let end = inode.size.min(offset.saturating_add(buf.len() as u64));
        let Some(len) = end.checked_sub(offset).map(to_usize) else { return Ok(0) };
        let buf = buf.get_mut(..len).unwrap_or_default();
        buf.fill(0);
        let root = self.tree_of(node)?;
        let mut done = 0;
        self.items(root, (node.number, items::EXTENT, offset), &mut |key, item| {
            let start = key.2;
            match (key.0, key.1) {
                (number, items::EXTENT) if number == node.number && start < end => {}
                at if at < (node.number, items::EXTENT) => return Ok(ControlFlow::Continue(())),
                _ => return Ok(ControlFlow::Break(())),
            }
            let extent = Extent::parse(item).map_err(|what| self.device.damaged(what))?;
            // So there are no more of them in a stretch than it has sectors.
            let is_inline = matches!(extent, Extent::Inline(..));
            if !start.is_multiple_of(u64::from(self.sb.sector)) || is_inline && start != 0 || start < done {
                return Err(self.device.damaged("extents of a file lie over one another"));
            }
            done = start.saturating_add(extent.len());
            let (from, stop) = (start.max(offset), done.min(end));
            if from < stop {
                let piece = buf.get_mut(to_usize(from - offset)..to_usize(stop - offset)).unwrap_or_default();
                self.read_extent(&extent, from - start, inode.has_sums(), piece)?;
            }
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(len)
    }

    /// The ranges of a file that are stored.
    pub(super) fn stored_ranges(&self, node: Node, inode: Inode) -> Result<Vec<Range<u64>>> {
        let mut ranges: Vec<Range<u64>> = Vec::new();
        let mut hold = self.device.bench().budget().hold();
        self.each(self.tree_of(node)?, node.number, items::EXTENT, &mut |start, item| {
            let extent = Extent::parse(item).map_err(|what| self.device.damaged(what))?;
            let range = start.min(inode.size)..start.saturating_add(extent.len()).min(inode.size);
            match (extent, ranges.last_mut()) {
                (Extent::Hole(_), _) => {}
                (_, Some(last)) if last.end > range.start => {
                    return Err(self.device.damaged("extents of a file lie over one another"));
                }
                (_, Some(last)) if last.end == range.start => last.end = range.end,
                _ if range.is_empty() => {}
                _ => {
                    hold.grow(size_of::<Range<u64>>() as u64)?;
                    ranges.push(range);
                }
            }
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(ranges)
    }

    /// Fills `buf` from byte `at` of what an extent stands for.
    fn read_extent(&self, extent: &Extent, at: u64, has_sums: bool, buf: &mut [u8]) -> Result<()> {
        match extent {
            Extent::Hole(_) => {}
            Extent::Inline(bytes, packing, whole) => {
                let whole = (*whole).min(MOST);
                let unpacked = self.unpack(bytes, *packing, whole)?;
                fill(buf, &unpacked, to_usize(at));
            }
            Extent::At { start, packing: Packing::None, offset, .. } => {
                let mut done = 0;
                while done < buf.len() {
                    let len = buf.len().min(done + to_usize(PIECE)) - done;
                    let first = start.checked_add(offset + at + done as u64).unwrap_or(u64::MAX);
                    let piece = buf.get_mut(done..done + len).unwrap_or_default();
                    self.read_plain(first, has_sums, piece)?;
                    done += len;
                }
            }
            Extent::At { start, len, packing, whole, offset, .. } => {
                let unpacked = match self.unpacked.get(*start) {
                    Some(known) => known,
                    None => {
                        if *len > MOST || *whole > MOST {
                            return Err(self.device.damaged("a packed extent is longer than any is made"));
                        }
                        let mut packed = vec![0; to_usize(*len)];
                        self.read_plain(*start, has_sums, &mut packed)?;
                        let unpacked = Arc::new(self.unpack(&packed, *packing, *whole)?);
                        self.unpacked.keep(*start, unpacked.clone(), *whole);
                        unpacked
                    }
                };
                fill(buf, &unpacked, to_usize(offset + at));
            }
        }
        Ok(())
    }

    /// Fills `buf` from the address `first`, from a copy whose sums are right.
    fn read_plain(&self, first: u64, has_sums: bool, buf: &mut [u8]) -> Result<()> {
        let sector = u64::from(self.sb.sector);
        let start = first / sector * sector;
        let Some(end) = first.checked_add(buf.len() as u64).and_then(|end| end.checked_next_multiple_of(sector)) else {
            return Err(self.device.damaged("an extent leads outside"));
        };
        let sums = if has_sums { self.sums(start, end)? } else { Vec::new() };
        let mut bytes = vec![0; to_usize(end - start)];
        let mut why = "a part of it lies on a device that is not here";
        for copy in 0..self.chunks.copies(start).max(1) {
            if !self.read_copy(start, &mut bytes, copy)? {
                continue;
            }
            let is_right = |(number, sum): (usize, &Vec<u8>)| {
                let at = number * to_usize(sector);
                sum.is_empty() || self.sb.sum.holds(bytes.get(at..at + to_usize(sector)).unwrap_or_default(), sum)
            };
            if sums.iter().enumerate().all(is_right) {
                fill(buf, &bytes, to_usize(first - start));
                return Ok(());
            }
            why = "its sum is wrong";
        }
        Err(self.device.damaged(format!("what lies at {start}: {why}")))
    }

    /// The sums of the sectors from `start` to `end`; empty where one has none.
    fn sums(&self, start: u64, end: u64) -> Result<Vec<Vec<u8>>> {
        let (sector, len) = (u64::from(self.sb.sector), self.sb.sum.len());
        let mut sums = vec![Vec::new(); to_usize((end - start) / sector)];
        let Some(root) = self.tree(roots::SUMS)? else { return Ok(sums) };
        self.items(root, (items::SUMS, items::SUM, start), &mut |key, item| {
            let (first, is_sum) = (key.2, (key.0, key.1) == (items::SUMS, items::SUM));
            if !is_sum || first >= end {
                let before = (key.0, key.1) < (items::SUMS, items::SUM);
                return Ok(if before { ControlFlow::Continue(()) } else { ControlFlow::Break(()) });
            }
            if !first.is_multiple_of(sector) {
                return Err(self.device.damaged("sums do not begin with a sector"));
            }
            for (number, sum) in (0..).zip(item.chunks_exact(len)) {
                let at = first.saturating_add(number * sector);
                let place = at.checked_sub(start).map(|at| to_usize(at / sector));
                if let Some(known) = place.and_then(|place| sums.get_mut(place)) {
                    *known = sum.to_vec();
                }
            }
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(sums)
    }

    fn unpack(&self, packed: &[u8], packing: Packing, whole: u64) -> Result<Vec<u8>> {
        let most = to_usize(whole);
        let broken = || self.device.damaged("what is packed in it is not sound");
        let unpacked = match packing {
            Packing::None => packed.to_vec(),
            Packing::Lzo => lzo::unpack(packed, self.sb.sector as usize, most).map_err(|_| broken())?,
            Packing::Zlib => {
                let mut out = Vec::new();
                let read = flate2::read::ZlibDecoder::new(packed).take(whole).read_to_end(&mut out);
                read.map_err(|_| broken())?;
                out
            }
            Packing::Zstd => {
                let mut out = Vec::new();
                let decoder = zstd::Decoder::new(packed).map_err(|_| broken())?;
                decoder.single_frame().take(whole).read_to_end(&mut out).map_err(|_| broken())?;
                out
            }
        };
        Ok(unpacked)
    }

    /// Where a symbolic link leads.
    pub(super) fn link(&self, node: Node, inode: Inode) -> Result<Vec<u8>> {
        if inode.size > 4096 {
            return Err(Error::TooLarge { path: String::new(), size: inode.size, most: 4096 });
        }
        let mut target = vec![0; to_usize(inode.size)];
        let len = self.read_file(node, inode, 0, &mut target)?;
        target.truncate(len);
        Ok(target)
    }
}

/// Copies `from` from byte `at` on, as far as it goes.
fn fill(to: &mut [u8], from: &[u8], at: usize) {
    let from = from.get(at..).unwrap_or_default();
    to.iter_mut().zip(from).for_each(|(to, from)| *to = *from);
}
