//! What stands at the head of an allocation group: its free space, its inodes, and its list of spare blocks (section
//! "Allocation Groups").

use super::{
    Xfs, fields,
    fields::{be32, put32},
    seal,
    superblock::ro_compat,
};
use crate::error::Result;

/// Marks of the three.
const MAGICS: [&[u8; 4]; 2] = [b"XAGF", b"XAGI"];
const SPARE_MAGIC: &[u8; 4] = b"XAFL";
/// Lists of inodes that were removed while they were open.
pub(super) const BUCKETS: usize = 64;
/// No block, and no inode, of a group.
pub(super) const NULL: u32 = u32::MAX;
/// Groups that are kept in memory while they stay as they are.
const KEPT: usize = 64;

/// Places in the head of the free space.
pub(super) mod agf {
    pub const FIRST_SPARE: usize = 40;
    pub const LAST_SPARE: usize = 44;
    pub const SPARES: usize = 48;
    pub const FREE: usize = 52;
    pub const LONGEST: usize = 56;
    pub const TREE_BLOCKS: usize = 60;
    pub const REVERSE_BLOCKS: usize = 80;
    pub const SHARED_BLOCKS: usize = 84;
}

/// Places in the head of the inodes.
pub(super) mod agi {
    pub const COUNT: usize = 16;
    pub const FREE: usize = 28;
    pub const NEWEST: usize = 32;
    pub const UNLINKED: usize = 40;
    pub const TREE_BLOCKS: usize = 336;
    pub const FREE_TREE_BLOCKS: usize = 340;
}

/// Which of the heads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Head {
    Space,
    Inodes,
}

/// The head of a group, as it is and as it was.
#[derive(Debug, Clone)]
pub(super) struct Group {
    pub(super) number: u32,
    /// A sector each.
    pub(super) space: Vec<u8>,
    pub(super) inodes: Vec<u8>,
    spare: Vec<u8>,
    /// Where its heads lie.
    start: u64,
    was: [Vec<u8>; 3],
}

impl Group {
    pub(super) fn head(&self, head: Head) -> &[u8] {
        match head {
            Head::Space => &self.space,
            Head::Inodes => &self.inodes,
        }
    }

    pub(super) fn head_mut(&mut self, head: Head) -> &mut [u8] {
        match head {
            Head::Space => &mut self.space,
            Head::Inodes => &mut self.inodes,
        }
    }

    /// Adds to a number in a head, which never gets below zero.
    pub(super) fn count(&mut self, head: Head, at: usize, by: i64) {
        let bytes = self.head_mut(head);
        let now = i64::from(be32(bytes, at)).saturating_add(by);
        put32(bytes, at, u32::try_from(now.max(0)).unwrap_or(u32::MAX));
    }

    /// What the superblock counts of it: free blocks, inodes, free inodes.
    pub(super) fn counts(&self) -> [i64; 3] {
        Self::counts_of(&self.space, &self.inodes)
    }

    fn counts_of(space: &[u8], inodes: &[u8]) -> [i64; 3] {
        // Blocks that wait for trees, and those in them, are free too.
        let free = [agf::FREE, agf::SPARES, agf::TREE_BLOCKS].iter().map(|at| i64::from(be32(space, *at))).sum();
        [free, be32(inodes, agi::COUNT).into(), be32(inodes, agi::FREE).into()]
    }

    fn changes(&self) -> bool {
        [&self.space, &self.inodes, &self.spare].into_iter().ne(&self.was)
    }
}

impl Xfs {
    /// The head of a group, out of what is kept; it is given back by [`Xfs::keep`].
    ///
    /// # Errors
    /// [`crate::Error::Damaged`]; those of reading.
    pub(super) fn group(&mut self, number: u32) -> Result<Group> {
        match self.groups.remove(&number) {
            Some(group) => Ok(group),
            None => self.read_group(number),
        }
    }

