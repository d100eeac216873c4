//! Extended attributes (section "Extended Attributes"): in the inode, or in leaves of an index with large values beside them.
//! A change lays all of them out anew, in the smallest form that holds them.

use reformis_disk::to_usize;

use super::{
    Xfs,
    fields::{be16, be32, byte, low8, low16, low32, put, put16, put32, slice},
    folder::hash,
    hashes::{self, Leaf, Shape},
    inode::{Fork, Format, Inode},
    map::Map,
    seal,
};
use crate::{
    error::Result,
    fs::{
        acl::AccessList,
        node::{Attribute, name_space},
    },
};

/// Flags of an entry.
mod flag {
    /// The value is beside the name.
    pub const LOCAL: u8 = 1;
    pub const ROOT: u8 = 2;
    pub const SECURE: u8 = 4;
    /// Points to a folder above.
    pub const PARENT: u8 = 8;
    /// Is not whole yet, or not any more.
    pub const INCOMPLETE: u8 = 0x80;
}

/// Names of access lists as they are stored, and what stands for each.
const LISTS: [(&[u8], u8); 2] = [(b"SGI_ACL_FILE", name_space::ACCESS), (b"SGI_ACL_DEFAULT", name_space::DEFAULT)];

const MAGICS: [u16; 2] = [0xfbee, 0x3bee];
/// The largest value.
const MAX_VALUE: usize = 64 << 10;
/// Bytes before a part of a value in a block of its own.
const VALUE_HEAD: usize = 56;
/// Leaves of the attributes of one file, at most: more would be a circle.
const MAX_LEAVES: usize = 65_536;
/// Bytes of an attribute in memory beside its name and value.
const OVERHEAD: u64 = 64;

fn index_of(flags: u8) -> u8 {
    match flags & (flag::ROOT | flag::SECURE) {
        0 => 1,
        flag::ROOT => 4,
        _ => 6,
    }
}

/// The flag of a name's kind; `None` for what the file system does not keep like that.
fn flag_of(index: u8) -> Option<u8> {
    match index {
        1 => Some(0),
        4 => Some(flag::ROOT),
        6 => Some(flag::SECURE),
        _ => None,
    }
}

/// Bytes of a leaf's head.
fn leaf_head(v5: bool) -> usize {
    if v5 { 80 } else { 32 }
}

impl Xfs {
    fn attribute_shape() -> Shape {
        Shape { fork: Fork::Attributes, first: 0, step: 1, end: u64::MAX >> 10 }
    }

    /// All attributes of an inode.
    pub(super) fn attributes_of(&self, inode: &Inode) -> Result<Vec<Attribute>> {
        let mut found = self.stored_attributes(inode)?;
        for one in &mut found {
            let kind = LISTS.iter().find(|(name, _)| one.index == name_space::TRUSTED && one.name == *name);
            let Some((_, index)) = kind else { continue };
            let wrong = || self.device.damaged(format!("the access list of inode {} is none", inode.number));
            let value = AccessList::of_xfs(&one.value).ok_or_else(wrong)?.value();
            *one = Attribute { index: *index, name: Vec::new(), value };
        }
        Ok(found)
    }

    /// Lets an inode have these attributes, as programs set them, whatever it had; the inode is not written.
    ///
    /// # Errors
    /// As [`Xfs::lay_attributes`].
    pub(super) fn give_attributes(&mut self, inode: &mut Inode, attributes: &[Attribute]) -> Result<()> {
        let mut stored = attributes.to_vec();
        for one in &mut stored {
            let Some((name, _)) = LISTS.iter().find(|(_, index)| one.index == *index) else { continue };
            let list = AccessList::of(&one.value).ok_or_else(|| self.device.unchangeable("an access list is none"))?;
            *one = Attribute { index: name_space::TRUSTED, name: name.to_vec(), value: list.xfs_value() };
        }
        self.lay_attributes(inode, &stored)
    }

    /// All attributes of an inode, each as it is stored.
    pub(super) fn stored_attributes(&self, inode: &Inode) -> Result<Vec<Attribute>> {
        if inode.fork_offset() == 0 {
            return Ok(Vec::new());
        }
        match inode.format(Fork::Attributes) {
            Some(Format::Local) => self.short_attributes(inode),
            _ if inode.runs(Fork::Attributes) == 0 => Ok(Vec::new()),
            _ => self.leaf_attributes(inode),
        }
    }

