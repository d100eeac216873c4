//! Changing a folder: it takes the smallest form that holds its entries.

use super::{
    Entry,
    data::{self, Block},
    hash,
    index::{Index, NO_BLOCK},
    kind_of,
};
use crate::{
    error::{Error, Result},
    fs::xfs::{
        Xfs,
        fields::{low16, low32},
        inode::{Fork, Format, Inode},
        map::Map,
        seal,
        superblock::version,
    },
};

/// Bytes of a folder's index in memory for each entry.
const INDEXED: u64 = 8;

impl Xfs {
    /// Refuses folders whose names are the same in other cases: their hashes are others.
    pub(in super::super) fn check_names(&self) -> Result<()> {
        if self.sb.has_version(version::NO_CASE) {
            return Err(self.device.unchangeable("its folders do not tell upper from lower case"));
        }
        Ok(())
    }

    /// Makes an inode an empty folder in `above`.
    pub(in super::super) fn begin_folder(&self, folder: &mut Inode, above: u64) -> Result<()> {
        let bytes = self.short_bytes(above, &[], folder.fork(Fork::Data).len());
        let bytes = bytes.ok_or_else(|| self.device.damaged("an inode has no room for an empty folder"))?;
        self.lay_short(folder, &bytes);
        Ok(())
    }

    /// Adds a name to a folder that does not have it; the inode is not written.
    pub(in super::super) fn add_entry(&mut self, folder: &mut Inode, name: &[u8], node: &Inode) -> Result<()> {
        let kind = if self.sb.has_kinds() { kind_of(node.mode()) } else { 0 };
        let entry = Entry { name: name.into(), inode: node.number, kind };
        if folder.format(Fork::Data) == Some(Format::Local) {
            let (above, mut entries) = self.short_entries(folder)?;
            entries.push(entry);
            return self.lay_entries(folder, above, entries);
        }
        if let Some((above, mut entries)) = self.one_block(folder)? {
            entries.push(entry);
            return self.lay_entries(folder, above, entries);
        }
        let wanted = data::size_of_entry(name.len(), self.sb.has_kinds());
        let mut map = self.map(folder, Fork::Data)?;
        let mut index = self.index_of(folder, &map)?;
        let fits = |free: &u16| *free != NO_BLOCK && usize::from(*free) >= wanted;
        let number = index.free.iter().position(fits);
        // Else in a block that is not there, or in a new one at the end.
        let fresh = || index.free.iter().position(|free| *free == NO_BLOCK).unwrap_or(index.free.len());
        let (number, is_new) = number.map_or_else(|| (fresh(), true), |number| (number, false));
        let logical = number as u64 * self.folder_blocks();
        if number as u64 >= super::INDEX / self.sb.folder_block() as u64 {
            return Err(self.no_room(1, 0));
        }
        let mut block = if is_new {
            for block in logical..logical + self.folder_blocks() {
                self.fill_hole(folder, Fork::Data, &mut map, block, block + 1)?;
            }
            Block::empty(self.sb.folder_block(), self.sb.is_v5(), self.sb.has_kinds())
        } else {
            self.data_block(folder, &map, logical)?
        };
        let place =
            block.add(entry).ok_or_else(|| self.device.damaged("a folder's block has less room than it says"))?;
        let address = low32((number as u64 * self.sb.folder_block() as u64 + place as u64) / 8);
        let item = (hash(name), address);
        index.entries.insert(index.entries.partition_point(|other| *other < item), item);
        index.free.resize(index.free.len().max(number + 1), NO_BLOCK);
        if let Some(free) = index.free.get_mut(number) {
            *free = low16(block.best());
        }
        self.write_scattered(&map, logical, &mut block.bytes(&[]), seal::ENTRIES, folder.number)?;
        self.finish_folder(folder, map, &index)
    }