    pub(super) fn keep(&mut self, group: Group) {
        if self.groups.len() >= KEPT {
            self.groups.retain(|_, group| group.changes());
        }
        self.groups.insert(group.number, group);
    }

    pub(super) fn read_group(&self, number: u32) -> Result<Group> {
        if number >= self.sb.groups() {
            let text = format!("something leads to group {number}, and there are {}", self.sb.groups());
            return Err(self.device.damaged(text));
        }
        let sector = usize::from(self.sb.sb_sectsize.get());
        let start = self.sb.group_byte(number, 0);
        let mut parts = [vec![0; sector], vec![0; sector], vec![0; sector]];
        for (part, at) in parts.iter_mut().zip(1u64..) {
            self.device.read(start + at * sector as u64, part)?;
        }
        let [space, inodes, spare] = parts;
        let wrong = |what: &str| self.device.damaged(format!("the head of group {number} {what}"));
        for (bytes, magic) in [&space, &inodes].into_iter().zip(MAGICS) {
            if !bytes.starts_with(magic) || be32(bytes, 8) != number {
                return Err(wrong("does not begin with its mark"));
            }
            if be32(bytes, 12) != self.sb.group_blocks(number) {
                return Err(wrong("has another size than its group"));
            }
        }
        let at = |sectors: u64| start + sectors * sector as u64;
        self.check_seal(&space, seal::AGF, at(1), 0, "a head of free space")?;
        self.check_seal(&inodes, seal::AGI, at(2), 0, "a head of inodes")?;
        if self.sb.is_v5() {
            self.check_seal(&spare, seal::AGFL, at(3), 0, "a list of spare blocks")?;
            if !spare.starts_with(SPARE_MAGIC) {
                return Err(wrong("has a list of spare blocks without its mark"));
            }
        }
        let was = [space.clone(), inodes.clone(), spare.clone()];
        let group = Group { number, space, inodes, spare, start, was };
        self.check_spares(&group)?;
        Ok(group)
    }

    /// Numbers that the list of spare blocks holds.
    fn spares(&self) -> u32 {
        let head = if self.sb.is_v5() { 36 } else { 0 };
        (u32::from(self.sb.sb_sectsize.get()) - head) / 4
    }

    /// Refuses a list whose ends do not fit its count.
    fn check_spares(&self, group: &Group) -> Result<()> {
        let [first, last, count] = [agf::FIRST_SPARE, agf::LAST_SPARE, agf::SPARES].map(|at| be32(&group.space, at));
        let size = self.spares();
        let sound = first < size && last < size && count <= size && {
            let spanned = (last + size - first) % size + 1;
            spanned == count || count == 0 && spanned == size
        };
        if sound {
            return Ok(());
        }
        Err(self.device.damaged(format!("the list of spare blocks of group {} has wrong ends", group.number)))
    }

    fn spare_place(&self, index: u32) -> usize {
        index as usize * 4 + if self.sb.is_v5() { 36 } else { 0 }
    }

    /// Takes a block from the list of spare ones.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`].
    pub(super) fn take_spare(&self, group: &mut Group) -> Result<u32> {
        let first = be32(&group.space, agf::FIRST_SPARE);
        let count = be32(&group.space, agf::SPARES);
        if count == 0 {
            return Err(self.no_room(1, 0));
        }
        let block = be32(&group.spare, self.spare_place(first));
        self.check_group_block(group.number, block, 1)?;
        put32(&mut group.space, agf::FIRST_SPARE, (first + 1) % self.spares());
        put32(&mut group.space, agf::SPARES, count - 1);
        Ok(block)
    }

    /// Puts a block on the list of spare ones.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] when the list is full, which no sound tree brings about.
    pub(super) fn give_spare(&self, group: &mut Group, block: u32) -> Result<()> {
        let count = be32(&group.space, agf::SPARES);
        if count >= self.spares() {
            return Err(self
                .device
                .damaged(format!("group {} has more spare blocks than their list holds", group.number)));
        }
        let last = (be32(&group.space, agf::LAST_SPARE) + 1) % self.spares();
        put32(&mut group.spare, self.spare_place(last), block);
        put32(&mut group.space, agf::LAST_SPARE, last);
        put32(&mut group.space, agf::SPARES, count + 1);
        Ok(())
    }

