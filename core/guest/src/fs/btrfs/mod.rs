//! Btrfs, read and written: trees of blocks with sums, on one device or several, with subvolumes. Structures and their names are those of Linux,
//! `include/uapi/linux/btrfs_tree.h`, and of "Btrfs design: On-disk Format" in the kernel's documentation.

mod block;
mod bytes;
mod change;
mod chunks;
mod files;
mod items;
mod lzo;
mod roots;
mod sums;
mod superblock;
mod tree;
pub(crate) mod volume;

use std::{
    collections::HashMap,
    ops::ControlFlow,
    sync::{Arc, Mutex, PoisonError},
};

use reformis_disk::{
    budget::{Budget, Hold},
    to_usize,
};

use crate::{
    bench::Device,
    error::{Error, Result},
};
use block::{Block, Root};
use chunks::{Chunk, Chunks};
use superblock::Superblock;

/// Memory for a chunk beside its stripes.
const CHUNK: u64 = 96;

/// A file system.
pub(crate) struct Btrfs {
    /// The device that it was found on.
    device: Device,
    /// All of its devices that are here, by their numbers.
    devices: HashMap<u64, Device>,
    sb: Superblock,
    chunks: Chunks,
    chunks_hold: Hold,
    blocks: Kept<Block>,
    /// Unpacked extents, by where they lie.
    unpacked: Kept<Vec<u8>>,
    /// The trees of subvolumes that were asked for.
    roots: Mutex<HashMap<u64, Option<Root>>>,
    /// The subvolume that is mounted where nobody asks for another.
    default: u64,
    /// The change that was begun.
    change: Option<change::Change>,
    /// The time that changes are made at, in seconds since 1970.
    now: i64,
}

impl Btrfs {
    /// Opens the file system on `device`, and on those of `others` that belong to it. Changes are made at `now`, in seconds since 1970.
    ///
    /// # Errors
    /// [`Error::Damaged`] and [`Error::Unsupported`].
    pub(crate) fn open(device: &Device, others: &[Device], now: i64) -> Result<Self> {
        let sb = Superblock::read(device)?;
        let mut devices = HashMap::from([(sb.device, device.clone())]);
        for other in others {
            match Superblock::read(other) {
                Ok(found) if found.fsid == sb.fsid => {
                    devices.entry(found.device).or_insert_with(|| other.clone());
                }
                Err(error @ Error::Disk(_)) => return Err(error),
                Ok(_) | Err(_) => {}
            }
        }
        let budget = device.bench().budget();
        let mut btrfs = Self {
            device: device.clone(),
            devices,
            chunks: Chunks::default(),
            chunks_hold: budget.hold(),
            blocks: Kept::new(256, budget),
            unpacked: Kept::new(8, budget),
            roots: Mutex::default(),
            default: roots::TOP,
            change: None,
            now,
            sb,
        };
        btrfs.read_chunks()?;
        btrfs.default = btrfs.default_subvolume()?;
        Ok(btrfs)
    }

    /// Reads again what is kept in memory, after the devices below were changed by others.
    fn read_again(&mut self) -> Result<()> {
        self.change = None;
        self.sb = Superblock::read(&self.device)?;
        self.blocks.forget();
        self.unpacked.forget();
        self.roots.get_mut().unwrap_or_else(PoisonError::into_inner).clear();
        self.read_chunks()?;
        self.default = self.default_subvolume()?;
        Ok(())
    }

    /// Reads the chunks: those of the superblock first, in which the tree of all others lies.
    fn read_chunks(&mut self) -> Result<()> {
        let wrong = |what: &str| self.device.unreadable(what.to_string());
        let mut hold = self.device.bench().budget().hold();
        let bytes = self.sb.chunks.clone();
        let (mut at, mut chunks) = (0, Chunks::default());
        while let Some(rest) = bytes.get(at..).filter(|rest| rest.len() > 17) {
            let (_, kind, start) = block::key_of(rest);
            if kind != items::CHUNK {
                break;
            }
            let (chunk, len) = Chunk::parse(rest.get(17..).unwrap_or_default()).map_err(wrong)?;
            chunks.add(start, chunk).map_err(wrong)?;
            at += 17 + len;
        }
        self.chunks = chunks.clone();
        let mut found = chunks;
        self.each(self.sb.chunk_root, items::CHUNKS, items::CHUNK, &mut |start, item| {
            let (chunk, _) = Chunk::parse(item).map_err(wrong)?;
            hold.grow(CHUNK + item.len() as u64)?;
            found.add(start, chunk).map_err(wrong)?;
            Ok(ControlFlow::Continue(()))
        })?;
        self.chunks = found;
        self.chunks_hold = hold;
        if !self.chunks.are_on(|device| self.devices.contains_key(&device)) {
            return Err(wrong("a part of it lies on a device that is not among the disks here"));
        }
        Ok(())
    }

    /// Fills `buf` from one copy of the byte at `at` and those behind it; whether all of it is on devices that are here.
    fn read_copy(&self, at: u64, buf: &mut [u8], copy: usize) -> Result<bool> {
        let mut done = 0;
        while done < buf.len() {
            let place = at.checked_add(done as u64).and_then(|at| self.chunks.place(at, copy));
            let Some((device, start, left)) = place else { return Ok(false) };
            let len = to_usize(left.min((buf.len() - done) as u64));
            let device = self.devices.get(&device);
            let Some(device) =
                device.filter(|device| start.checked_add(len as u64).is_some_and(|end| end <= device.size()))
            else {
                return Ok(false);
            };
            let Some(piece) = buf.get_mut(done..done + len).filter(|piece| !piece.is_empty()) else { return Ok(false) };
            device.read(start, piece)?;
            done += len;
        }
        Ok(true)
    }
}

/// Values by where they lie, each with the turn in which it was used last; and how many turns there were.
type Shelf<T> = (u64, HashMap<u64, (u64, Arc<T>, Hold)>);

/// What was read last, as long as there is room for it.
struct Kept<T> {
    most: usize,
    budget: Arc<Budget>,
    kept: Mutex<Shelf<T>>,
}

impl<T> Kept<T> {
    fn new(most: usize, budget: &Arc<Budget>) -> Self {
        Self { most, budget: budget.clone(), kept: Mutex::default() }
    }

    /// Keeps nothing any more.
    fn forget(&mut self) {
        self.kept.get_mut().unwrap_or_else(PoisonError::into_inner).1.clear();
    }

    fn get(&self, at: u64) -> Option<Arc<T>> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.0 += 1;
        let now = kept.0;
        kept.1.get_mut(&at).map(|(used, value, _)| {
            *used = now;
            value.clone()
        })
    }

    fn keep(&self, at: u64, value: Arc<T>, size: u64) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.1.len() >= self.most
            && let Some(oldest) = kept.1.iter().min_by_key(|(_, (used, ..))| *used).map(|(at, _)| *at)
        {
            kept.1.remove(&oldest);
        }
        // What is read again easily is kept only as long as there is room.
        if let Ok(hold) = self.budget.take(size) {
            kept.0 += 1;
            let now = kept.0;
            kept.1.insert(at, (now, value, hold));
        }
    }
}