    /// Takes a name out of a folder; the inode is not written.
    pub(in super::super) fn remove_entry(&mut self, folder: &mut Inode, name: &[u8]) -> Result<()> {
        let short = folder.format(Fork::Data) == Some(Format::Local);
        let few = if short { Some(self.short_entries(folder)?) } else { self.one_block(folder)? };
        if let Some((above, mut entries)) = few {
            entries.retain(|entry| entry.name != name);
            return self.lay_entries(folder, above, entries);
        }
        let mut map = self.map(folder, Fork::Data)?;
        let mut index = self.index_of(folder, &map)?;
        let (size, step) = (self.sb.folder_block() as u64, self.folder_blocks());
        let wanted = hash(name);
        let same = index.entries.iter().filter(|(hash, _)| *hash == wanted);
        let mut found = None;
        for (_, address) in same {
            let byte = u64::from(*address) * 8;
            let (number, inside) = (byte / size, reformis_disk::to_usize(byte % size));
            let block = self.data_block(folder, &map, number * step)?;
            if block.entries.iter().any(|(at, entry)| *at == inside && entry.name == name) {
                found = Some((*address, number, inside, block));
                break;
            }
        }
        let missing = || Error::NotFound { path: String::from_utf8_lossy(name).into() };
        let (address, number, inside, mut block) = found.ok_or_else(missing)?;
        block.entries.retain(|(at, _)| *at != inside);
        index.entries.retain(|item| *item != (wanted, address));
        let logical = number * step;
        let slot = reformis_disk::to_usize(number);
        if block.entries.is_empty() && number > 0 {
            self.release(folder, Fork::Data, &mut map, logical, logical + step)?;
            if let Some(free) = index.free.get_mut(slot) {
                *free = NO_BLOCK;
            }
            while index.free.last() == Some(&NO_BLOCK) {
                index.free.pop();
            }
        } else {
            if let Some(free) = index.free.get_mut(slot) {
                *free = low16(block.best());
            }
            self.write_scattered(&map, logical, &mut block.bytes(&[]), seal::ENTRIES, folder.number)?;
        }
        // What one block, or the inode, may hold again is laid out anew.
        if index.free.len() == 1 {
            let first = self.data_block(folder, &map, 0)?;
            if let Some((above, entries)) = split_own(first)
                && self.fits_one(&entries)
            {
                self.lay_map(folder, Fork::Data, map)?;
                return self.lay_entries(folder, above, entries);
            }
        }
        self.finish_folder(folder, map, &index)
    }

    /// Lets a name in a folder, and `..` for [`Xfs::lead_up`], stand for another inode.
    fn point(&mut self, folder: &mut Inode, name: &[u8], node: u64) -> Result<()> {
        let map = self.map(folder, Fork::Data)?;
        for logical in self.data_blocks(&map) {
            let mut block = self.data_block(folder, &map, logical)?;
            let Some((_, entry)) = block.entries.iter_mut().find(|(_, entry)| entry.name == name) else { continue };
            entry.inode = node;
            let index = if block.has_index { block_index(&block, 0) } else { Vec::new() };
            self.write_scattered(&map, logical, &mut block.bytes(&index), seal::ENTRIES, folder.number)?;
            return Ok(());
        }
        Err(Error::NotFound { path: String::from_utf8_lossy(name).into() })
    }

    /// Lets a folder lie in another one; the inode is not written.
    pub(in super::super) fn lead_up(&mut self, folder: &mut Inode, above: u64) -> Result<()> {
        if folder.format(Fork::Data) == Some(Format::Local) {
            let (_, entries) = self.short_entries(folder)?;
            return self.lay_entries(folder, above, entries);
        }
        self.point(folder, b"..", above)
    }

    /// The folder above, and the entries, of a folder of one block.
    fn one_block(&self, folder: &Inode) -> Result<Option<(u64, Vec<Entry>)>> {
        if folder.size() != self.sb.folder_block() as u64 {
            return Ok(None);
        }
        let map = self.map(folder, Fork::Data)?;
        let block = self.data_block(folder, &map, 0)?;
        if !block.has_index {
            return Ok(None);
        }
        let missing = || self.device.damaged(format!("the folder with inode {} does not lead up", folder.number));
        split_own(block).ok_or_else(missing).map(Some)
    }

    fn fits_one(&self, entries: &[Entry]) -> bool {
        let all = with_own(0, 0, entries, self.sb.has_kinds());
        Block::with_index(&all, self.sb.folder_block(), self.sb.is_v5(), self.sb.has_kinds()).is_some()
    }

