//! The log: what programs had synchronised since the last generation, in a tree for each subvolume. It is replayed as the kernel does it
//! (Linux, `tree-log.c`): inodes first, then what became of folders, then names, attributes and bytes; at its end each inode has as many links
//! as it has names.

use std::{collections::BTreeSet, ops::ControlFlow};

use reformis_disk::budget::Hold;

use super::{
    super::{
        Btrfs,
        block::{Item, Key, Root},
        bytes::{put_u64, u8_at, u32_at, u64_at},
        items, roots,
        sums::name_hash,
    },
    inode::mode,
    names::names_in,
    record::Ref,
};
use crate::{error::Result, fs::node::Node};

/// The object that logs are of (`BTRFS_TREE_LOG_OBJECTID`).
const LOGS: u64 = u64::MAX - 5;
/// Places of a folder of which the log says all (`BTRFS_DIR_LOG_INDEX_KEY`).
const SAID: u8 = 72;

/// The log of one subvolume.
struct Log {
    tree: u64,
    /// By their keys, ascending.
    items: Vec<Item>,
    hold: Hold,
}

impl Log {
    fn get(&self, key: Key) -> Option<&[u8]> {
        let place = self.items.binary_search_by_key(&key, |(known, _)| *known).ok()?;
        self.items.get(place).map(|(_, item)| item.as_slice())
    }

    /// Items of one kind of an object, from the last one on that is not behind `from`.
    fn from(&self, object: u64, kind: u8, from: u64) -> impl Iterator<Item = (u64, &[u8])> {
        let place = self.items.partition_point(|(key, _)| *key <= (object, kind, from)).saturating_sub(1);
        let all = self.items.iter().skip(place).skip_while(move |(key, _)| (key.0, key.1) < (object, kind));
        all.take_while(move |(key, _)| (key.0, key.1) == (object, kind)).map(|(key, item)| (key.2, item.as_slice()))
    }

    /// Whether it has this name of an inode.
    fn names(&self, inode: u64, folder: u64, name: &[u8]) -> bool {
        let short = self.get((inode, items::NAMES, folder)).is_some_and(|item| has(item, 0, name));
        let long = (inode, items::LONG_NAMES, super::names::long_hash(folder, name));
        short || self.get(long).is_some_and(|item| has(item, 8, name))
    }
}

fn has(item: &[u8], head: usize, name: &[u8]) -> bool {
    names_in(item, head).iter().any(|(_, known)| *known == name)
}

/// Places that the log has, and the memory for them.
struct Reserved {
    places: Vec<(u64, u64)>,
    hold: Hold,
}

/// What is to be looked at once more when all is replayed.
#[derive(Default)]
struct Touched {
    folders: BTreeSet<u64>,
    inodes: BTreeSet<u64>,
}

impl Btrfs {
    /// Whether there is something to be replayed.
    pub(in super::super) fn has_log(&self) -> bool {
        self.sb.log.0 != 0
    }

    /// Replays the log.
    ///
    /// # Errors
    /// Those of reading and of changes.
    pub(in super::super) fn replay(&mut self) -> Result<()> {
        let logs = self.logs()?;
        let mut reserved = Reserved { places: Vec::new(), hold: self.device.bench().budget().hold() };
        self.places_of((self.sb.log.0, self.sb.log.1, self.sb.generation.saturating_add(1)), &mut reserved)?;
        for (_, root) in &logs {
            self.places_of(*root, &mut reserved)?;
        }
        self.begin_replay(reserved.places, reserved.hold)?;
        for (tree, root) in logs {
            // Of a subvolume that was deleted nothing is left to be said.
            if self.tree(tree)?.is_some() {
                let log = self.read_log(tree, root)?;
                self.replay_one(&log)?;
            }
        }
        self.sb.log = (0, 0);
        self.finish_change()
    }

