//! Taking and giving back blocks and inodes: bitmaps and every count of them (section "Block and inode Bitmaps").

use super::{
    Ext,
    group::{self, BLOCK_UNINIT, Group},
    inode::{Inode, Time, flags},
    map::{Map, Run},
    superblock::incompat,
};
use crate::error::{Error, Result};
use reformis_disk::to_usize;

/// Groups that are searched for a place in one run before several are taken.
const SEARCHED: u64 = 64;

/// The first free run of at least `least` blocks below `end`, at most `most` long.
#[expect(
    clippy::indexing_slicing,
    reason = "a bitmap has a bit for every block of its group, and an inode has its 128 bytes"
)]
fn free_run(bitmap: &[u8], end: u64, least: u64, most: u64) -> Option<(u64, u64)> {
    let mut at = 0;
    while at < end {
        if at % 8 == 0 && bitmap[(at / 8) as usize] == 0xff {
            at += 8;
            continue;
        }
        let free = (at..end).take_while(|bit| !group::is_set(bitmap, *bit)).take(to_usize(most)).count() as u64;
        if free >= least && free > 0 {
            return Some((at, free));
        }
        at += free + 1;
    }
    None
}

impl Ext {
    /// Takes `count` blocks, near block `goal`, in as few runs as can be found quickly. Their contents are not touched.
    pub(super) fn allocate(&mut self, count: u64, goal: u64) -> Result<Vec<Run>> {
        if self.sb.free_blocks() < count {
            return Err(self.no_room(&format!("blocks of {} bytes", self.block), count, self.sb.free_blocks()));
        }
        let groups = self.sb.groups();
        let first =
            goal.saturating_sub(self.sb.s_first_data_block.get().into()) / u64::from(self.sb.s_blocks_per_group.get());
        let order = || (0..groups).map(move |step| (first + step) % groups);
        let mut left = count;
        let mut runs = Vec::new();
        for (groups, whole) in
            [(order().take(to_usize(SEARCHED)).collect::<Vec<_>>(), true), (order().collect(), false)]
        {
            for number in groups {
                if left == 0 {
                    return Ok(runs);
                }
                let group = self.group(number)?;
                let least = if whole { left } else { 1 };
                if u64::from(group.free_blocks()) >= least {
                    self.allocate_in(group, &mut left, least, &mut runs)?;
                }
            }
        }
        if left > 0 {
            return Err(self.device.damaged("its bitmaps have fewer free blocks than it counts"));
        }
        Ok(runs)
    }

    #[expect(clippy::cast_possible_truncation, reason = "counts of a group and an inode, which have 32 bits")]
    fn allocate_in(&mut self, mut group: Group, left: &mut u64, least: u64, runs: &mut Vec<Run>) -> Result<()> {
        let mut bitmap = self.block_bitmap(&group)?;
        let (start, end) = (self.group_start(group.number), self.group_blocks(group.number));
        if group.flags() & BLOCK_UNINIT != 0 {
            let free = (0..end).filter(|bit| !group::is_set(&bitmap, *bit)).count() as u64;
            if free != u64::from(group.free_blocks()) {
                return Err(self.device.damaged(format!("block group {} miscounts its free blocks", group.number)));
            }
        }
        let mut taken = 0;
        while *left > 0 {
            let Some((at, len)) = free_run(&bitmap, end, least.min(*left), *left) else { break };
            for bit in at..at + len {
                group::set(&mut bitmap, bit, true);
            }
            runs.push(Run { logical: 0, physical: start + at, len, unwritten: false });
            *left -= len;
            taken += len;
        }
        if taken > 0 {
            let free = u64::from(group.free_blocks()).checked_sub(taken);
            let free = free.ok_or_else(|| self.device.damaged("a block group counts too few free blocks"))?;
            group.set_free_blocks(free as u32);
            self.sb.set_free_blocks(self.sb.free_blocks().saturating_sub(taken));
            self.write_block_bitmap(&mut group, &bitmap)?;
            self.write_group(&mut group)?;
        }
        Ok(())
    }

    /// Takes one block near block `goal`.
    pub(super) fn allocate_one(&mut self, goal: u64) -> Result<u64> {
        let run = self.allocate(1, goal)?.into_iter().next();
        run.map(|run| run.physical).ok_or_else(|| self.device.damaged("no block can be had"))
    }

