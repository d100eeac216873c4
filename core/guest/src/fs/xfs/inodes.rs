//! Which inodes are in use (section "Inode B+trees"), and the lists of those that were removed while they were open.

use std::ops::ControlFlow;

use super::{
    Xfs,
    fields::{be16, be32, be64, byte, low8, low32, put, put16, put32, put64},
    group::{BUCKETS, Group, Head, NULL, agf, agi},
    inode::{Fork, Format, Inode, Time},
    owner,
    space::HELD_BACK,
    superblock::{incompat, ro_compat},
    tree::{Order, Record, Tree},
};
use crate::error::Result;

/// Inodes of a chunk.
const CHUNK: u32 = 64;
/// Inodes that one bit of a chunk's holes stands for.
const PER_HOLE: u32 = 4;

/// A chunk of inodes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Chunk {
    /// First inode in its group.
    start: u32,
    /// Where it has no inodes: a bit for four of them.
    holes: u16,
    /// Inodes that are there.
    count: u8,
    /// Of those, free ones.
    free_count: u32,
    /// A bit for each that is free or not there.
    free: u64,
}

impl Chunk {
    fn of(record: &Record, sparse: bool) -> Self {
        let (holes, count, free_count) =
            if sparse { (be16(record, 4), byte(record, 6), byte(record, 7).into()) } else { (0, 64, be32(record, 4)) };
        Self { start: be32(record, 0), holes, count, free_count, free: be64(record, 8) }
    }

    fn record(self, sparse: bool) -> Record {
        let mut record = [0; 24];
        put32(&mut record, 0, self.start);
        if sparse {
            put16(&mut record, 4, self.holes);
            put(&mut record, 6, &[self.count, low8(self.free_count as usize)]);
        } else {
            put32(&mut record, 4, self.free_count);
        }
        put64(&mut record, 8, self.free);
        record
    }

    /// Bits of the inodes that are there.
    fn there(self) -> u64 {
        (0..16).filter(|bit| self.holes & 1 << bit == 0).fold(0, |bits, bit| bits | 0xf << (bit * PER_HOLE))
    }

    fn first_free(self) -> Option<u32> {
        let bits = self.free & self.there();
        (bits != 0).then(|| bits.trailing_zeros())
    }
}

fn order(start: u32) -> Order {
    let mut record = [0; 24];
    put32(&mut record, 0, start);
    Tree::Inodes.order(&record, false)
}

impl Xfs {
    fn has_sparse(&self) -> bool {
        self.sb.has_incompat(incompat::SPARSE_INODES)
    }

    fn has_free_tree(&self) -> bool {
        self.sb.has_ro(ro_compat::FINOBT)
    }

    /// Takes an inode, in the group of `near` if it can be, and makes it one of a new file of `mode` in `folder`.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`].
    pub(super) fn take_inode(&mut self, folder: &Inode, mode: u16) -> Result<Inode> {
        let (near, _) = self.sb.split_inode(folder.number);
        let mut short = None;
        for number in self.groups_from(near) {
            let mut group = self.group(number)?;
            let taken = self.take_inode_in(&mut group, folder, mode);
            self.keep(group);
            match taken {
                Ok(inode) => return Ok(inode),
                Err(error @ crate::Error::NoRoom { .. }) => short = Some(error),
                Err(error) => return Err(error),
            }
        }
        Err(short.unwrap_or_else(|| self.no_room(1, 0)))
    }

    fn take_inode_in(&mut self, group: &mut Group, folder: &Inode, mode: u16) -> Result<Inode> {
        let found = match self.chunk_with_free(group)? {
            Some(chunk) => chunk,
            None => self.make_chunk(group)?,
        };
        let bit = found
            .first_free()
            .ok_or_else(|| self.device.damaged("a chunk of inodes counts free ones that it does not have"))?;
        let left = Chunk { free: found.free & !(1 << bit), free_count: found.free_count - 1, ..found };
        self.note_chunk(group, found, left)?;
        group.count(Head::Inodes, agi::FREE, -1);
        let inner = found.start.saturating_add(bit);
        let number = u64::from(group.number) << self.sb.group_inode_bits() | u64::from(inner);
        let mut inode = self.any_inode(number)?;
        if inode.mode() != 0 {
            return Err(self.device.damaged(format!("inode {number} is in use, and counted as free")));
        }
        self.begin_inode(&mut inode, mode, folder);
        Ok(inode)
    }