    fn short_attributes(&self, inode: &Inode) -> Result<Vec<Attribute>> {
        let bytes = inode.fork(Fork::Attributes);
        let bytes = slice(bytes, 0, be16(bytes, 0).into());
        let mut found = Vec::new();
        let mut at = 4;
        for _ in 0..byte(bytes, 2) {
            let (name, value) = (usize::from(byte(bytes, at)), usize::from(byte(bytes, at + 1)));
            if at + 3 + name + value > bytes.len() {
                return Err(self.device.damaged(format!("the attributes in inode {} overlap its end", inode.number)));
            }
            let flags = byte(bytes, at + 2);
            if flags & (flag::INCOMPLETE | flag::PARENT) == 0 {
                found.push(Attribute {
                    index: index_of(flags),
                    name: slice(bytes, at + 3, name).into(),
                    value: slice(bytes, at + 3 + name, value).into(),
                });
            }
            at += 3 + name + value;
        }
        Ok(found)
    }

    fn leaf_attributes(&self, inode: &Inode) -> Result<Vec<Attribute>> {
        let (v5, shape) = (self.sb.is_v5(), Self::attribute_shape());
        let wrong = |what: &str| self.device.damaged(format!("the attributes of inode {} {what}", inode.number));
        let map = self.map(inode, Fork::Attributes)?;
        let mut hold = self.device.bench().budget().hold();
        let mut found = Vec::new();
        let mut bytes = self.leaf_of(inode, &map, shape, 0)?;
        for _ in 0..MAX_LEAVES {
            if !MAGICS.contains(&hashes::magic(&bytes)) {
                return Err(wrong("have a leaf without its mark"));
            }
            let count = usize::from(be16(&bytes, hashes::count_place(v5)));
            if leaf_head(v5) + count * 8 > bytes.len() {
                return Err(wrong("have a leaf with more entries than it holds"));
            }
            for number in 0..count {
                let entry = leaf_head(v5) + number * 8;
                let (at, flags) = (usize::from(be16(&bytes, entry + 4)), byte(&bytes, entry + 6));
                if flags & (flag::INCOMPLETE | flag::PARENT) != 0 {
                    continue;
                }
                let local = flags & flag::LOCAL != 0;
                let (start, len) = if local { (at + 3, byte(&bytes, at + 2)) } else { (at + 9, byte(&bytes, at + 8)) };
                let name = slice(&bytes, start, len.into()).to_vec();
                let size = if local { be16(&bytes, at).into() } else { be32(&bytes, at + 4) as usize };
                if name.len() != usize::from(len) || size > MAX_VALUE {
                    return Err(wrong("have one that lies behind the end of its leaf"));
                }
                hold.grow((name.len() + size) as u64 + OVERHEAD)?;
                let value = if local {
                    slice(&bytes, start + name.len(), size).to_vec()
                } else {
                    self.remote_value(inode, &map, be32(&bytes, at).into(), size)?
                };
                if value.len() != size {
                    return Err(wrong("have a value that is cut short"));
                }
                found.push(Attribute { index: index_of(flags), name, value });
            }
            match hashes::next(&bytes) {
                0 => return Ok(found),
                next => bytes = self.hash_block(inode, &map, shape, next)?,
            }
        }
        Err(wrong("lead in a circle"))
    }

    /// Bytes of a value that one block of its own holds.
    fn value_room(&self) -> usize {
        to_usize(self.sb.block()) - if self.sb.is_v5() { VALUE_HEAD } else { 0 }
    }

    fn remote_value(&self, inode: &Inode, map: &Map, first: u64, size: usize) -> Result<Vec<u8>> {
        let wrong =
            |what: &str| self.device.damaged(format!("a value of an attribute of inode {} {what}", inode.number));
        let mut value = Vec::with_capacity(size);
        for logical in (first..).take(size.div_ceil(self.value_room())) {
            let place = self.block_byte(map.block(logical).ok_or_else(|| wrong("has a hole"))?);
            let mut bytes = vec![0; to_usize(self.sb.block())];
            self.device.read(place, &mut bytes)?;
            let head = if self.sb.is_v5() {
                self.check_seal(&bytes, seal::VALUE, place, inode.number, "a block of a value")?;
                if !bytes.starts_with(b"XARM") || be32(&bytes, 4) as usize != value.len() {
                    return Err(wrong("leads to a block that is no part of it"));
                }
                VALUE_HEAD
            } else {
                0
            };
            value.extend(slice(&bytes, head, size - value.len()));
        }
        Ok(value)
    }