    fn no_room(&self, unit: &str, needed: u64, free: u64) -> Error {
        Error::NoRoom { volume: self.device.name().into(), unit: unit.into(), needed, free }
    }

    /// Counts what the groups have free: the superblock's own counts are those of the last time that it was unmounted (Linux, `fs/ext4/super.c`,
    /// `ext4_count_free_clusters`).
    pub(super) fn count_free(&mut self) -> Result<()> {
        let (mut blocks, mut inodes) = (0_u64, 0_u32);
        for number in 0..self.sb.groups() {
            let group = self.group(number)?;
            blocks = blocks.saturating_add(group.free_blocks().into());
            inodes = inodes.saturating_add(group.free_inodes());
        }
        self.sb.set_free_blocks(blocks.min(self.sb.blocks()));
        self.sb.s_free_inodes_count = inodes.min(self.sb.s_inodes_count.get()).into();
        self.flush()
    }

    /// Gives back single blocks.
    pub(super) fn free_blocks(&mut self, blocks: &[u64]) -> Result<()> {
        blocks.iter().try_for_each(|block| self.free_run(*block, 1))
    }

    /// Gives back a run of blocks.
    #[expect(clippy::cast_possible_truncation, reason = "counts of a group and an inode, which have 32 bits")]
    pub(super) fn free_run(&mut self, first: u64, len: u64) -> Result<()> {
        self.check_blocks(first, len, "a file")?;
        let mut at = first;
        while at < first + len {
            let number =
                (at - u64::from(self.sb.s_first_data_block.get())) / u64::from(self.sb.s_blocks_per_group.get());
            let mut group = self.group(number)?;
            let start = self.group_start(number);
            let end = (start + self.group_blocks(number)).min(first + len);
            let mut bitmap = self.block_bitmap(&group)?;
            for block in at..end {
                if !group::is_set(&bitmap, block - start) {
                    return Err(self.device.damaged(format!("block {block} is used by a file and marked free")));
                }
                group::set(&mut bitmap, block - start, false);
            }
            let freed = end - at;
            group.set_free_blocks(group.free_blocks().saturating_add(freed as u32));
            self.sb.set_free_blocks(self.sb.free_blocks().saturating_add(freed));
            self.write_block_bitmap(&mut group, &bitmap)?;
            self.write_group(&mut group)?;
            at = end;
        }
        Ok(())
    }

    /// Gives back the blocks of a map from block `keep` of the file on; the map that is left.
    pub(super) fn cut(&mut self, map: Map, keep: u64) -> Result<Map> {
        let mut left = Map { runs: Vec::new(), tables: map.tables };
        for mut run in map.runs {
            let kept = keep.saturating_sub(run.logical).min(run.len);
            if kept < run.len {
                self.free_run(run.physical + kept, run.len - kept)?;
            }
            run.len = kept;
            if kept > 0 {
                left.runs.push(run);
            }
        }
        Ok(left)
    }