    fn chunk_with_free(&self, group: &Group) -> Result<Option<Chunk>> {
        if be32(&group.inodes, agi::FREE) == 0 {
            return Ok(None);
        }
        let sparse = self.has_sparse();
        let (tree, mut found) = (if self.has_free_tree() { Tree::FreeInodes } else { Tree::Inodes }, None);
        self.each_record(group, tree, &order(0), |record| {
            let chunk = Chunk::of(record, sparse);
            let usable = chunk.free_count > 0 && chunk.first_free().is_some();
            found = usable.then_some(chunk);
            Ok(if usable { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
        })?;
        Ok(found)
    }

    /// Notes in both trees that a chunk has other free inodes than before.
    fn note_chunk(&mut self, group: &mut Group, was: Chunk, now: Chunk) -> Result<()> {
        let (order, record) = (order(now.start), now.record(self.has_sparse()));
        self.update(group, Tree::Inodes, &order, &record)?;
        if !self.has_free_tree() {
            return Ok(());
        }
        match (was.free_count > 0, now.free_count > 0) {
            (true, true) => self.update(group, Tree::FreeInodes, &order, &record),
            (true, false) => self.delete(group, Tree::FreeInodes, &order),
            (false, true) => self.insert(group, Tree::FreeInodes, &record),
            (false, false) => Ok(()),
        }
    }

    /// Makes a chunk of free inodes: a whole one, or a part where the file system has such and no more room.
    fn make_chunk(&mut self, group: &mut Group) -> Result<Chunk> {
        let per_block = u32::from(self.sb.sb_inopblock.get());
        let blocks = (CHUNK / per_block).max(1);
        // Two chunks share a block where a block holds more than one.
        let count = (blocks * per_block).max(CHUNK);
        let round = self.sb.sb_inoalignmt.get().max(1);
        // A group whose trees have no room to grow is left alone from the start: another one is asked then, and what was half made
        // here would stay.
        let room = be32(&group.space, agf::FREE).saturating_sub(HELD_BACK);
        let taken = if room < blocks {
            Err(self.no_room(blocks.into(), room.into()))
        } else {
            self.take_owned(group, blocks, round, owner::INODES)
        };
        let (start, len, whole) = match taken {
            Ok(start) => (start, blocks, true),
            Err(error @ crate::Error::NoRoom { .. }) => {
                let (least, part) = (self.sb.sb_spino_align.get(), (PER_HOLE / per_block).max(1));
                let part = part.max(least);
                if !self.has_sparse() || part >= blocks || count != CHUNK || room < part {
                    return Err(error);
                }
                (self.take_owned(group, part, part, owner::INODES)?, part, false)
            }
            Err(error) => return Err(error),
        };
        let inodes = len * per_block;
        for index in 0..inodes {
            let number = u64::from(group.number) << self.sb.group_inode_bits() | u64::from(start * per_block + index);
            // Generations tell a new file from a removed one with the same number; a chunk's first ones come from its place.
            let generation = low32(number.wrapping_mul(0x9e37_79b1) ^ self.now.unsigned_abs()) & 0x7fff_ffff;
            let mut inode = self.empty_inode(number, generation);
            self.write_inode(&mut inode)?;
        }
        group.count(Head::Inodes, agi::COUNT, inodes.into());
        group.count(Head::Inodes, agi::FREE, inodes.into());
        put32(&mut group.inodes, agi::NEWEST, start * per_block);
        if whole {
            let mut first = None;
            for chunk in 0..(inodes / CHUNK).max(1) {
                let start = start * per_block + chunk * CHUNK;
                let chunk = Chunk { start, holes: 0, count: 64, free_count: 64, free: u64::MAX };
                self.insert_chunk(group, chunk)?;
                first = first.or(Some(chunk));
            }
            return first.ok_or_else(|| self.no_room(1, 0));
        }
        self.join_part(group, start * per_block, inodes)
    }

    fn insert_chunk(&mut self, group: &mut Group, chunk: Chunk) -> Result<()> {
        let record = chunk.record(self.has_sparse());
        self.insert(group, Tree::Inodes, &record)?;
        if self.has_free_tree() {
            self.insert(group, Tree::FreeInodes, &record)?;
        }
        Ok(())
    }

    /// Notes a part of a chunk that was made: in the chunk that has other parts there, or as a new one with holes.
    fn join_part(&mut self, group: &mut Group, start: u32, inodes: u32) -> Result<Chunk> {
        let per_block = u32::from(self.sb.sb_inopblock.get());
        let round = self.sb.sb_inoalignmt.get().max(1).saturating_mul(per_block);
        let base = start / round * round;
        let base = base + (start - base) / CHUNK * CHUNK;
        let bits = (0..inodes / PER_HOLE).fold(0u16, |bits, bit| bits | 1 << ((start - base) / PER_HOLE + bit));
        let old = self.record_from(group, Tree::Inodes, &order(base))?.map(|record| Chunk::of(&record, true));
        let part = low8(inodes as usize);
        if let Some(old) = old.filter(|chunk| chunk.start == base) {
            if old.holes & bits != bits {
                return Err(self.device.damaged("parts of a chunk of inodes overlap"));
            }
            let now = Chunk {
                holes: old.holes & !bits,
                count: old.count.saturating_add(part),
                free_count: old.free_count + inodes,
                ..old
            };
            self.note_chunk(group, old, now)?;
            return Ok(now);
        }
        let chunk = Chunk { start: base, holes: !bits, count: part, free_count: inodes, free: u64::MAX };
        self.insert_chunk(group, chunk)?;
        Ok(chunk)
    }

    /// Gives an inode back, whose forks have nothing any more.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] when it is free already.
    pub(super) fn give_inode(&mut self, inode: &mut Inode) -> Result<()> {
        let (number, inner) = self.sb.split_inode(inode.number);
        let mut group = self.group(number)?;
        let sparse = self.has_sparse();
        let record = self.record_to(&group, Tree::Inodes, &order(inner))?;
        let chunk = record.map(|record| Chunk::of(&record, sparse)).filter(|chunk| inner - chunk.start < CHUNK);
        let missing = || self.device.damaged(format!("inode {} belongs to no chunk", inode.number));
        let chunk = chunk.ok_or_else(missing)?;
        let bit = 1u64 << (inner - chunk.start);
        if chunk.free & bit != 0 {
            return Err(self.device.damaged(format!("inode {} is free already", inode.number)));
        }
        let now = Chunk { free: chunk.free | bit, free_count: chunk.free_count + 1, ..chunk };
        self.note_chunk(&mut group, chunk, now)?;
        group.count(Head::Inodes, agi::FREE, 1);
        self.keep(group);
        let generation = inode.generation().wrapping_add(1);
        inode.set_mode(0);
        inode.set_links(0);
        inode.set_size(0);
        inode.set_flags(0);
        inode.set_fork_offset(0);
        inode.set_fork(Fork::Data, &[]);
        for fork in [Fork::Data, Fork::Attributes] {
            inode.set_format(fork, Format::Extents);
            inode.set_runs(fork, 0);
        }
        inode.set_generation(generation);
        inode.set_time(Time::Change, self.now);
        if inode.version() == 3 {
            let kept = inode.flags2() & (super::inode::flags2::BIGTIME | super::inode::flags2::NREXT64);
            inode.set_flags2(kept);
        }
        self.write_inode(inode)
    }

    /// Gives back what was removed while it was open: nothing has it open any more. The number of inodes.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`].
    pub(super) fn release_unlinked(&mut self) -> Result<u64> {
        let mut released = 0;
        for number in self.groups_from(0) {
            for bucket in 0..BUCKETS {
                let place = agi::UNLINKED + bucket * 4;
                loop {
                    let mut group = self.group(number)?;
                    let first = be32(&group.inodes, place);
                    if first == NULL {
                        self.keep(group);
                        break;
                    }
                    let mut inode = self.inode(u64::from(number) << self.sb.group_inode_bits() | u64::from(first))?;
                    put32(&mut group.inodes, place, inode.next_unlinked());
                    self.keep(group);
                    inode.set_next_unlinked(NULL);
                    if inode.links() > 0 {
                        // One that was made without a name and got one: it only leaves the list.
                        self.write_inode(&mut inode)?;
                    } else {
                        self.destroy(&mut inode)?;
                    }
                    released += 1;
                }
            }
        }
        Ok(released)
    }
}
