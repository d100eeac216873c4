//! Extended attributes (section "Extended Attributes"): inside an inode, behind its fields, and in a block of their own.

use super::{
    Ext, checksum,
    inode::Inode,
    superblock::{incompat, ro_compat},
};
use crate::{
    error::Result,
    fs::{
        acl::AccessList,
        node::{Attribute, name_space},
    },
};

const MAGIC: u32 = 0xea02_0000;
/// Bytes before the entries of a block.
const HEADER: usize = 32;
/// `system`, as an index of names.
const SYSTEM: u8 = 7;

impl Attribute {
    fn is_inline_data(&self) -> bool {
        self.index == SYSTEM && self.name == b"data"
    }

    fn size(&self) -> usize {
        16 + self.name.len().next_multiple_of(4) + self.value.len().next_multiple_of(4)
    }

    /// The hash of an entry in a block (Linux, `fs/ext4/xattr.c`).
    #[expect(
        clippy::indexing_slicing,
        reason = "offsets and lengths were checked against the room when the attributes were read, or laid out to fit it"
    )]
    fn hash(&self) -> u32 {
        // The kernel takes the characters of the name without a sign.
        let name = self.name.iter().fold(0_u32, |hash, byte| hash.rotate_left(5) ^ u32::from(*byte));
        let mut padded = self.value.clone();
        padded.resize(self.value.len().next_multiple_of(4), 0);
        padded
            .chunks_exact(4)
            .fold(name, |hash, word| hash.rotate_left(16) ^ u32::from_le_bytes([word[0], word[1], word[2], word[3]]))
    }
}

#[expect(
    clippy::indexing_slicing,
    reason = "offsets and lengths were checked against the room when the attributes were read, or laid out to fit it"
)]
fn le16(bytes: &[u8], at: usize) -> usize {
    bytes.get(at..at + 2).map_or(0, |two| u16::from_le_bytes([two[0], two[1]]).into())
}

#[expect(
    clippy::indexing_slicing,
    reason = "offsets and lengths were checked against the room when the attributes were read, or laid out to fit it"
)]
fn le32(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).map_or(0, |four| u32::from_le_bytes([four[0], four[1], four[2], four[3]]))
}

/// Reads entries from `first` of `bytes`; values are counted from `base`.
#[expect(
    clippy::indexing_slicing,
    reason = "offsets and lengths were checked against the room when the attributes were read, or laid out to fit it"
)]
fn entries(ext: &Ext, bytes: &[u8], first: usize, base: usize) -> Result<Vec<Attribute>> {
    let mut found = Vec::new();
    let mut at = first;
    let wrong = || ext.device.damaged("an extended attribute leads beyond its place");
    while at + 4 <= bytes.len() && le32(bytes, at) != 0 {
        let name_len = usize::from(bytes[at]);
        let index = bytes[at + 1];
        let (offset, inode, size) = (le16(bytes, at + 2), le32(bytes, at + 4), le32(bytes, at + 8) as usize);
        let name = bytes.get(at + 16..at + 16 + name_len).ok_or_else(wrong)?.to_vec();
        let value = if inode == 0 {
            let start = base + offset;
            bytes.get(start..start.saturating_add(size)).ok_or_else(wrong)?.to_vec()
        } else {
            let holder = ext.inode(inode)?;
            ext.whole(&holder, 64 << 10)?
        };
        found.push(Attribute { index, name, value });
        at += 16 + name_len.next_multiple_of(4);
    }
    Ok(found)
}

/// Writes `attributes` from `first` of `bytes`, values from the end back, counted from `base`; false when they do not fit.
#[expect(clippy::cast_possible_truncation, reason = "lengths that fit a block")]
#[expect(
    clippy::indexing_slicing,
    reason = "offsets and lengths were checked against the room when the attributes were read, or laid out to fit it"
)]
fn lay(bytes: &mut [u8], first: usize, base: usize, attributes: &[Attribute], hashed: bool) -> bool {
    let needed: usize = attributes.iter().map(Attribute::size).sum();
    if first + needed + 4 > bytes.len() {
        return false;
    }
    bytes[first..].fill(0);
    let (mut at, mut end) = (first, bytes.len());
    for attribute in attributes {
        end -= attribute.value.len().next_multiple_of(4);
        bytes[end..end + attribute.value.len()].copy_from_slice(&attribute.value);
        bytes[at] = attribute.name.len() as u8;
        bytes[at + 1] = attribute.index;
        let offset = if attribute.value.is_empty() { 0 } else { (end - base) as u16 };
        bytes[at + 2..at + 4].copy_from_slice(&offset.to_le_bytes());
        bytes[at + 8..at + 12].copy_from_slice(&(attribute.value.len() as u32).to_le_bytes());
        let hash = if hashed { attribute.hash() } else { 0 };
        bytes[at + 12..at + 16].copy_from_slice(&hash.to_le_bytes());
        bytes[at + 16..at + 16 + attribute.name.len()].copy_from_slice(&attribute.name);
        at += 16 + attribute.name.len().next_multiple_of(4);
    }
    true
}

