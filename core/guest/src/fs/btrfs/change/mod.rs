//! Changes. Blocks of trees and bytes of files are written to places that were free, as those of a new generation; what the generation
//! before has in use is never written over, be it a snapshot's or not, and superblocks follow when all else is there. Blocks that this change
//! made are changed where they are: until the edits are taken, nobody else has seen them.
//!
//! Each call of the file system ends with everything written: trees, references to extents, sums, free space, superblocks.

mod data;
mod files;
mod free;
mod groups;
mod inode;
mod log;
mod names;
mod record;
mod refs;
mod room;
mod sums;
mod tree;

use std::{
    collections::{BTreeMap, BTreeSet, HashMap, HashSet},
    sync::Arc,
};

use reformis_disk::budget::Hold;

use super::{
    Btrfs,
    block::{Block, Root},
    bytes::{put, put_u64, u64_at},
    items, roots,
    superblock::Superblock,
};
use crate::error::Result;
use groups::Group;

/// Memory for what is known of a block beside its bytes.
const MADE: u64 = 64;
/// That quotas are not counted right.
const UNCOUNTED: u64 = 4;

/// A change that was begun, and what is known of the volume for it.
pub(super) struct Change {
    generation: u64,
    /// The tree of extents as it was before.
    base: Root,
    groups: BTreeMap<u64, Group>,
    refs: refs::Noted,
    /// Blocks of this generation.
    made: HashSet<u64>,
    /// Those of them that are not written yet.
    dirty: HashMap<u64, Arc<Block>>,
    hold: Hold,
    /// What groups and their free places take, for as long as the change lives.
    holds: Vec<Hold>,
    /// Trees that begin elsewhere now.
    moved: BTreeSet<u64>,
    /// How many bytes of blocks trees have more, or less.
    bytes: BTreeMap<u64, i64>,
    /// Places that were taken or given back, which the tree of free space does not know of yet.
    spaces: Vec<(u64, u64, bool)>,
    /// Bytes of each device that chunks have.
    devices: BTreeMap<u64, u64>,
    /// What a log has, and nobody else may: where each begins, and its length.
    reserved: Vec<(u64, u64)>,
    /// The copy of the trees' places that this change writes into the superblock, of four.
    backup: Option<usize>,
    node: u64,
}

impl Change {
    /// A block that is not written yet.
    pub(super) fn block(&self, at: u64) -> Option<Arc<Block>> {
        self.dirty.get(&at).cloned()
    }

    fn set(&mut self, at: u64, block: Arc<Block>) -> Result<()> {
        if self.dirty.insert(at, block).is_none() {
            self.hold.grow(self.node + MADE)?;
        }
        Ok(())
    }

    fn forget(&mut self, at: u64) {
        self.made.remove(&at);
        self.dirty.remove(&at);
    }

    /// Whether all that it did is written.
    fn is_whole(&self) -> bool {
        self.dirty.is_empty() && self.refs.is_empty() && self.moved.is_empty() && self.spaces.is_empty()
    }
}

impl Btrfs {
    /// The change that was begun.
    fn changing(&mut self) -> Result<&mut Change> {
        match &mut self.change {
            Some(change) => Ok(change),
            None => Err(self.device.unchangeable("no change was begun")),
        }
    }

    /// The generation that is being written.
    fn change_generation(&self) -> u64 {
        self.change.as_ref().map_or(0, |change| change.generation)
    }

    /// Refuses what could not be kept right.
    pub(super) fn check_changeable(&self) -> Result<()> {
        if self.has_log() {
            return Err(self.device.unchangeable("what programs had synchronised is still in its log"));
        }
        self.check_replayable()
    }

    /// The same, but for a log that is to be replayed.
    fn check_replayable(&self) -> Result<()> {
        if let Some(reason) = self.sb.unchangeable() {
            return Err(self.device.unchangeable(reason));
        }
        let has = |key| Ok::<bool, crate::Error>(self.item(self.sb.root, key)?.is_some());
        let reason = if self.devices.len() as u64 != self.sb.devices {
            "not all of its devices are here"
        } else if !self.are_alike()? {
            "its devices are not of the same age"
        } else if has((roots::BALANCE, items::TEMPORARY, 0))? || self.has_tree_of(roots::RELOCATION)? {
            "its balance was not finished"
        } else if self.is_replacing()? {
            "a device of it is being replaced"
        } else {
            return Ok(());
        };
        Err(self.device.unchangeable(reason))
    }

