//! Folders (section "Directory Entries"): blocks of entries, in a row or below an index of hashes.

use std::ops::ControlFlow;

use super::{
    Ext, checksum,
    inode::{Inode, ROOT, flags, mode},
    map::Run,
    superblock::{compat, incompat, ro_compat},
};
use crate::error::Result;

/// Bytes of an entry before its name.
const HEAD: usize = 8;
/// The entry at a block's end that holds its checksum.
const TAIL: usize = 12;
const TAIL_KIND: u8 = 0xde;
/// The longest folder that is read, in bytes.
const MAX_FOLDER: u64 = 256 << 20;
/// Bytes of an entry in memory beside its name.
const ENTRY_OVERHEAD: u64 = 64;

/// An entry of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Entry {
    pub(crate) name: Vec<u8>,
    pub(crate) inode: u32,
    /// 1 file, 2 folder, 7 link, 0 where the file system does not tell.
    kind: u8,
}

impl Entry {
    pub(super) fn size(&self) -> usize {
        HEAD + self.name.len().next_multiple_of(4)
    }

    #[expect(clippy::cast_possible_truncation, reason = "lengths that fit a block, and names of at most 255 bytes")]
    #[expect(
        clippy::indexing_slicing,
        reason = "entries were checked against their block when it was read, or laid out to fit it"
    )]
    pub(super) fn put(&self, bytes: &mut [u8], len: usize, has_kind: bool) {
        bytes[..4].copy_from_slice(&self.inode.to_le_bytes());
        bytes[4..6].copy_from_slice(&stored_length(len));
        bytes[6] = self.name.len() as u8;
        bytes[7] = if has_kind { self.kind } else { 0 };
        bytes[HEAD..HEAD + self.name.len()].copy_from_slice(&self.name);
    }
}

/// The length of an entry as stored: one of 64 KiB has no room in 16 bits.
pub(super) fn stored_length(len: usize) -> [u8; 2] {
    u16::try_from(len).unwrap_or(u16::MAX).to_le_bytes()
}

/// The length of an entry as meant, in a block of `block` bytes.
fn entry_length(stored: u16, block: usize) -> usize {
    match stored {
        0 | 65_535 => block,
        other => other.into(),
    }
}

/// The kind of an entry for a file of `mode`.
pub(super) fn kind_of(mode: u16) -> u8 {
    match mode & mode::KIND {
        mode::FILE => 1,
        mode::FOLDER => 2,
        mode::LINK => 7,
        0x2000 => 3,
        0x6000 => 4,
        0x1000 => 5,
        0xc000 => 6,
        _ => 0,
    }
}

impl Ext {
    pub(super) fn has_kinds(&self) -> bool {
        self.sb.has_incompat(incompat::FILETYPE)
    }

    pub(super) fn tail_len(&self) -> usize {
        if self.sb.has_ro(ro_compat::METADATA_CSUM) { TAIL } else { 0 }
    }