impl Ext {
    fn inside(&self, inode: &Inode) -> Result<Vec<Attribute>> {
        let start = 128 + inode.extra_size();
        if inode.extra_size() == 0 || le32(&inode.raw, start) != MAGIC {
            return Ok(Vec::new());
        }
        entries(self, &inode.raw, start + 4, start + 4)
    }

    /// All extended attributes of a file but inline data.
    pub(super) fn attributes_of(&self, inode: &Inode) -> Result<Vec<Attribute>> {
        let mut found = self.stored_attributes(inode)?;
        for list in found.iter_mut().filter(|one| is_list(one)) {
            let known = AccessList::of_ext(&list.value);
            let wrong = || self.device.damaged(format!("the access list of inode {} is none", inode.number));
            list.value = known.ok_or_else(wrong)?.value();
        }
        Ok(found)
    }

    /// The same, each as it is stored.
    fn stored_attributes(&self, inode: &Inode) -> Result<Vec<Attribute>> {
        let mut found = self.inside(inode)?;
        found.retain(|attribute| !attribute.is_inline_data());
        if inode.attribute_block() != 0 {
            let bytes = self.read_block(inode.attribute_block())?;
            if le32(&bytes, 0) != MAGIC {
                return Err(self.device.damaged(format!(
                    "the extended attributes of inode {} do not begin with their mark",
                    inode.number
                )));
            }
            found.extend(entries(self, &bytes, HEADER, 0)?);
        }
        Ok(found)
    }

    /// What of inline data does not fit between an inode's fields.
    pub(super) fn inline_rest(&self, inode: &Inode) -> Result<Vec<u8>> {
        let found = self.inside(inode)?.into_iter().find(Attribute::is_inline_data);
        Ok(found.map(|attribute| attribute.value).unwrap_or_default())
    }

    /// Takes inline data out of an inode's attributes.
    pub(super) fn drop_inline_rest(&self, inode: &mut Inode) -> Result<()> {
        let mut kept = self.inside(inode)?;
        kept.retain(|attribute| !attribute.is_inline_data());
        lay_inside(inode, &kept);
        Ok(())
    }