    /// The subvolumes that have a log, and where each begins.
    fn logs(&self) -> Result<Vec<(u64, Root)>> {
        let root = (self.sb.log.0, self.sb.log.1, self.sb.generation.saturating_add(1));
        let mut logs = Vec::new();
        self.each(root, LOGS, items::ROOT, &mut |tree, item| {
            if item.len() >= 239 && roots::is_subvolume(tree) && logs.len() < 4096 {
                logs.push((tree, (u64_at(item, 176), u8_at(item, 238), u64_at(item, 160))));
            }
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(logs)
    }

    /// Where the blocks of a log lie, and the extents that it names: nothing else may be put there.
    fn places_of(&self, root: Root, reserved: &mut Reserved) -> Result<()> {
        let block = self.block(root)?;
        reserved.hold.grow(16 * (1 + block.count as u64))?;
        reserved.places.push((root.0, u64::from(self.sb.node)));
        for number in 0..block.count {
            if block.level > 0 {
                self.places_of(block.child(number), reserved)?;
                continue;
            }
            let item = block.item(number).unwrap_or_default();
            if block.key(number).1 == items::EXTENT && item.len() >= 53 && u8_at(item, 20) != 0 && u64_at(item, 21) != 0
            {
                reserved.places.push((u64_at(item, 21), u64_at(item, 29)));
            }
        }
        Ok(())
    }

    fn read_log(&self, tree: u64, root: Root) -> Result<Log> {
        let mut log = Log { tree, items: Vec::new(), hold: self.device.bench().budget().hold() };
        self.items(root, (0, 0, 0), &mut |key, item| {
            log.hold.grow(item.len() as u64 + 96)?;
            log.items.push((key, item.to_vec()));
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(log)
    }

    fn replay_one(&mut self, log: &Log) -> Result<()> {
        let mut touched = Touched::default();
        // What was deleted while it was open has no links, and nothing of it counts.
        let gone =
            |(key, item): &&Item| key.1 == items::INODE && item.len() >= items::INODE_LEN && u32_at(item, 40) == 0;
        let gone: BTreeSet<u64> = log.items.iter().filter(gone).map(|(key, _)| key.0).collect();
        let left = || log.items.iter().filter(|(key, _)| !gone.contains(&key.0));
        for (key, item) in left().filter(|(key, item)| key.1 == items::INODE && item.len() >= items::INODE_LEN) {
            self.replay_inode(log, *key, item, &mut touched)?;
        }
        for (key, item) in left().filter(|(key, _)| key.1 == items::ENTRY_BY_PLACE) {
            self.replay_entry(log, *key, item, &mut touched)?;
        }
        for (key, item) in left() {
            match key.1 {
                items::ATTRIBUTE => self.put(log.tree, *key, item.clone())?,
                items::NAMES | items::LONG_NAMES => self.replay_names(log, *key, item, &mut touched)?,
                items::EXTENT => self.replay_extent(log, *key, item)?,
                _ => {}
            }
        }
        self.count_links(log.tree, &mut touched)?;
        self.count_sizes(log.tree, &touched.folders)
    }

    fn node(tree: u64, number: u64) -> Node {
        Node { tree, number, stream: 0 }
    }

    fn is_there(&self, tree: u64, number: u64) -> Result<bool> {
        let item = self.item(self.root_of(tree)?, (number, items::INODE, 0))?;
        Ok(item.is_some_and(|item| item.len() >= items::INODE_LEN))
    }

    fn replay_inode(&mut self, log: &Log, key: Key, item: &[u8], touched: &mut Touched) -> Result<()> {
        let (tree, number) = (log.tree, key.0);
        self.replay_lost_attributes(log, number)?;
        let is_kind = |item: &[u8], kind: u32| u32_at(item, 52) & mode::KIND == kind;
        let is_folder = is_kind(item, mode::FOLDER);
        if is_folder {
            self.replay_lost_entries(log, number, touched)?;
            touched.folders.insert(number);
        }
        let old = self.item(self.root_of(tree)?, key)?.filter(|old| old.len() >= items::INODE_LEN);
        let mut new = item.to_vec();
        // How many bytes its extents have is counted as they are replayed.
        put_u64(&mut new, 24, old.as_ref().map_or(0, |old| u64_at(old, 24)));
        match &old {
            // It was only noted that it is there: what it has is what it had.
            Some(old) if u64_at(item, 0) == 0 => {
                new.clone_from(old);
                if is_kind(item, mode::FILE) && is_kind(old, mode::FILE) && u64_at(item, 16) != 0 {
                    put_u64(&mut new, 16, u64_at(item, 16));
                }
            }
            _ if u64_at(item, 0) == 0 => put_u64(&mut new, 0, self.change_generation()),
            _ => {}
        }
        self.put(tree, key, new)?;
        touched.inodes.insert(number);
        if is_kind(item, mode::FILE) {
            let mut inode = self.inode_in(Self::node(tree, number))?;
            let end = inode.size().checked_next_multiple_of(u64::from(self.sb.sector)).unwrap_or(u64::MAX);
            self.drop_range(&mut inode, end, u64::MAX)?;
            self.keep_inode(&inode)?;
        }
        Ok(())
    }

    /// Attributes that the log does not have any more.
    fn replay_lost_attributes(&mut self, log: &Log, number: u64) -> Result<()> {
        let mut lost = Vec::new();
        self.each(self.root_of(log.tree)?, number, items::ATTRIBUTE, &mut |hash, item| {
            let kept = log.get((number, items::ATTRIBUTE, hash)).unwrap_or_default();
            if lost.len() < 4096 && kept != item {
                lost.push((number, items::ATTRIBUTE, hash));
            }
            Ok(ControlFlow::Continue(()))
        })?;
        // Those that are others come back with what the log has.
        lost.into_iter().try_for_each(|key| self.take(log.tree, key).map(drop))
    }

    /// Entries of a folder that the log does not have any more, in the places of which it says all.
    fn replay_lost_entries(&mut self, log: &Log, folder: u64, touched: &mut Touched) -> Result<()> {
        for (first, item) in log.from(folder, SAID, 0) {
            let last = u64_at(item, 0);
            let mut lost = Vec::new();
            let range = (folder, items::ENTRY_BY_PLACE);
            self.items(self.root_of(log.tree)?, (range.0, range.1, first), &mut |key, entry| {
                let place = key.2;
                if (key.0, key.1) > range || (key.0, key.1) == range && place > last {
                    return Ok(ControlFlow::Break(()));
                }
                let is_kept = log.get((folder, items::ENTRY_BY_PLACE, place)).is_some_and(|kept| same(kept, entry));
                if (key.0, key.1) == range && place >= first && !is_kept {
                    lost.extend(items::named(entry).take(1).map(|named| (named.name.to_vec(), named.leads_to)));
                }
                Ok(ControlFlow::Continue(()))
            })?;
            for (name, leads_to) in lost {
                self.drop_name(log.tree, folder, &name, leads_to, touched)?;
            }
        }
        Ok(())
    }

    /// Takes a name out of a folder; subvolumes stay.
    fn drop_name(&mut self, tree: u64, folder: u64, name: &[u8], leads_to: Key, touched: &mut Touched) -> Result<()> {
        if leads_to.1 != items::INODE {
            return Ok(());
        }
        let mut inode = self.inode_in(Self::node(tree, folder))?;
        self.take_name(&mut inode, name, leads_to.0)?;
        touched.folders.insert(folder);
        touched.inodes.insert(leads_to.0);
        Ok(())
    }

    /// What a name of a folder leads to, and at which place it is.
    fn name_at(&self, tree: u64, folder: u64, name: &[u8]) -> Result<Option<Key>> {
        let item = self.item(self.root_of(tree)?, (folder, items::ENTRY, name_hash(name)))?.unwrap_or_default();
        Ok(items::named(&item).find(|named| named.name == name).map(|named| named.leads_to))
    }

    fn entry_at(&self, tree: u64, folder: u64, place: u64) -> Result<Option<(Vec<u8>, Key)>> {
        let item = self.item(self.root_of(tree)?, (folder, items::ENTRY_BY_PLACE, place))?.unwrap_or_default();
        Ok(items::named(&item).next().map(|named| (named.name.to_vec(), named.leads_to)))
    }

    fn replay_entry(&mut self, log: &Log, key: Key, item: &[u8], touched: &mut Touched) -> Result<()> {
        let (tree, folder, place) = (log.tree, key.0, key.2);
        let Some(named) = items::named(item).next() else { return Ok(()) };
        let is_inode = named.leads_to.1 == items::INODE;
        if !is_inode || !self.is_there(tree, folder)? || !self.clear_way(tree, folder, place, &named, touched)? {
            return Ok(());
        }
        // Its own names come with it.
        if log.names(named.leads_to.0, folder, named.name) || !self.is_there(tree, named.leads_to.0)? {
            return Ok(());
        }
        self.add_at(tree, folder, place, named.name, named.leads_to.0, touched)
    }

    /// Takes away what is in the way of a name at a place of a folder; whether it is not there yet.
    fn clear_way(
        &mut self,
        tree: u64,
        folder: u64,
        place: u64,
        named: &items::Named<'_>,
        touched: &mut Touched,
    ) -> Result<bool> {
        let by_name = self.name_at(tree, folder, named.name)?;
        let by_place = self.entry_at(tree, folder, place)?;
        let is_it = |leads_to: &Key| leads_to.0 == named.leads_to.0;
        let is_here = by_place.as_ref().is_some_and(|(name, leads_to)| name == named.name && is_it(leads_to));
        if is_here && by_name.as_ref().is_some_and(is_it) {
            return Ok(false);
        }
        if let Some(other) = by_name {
            self.drop_name(tree, folder, named.name, other, touched)?;
        }
        if let Some((name, other)) = by_place.filter(|(name, _)| name != named.name) {
            self.drop_name(tree, folder, &name, other, touched)?;
        }
        Ok(self.entry_at(tree, folder, place)?.is_none() && self.name_at(tree, folder, named.name)?.is_none())
    }

    fn add_at(
        &mut self,
        tree: u64,
        folder: u64,
        place: u64,
        name: &[u8],
        inode: u64,
        touched: &mut Touched,
    ) -> Result<()> {
        let inode = self.inode_in(Self::node(tree, inode))?;
        let mut above = self.inode_in(Self::node(tree, folder))?;
        self.add_name_at(&mut above, place, name, &inode)?;
        touched.folders.insert(folder);
        touched.inodes.insert(inode.number);
        Ok(())
    }

    /// Names of an inode in one folder, or one of those that had no room among them.
    fn replay_names(&mut self, log: &Log, key: Key, item: &[u8], touched: &mut Touched) -> Result<()> {
        let (tree, number) = (log.tree, key.0);
        let is_long = key.1 == items::LONG_NAMES;
        let (head, folder) = if is_long { (8, u64_at(item, 0)) } else { (0, key.2) };
        if !self.is_there(tree, folder)? || !self.is_there(tree, number)? {
            return Ok(());
        }
        let old = self.item(self.root_of(tree)?, key)?.unwrap_or_default();
        for (_, name) in names_in(&old, head) {
            if !has(item, head, name) && self.name_at(tree, folder, name)?.is_some_and(|known| known.0 == number) {
                self.drop_name(tree, folder, name, (number, items::INODE, 0), touched)?;
            }
        }
        for (place, name) in names_in(item, head) {
            let named = items::Named { leads_to: (number, items::INODE, 0), name, value: b"" };
            if self.clear_way(tree, folder, place, &named, touched)? {
                self.add_at(tree, folder, place, name, number, touched)?;
            }
        }
        touched.inodes.insert(number);
        Ok(())
    }

    fn replay_extent(&mut self, log: &Log, key: Key, item: &[u8]) -> Result<()> {
        let tree = log.tree;
        let extent = items::Extent::parse(item).map_err(|what| self.device.damaged(what))?;
        if self.item(self.root_of(tree)?, key)?.is_some_and(|known| known == item) {
            return Ok(());
        }
        let mut inode = self.inode_in(Self::node(tree, key.0))?;
        let sector = u64::from(self.sb.sector);
        let end = key.2.saturating_add(extent.len()).checked_next_multiple_of(sector).unwrap_or(u64::MAX);
        self.drop_range(&mut inode, key.2, end)?;
        let (disk, disk_len, offset) = (u64_at(item, 21), u64_at(item, 29), u64_at(item, 37));
        if u8_at(item, 20) == 0 {
            inode.count(u64_at(item, 8), 0);
        } else if disk != 0 {
            inode.count(u64_at(item, 45), 0);
            let one = Ref::Data { root: tree, inode: key.0, offset: key.2.wrapping_sub(offset) };
            self.note_data(disk, disk_len, one, 1)?;
            if inode.has_sums() && u8_at(item, 20) == 1 {
                let is_packed = u8_at(item, 16) != 0;
                let (start, len) =
                    if is_packed { (disk, disk_len) } else { (disk.saturating_add(offset), u64_at(item, 45)) };
                self.replay_sums(log, start, start.saturating_add(len))?;
            }
        }
        self.put(tree, key, item.to_vec())?;
        self.keep_inode(&inode)
    }

    /// The sums that the log has of what lies between `start` and `end`.
    fn replay_sums(&mut self, log: &Log, start: u64, end: u64) -> Result<()> {
        let (sector, each) = (u64::from(self.sb.sector), self.sb.sum.len());
        for (at, item) in log.from(items::SUMS, items::SUM, start).take_while(|(at, _)| *at < end) {
            let stop = at.saturating_add((item.len() / each) as u64 * sector);
            let (from, to) = (at.max(start), stop.min(end));
            if from >= to {
                continue;
            }
            let first = reformis_disk::to_usize((from - at) / sector) * each;
            let last = reformis_disk::to_usize((to - at) / sector) * each;
            self.drop_sums(from, to - from)?;
            self.put(roots::SUMS, (items::SUMS, items::SUM, from), item.get(first..last).unwrap_or_default().to_vec())?;
        }
        Ok(())
    }

    /// How many names each inode has; what has none is deleted, with all that is in it.
    fn count_links(&mut self, tree: u64, touched: &mut Touched) -> Result<()> {
        let mut done = BTreeSet::new();
        while let Some(number) = touched.inodes.pop_first() {
            if !done.insert(number) || !self.is_there(tree, number)? {
                continue;
            }
            let mut count = 0_usize;
            for (kind, head) in [(items::NAMES, 0), (items::LONG_NAMES, 8)] {
                self.each(self.root_of(tree)?, number, kind, &mut |_, item| {
                    count += names_in(item, head).len();
                    Ok(ControlFlow::Continue(()))
                })?;
            }
            let mut inode = self.inode_in(Self::node(tree, number))?;
            let is_folder = inode.is(mode::FOLDER);
            if count > 0 || number == roots::FOLDER {
                let links = if is_folder { 1 } else { u32::try_from(count).unwrap_or(u32::MAX) };
                if inode.links() != links {
                    inode.set_links(links);
                    self.keep_inode(&inode)?;
                }
                continue;
            }
            if is_folder {
                let mut inside = Vec::new();
                self.each(self.root_of(tree)?, number, items::ENTRY_BY_PLACE, &mut |_, item| {
                    inside.extend(items::named(item).take(1).map(|named| (named.name.to_vec(), named.leads_to)));
                    Ok(ControlFlow::Continue(()))
                })?;
                for (name, leads_to) in inside {
                    done.remove(&leads_to.0);
                    self.drop_name(tree, number, &name, leads_to, touched)?;
                }
            }
            self.drop_range(&mut inode, 0, u64::MAX)?;
            self.take_all(&inode)?;
        }
        Ok(())
    }

    /// A folder's size, which is twice the length of all names in it.
    fn count_sizes(&mut self, tree: u64, folders: &BTreeSet<u64>) -> Result<()> {
        for number in folders {
            if !self.is_there(tree, *number)? {
                continue;
            }
            let mut size = 0;
            self.each(self.root_of(tree)?, *number, items::ENTRY_BY_PLACE, &mut |_, item| {
                size += items::named(item).take(1).map(|named| 2 * named.name.len() as u64).sum::<u64>();
                Ok(ControlFlow::Continue(()))
            })?;
            let mut inode = self.inode_in(Self::node(tree, *number))?;
            if inode.size() != size {
                inode.set_size(size);
                self.keep_inode(&inode)?;
            }
        }
        Ok(())
    }
}

/// Whether two entries have the same name and lead to the same.
fn same(one: &[u8], other: &[u8]) -> bool {
    let first = |item| items::named(item).next().map(|named| (named.name.to_vec(), named.leads_to));
    first(one) == first(other)
}
