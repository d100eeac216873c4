//! New chunks, where those that are there have no room: so many bytes of devices for one kind of use (Linux, `volumes.c`).

use std::{collections::BTreeMap, ops::ControlFlow};

use super::{
    super::{
        Btrfs,
        bytes::{put, put_u32, put_u64, u64_at},
        chunks::Chunk,
        items, roots,
        superblock::PLACES,
    },
    free,
    groups::{self, BLOCKS, DATA, Group},
};
use crate::error::Result;

/// Where the chunks of a device begin at the earliest.
const FIRST: u64 = 1 << 20;
/// What the length of a chunk is a multiple of.
const STEP: u64 = 64 << 10;
/// The longest chunks that are made, and the shortest.
const MOST_DATA: u64 = 1 << 30;
const MOST_BLOCKS: u64 = 256 << 20;
const LEAST: u64 = 1 << 20;
/// What is kept free for blocks of trees: the guest's own kernel needs room to begin with.
const KEPT: u64 = 4 << 20;
const MOST_PLACES: usize = 1 << 16;

/// Device and first byte of each copy.
type Places = Vec<(u64, u64)>;

/// How bytes are copied (`BTRFS_BLOCK_GROUP_*`), and on how many devices.
mod profile {
    pub(super) const ALL: u64 = 0x7f8;
    pub(super) const RAID1: u64 = 0x10;
    pub(super) const DUP: u64 = 0x20;
    pub(super) const RAID1C3: u64 = 0x200;
    pub(super) const RAID1C4: u64 = 0x400;
}

/// How many times bytes of a kind are written, as the newest group of the kind has it; `None` for what is striped.
fn profile_of<'g>(groups: impl DoubleEndedIterator<Item = &'g Group>, kind: u64) -> Option<(u64, usize)> {
    let flags = groups.rev().find(|group| group.flags & kind != 0)?.flags;
    match flags & profile::ALL {
        0 => Some((flags, 1)),
        profile::DUP | profile::RAID1 => Some((flags, 2)),
        profile::RAID1C3 => Some((flags, 3)),
        profile::RAID1C4 => Some((flags, 4)),
        _ => None,
    }
}

/// A sum of what strangers may have written.
fn sum(all: impl Iterator<Item = u64>) -> u64 {
    all.fold(0, u64::saturating_add)
}

impl Btrfs {
    /// Makes sure that blocks of trees have room for one more change, which takes `bytes` for files as well.
    pub(super) fn make_room_for_blocks(&mut self, bytes: u64) -> Result<()> {
        let node = u64::from(self.sb.node);
        let groups: Vec<&Group> = self.changing()?.groups.values().filter(|group| group.flags & BLOCKS != 0).collect();
        let room = sum(groups.iter().map(|group| group.left));
        let all = sum(groups.iter().map(|group| group.len));
        // Groups of both kinds lose them to the files.
        let is_mixed = groups.iter().any(|group| group.flags & DATA != 0);
        // A small volume has less of everything.
        let kept = KEPT.min(all / 16).max(32 * node) + if is_mixed { bytes } else { 0 };
        if room >= kept || self.add_chunk(BLOCKS, kept)? {
            return Ok(());
        }
        Err(self.no_room(BLOCKS, kept))
    }