    /// Makes an inode's map an empty one, of the kind that new files have here.
    #[expect(
        clippy::indexing_slicing,
        reason = "a bitmap has a bit for every block of its group, and an inode has its 128 bytes"
    )]
    pub(super) fn start_map(&self, inode: &mut Inode) {
        let extents = self.sb.has_incompat(incompat::EXTENTS);
        inode.set_flag(flags::EXTENTS, extents);
        inode.block_mut().fill(0);
        if extents {
            // An empty node of four entries.
            inode.block_mut()[..6].copy_from_slice(&[0x0a, 0xf3, 0, 0, 4, 0]);
        }
    }

    /// Lays a map down in `inode` and counts its blocks there. The inode is not written yet.
    pub(super) fn lay_map(&mut self, inode: &mut Inode, map: Map) -> Result<()> {
        let map = self.set_map(inode, map)?;
        let own = u64::from(inode.attribute_block() != 0);
        inode.set_used_blocks(map.blocks() + map.tables.len() as u64 + own, self.block);
        Ok(())
    }

    /// Takes a free inode in the group of the inode `near`, or where there is one; it is all zero but for its number, its
    /// mode, its generation, and the times.
    #[expect(clippy::cast_possible_truncation, reason = "counts of a group and an inode, which have 32 bits")]
    pub(super) fn allocate_inode(&mut self, near: u32, mode: u16) -> Result<Inode> {
        let groups = self.sb.groups();
        let (first, _) = self.inode_place(near);
        let is_folder = mode & super::inode::mode::KIND == super::inode::mode::FOLDER;
        for step in 0..groups {
            let mut group = self.group((first + step) % groups)?;
            let per_group = self.sb.s_inodes_per_group.get();
            if group.free_inodes() == 0 {
                continue;
            }
            let mut bitmap = self.inode_bitmap(&group)?;
            let base = group.number as u32 * per_group;
            let reserved = self.sb.first_inode().saturating_sub(1).saturating_sub(base);
            let free = (reserved..per_group).find(|bit| !group::is_set(&bitmap, u64::from(*bit)));
            let Some(index) = free.filter(|index| base + index < self.sb.s_inodes_count.get()) else { continue };
            group::set(&mut bitmap, index.into(), true);
            group.set_free_inodes(group.free_inodes() - 1);
            if is_folder {
                group.set_used_folders(group.used_folders() + 1);
            }
            if self.has_group_checksums() {
                group.set_unused_inodes(group.unused_inodes().min(per_group - index - 1));
            }
            self.sb.s_free_inodes_count = self.sb.s_free_inodes_count.get().saturating_sub(1).into();
            // A bitmap of blocks that was never written is made with that of inodes: the kernel wants both or none.
            if group.flags() & BLOCK_UNINIT != 0 {
                let blocks = self.block_bitmap(&group)?;
                self.write_block_bitmap(&mut group, &blocks)?;
            }
            self.write_inode_bitmap(&mut group, &bitmap)?;
            self.write_group(&mut group)?;
            let number = base + index + 1;
            let generation = self.inode_unchecked(number)?.generation().wrapping_add(1);
            return Ok(self.new_inode(number, mode, generation));
        }
        Err(self.no_room("inodes", 1, self.sb.s_free_inodes_count.get().into()))
    }

    #[expect(clippy::cast_possible_truncation, reason = "counts of a group and an inode, which have 32 bits")]
    #[expect(
        clippy::indexing_slicing,
        reason = "a bitmap has a bit for every block of its group, and an inode has its 128 bytes"
    )]
    fn new_inode(&self, number: u32, mode: u16, generation: u32) -> Inode {
        let mut inode = Inode { number, raw: vec![0; self.sb.inode_size()] };
        inode.set_mode(mode);
        inode.set_extra_size(self.sb.s_want_extra_isize.get().clamp(28, 32).min((self.sb.inode_size() - 128) as u16));
        inode.raw[0x64..0x68].copy_from_slice(&generation.to_le_bytes());
        for time in [Time::Access, Time::Change, Time::Modification, Time::Creation] {
            inode.set_time(time, self.now);
        }
        inode
    }

    /// Gives an inode back, whose blocks are given back already.
    #[expect(clippy::cast_possible_truncation, reason = "counts of a group and an inode, which have 32 bits")]
    pub(super) fn free_inode(&mut self, inode: &mut Inode) -> Result<()> {
        let is_folder = inode.is_folder();
        let (number, index) = self.inode_place(inode.number);
        let mut group = self.group(number)?;
        let mut bitmap = self.inode_bitmap(&group)?;
        group::set(&mut bitmap, index, false);
        group.set_free_inodes(group.free_inodes() + 1);
        if is_folder {
            group.set_used_folders(group.used_folders().saturating_sub(1));
        }
        self.sb.s_free_inodes_count = (self.sb.s_free_inodes_count.get() + 1).into();
        self.write_inode_bitmap(&mut group, &bitmap)?;
        self.write_group(&mut group)?;
        inode.set_links(0);
        inode.set_deletion(self.now as u32);
        inode.set_size(0);
        inode.set_used_blocks(0, self.block);
        inode.block_mut().fill(0);
        if inode.has(flags::EXTENTS) {
            self.start_map(inode);
        }
        self.write_inode(inode)
    }
}