    /// The entries in one block, with each entry's byte and length there.
    #[expect(
        clippy::indexing_slicing,
        reason = "entries were checked against their block when it was read, or laid out to fit it"
    )]
    fn entries_in(&self, inode: &Inode, block: &[u8]) -> Result<Vec<(usize, usize, Entry)>> {
        let mut found = Vec::new();
        let mut at = 0;
        while at + HEAD <= block.len() {
            let number = u32::from_le_bytes([block[at], block[at + 1], block[at + 2], block[at + 3]]);
            let len = entry_length(u16::from_le_bytes([block[at + 4], block[at + 5]]), block.len());
            let name_len = usize::from(block[at + 6]);
            if len < HEAD || !len.is_multiple_of(4) || at + len > block.len() || HEAD + name_len > len {
                return Err(self
                    .device
                    .damaged(format!("an entry of the folder with inode {} has a wrong length", inode.number)));
            }
            let name = block[at + HEAD..at + HEAD + name_len].to_vec();
            let kind = if self.has_kinds() { block[at + 7] } else { 0 };
            found.push((at, len, Entry { name, inode: number, kind }));
            at += len;
        }
        Ok(found)
    }

    /// The entries of a folder but `.` and `..`, in the order in which they lie.
    pub(crate) fn entries(&self, folder: &Inode) -> Result<Vec<Entry>> {
        let all = self.all_entries(folder)?.into_iter();
        Ok(all.filter(|entry| entry.name != b"." && entry.name != b"..").collect())
    }

    fn all_entries(&self, folder: &Inode) -> Result<Vec<Entry>> {
        let mut hold = self.device.bench().budget().hold();
        let mut found = Vec::new();
        self.each_entry(folder, |entry| {
            hold.grow(entry.name.len() as u64 + ENTRY_OVERHEAD)?;
            found.push(entry);
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(found)
    }

    /// Calls `work` with each entry of a folder, until it breaks.
    fn each_entry(&self, folder: &Inode, mut work: impl FnMut(Entry) -> Result<ControlFlow<()>>) -> Result<()> {
        let mut each = |bytes: &[u8]| -> Result<ControlFlow<()>> {
            for (.., entry) in self.entries_in(folder, bytes)? {
                if entry.inode != 0 && !entry.name.is_empty() && work(entry)?.is_break() {
                    return Ok(ControlFlow::Break(()));
                }
            }
            Ok(ControlFlow::Continue(()))
        };
        if folder.has(flags::INLINE_DATA) {
            let rest = self.inline_rest(folder)?;
            for part in [folder.block().get(4..).unwrap_or_default(), &rest] {
                if each(part)?.is_break() {
                    break;
                }
            }
            return Ok(());
        }
        self.each_block(folder, |_, bytes| each(bytes))
    }

    /// Calls `work` with each block of a folder that is there, its checksum compared, until it breaks: its place in the file
    /// system, and its bytes.
    fn each_block(&self, folder: &Inode, mut work: impl FnMut(u64, &[u8]) -> Result<ControlFlow<()>>) -> Result<()> {
        if folder.size() > MAX_FOLDER {
            return Err(self.device.damaged(format!("the folder with inode {} is impossibly long", folder.number)));
        }
        let map = self.map(folder)?;
        for logical in 0..folder.size().div_ceil(self.block as u64) {
            if let Some(physical) = map.block(logical) {
                let bytes = self.read_block(physical)?;
                self.check_sum(folder, logical, &bytes)?;
                if work(physical, &bytes)?.is_break() {
                    break;
                }
            }
        }
        Ok(())
    }

    /// Refuses a block of a folder that is not the one that was written: what is changed in it would be sealed anew, and pass
    /// for sound. Which blocks hold the index is told as Linux does it (`fs/ext4/namei.c`, `__ext4_read_dirblock`).
    #[expect(clippy::cast_possible_truncation, reason = "lengths that fit a block, and names of at most 255 bytes")]
    pub(super) fn check_sum(&self, folder: &Inode, logical: u64, bytes: &[u8]) -> Result<()> {
        if self.tail_len() == 0 {
            return Ok(());
        }
        let word =
            |at: usize| bytes.get(at..at + 4).and_then(<[u8]>::first_chunk).map(|word| u32::from_le_bytes(*word));
        let half =
            |at: usize| bytes.get(at..at + 2).and_then(<[u8]>::first_chunk).map(|half| u16::from_le_bytes(*half));
        let is_whole = half(4).is_some_and(|len| entry_length(len, bytes.len()) == bytes.len());
        let in_index = folder.has(flags::INDEX) && (logical == 0 || word(0) == Some(0) && is_whole);
        let sound = if in_index {
            let start = if logical == 0 { 0x20 } else { 8 };
            let (limit, count) = (half(start).map_or(0, usize::from), half(start + 2).map_or(0, usize::from));
            let tail = start + limit * 8;
            bytes.get(..start + count * 8).filter(|_| count <= limit).is_some_and(|covered| {
                let sum = checksum::crc32c(self.inode_seed(folder), covered);
                let reserved = bytes.get(tail..tail + 4).unwrap_or_default();
                let sum = checksum::crc32c(checksum::crc32c(sum, reserved), &[0; 4]);
                word(tail + 4) == Some(sum)
            })
        } else {
            let at = bytes.len().saturating_sub(TAIL);
            let is_tail =
                word(at) == Some(0) && half(at + 4) == Some(TAIL as u16) && bytes.get(at + 7) == Some(&TAIL_KIND);
            let sum = checksum::crc32c(self.inode_seed(folder), bytes.get(..at).unwrap_or_default());
            is_tail && word(at + 8) == Some(sum)
        };
        if sound {
            return Ok(());
        }
        let number = folder.number;
        Err(self.device.damaged(format!("block {logical} of the folder with inode {number} has a wrong checksum")))
    }

    /// The inode that `name` stands for in a folder.
    pub(crate) fn find(&self, folder: &Inode, name: &[u8]) -> Result<Option<u32>> {
        let mut found = None;
        self.each_entry(folder, |entry| {
            if entry.name != name {
                return Ok(ControlFlow::Continue(()));
            }
            found = Some(entry.inode);
            Ok(ControlFlow::Break(()))
        })?;
        Ok(found)
    }

    /// The folder that a folder lies in.
    #[expect(
        clippy::indexing_slicing,
        reason = "entries were checked against their block when it was read, or laid out to fit it"
    )]
    pub(super) fn parent(&self, folder: &Inode) -> Result<u32> {
        if folder.has(flags::INLINE_DATA) {
            let bytes = folder.block();
            return Ok(u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]));
        }
        Ok(self.find(folder, b"..")?.unwrap_or(ROOT))
    }

    /// Writes the entries of one block, the last as long as the block allows, and its checksum.
    #[expect(
        clippy::indexing_slicing,
        reason = "entries were checked against their block when it was read, or laid out to fit it"
    )]
    pub(super) fn fill(&self, folder: &Inode, entries: &[Entry]) -> Vec<u8> {
        let mut bytes = vec![0; self.block];
        let end = self.block - self.tail_len();
        let mut at = 0;
        for (index, entry) in entries.iter().enumerate() {
            let len = if index + 1 == entries.len() { end - at } else { entry.size() };
            entry.put(&mut bytes[at..], len, self.has_kinds());
            at += len;
        }
        if entries.is_empty() {
            bytes[4..6].copy_from_slice(&stored_length(end));
        }
        self.seal(folder, &mut bytes);
        bytes
    }

    /// Makes the checksum of a block of entries right.
    #[expect(clippy::cast_possible_truncation, reason = "lengths that fit a block, and names of at most 255 bytes")]
    #[expect(
        clippy::indexing_slicing,
        reason = "entries were checked against their block when it was read, or laid out to fit it"
    )]
    fn seal(&self, folder: &Inode, bytes: &mut [u8]) {
        if self.tail_len() == 0 {
            return;
        }
        let at = bytes.len() - TAIL;
        let sum = checksum::crc32c(self.inode_seed(folder), &bytes[..at]);
        bytes[at..].fill(0);
        bytes[at + 4..at + 6].copy_from_slice(&(TAIL as u16).to_le_bytes());
        bytes[at + 7] = TAIL_KIND;
        bytes[at + 8..].copy_from_slice(&sum.to_le_bytes());
    }

    /// The blocks of a new folder: one, with `.` and `..`.
    pub(super) fn empty_folder(&self, folder: &Inode, parent: u32) -> Vec<u8> {
        self.fill(folder, &own_entries(folder.number, parent))
    }

    /// Adds an entry for `inode`, a file of `mode`, to a folder. The folder's inode is changed, not yet written.
    pub(super) fn add_entry(&mut self, folder: &mut Inode, name: &[u8], inode: u32, mode: u16) -> Result<()> {
        self.check_folder(folder)?;
        let entry = Entry { name: name.to_vec(), inode, kind: kind_of(mode) };
        if folder.has(flags::INLINE_DATA) {
            self.out_of_inode(folder)?;
        }
        if folder.has(flags::INDEX) {
            if let Some((logical, leaf)) = self.leaf(folder, name)?
                && self.add_to(folder, logical, leaf, &entry)?
            {
                return Ok(());
            }
            return self.rebuild(folder, Some(entry));
        }
        let map = self.map(folder)?;
        let count = folder.size().div_ceil(self.block as u64);
        for logical in 0..count {
            if let Some(physical) = map.block(logical)
                && self.add_to(folder, logical, physical, &entry)?
            {
                return Ok(());
            }
        }
        if self.sb.has_compat(compat::DIR_INDEX) && self.sb.s_def_hash_version <= 2 {
            return self.rebuild(folder, Some(entry));
        }
        let bytes = self.fill(folder, &[entry]);
        self.append_block(folder, &bytes)
    }

    /// Refuses folders whose entries we cannot keep right.
    fn check_folder(&self, folder: &Inode) -> Result<()> {
        for (flag, what) in [(flags::ENCRYPT, "is encrypted"), (flags::CASEFOLD, "ignores the case of names")] {
            if folder.has(flag) {
                return Err(self.device.unchangeable(format!("the folder with inode {} {what}", folder.number)));
            }
        }
        Ok(())
    }

    /// Puts an entry into the free space of a block; false when there is not enough.
    #[expect(
        clippy::indexing_slicing,
        reason = "entries were checked against their block when it was read, or laid out to fit it"
    )]
    fn add_to(&self, folder: &Inode, logical: u64, physical: u64, entry: &Entry) -> Result<bool> {
        let mut bytes = self.read_block(physical)?;
        self.check_sum(folder, logical, &bytes)?;
        let (needed, tail) = (entry.size(), self.tail_len());
        let places = self.entries_in(folder, &bytes)?;
        for (at, len, found) in places {
            if tail > 0 && at >= self.block - tail {
                break;
            }
            let used = if found.inode == 0 { 0 } else { found.size() };
            if len - used < needed {
                continue;
            }
            if used > 0 {
                bytes[at + 4..at + 6].copy_from_slice(&stored_length(used));
            }
            bytes[at + used..at + len].fill(0);
            entry.put(&mut bytes[at + used..], len - used, self.has_kinds());
            self.seal(folder, &mut bytes);
            self.write_block(physical, &bytes)?;
            return Ok(true);
        }
        Ok(false)
    }

    /// Takes the entry `name` out of a folder; its inode, if it was there.
    #[expect(
        clippy::indexing_slicing,
        reason = "entries were checked against their block when it was read, or laid out to fit it"
    )]
    pub(super) fn remove_entry(&mut self, folder: &mut Inode, name: &[u8]) -> Result<Option<u32>> {
        self.check_folder(folder)?;
        if folder.has(flags::INLINE_DATA) {
            self.out_of_inode(folder)?;
        }
        let mut removed = None;
        let mut blocks = Vec::new();
        self.each_block(folder, |physical, _| {
            blocks.push(physical);
            Ok(ControlFlow::Continue(()))
        })?;
        for physical in blocks {
            let mut bytes = self.read_block(physical)?;
            let entries = self.entries_in(folder, &bytes)?;
            let Some(index) = entries.iter().position(|(.., entry)| entry.inode != 0 && entry.name == name) else {
                continue;
            };
            let (at, len, entry) = &entries[index];
            removed = Some(entry.inode);
            match index.checked_sub(1).map(|before| &entries[before]) {
                // The one before it takes its room.
                Some((start, before, _)) => {
                    bytes[start + 4..start + 6].copy_from_slice(&stored_length(before + len));
                    bytes[*at..at + len].fill(0);
                }
                None => bytes[*at..at + 4].fill(0),
            }
            self.seal(folder, &mut bytes);
            self.write_block(physical, &bytes)?;
            break;
        }
        Ok(removed)
    }

    /// Moves a folder that lies in its inode into a block.
    fn out_of_inode(&mut self, folder: &mut Inode) -> Result<()> {
        let mut entries = own_entries(folder.number, self.parent(folder)?).to_vec();
        entries.extend(self.entries(folder)?);
        self.drop_inline_rest(folder)?;
        folder.set_flag(flags::INLINE_DATA, false);
        self.start_map(folder);
        folder.set_size(0);
        let bytes = self.fill(folder, &entries);
        self.append_block(folder, &bytes)
    }

    fn append_block(&mut self, folder: &mut Inode, bytes: &[u8]) -> Result<()> {
        let mut map = self.map(folder)?;
        let logical = folder.size().div_ceil(self.block as u64);
        let physical = self.allocate_one(map.runs.last().map_or(0, |run| run.physical + run.len))?;
        self.write_block(physical, bytes)?;
        map.push(Run { logical, physical, len: 1, unwritten: false });
        folder.set_size((logical + 1) * self.block as u64);
        self.lay_map(folder, map)
    }
}

pub(super) fn own_entries(folder: u32, parent: u32) -> [Entry; 2] {
    [Entry { name: b".".to_vec(), inode: folder, kind: 2 }, Entry { name: b"..".to_vec(), inode: parent, kind: 2 }]
}