    /// Refuses blocks that a group does not have.
    pub(super) fn check_group_block(&self, group: u32, block: u32, len: u32) -> Result<()> {
        let blocks = self.sb.group_blocks(group);
        // The first blocks hold the heads.
        let heads = (4u64 * u64::from(self.sb.sb_sectsize.get())).div_ceil(self.sb.block());
        if group < self.sb.groups()
            && u64::from(block) >= heads
            && len > 0
            && block.checked_add(len).is_some_and(|end| end <= blocks)
        {
            return Ok(());
        }
        let text = format!("something names blocks {block} and {len} more of group {group}, which has {blocks}");
        Err(self.device.damaged(text))
    }

    /// Refuses a record of blocks that ends behind its group.
    pub(super) fn check_end(&self, group: &Group, start: u32, len: u32) -> Result<()> {
        let blocks = self.sb.group_blocks(group.number);
        if start.checked_add(len).is_some_and(|end| end <= blocks) {
            return Ok(());
        }
        let text = format!("a record of group {} names blocks {start} and {len} more of {blocks}", group.number);
        Err(self.device.damaged(text))
    }

    /// Writes the heads that changed, and the superblock's counts after them.
    ///
    /// # Errors
    /// Those of the disk.
    pub(super) fn flush(&mut self) -> Result<()> {
        let sector = u64::from(self.sb.sb_sectsize.get());
        for mut group in std::mem::take(&mut self.groups).into_values() {
            if !group.changes() {
                continue;
            }
            let [space, inodes, _] = &group.was;
            let was = Group::counts_of(space, inodes);
            let totals = [&mut self.sb.sb_fdblocks, &mut self.sb.sb_icount, &mut self.sb.sb_ifree];
            for ((total, now), before) in totals.into_iter().zip(group.counts()).zip(was) {
                *total = total.get().saturating_add_signed(now - before).into();
            }
            let at = group.start;
            let kinds = [seal::AGF, seal::AGI, seal::AGFL];
            let parts = [&mut group.space, &mut group.inodes, &mut group.spare];
            for (((part, was), kind), number) in parts.into_iter().zip(&group.was).zip(kinds).zip(1u64..) {
                if part != was {
                    self.write_sealed(part, kind, at + number * sector, 0)?;
                }
            }
        }
        if self.sb.has_counted_quotas() {
            self.sb.forget_quotas();
        }
        self.write_superblock()
    }

    pub(super) fn write_superblock(&mut self) -> Result<()> {
        let mut bytes = vec![0; usize::from(self.sb.sb_sectsize.get())];
        self.device.read(0, &mut bytes)?;
        self.sb.sealed(&mut bytes, self.lsn);
        self.device.write(0, &bytes)
    }

    /// Whether blocks of trees of inodes are counted in the head of inodes.
    pub(super) fn counts_inode_trees(&self) -> bool {
        self.sb.has_ro(ro_compat::INOBT_COUNTS)
    }

    pub(super) fn no_room(&self, needed: u64, free: u64) -> crate::Error {
        crate::Error::NoRoom {
            volume: self.device.name().into(),
            unit: format!("blocks of {} bytes", self.sb.block()),
            needed,
            free,
        }
    }

    /// Names of groups, nearest first: `near`, and those behind it, round once; no more than a volume that was made in earnest
    /// has.
    pub(super) fn groups_from(&self, near: u32) -> impl Iterator<Item = u32> + use<> {
        const MOST: u32 = 16_384;
        let groups = self.sb.groups();
        (0..groups.min(MOST)).map(move |step| fields::low32((u64::from(near) + u64::from(step)) % u64::from(groups)))
    }
}