    /// Whether all devices saw the last change.
    fn are_alike(&self) -> Result<bool> {
        for device in self.devices.values() {
            if Superblock::read(device)?.generation != self.sb.generation {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Begins a change, or goes on with one.
    ///
    /// # Errors
    /// Those of reading; [`crate::Error::Unsupported`].
    fn begin_change(&mut self) -> Result<()> {
        self.begin_any()?;
        self.make_room_for_blocks(0)
    }

    /// The same, for what gives room back: it may take what others have to leave.
    fn begin_any(&mut self) -> Result<()> {
        // Another view of the same volume may have changed it since, and a change that failed was never written.
        let there = Superblock::read(&self.device)?;
        let goes_on = self.change.as_ref().is_some_and(|change| {
            change.is_whole() && change.generation == there.generation && self.sb.root == there.root
        });
        if !goes_on {
            self.read_again()?;
            self.check_changeable()?;
            self.new_change(Vec::new())?;
        }
        Ok(())
    }

    /// Begins to replay a log, which has what is `reserved`.
    fn begin_replay(&mut self, reserved: Vec<(u64, u64)>, hold: Hold) -> Result<()> {
        self.check_replayable()?;
        self.new_change(reserved)?;
        self.changing()?.holds.push(hold);
        self.make_room_for_blocks(0)
    }

    fn new_change(&mut self, reserved: Vec<(u64, u64)>) -> Result<()> {
        let budget = self.device.bench().budget();
        let last = || self.device.unchangeable("there is no generation behind its own");
        let (groups, hold) = self.read_groups()?;
        self.change = Some(Change {
            generation: self.sb.generation.checked_add(1).ok_or_else(last)?,
            base: self.root_of(roots::EXTENTS)?,
            groups,
            refs: BTreeMap::new(),
            made: HashSet::new(),
            dirty: HashMap::new(),
            hold: budget.hold(),
            holds: vec![hold],
            moved: BTreeSet::new(),
            bytes: BTreeMap::new(),
            spaces: Vec::new(),
            devices: BTreeMap::new(),
            backup: None,
            reserved,
            node: u64::from(self.sb.node),
        });
        Ok(())
    }

    /// Begins a change of something in a subvolume.
    fn begin_in(&mut self, tree: u64) -> Result<()> {
        self.begin_change()?;
        self.check_own(tree)
    }

    /// Begins to remove something from a subvolume.
    fn begin_removal_in(&mut self, tree: u64) -> Result<()> {
        self.begin_any()?;
        self.check_own(tree)
    }

    /// Refuses a subvolume that is not there, or that nobody may change.
    fn check_own(&self, tree: u64) -> Result<()> {
        let gone = || self.device.damaged(format!("there is no subvolume {tree}"));
        let (_, item) = self.tree_entry(tree)?.ok_or_else(gone)?;
        if u64_at(&item, 208) & 1 != 0 {
            return Err(self.device.unchangeable("the subvolume is read only, as snapshots are"));
        }
        Ok(())
    }

    fn count_bytes(&mut self, tree: u64, is_more: bool) -> Result<()> {
        let change = self.changing()?;
        let node = i64::try_from(change.node).unwrap_or(0);
        *change.bytes.entry(tree).or_default() += if is_more { node } else { -node };
        Ok(())
    }

    /// Writes all that was changed: what one part of it changes is written by the next round, until nothing is left.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`]; those of the disk.
    fn finish_change(&mut self) -> Result<()> {
        self.leave_uncounted()?;
        loop {
            let refs = self.write_refs()?;
            let free = self.write_free()?;
            let groups = self.write_groups()?;
            let moved = self.write_roots()?;
            if !(refs || free || groups || moved) {
                break;
            }
        }
        let dirty = std::mem::take(&mut self.changing()?.dirty);
        for (at, block) in dirty {
            let mut bytes = block.bytes.clone();
            let sum = self.sb.sum.make(bytes.get(32..).unwrap_or_default());
            put(&mut bytes, 0, &sum);
            self.write_copies(at, &bytes)?;
            self.blocks.keep(at, Arc::new(Block::new(bytes)), u64::from(self.sb.node));
        }
        let hold = self.device.bench().budget().hold();
        self.changing()?.hold = hold;
        self.write_superblocks()
    }

    /// Says that what groups of subvolumes take (quotas) was not counted: whoever relies on it has the guest's kernel count anew
    /// (`BTRFS_QGROUP_STATUS_FLAG_INCONSISTENT`).
    fn leave_uncounted(&mut self) -> Result<()> {
        let Some(root) = self.tree(roots::QUOTAS)? else { return Ok(()) };
        let key = (0, items::QUOTA_STATUS, 0);
        if let Some(mut item) = self.item(root, key)?.filter(|item| item.len() >= 24) {
            let flags = u64_at(&item, 16);
            if flags & UNCOUNTED == 0 {
                put_u64(&mut item, 16, flags | UNCOUNTED);
                self.put(roots::QUOTAS, key, item)?;
            }
        }
        Ok(())
    }

    /// Writes where trees begin into the tree of trees; whether any has moved.
    fn write_roots(&mut self) -> Result<bool> {
        let moved = std::mem::take(&mut self.changing()?.moved);
        let (generation, any) = (self.change_generation(), !moved.is_empty());
        for tree in moved {
            let (at, level, _) = self.root_of(tree)?;
            let gone = || self.device.damaged(format!("there is no tree {tree}"));
            let (key, mut item) = self.tree_entry(tree)?.ok_or_else(gone)?;
            put_u64(&mut item, 160, generation);
            put_u64(&mut item, 176, at);
            let more = self.changing()?.bytes.remove(&tree).unwrap_or_default();
            let used = u64_at(&item, 192).saturating_add_signed(more);
            put_u64(&mut item, 192, used);
            put(&mut item, 238, &[level]);
            // Of a kernel that knows no more than this, an item ends here (`generation_v2` tells them apart).
            if item.len() >= 439 {
                put_u64(&mut item, 239, generation);
                if roots::is_subvolume(tree) {
                    put_u64(&mut item, 295, generation);
                    put_u64(&mut item, 327, self.now.unsigned_abs());
                    put(&mut item, 335, &[0; 4]);
                }
            }
            self.put(roots::ROOTS, key, item)?;
        }
        Ok(any)
    }

    /// Writes every copy of the superblock on every device.
    fn write_superblocks(&mut self) -> Result<()> {
        let generation = self.change_generation();
        self.sb.root.2 = generation;
        self.sb.generation = generation;
        let backup = self.backup()?;
        let next = Superblock::read(&self.device)?.next_backup();
        let change = self.changing()?;
        // Once written, it is this change's own.
        let slot = *change.backup.get_or_insert(next);
        let devices = std::mem::take(&mut change.devices);
        for (number, device) in &self.devices {
            let mut own = Superblock::read(device)?;
            own.follow(&self.sb, devices.get(number).copied(), slot, &backup);
            own.write(device)?;
        }
        Ok(())
    }

    /// Where the trees begin, as the superblock keeps it of four generations (Linux, `btrfs_root_backup`).
    fn backup(&self) -> Result<Vec<u8>> {
        let mut bytes = vec![0; 168];
        let known = [roots::EXTENTS, roots::TOP, roots::DEVICES, roots::SUMS].map(|tree| self.root_of(tree));
        let [extents, top, devices, sums] = known;
        let all = [self.sb.root, self.sb.chunk_root, extents?, top?, devices?, sums?];
        for (number, (at, level, generation)) in all.into_iter().enumerate() {
            put_u64(&mut bytes, number * 16, at);
            put_u64(&mut bytes, number * 16 + 8, generation);
            put(&mut bytes, 152 + number, &[level]);
        }
        put_u64(&mut bytes, 96, self.sb.total);
        put_u64(&mut bytes, 104, self.sb.used);
        put_u64(&mut bytes, 112, self.sb.devices);
        Ok(bytes)
    }

    /// Writes every copy of what lies at `at`.
    fn write_copies(&self, at: u64, bytes: &[u8]) -> Result<()> {
        let copies = self.chunks.copies(at);
        let mut any = false;
        for copy in 0..copies {
            let mut done = 0;
            while let Some(rest) = bytes.get(done..).filter(|rest| !rest.is_empty()) {
                let place = self.chunks.place(at.saturating_add(done as u64), copy);
                let Some((device, start, left)) = place.filter(|(.., left)| *left > 0) else {
                    return Err(self.device.damaged(format!("{at} leads to a place where nothing is")));
                };
                let len = rest.len().min(reformis_disk::to_usize(left));
                let device = self.devices.get(&device);
                let device = device.ok_or_else(|| self.device.unchangeable("not all of its devices are here"))?;
                device.write(start, rest.get(..len).unwrap_or_default())?;
                done += len;
            }
            any = true;
        }
        if any { Ok(()) } else { Err(self.device.damaged(format!("{at} leads to a place where nothing is"))) }
    }
}