    /// Lets an inode have these attributes, whatever it had; the inode is not written.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`]; [`crate::Error::Unsupported`] for names and values that are too long.
    pub(super) fn lay_attributes(&mut self, inode: &mut Inode, attributes: &[Attribute]) -> Result<()> {
        let kept: Vec<(u8, &Attribute)> =
            attributes.iter().filter_map(|one| Some((flag_of(one.index)?, one))).collect();
        if kept.iter().any(|(_, one)| one.name.is_empty() || one.name.len() > 255 || one.value.len() > MAX_VALUE) {
            return Err(self.device.unchangeable("an attribute has a name or a value that is too long"));
        }
        self.drop_attributes(inode)?;
        if kept.is_empty() {
            return Ok(());
        }
        let size = 4 + kept.iter().map(|(_, one)| 3 + one.name.len() + one.value.len()).sum::<usize>();
        let small = kept.len() < 256 && kept.iter().all(|(_, one)| one.value.len() < 256);
        let wanted = size.next_multiple_of(8);
        let room = inode.bytes.len() - inode.head();
        let used = self.used_fork(inode)?.next_multiple_of(8);
        if small && used + wanted <= room {
            // All that attributes do not need is the other fork's.
            inode.set_fork_offset(room - wanted);
            inode.set_format(Fork::Attributes, Format::Local);
            let mut bytes = vec![0; 4];
            put16(&mut bytes, 0, low16(size));
            put(&mut bytes, 2, &[low8(kept.len())]);
            for (flags, one) in &kept {
                bytes.extend([low8(one.name.len()), low8(one.value.len()), *flags]);
                bytes.extend(&one.name);
                bytes.extend(&one.value);
            }
            inode.set_fork(Fork::Attributes, &bytes);
            return Ok(());
        }
        // Room for a few runs of a map.
        let wanted = 64.min(room.saturating_sub(used) / 8 * 8);
        if wanted < 24 {
            return Err(self.device.unchangeable(format!("inode {} has no room for attributes", inode.number)));
        }
        inode.set_fork_offset(room - wanted);
        inode.set_format(Fork::Attributes, Format::Extents);
        self.lay_leaves(inode, &kept)
    }

    /// Bytes at the start of an inode's first fork that it needs.
    fn used_fork(&self, inode: &Inode) -> Result<usize> {
        Ok(match inode.format(Fork::Data) {
            Some(Format::Local) => to_usize(inode.size()),
            // A map may come to need a root with a few numbers.
            Some(Format::Extents) => to_usize(inode.runs(Fork::Data)).saturating_mul(16).max(56),
            Some(Format::Tree) => {
                return Err(self.device.unchangeable(format!("inode {} has a map below it already", inode.number)));
            }
            _ => 8,
        })
    }

