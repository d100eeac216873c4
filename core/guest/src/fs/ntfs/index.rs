//! Indexes: sorted trees of entries, as folders are.

use std::{cmp::Ordering, collections::HashSet, ops::ControlFlow};

use reformis_disk::to_usize;

use super::{
    Ntfs,
    fields::{u16, u32, u64},
    file::File,
    names::FileName,
    record::{Attribute, kind, unfix},
};
use crate::error::{Error, Result};

/// The name of the index that a folder is.
pub(super) const FOLDER: [u16; 4] = [b'$' as u16, b'I' as u16, b'3' as u16, b'0' as u16];
/// Blocks below one another.
const MAX_DEPTH: usize = 24;

/// Flags of an entry.
pub(super) mod flag {
    /// A block lies below it.
    pub(in super::super) const BELOW: u16 = 1;
    /// It is the last one, and has no key.
    pub(in super::super) const LAST: u16 = 2;
}

/// An entry of an index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Entry {
    /// What it stands for: a file's reference in a folder, and where the data lies in other indexes.
    pub(super) head: u64,
    /// Its key; empty for the last one.
    pub(super) key: Vec<u8>,
    /// What follows the key in indexes of data.
    pub(super) data: Vec<u8>,
    /// The block with all that comes before it.
    pub(super) below: Option<u64>,
    /// Whether it is the last one.
    pub(super) is_last: bool,
}

impl Entry {
    /// The last one of a node.
    pub(super) fn last(below: Option<u64>) -> Self {
        Self { head: 0, key: Vec::new(), data: Vec::new(), below, is_last: true }
    }

    /// Bytes that it takes.
    pub(super) fn len(&self) -> usize {
        (16 + self.key.len() + self.data.len()).next_multiple_of(8) + if self.below.is_some() { 8 } else { 0 }
    }

    fn append(&self, bytes: &mut Vec<u8>) {
        let word = |value: usize| u16::try_from(value).unwrap_or(u16::MAX).to_le_bytes();
        let start = bytes.len();
        let flags = if self.below.is_some() { flag::BELOW } else { 0 } | if self.is_last { flag::LAST } else { 0 };
        bytes.extend(self.head.to_le_bytes());
        bytes.extend(word(self.len()));
        bytes.extend(word(self.key.len()));
        bytes.extend(flags.to_le_bytes());
        bytes.extend([0, 0]);
        bytes.extend(&self.key);
        bytes.extend(&self.data);
        bytes.resize(start + (bytes.len() - start).next_multiple_of(8), 0);
        bytes.extend(self.below.iter().flat_map(|number| number.to_le_bytes()));
    }
}

/// Entries and the header before them, which has `at` bytes of its own; they may take `room`, or as much as they do.
fn node_of(entries: &[Entry], at: usize, room: Option<usize>) -> Vec<u8> {
    let mut body = Vec::new();
    entries.iter().for_each(|entry| entry.append(&mut body));
    let long = |value: usize| u32::try_from(value).unwrap_or(u32::MAX).to_le_bytes();
    let is_inner = entries.iter().any(|entry| entry.below.is_some());
    let len = at + body.len();
    let mut node = [long(at), long(len), long(room.unwrap_or(len)), [is_inner.into(), 0, 0, 0]].concat();
    node.resize(at, 0);
    node.extend(body);
    node
}

/// The value of an index's root with these entries: what `root` says of the index, and they.
pub(super) fn root_with(root: &[u8], entries: &[Entry]) -> Vec<u8> {
    [root.get(..16).unwrap_or_default(), &node_of(entries, 16, None)].concat()
}

/// Where entries begin in a block of so many bytes, behind the head of 24.
pub(super) fn entries_at(block: usize) -> usize {
    (40 + 2 * (block / super::record::STRIDE + 1)).next_multiple_of(8) - 24
}

/// A block with these entries: what `block`, which lies there, has in its head, and they.
pub(super) fn block_with(block: &[u8], entries: &[Entry]) -> Vec<u8> {
    let at = entries_at(block.len());
    let head = block.get(..24).unwrap_or_default();
    let sequence = block.get(40..24 + at).unwrap_or_default();
    let mut node = node_of(entries, at, Some(block.len() - 24));
    if let Some(place) = node.get_mut(16..at) {
        place.copy_from_slice(sequence);
    }
    let mut bytes = [head, &node].concat();
    bytes.resize(block.len(), 0);
    bytes
}