    /// Gives a new file its attributes: inside the inode where they fit, else in a block.
    #[expect(
        clippy::indexing_slicing,
        reason = "offsets and lengths were checked against the room when the attributes were read, or laid out to fit it"
    )]
    pub(super) fn set_attributes(&mut self, inode: &mut Inode, attributes: &[Attribute]) -> Result<()> {
        let mut stored = attributes.to_vec();
        for list in stored.iter_mut().filter(|one| is_list(one)) {
            let known = AccessList::of(&list.value);
            list.value = known.ok_or_else(|| self.device.unchangeable("an access list is none"))?.ext_value();
        }
        let attributes = &stored[..];
        if attributes.is_empty() || lay_inside(inode, attributes) {
            return Ok(());
        }
        // What fits beside the fields stays there only where a block does not hold all.
        let size = |some: &[Attribute]| HEADER + 4 + some.iter().map(Attribute::size).sum::<usize>();
        let mut sorted = attributes.to_vec();
        sorted.sort_by_key(Attribute::size);
        let mut inside = Vec::new();
        while size(&sorted) > self.block && !sorted.is_empty() {
            inside.push(sorted.remove(0));
        }
        if !lay_inside(inode, &inside) {
            return Err(self.device.unchangeable("the extended attributes of a file do not fit into a block"));
        }
        let mut bytes = vec![0; self.block];
        // Entries of a block are in the order of their names.
        sorted.sort_by(|a, b| (a.index, a.name.len(), &a.name).cmp(&(b.index, b.name.len(), &b.name)));
        if !lay(&mut bytes, HEADER, 0, &sorted, true) {
            return Err(self.device.unchangeable("the extended attributes of a file do not fit into a block"));
        }
        bytes[..4].copy_from_slice(&MAGIC.to_le_bytes());
        bytes[4..8].copy_from_slice(&1_u32.to_le_bytes());
        bytes[8..12].copy_from_slice(&1_u32.to_le_bytes());
        let hash = sorted.iter().fold(0_u32, |hash, attribute| hash.rotate_left(16) ^ attribute.hash());
        bytes[12..16].copy_from_slice(&hash.to_le_bytes());
        let block = self.allocate_one(0)?;
        self.write_attribute_block(block, &mut bytes)?;
        inode.set_attribute_block(block);
        inode.set_used_blocks(inode.used_blocks(self.block) + 1, self.block);
        Ok(())
    }

    /// Lets a file that has attributes have these instead; what of its bytes lies among them stays.
    pub(super) fn replace_attributes(&mut self, inode: &mut Inode, attributes: &[Attribute]) -> Result<()> {
        let own = self.inside(inode)?.into_iter().filter(Attribute::is_inline_data);
        let all: Vec<Attribute> = own.chain(attributes.iter().cloned()).collect();
        let used = inode.used_blocks(self.block).saturating_sub(u64::from(inode.attribute_block() != 0));
        self.release_attributes(inode)?;
        inode.set_used_blocks(used, self.block);
        lay_inside(inode, &[]);
        if all.len() > attributes.len() && !lay_inside(inode, &all) {
            return Err(self.device.unchangeable(format!("inode {} has no room for its attributes", inode.number)));
        }
        if all.len() > attributes.len() { Ok(()) } else { self.set_attributes(inode, attributes) }
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "offsets and lengths were checked against the room when the attributes were read, or laid out to fit it"
    )]
    fn write_attribute_block(&self, block: u64, bytes: &mut [u8]) -> Result<()> {
        if self.sb.has_ro(ro_compat::METADATA_CSUM) {
            bytes[16..20].fill(0);
            let seed = checksum::crc32c(self.seed, &block.to_le_bytes());
            let sum = checksum::crc32c(seed, bytes);
            bytes[16..20].copy_from_slice(&sum.to_le_bytes());
        }
        self.write_block(block, bytes)
    }

    /// Lets go of a file's block of attributes, which others may share.
    #[expect(
        clippy::indexing_slicing,
        reason = "offsets and lengths were checked against the room when the attributes were read, or laid out to fit it"
    )]
    pub(super) fn release_attributes(&mut self, inode: &mut Inode) -> Result<()> {
        if self.sb.has_incompat(incompat::EA_INODE) && self.has_attribute_inodes(inode)? {
            return Err(self
                .device
                .unchangeable(format!("inode {} has attributes in inodes of their own", inode.number)));
        }
        let block = inode.attribute_block();
        if block == 0 {
            return Ok(());
        }
        let mut bytes = self.read_block(block)?;
        let count = le32(&bytes, 4);
        if count > 1 {
            bytes[4..8].copy_from_slice(&(count - 1).to_le_bytes());
            self.write_attribute_block(block, &mut bytes)?;
        } else {
            self.free_blocks(&[block])?;
        }
        inode.set_attribute_block(0);
        Ok(())
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "offsets and lengths were checked against the room when the attributes were read, or laid out to fit it"
    )]
    fn has_attribute_inodes(&self, inode: &Inode) -> Result<bool> {
        let names_inode = |bytes: &[u8], first: usize| {
            let mut at = first;
            while at + 16 <= bytes.len() && le32(bytes, at) != 0 {
                if le32(bytes, at + 4) != 0 {
                    return true;
                }
                at += 16 + usize::from(bytes[at]).next_multiple_of(4);
            }
            false
        };
        let start = 128 + inode.extra_size();
        let inside = inode.extra_size() > 0 && le32(&inode.raw, start) == MAGIC && names_inode(&inode.raw, start + 4);
        Ok(inside || inode.attribute_block() != 0 && names_inode(&self.read_block(inode.attribute_block())?, HEADER))
    }
}

/// Whether an attribute is an access list.
fn is_list(attribute: &Attribute) -> bool {
    matches!(attribute.index, name_space::ACCESS | name_space::DEFAULT)
}

/// Writes attributes behind an inode's fields; false when they do not fit.
#[expect(
    clippy::indexing_slicing,
    reason = "offsets and lengths were checked against the room when the attributes were read, or laid out to fit it"
)]
fn lay_inside(inode: &mut Inode, attributes: &[Attribute]) -> bool {
    let start = 128 + inode.extra_size();
    if inode.extra_size() == 0 || start + 8 > inode.raw.len() {
        return attributes.is_empty();
    }
    if attributes.is_empty() {
        inode.raw[start..].fill(0);
        return true;
    }
    if !lay(&mut inode.raw, start + 4, start + 4, attributes, false) {
        return false;
    }
    inode.raw[start..start + 4].copy_from_slice(&MAGIC.to_le_bytes());
    true
}
