//! The index of a folder of more than one block: its entries by their hashes, and which of its blocks have room.

use reformis_disk::to_usize;

use super::{FREE, INDEX, hash};
use crate::{
    error::Result,
    fs::xfs::{
        Xfs,
        fields::{be16, be32, low16, low32, put, put16, put32},
        hashes::{self, Leaf, Shape},
        inode::{Fork, Inode},
        map::Map,
        seal,
    },
};

/// A block of entries that is not there, in the list of free places.
pub(super) const NO_BLOCK: u16 = 0xffff;
/// Marks of a leaf that is alone and of one below a tree, before version 5 and from it on.
const ALONE: [u16; 2] = [0xd2f1, 0x3df1];
const ONE_OF_MANY: [u16; 2] = [0xd2ff, 0x3dff];

/// Leaves that the names with one hash fill, at most: more would be a circle.
const MAX_LEAVES: usize = 4096;

/// What an index is made of.
#[derive(Debug, Clone, Default)]
pub(super) struct Index {
    /// Hashes of names, and the places of their entries in units of 8 bytes; sorted.
    pub(super) entries: Vec<(u32, u32)>,
    /// Bytes of the largest free place of each block of entries.
    pub(super) free: Vec<u16>,
}

impl Xfs {
    fn index_shape(&self) -> Shape {
        let log = self.sb.sb_blocklog;
        Shape { fork: Fork::Data, first: INDEX >> log, step: self.folder_blocks(), end: FREE >> log }
    }

    /// The inode that a name in a folder stands for, by its index.
    pub(super) fn find_by_hash(&self, folder: &Inode, name: &[u8]) -> Result<Option<u64>> {
        let map = self.map(folder, Fork::Data)?;
        let (wanted, shape, v5) = (hash(name), self.index_shape(), self.sb.is_v5());
        let wrong =
            |what: &str| self.device.damaged(format!("the index of the folder with inode {} {what}", folder.number));
        let mut bytes = self.leaf_of(folder, &map, shape, wanted)?;
        for _ in 0..MAX_LEAVES {
            let magic = hashes::magic(&bytes);
            if !ALONE.contains(&magic) && !ONE_OF_MANY.contains(&magic) {
                return Err(wrong("has a leaf without its mark"));
            }
            let (head, count) = (hashes::head(v5), usize::from(be16(&bytes, hashes::count_place(v5))));
            if head + count * 8 > bytes.len() {
                return Err(wrong("has a leaf with more entries than it holds"));
            }
            for place in (0..count).map(|number| head + number * 8) {
                let (hash, address) = (be32(&bytes, place), be32(&bytes, place + 4));
                if hash > wanted {
                    return Ok(None);
                }
                if hash < wanted || address == 0 {
                    continue;
                }
                let (byte, size) = (u64::from(address) * 8, self.sb.folder_block() as u64);
                let block = self.data_block(folder, &map, byte / size * self.folder_blocks())?;
                let inside = to_usize(byte % size);
                let entry = block.entries.into_iter().find(|(at, _)| *at == inside);
                let (_, entry) = entry.ok_or_else(|| wrong("leads to no entry"))?;
                if entry.name == name {
                    return Ok(Some(entry.inode));
                }
            }
            match hashes::next(&bytes) {
                0 => return Ok(None),
                next => bytes = self.hash_block(folder, &map, shape, next)?,
            }
        }
        Err(wrong("leads in a circle"))
    }

    /// Lays the index of a folder down, in the smallest form that holds it.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`].
    pub(super) fn lay_index(&mut self, folder: &mut Inode, map: &mut Map, index: &Index) -> Result<()> {
        let (v5, size) = (self.sb.is_v5(), self.sb.folder_block());
        let head = hashes::head(v5);
        let alone = head + index.entries.len() * 8 + index.free.len() * 2 + 4 <= size;
        let most = (size - head) / 8;
        let count = index.entries.len().div_ceil(most).max(1);
        let [old, new] = if alone { ALONE } else { ONE_OF_MANY };
        let magic = if v5 { new } else { old };
        let mut leaves = Vec::with_capacity(count);
        for number in 0..count {
            let (from, to) = (index.entries.len() * number / count, index.entries.len() * (number + 1) / count);
            let items = index.entries.get(from..to).unwrap_or_default();
            let mut bytes = vec![0; size];
            put16(&mut bytes, 8, magic);
            put16(&mut bytes, hashes::count_place(v5), low16(items.len()));
            for (place, (hash, address)) in items.iter().enumerate() {
                put32(&mut bytes, head + place * 8, *hash);
                put32(&mut bytes, head + place * 8 + 4, *address);
            }
            if alone {
                let start = size - 4 - index.free.len() * 2;
                for (place, free) in index.free.iter().enumerate() {
                    put16(&mut bytes, start + place * 2, *free);
                }
                put32(&mut bytes, size - 4, low32(index.free.len() as u64));
            }
            leaves.push(Leaf { bytes, last: items.last().map_or(0, |(hash, _)| *hash) });
        }
        self.lay_hashes(folder, map, self.index_shape(), leaves)?;
        let free: &[u16] = if alone { &[] } else { &index.free };
        self.lay_free(folder, map, free)
    }

    /// Lays down the list of free places that a folder with a tree has.
    fn lay_free(&mut self, folder: &mut Inode, map: &mut Map, free: &[u16]) -> Result<()> {
        let (v5, size, step) = (self.sb.is_v5(), self.sb.folder_block(), self.folder_blocks());
        let head = hashes::head(v5);
        let most = (size - head) / 2;
        let first = FREE >> self.sb.sb_blocklog;
        let end = first + free.len().div_ceil(most) as u64 * step;
        for logical in first..end {
            if map.block(logical).is_none() {
                self.fill_hole(folder, Fork::Data, map, logical, logical + 1)?;
            }
        }
        self.release(folder, Fork::Data, map, end, u64::MAX >> 10)?;
        let counts = if v5 { 48 } else { 4 };
        for (number, part) in free.chunks(most).enumerate() {
            let mut bytes = vec![0; size];
            put(&mut bytes, 0, if v5 { b"XDF3" } else { b"XD2F" });
            put32(&mut bytes, counts, low32((number * most) as u64));
            put32(&mut bytes, counts + 4, low32(part.len() as u64));
            let used = part.iter().filter(|free| **free != NO_BLOCK).count();
            put32(&mut bytes, counts + 8, low32(used as u64));
            for (place, free) in part.iter().enumerate() {
                put16(&mut bytes, head + place * 2, *free);
            }
            self.write_scattered(map, first + number as u64 * step, &mut bytes, seal::ENTRIES, folder.number)?;
        }
        Ok(())
    }
}