/// Reads the entries of a node, the last one too; `head` is where its header lies.
pub(super) fn entries(node: &[u8], head: usize) -> Result<Vec<Entry>, &'static str> {
    const SHORT: &str = "has an index that is cut short";
    let word = |at: usize| u32(node, head + at).map(|value| value as usize).ok_or(SHORT);
    let (start, end) = (head + word(0)?, head.saturating_add(word(4)?));
    if end > node.len() {
        return Err("has an index that goes on behind its end");
    }
    let mut found = Vec::new();
    let mut at = start;
    loop {
        let (len, key_len) = (u16(node, at + 8).ok_or(SHORT)?, u16(node, at + 10).ok_or(SHORT)?);
        let (len, key_len) = (usize::from(len), usize::from(key_len));
        let flags = u16(node, at + 12).ok_or(SHORT)?;
        let has_below = flags & flag::BELOW != 0;
        let rest = if has_below { 24 } else { 16 };
        if len < rest + key_len || len % 8 != 0 || at + len > end {
            return Err("has an entry in its index of a wrong length");
        }
        let below = if has_below { u64(node, at + len - 8) } else { None };
        let is_last = flags & flag::LAST != 0;
        let key = if is_last { Vec::new() } else { node.get(at + 16..at + 16 + key_len).ok_or(SHORT)?.to_vec() };
        let data_end = at + len - (rest - 16);
        let data = if is_last { Vec::new() } else { node.get(at + 16 + key_len..data_end).ok_or(SHORT)?.to_vec() };
        found.push(Entry { head: u64(node, at).ok_or(SHORT)?, key, data, below, is_last });
        if is_last {
            return Ok(found);
        }
        at += len;
    }
}

/// An index of a file.
pub(super) struct Index<'a> {
    fs: &'a Ntfs,
    file: &'a File,
    /// The value of its root.
    pub(super) root: &'a [u8],
    blocks: Option<&'a Attribute>,
    /// Bytes of a block.
    pub(super) block: u64,
    /// Bytes that a block's number counts.
    pub(super) unit: u64,
}

impl<'a> Index<'a> {
    /// The index called `name` of a file.
    ///
    /// # Errors
    /// [`Error::WrongKind`] when it has none; [`Error::Damaged`].
    pub(super) fn of(fs: &'a Ntfs, file: &'a File, name: &[u16]) -> Result<Self> {
        let wrong = || Error::WrongKind { path: fs.device.name().into(), wanted: "folder" };
        let root = file.find(kind::INDEX_ROOT, name).ok_or_else(wrong)?;
        let damaged = |what: &str| fs.device.damaged(format!("file record {} {what}", file.number));
        let root = root.resident().ok_or_else(|| damaged("has the root of an index outside the record"))?;
        let block = u64::from(u32(root, 8).unwrap_or_default());
        if !block.is_power_of_two() || !(512..=64 << 10).contains(&block) {
            return Err(damaged("has an index with blocks of a wrong size"));
        }
        let unit = if block >= fs.geometry.cluster { fs.geometry.cluster } else { 512 };
        Ok(Self { fs, file, root, blocks: file.find(kind::INDEX_ALLOCATION, name), block, unit })
    }

    fn damaged(&self, what: &str) -> Error {
        self.fs.device.damaged(format!("file record {} {what}", self.file.number))
    }

    /// The bytes of a block, as they are meant.
    ///
    /// # Errors
    /// [`Error::Damaged`].
    pub(super) fn bytes(&self, number: u64) -> Result<Vec<u8>> {
        let outside = || self.damaged("has an index that leads outside itself");
        let blocks = self.blocks.ok_or_else(outside)?;
        let offset = number.checked_mul(self.unit).ok_or_else(outside)?;
        let mut bytes = vec![0; to_usize(self.block)];
        if self.fs.read_value(blocks, offset, &mut bytes)? != bytes.len() {
            return Err(outside());
        }
        unfix(&mut bytes, b"INDX").map_err(|what| self.damaged(&format!("has an index with a block that {what}")))?;
        if u64(&bytes, 16) != Some(number) {
            return Err(self.damaged("has an index with a block in another one's place"));
        }
        Ok(bytes)
    }