    /// Bytes of devices that no chunk has: where each begins and how many, by device.
    fn unused(&self) -> Result<BTreeMap<u64, Vec<(u64, u64)>>> {
        let root = self.root_of(roots::DEVICES)?;
        let mut unused = BTreeMap::new();
        for number in self.devices.keys() {
            let size = self.device_item(*number)?.map_or(0, |item| u64_at(&item, 8));
            let (mut at, mut places) = (FIRST, Vec::new());
            self.each(root, *number, items::DEVICE_EXTENT, &mut |start, item| {
                if start > at {
                    places.push((at, start - at));
                }
                at = at.max(start.saturating_add(u64_at(item, 24)));
                Ok(if places.len() < MOST_PLACES { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
            })?;
            // Of a device with more pieces than that, what lies behind them is not looked at.
            if size > at && places.len() < MOST_PLACES {
                places.push((at, size - at));
            }
            unused.insert(*number, places);
        }
        Ok(unused)
    }

    /// What the tree of chunks says of a device (`btrfs_dev_item`).
    fn device_item(&self, number: u64) -> Result<Option<Vec<u8>>> {
        let item = self.item(self.sb.chunk_root, (items::DEVICES, items::DEVICE, number))?;
        Ok(item.filter(|item| item.len() >= 98))
    }

    /// Bytes that files may still take.
    pub(in super::super) fn left_for_files(&self) -> Result<u64> {
        let (groups, _hold) = self.read_groups()?;
        let left = sum(groups.values().filter(|group| group.flags & DATA != 0).map(|group| group.left));
        let unused = sum(self.unused()?.values().flatten().map(|(_, len)| *len));
        let more = profile_of(groups.values(), DATA).map_or(0, |(_, copies)| unused / copies as u64);
        Ok(left.saturating_add(more))
    }

    /// Places on devices for each copy of a chunk of `len` bytes at the most, and how many it gets.
    fn places_for(&self, flags: u64, copies: usize, len: u64) -> Result<Option<(Places, u64)>> {
        let round = |len: u64| len / STEP * STEP;
        let unused = self.unused()?;
        let on_one = flags & profile::ALL & !profile::DUP == 0;
        if on_one {
            // All copies on one device, one behind the other in its largest place.
            let all = unused.iter().flat_map(|(number, places)| places.iter().map(move |place| (*number, *place)));
            let Some((number, (at, size))) = all.max_by_key(|(_, (_, size))| *size) else { return Ok(None) };
            let len = round((size / copies as u64).min(len));
            return Ok(Some(((0..copies as u64).map(|copy| (number, at + copy * len)).collect(), len)));
        }
        let largest = unused.iter().filter_map(|(number, places)| {
            let (at, size) = places.iter().max_by_key(|(_, size)| *size)?;
            Some((*number, *at, *size))
        });
        let mut largest: Vec<_> = largest.collect();
        largest.sort_by_key(|(.., size)| std::cmp::Reverse(*size));
        largest.truncate(copies);
        let len = round(largest.last().map_or(0, |(.., size)| *size).min(len));
        let places = largest.iter().map(|(number, at, _)| (*number, *at)).collect::<Places>();
        Ok((places.len() == copies).then_some((places, len)))
    }

    /// Makes a chunk for a kind of use, of `needed` bytes and more where there is room for that; whether there was any. Files may lie in several.
    pub(super) fn add_chunk(&mut self, kind: u64, needed: u64) -> Result<bool> {
        let Some((flags, copies)) = profile_of(self.changing()?.groups.values(), kind) else {
            return Ok(false);
        };
        let most = if kind == DATA { MOST_DATA } else { MOST_BLOCKS };
        let wanted = needed.max(most.min(self.sb.total / 10)).next_multiple_of(STEP).min(most);
        let Some((places, len)) = self.places_for(flags, copies, wanted)? else { return Ok(false) };
        let least = if kind == DATA { LEAST } else { LEAST.max(needed.min(most).next_multiple_of(STEP)) };
        if len < least {
            return Ok(false);
        }
        let Some(start) = self.chunks.end().checked_next_multiple_of(STEP) else { return Ok(false) };
        let item = self.chunk_item(len, flags, &places)?;
        let chunk = Chunk::parse(&item).map_err(|what| self.device.damaged(what))?.0;
        let of_chunks = self.block(self.sb.chunk_root)?.chunk_tree();
        for (device, at) in &places {
            let mut extent = vec![0; 48];
            put_u64(&mut extent, 0, roots::CHUNKS);
            put_u64(&mut extent, 8, items::CHUNKS);
            put_u64(&mut extent, 16, start);
            put_u64(&mut extent, 24, len);
            put(&mut extent, 32, &of_chunks);
            self.put(roots::DEVICES, (*device, items::DEVICE_EXTENT, *at), extent)?;
            let gone = || self.device.damaged(format!("device {device} is not in the tree of chunks"));
            let mut item = self.device_item(*device)?.ok_or_else(gone)?;
            let used = u64_at(&item, 16).saturating_add(len);
            put_u64(&mut item, 16, used);
            self.changing()?.devices.insert(*device, used);
            self.put(roots::CHUNKS, (items::DEVICES, items::DEVICE, *device), item)?;
        }
        self.put(roots::CHUNKS, (items::CHUNKS, items::CHUNK, start), item)?;
        self.chunks.add(start, chunk).map_err(|what| self.device.unchangeable(what))?;
        let mut free = BTreeMap::from([(start, len)]);
        for around in self.chunks.mirrors(start, &PLACES) {
            groups::cut(&mut free, around, 64 << 10);
        }
        let group = Group::empty(start, len, flags, free);
        self.put(roots::EXTENTS, (start, items::GROUP, len), group.item())?;
        self.changing()?.groups.insert(start, group);
        if self.sb.has_free_space_tree() {
            let mut info = vec![0; 8];
            put_u32(&mut info, 0, 1);
            self.put(roots::FREE, (start, free::INFO, len), info)?;
            self.put(roots::FREE, (start, free::PLACE, len), Vec::new())?;
        }
        Ok(true)
    }

    /// A chunk of `len` bytes with one copy at each place (`btrfs_chunk`).
    fn chunk_item(&self, len: u64, flags: u64, places: &[(u64, u64)]) -> Result<Vec<u8>> {
        let mut item = vec![0; 48];
        put_u64(&mut item, 0, len);
        put_u64(&mut item, 8, roots::EXTENTS);
        put_u64(&mut item, 16, STEP);
        put_u64(&mut item, 24, flags);
        put_u32(&mut item, 32, 64 << 10);
        put_u32(&mut item, 36, 64 << 10);
        put_u32(&mut item, 40, self.sb.sector as usize);
        put(&mut item, 44, &u16::try_from(places.len()).unwrap_or(u16::MAX).to_le_bytes());
        put(&mut item, 46, &1_u16.to_le_bytes());
        for (device, at) in places {
            let gone = || self.device.damaged(format!("device {device} is not in the tree of chunks"));
            let known = self.device_item(*device)?.ok_or_else(gone)?;
            item.extend([device.to_le_bytes(), at.to_le_bytes()].concat());
            item.extend(known.get(66..82).unwrap_or_default());
        }
        Ok(item)
    }
}