    fn lay_leaves(&mut self, inode: &mut Inode, attributes: &[(u8, &Attribute)]) -> Result<()> {
        let block = to_usize(self.sb.block());
        let mut sorted: Vec<(u32, u8, &Attribute)> =
            attributes.iter().map(|(flags, one)| (hash(&one.name), *flags, *one)).collect();
        sorted.sort_by_key(|(hash, ..)| *hash);
        let v5 = self.sb.is_v5();
        let local_size = |one: &Attribute| (3 + one.name.len() + one.value.len()).next_multiple_of(4);
        let is_local = |one: &Attribute| local_size(one) < block / 2 + block / 4;
        let size_of =
            |one: &Attribute| if is_local(one) { local_size(one) } else { (9 + one.name.len()).next_multiple_of(4) };
        // As many in each leaf as it holds.
        let mut parts: Vec<Vec<(u32, u8, &Attribute)>> = vec![Vec::new()];
        let mut used = leaf_head(v5);
        for item in sorted {
            if used + 8 + size_of(item.2) > block {
                parts.push(Vec::new());
                used = leaf_head(v5);
            }
            used += 8 + size_of(item.2);
            if let Some(part) = parts.last_mut() {
                part.push(item);
            }
        }
        let mut map = Map::default();
        // Values lie behind the index, whose length is known before it is laid down.
        let mut next = self.index_blocks(parts.len());
        let mut leaves = Vec::with_capacity(parts.len());
        for part in &parts {
            let mut bytes = vec![0; block];
            put16(&mut bytes, 8, if v5 { 0x3bee } else { 0xfbee });
            let mut end = block;
            for (number, (hash, flags, one)) in part.iter().enumerate() {
                end -= size_of(one);
                let entry = leaf_head(v5) + number * 8;
                put32(&mut bytes, entry, *hash);
                put16(&mut bytes, entry + 4, low16(end));
                if is_local(one) {
                    put(&mut bytes, entry + 6, &[flags | flag::LOCAL]);
                    put16(&mut bytes, end, low16(one.value.len()));
                    put(&mut bytes, end + 2, &[low8(one.name.len())]);
                    put(&mut bytes, end + 3, &one.name);
                    put(&mut bytes, end + 3 + one.name.len(), &one.value);
                } else {
                    put(&mut bytes, entry + 6, &[*flags]);
                    put32(&mut bytes, end, low32(next));
                    put32(&mut bytes, end + 4, low32(one.value.len() as u64));
                    put(&mut bytes, end + 8, &[low8(one.name.len())]);
                    put(&mut bytes, end + 9, &one.name);
                    next = self.lay_value(inode, &mut map, next, &one.value)?;
                }
            }
            let (count, first) = (hashes::count_place(v5), leaf_head(v5) + part.len() * 8);
            put16(&mut bytes, count, low16(part.len()));
            put16(&mut bytes, count + 2, low16(block - end));
            put16(&mut bytes, count + 4, low16(end));
            put16(&mut bytes, count + 8, low16(if end > first { first } else { 0 }));
            put16(&mut bytes, count + 10, low16(end - first));
            leaves.push(Leaf { bytes, last: part.last().map_or(0, |(hash, ..)| *hash) });
        }
        let end = self.index_blocks(parts.len());
        self.lay_hashes(inode, &mut map, Shape { end, ..Self::attribute_shape() }, leaves)?;
        self.lay_map(inode, Fork::Attributes, map)
    }

    /// Blocks of an index with so many leaves.
    fn index_blocks(&self, leaves: usize) -> u64 {
        let most = (to_usize(self.sb.block()) - hashes::head(self.sb.is_v5())) / 8;
        let (mut level, mut total) = (leaves, leaves);
        while level > 1 {
            level = level.div_ceil(most);
            total += level;
        }
        total as u64
    }

    /// Lays a value down from block `first` of the fork on; the block behind it.
    fn lay_value(&mut self, inode: &mut Inode, map: &mut Map, first: u64, value: &[u8]) -> Result<u64> {
        let parts: Vec<&[u8]> = value.chunks(self.value_room()).collect();
        let end = first + parts.len() as u64;
        if !self.sb.is_v5() {
            self.lay_bytes(inode, Fork::Attributes, map, first, value)?;
            return Ok(end);
        }
        self.fill_hole(inode, Fork::Attributes, map, first, end)?;
        for (number, part) in parts.iter().enumerate() {
            let mut bytes = vec![0; to_usize(self.sb.block())];
            put(&mut bytes, 0, b"XARM");
            put32(&mut bytes, 4, low32((number * self.value_room()) as u64));
            put32(&mut bytes, 8, low32(part.len() as u64));
            put(&mut bytes, VALUE_HEAD, part);
            self.write_scattered(map, first + number as u64, &mut bytes, seal::VALUE, inode.number)?;
        }
        Ok(end)
    }

    /// Takes all attributes from an inode, and gives their blocks back; the inode is not written.
    pub(super) fn drop_attributes(&mut self, inode: &mut Inode) -> Result<()> {
        if inode.fork_offset() == 0 {
            return Ok(());
        }
        if inode.format(Fork::Attributes) != Some(Format::Local) {
            let mut map = self.map(inode, Fork::Attributes)?;
            self.release(inode, Fork::Attributes, &mut map, 0, u64::MAX >> 10)?;
            self.lay_map(inode, Fork::Attributes, map)?;
        }
        inode.set_fork(Fork::Attributes, &[]);
        inode.set_format(Fork::Attributes, Format::Extents);
        inode.set_runs(Fork::Attributes, 0);
        if inode.format(Fork::Data) != Some(Format::Tree) {
            inode.set_fork_offset(0);
        }
        Ok(())
    }
}
