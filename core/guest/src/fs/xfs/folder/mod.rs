//! Folders (section "Directories"): entries in the inode, in one block, or in blocks below an index of hashes.
//!
//! Changes leave entries where they lie, but for folders of one block or less, which are laid out anew; the index is always
//! made anew, in the smallest form that holds it.

mod change;
mod data;
mod index;
mod short;

use std::ops::ControlFlow;

use reformis_disk::to_usize;

use super::{
    Xfs,
    inode::{Fork, Format, Inode, mode},
    map::Map,
    seal,
};
use crate::error::Result;
use data::Block;

/// Byte of a folder's own space where the index begins, and where the list of free places does.
const INDEX: u64 = 32 << 30;
const FREE: u64 = 64 << 30;
/// Bytes of an entry in memory beside its name.
const OVERHEAD: u64 = 64;

/// An entry of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Entry {
    pub(super) name: Vec<u8>,
    pub(super) inode: u64,
    /// 1 file, 2 folder, 7 link, 0 where the file system does not tell.
    pub(super) kind: u8,
}

impl Entry {
    fn is_own(&self) -> bool {
        self.name == b"." || self.name == b".."
    }
}

/// The kind of an entry for a file of `mode`.
pub(super) fn kind_of(mode: u16) -> u8 {
    match mode & mode::KIND {
        mode::FILE => 1,
        mode::FOLDER => 2,
        0x2000 => 3,
        0x6000 => 4,
        0x1000 => 5,
        0xc000 => 6,
        mode::LINK => 7,
        _ => 0,
    }
}

/// The hash of a name (section "Directory Hash"), which attributes are found by as well.
pub(super) fn hash(name: &[u8]) -> u32 {
    let (fours, rest) = name.as_chunks::<4>();
    let hash = fours.iter().fold(0u32, |hash, &[a, b, c, d]| {
        u32::from(a) << 21 ^ u32::from(b) << 14 ^ u32::from(c) << 7 ^ u32::from(d) ^ hash.rotate_left(28)
    });
    match *rest {
        [a, b, c] => u32::from(a) << 14 ^ u32::from(b) << 7 ^ u32::from(c) ^ hash.rotate_left(21),
        [a, b] => u32::from(a) << 7 ^ u32::from(b) ^ hash.rotate_left(14),
        [a] => u32::from(a) ^ hash.rotate_left(7),
        _ => hash,
    }
}

impl Xfs {
    /// Blocks of the file system in a block of a folder.
    fn folder_blocks(&self) -> u64 {
        1 << self.sb.sb_dirblklog
    }

    /// Reads a block of a folder that begins at block `logical` of its space, and where it lies.
    fn read_folder_block(&self, map: &Map, logical: u64) -> Result<(Vec<u8>, u64)> {
        let mut bytes = vec![0; self.sb.folder_block()];
        let mut place = 0;
        for (index, piece) in bytes.chunks_mut(to_usize(self.sb.block())).enumerate() {
            let physical = map.block(logical + index as u64);
            let physical =
                physical.ok_or_else(|| self.device.damaged("a folder has a hole where something leads to"))?;
            if index == 0 {
                place = self.block_byte(physical);
            }
            self.device.read(self.block_byte(physical), piece)?;
        }
        Ok((bytes, place))
    }

    /// First blocks of a folder's blocks of entries, in the folder's own space.
    fn data_blocks(&self, map: &Map) -> Vec<u64> {
        let (step, end) = (self.folder_blocks(), INDEX >> self.sb.sb_blocklog);
        let runs = map.runs.iter().filter(|run| run.logical < end);
        let starts =
            runs.flat_map(|run| (run.logical.next_multiple_of(step)..run.end().min(end)).step_by(to_usize(step)));
        starts.collect()
    }

    fn data_block(&self, folder: &Inode, map: &Map, logical: u64) -> Result<Block> {
        let (bytes, place) = self.read_folder_block(map, logical)?;
        self.check_seal(&bytes, seal::ENTRIES, place, folder.number, "a block of a folder")?;
        Block::read(&bytes, self.sb.is_v5(), self.sb.has_kinds())
            .map_err(|what| self.device.damaged(format!("a block of the folder with inode {} {what}", folder.number)))
    }

    /// Calls `work` with each entry of a folder but `.` and `..`, in the order in which they lie, until it breaks.
    pub(super) fn each_entry(
        &self,
        folder: &Inode,
        mut work: impl FnMut(Entry) -> Result<ControlFlow<()>>,
    ) -> Result<()> {
        if folder.format(Fork::Data) == Some(Format::Local) {
            for entry in self.short_entries(folder)?.1 {
                if work(entry)?.is_break() {
                    return Ok(());
                }
            }
            return Ok(());
        }
        let map = self.map(folder, Fork::Data)?;
        for logical in self.data_blocks(&map) {
            for (_, entry) in self.data_block(folder, &map, logical)?.entries {
                if !entry.is_own() && work(entry)?.is_break() {
                    return Ok(());
                }
            }
        }
        Ok(())
    }

    /// The entries of a folder but `.` and `..`.
    pub(super) fn entries(&self, folder: &Inode) -> Result<Vec<Entry>> {
        let mut hold = self.device.bench().budget().hold();
        let mut found = Vec::new();
        self.each_entry(folder, |entry| {
            hold.grow(entry.name.len() as u64 + OVERHEAD)?;
            found.push(entry);
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(found)
    }

    /// The inode that a name in a folder stands for.
    pub(super) fn find(&self, folder: &Inode, name: &[u8]) -> Result<Option<u64>> {
        // Where case tells nothing apart, hashes are those of other letters.
        let by_hash = folder.size() > 4 * self.sb.folder_block() as u64 && self.check_names().is_ok();
        if folder.format(Fork::Data) != Some(Format::Local) && by_hash {
            return self.find_by_hash(folder, name);
        }
        let mut found = None;
        self.each_entry(folder, |entry| {
            found = (entry.name == name).then_some(entry.inode);
            Ok(if found.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
        })?;
        Ok(found)
    }

    /// The folder that a folder lies in.
    pub(super) fn above(&self, folder: &Inode) -> Result<u64> {
        if folder.format(Fork::Data) == Some(Format::Local) {
            return Ok(self.short_entries(folder)?.0);
        }
        let map = self.map(folder, Fork::Data)?;
        let first = self.data_block(folder, &map, 0)?;
        let found = first.entries.into_iter().find(|(_, entry)| entry.name == b"..");
        let missing = || self.device.damaged(format!("the folder with inode {} does not lead up", folder.number));
        Ok(found.ok_or_else(missing)?.1.inode)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked out by hand from the definition.
    #[test]
    fn hashes_are_those_of_the_definition() {
        assert_eq!((hash(b"."), hash(b"..")), (0x2e, 0x172e));
        assert_eq!(hash(b"abc"), 0x61 << 14 ^ 0x62 << 7 ^ 0x63);
        let first = 0x61u32 << 21 ^ 0x62 << 14 ^ 0x63 << 7 ^ 0x64;
        assert_eq!(hash(b"abcd"), first);
        assert_eq!(hash(b"abcde"), 0x65 ^ first.rotate_left(7));
    }
}