    /// The entries of a block, or of the root.
    ///
    /// # Errors
    /// [`Error::Damaged`].
    pub(super) fn node(&self, number: Option<u64>) -> Result<Vec<Entry>> {
        let found = match number {
            None => entries(self.root, 16),
            Some(number) => entries(&self.bytes(number)?, 24),
        };
        found.map_err(|what| self.damaged(what))
    }

    /// Calls `visit` with each entry in order until it breaks.
    ///
    /// # Errors
    /// [`Error::Damaged`]; those of `visit`.
    pub(super) fn walk(&self, visit: &mut dyn FnMut(&Entry) -> Result<ControlFlow<()>>) -> Result<()> {
        let mut seen = HashSet::new();
        let mut hold = self.fs.device.bench().budget().hold();
        // Nodes on the way, each with what is left of it.
        let mut open = vec![(self.node(None)?.into_iter(), None::<Entry>)];
        while let Some((rest, waiting)) = open.last_mut() {
            // What lies below an entry comes before it.
            if let Some(entry) = waiting.take() {
                if entry.is_last {
                    open.pop();
                } else if visit(&entry)?.is_break() {
                    return Ok(());
                }
                continue;
            }
            let Some(entry) = rest.next() else {
                open.pop();
                continue;
            };
            let below = entry.below;
            *waiting = Some(entry);
            if let Some(number) = below {
                hold.grow(16)?;
                if open.len() > MAX_DEPTH || !seen.insert(number) {
                    return Err(self.damaged("has an index that leads into itself"));
                }
                open.push((self.node(Some(number))?.into_iter(), None));
            }
        }
        Ok(())
    }

    /// The entry for which `order` says equal: `order` compares what is sought with an entry's key. `also` sees each entry that
    /// is passed on the way; the neighbours of what is sought are among them.
    ///
    /// # Errors
    /// [`Error::Damaged`].
    pub(super) fn seek(
        &self,
        order: &dyn Fn(&[u8]) -> Option<Ordering>,
        also: &mut dyn FnMut(&Entry),
    ) -> Result<Option<Entry>> {
        let mut number = None;
        for _ in 0..MAX_DEPTH {
            let mut next = None;
            for entry in self.node(number)? {
                if !entry.is_last {
                    also(&entry);
                    match order(&entry.key).ok_or_else(|| self.damaged("has an index with a damaged key"))? {
                        Ordering::Greater => continue,
                        Ordering::Equal => return Ok(Some(entry)),
                        Ordering::Less => {}
                    }
                }
                next = entry.below;
                break;
            }
            if next.is_none() {
                return Ok(None);
            }
            number = next;
        }
        Err(self.damaged("has an index that is too deep"))
    }
}

impl Ntfs {
    /// What is called `name` in a folder: its reference and its key.
    ///
    /// # Errors
    /// [`Error::WrongKind`] for what is no folder; [`Error::Damaged`].
    pub(super) fn find_name(&self, folder: &File, name: &[u16]) -> Result<Option<(u64, FileName)>> {
        let index = Index::of(self, folder, &FOLDER)?;
        let mut alike = None;
        let order = |key: &[u8]| Some(self.upcase.order(name, &FileName::name_in(key)?));
        let mut also = |entry: &Entry| {
            let is_alike = FileName::name_in(&entry.key).is_some_and(|known| self.upcase.compare(name, &known).is_eq());
            if is_alike && alike.is_none() {
                alike = Some(entry.clone());
            }
        };
        let exact = index.seek(&order, &mut also)?;
        let found = exact.or(alike.filter(|_| !folder.minds_case()));
        let Some(entry) = found else { return Ok(None) };
        let key = FileName::of(&entry.key).ok_or_else(|| index.damaged("has an index with a damaged key"))?;
        Ok(Some((entry.head, key)))
    }
}