    /// Lays down a folder that lies in its inode or in one block, with these entries: there, or in the next larger form.
    fn lay_entries(&mut self, folder: &mut Inode, above: u64, entries: Vec<Entry>) -> Result<()> {
        let mut map = self.map(folder, Fork::Data)?;
        if let Some(bytes) = self.short_bytes(above, &entries, folder.fork(Fork::Data).len()) {
            self.release(folder, Fork::Data, &mut map, 0, u64::MAX >> 10)?;
            if folder.format(Fork::Data) == Some(Format::Tree) {
                self.lay_map(folder, Fork::Data, map)?;
            }
            self.lay_short(folder, &bytes);
            return Ok(());
        }
        let (size, v5, has_kinds) = (self.sb.folder_block(), self.sb.is_v5(), self.sb.has_kinds());
        let all = with_own(folder.number, above, &entries, has_kinds);
        folder_map(folder, &map);
        for logical in 0..self.folder_blocks() {
            if map.block(logical).is_none() {
                self.fill_hole(folder, Fork::Data, &mut map, logical, logical + 1)?;
            }
        }
        if let Some(block) = Block::with_index(&all, size, v5, has_kinds) {
            self.release(folder, Fork::Data, &mut map, self.folder_blocks(), u64::MAX >> 10)?;
            let mut bytes = block.bytes(&block_index(&block, 0));
            self.write_scattered(&map, 0, &mut bytes, seal::ENTRIES, folder.number)?;
            folder.set_size(size as u64);
            return self.lay_map(folder, Fork::Data, map);
        }
        // A block of entries, with the index outside of it; the last one may need a second one.
        let mut blocks = Vec::new();
        let mut rest: &[Entry] = &all;
        while !rest.is_empty() {
            let fitting = (1..=rest.len()).rev().find_map(|len| {
                let block = Block::packed(rest.get(..len)?, size, v5, has_kinds)?;
                Some((len, block))
            });
            let (len, block) = fitting.ok_or_else(|| self.no_room(1, 0))?;
            blocks.push(block);
            rest = rest.get(len..).unwrap_or_default();
        }
        let mut index = Index::default();
        for (number, block) in blocks.iter().enumerate() {
            let logical = number as u64 * self.folder_blocks();
            for logical in logical..logical + self.folder_blocks() {
                if map.block(logical).is_none() {
                    self.fill_hole(folder, Fork::Data, &mut map, logical, logical + 1)?;
                }
            }
            self.write_scattered(&map, logical, &mut block.bytes(&[]), seal::ENTRIES, folder.number)?;
            index.entries.extend(block_index(block, number as u64 * size as u64));
            index.free.push(low16(block.best()));
        }
        index.entries.sort_unstable();
        self.finish_folder(folder, map, &index)
    }

    fn finish_folder(&mut self, folder: &mut Inode, mut map: Map, index: &Index) -> Result<()> {
        self.lay_index(folder, &mut map, index)?;
        folder.set_size((index.free.len() * self.sb.folder_block()) as u64);
        self.lay_map(folder, Fork::Data, map)
    }

    /// The index of a folder, out of its entries.
    fn index_of(&self, folder: &Inode, map: &Map) -> Result<Index> {
        let mut index = Index::default();
        let mut hold = self.device.bench().budget().hold();
        let size = self.sb.folder_block() as u64;
        for logical in self.data_blocks(map) {
            let block = self.data_block(folder, map, logical)?;
            if block.has_index {
                return Err(self.device.damaged(format!("the folder with inode {} has two indexes", folder.number)));
            }
            let number = reformis_disk::to_usize(logical / self.folder_blocks());
            hold.grow(block.entries.len() as u64 * INDEXED + 2 * (number + 1).saturating_sub(index.free.len()) as u64)?;
            index.free.resize(number, NO_BLOCK);
            index.free.push(low16(block.best()));
            index.entries.extend(block_index(&block, number as u64 * size));
        }
        index.entries.sort_unstable();
        Ok(index)
    }
}

/// Lets an inode that kept its folder in itself keep a map instead.
fn folder_map(folder: &mut Inode, map: &Map) {
    if folder.format(Fork::Data) == Some(Format::Local) {
        debug_assert!(map.runs.is_empty(), "a folder in its inode has no blocks");
        folder.set_format(Fork::Data, Format::Extents);
        folder.set_fork(Fork::Data, &[]);
    }
}

/// Hashes and places of the entries of a block that begins at byte `start` of its folder.
fn block_index(block: &Block, start: u64) -> Vec<(u32, u32)> {
    let item = |(at, entry): &(usize, Entry)| (hash(&entry.name), low32((start + *at as u64) / 8));
    let mut index: Vec<(u32, u32)> = block.entries.iter().map(item).collect();
    index.sort_unstable();
    index
}

/// The folder above, and the entries but `.` and `..`, of a first block.
fn split_own(block: Block) -> Option<(u64, Vec<Entry>)> {
    let above = block.entries.iter().find(|(_, entry)| entry.name == b"..")?.1.inode;
    let entries = block.entries.into_iter().map(|(_, entry)| entry).filter(|entry| !entry.is_own());
    Some((above, entries.collect()))
}

/// Entries with `.` and `..` before them.
fn with_own(own: u64, above: u64, entries: &[Entry], has_kinds: bool) -> Vec<Entry> {
    let kind = if has_kinds { 2 } else { 0 };
    let one = |name: &[u8], inode| Entry { name: name.into(), inode, kind };
    let mut all = vec![one(b".", own), one(b"..", above)];
    all.extend_from_slice(entries);
    all
}
