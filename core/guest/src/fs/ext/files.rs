//! Files, folders and links as wholes: reading, making, replacing, removing.

use std::ops::Range;

use super::{
    Ext, Inode,
    inode::{Time, flags, mode},
    map::{Map, Run},
    superblock::{incompat, ro_compat},
};
use crate::{
    error::{Error, Result},
    fs::node::{Attribute, Meta, New, Owner, check_name},
};
use reformis_disk::to_usize;

/// Links of a folder that are counted; one that has more states 1.
const MAX_LINKS: u16 = 65_000;
/// Bytes of holes in a file that is taken into memory.
const MAX_HOLES: u64 = 16 << 20;

impl Ext {
    /// Fills `buf` from `offset` of a file, as far as the file goes; the number of bytes.
    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the buffer, the run and the block")]
    pub(super) fn read_file(&self, inode: &Inode, offset: u64, buf: &mut [u8]) -> Result<usize> {
        if inode.has(flags::ENCRYPT) {
            return Err(self.device.unreadable(format!("inode {} is encrypted", inode.number)));
        }
        let len = to_usize(inode.size().saturating_sub(offset).min(buf.len() as u64));
        let buf = &mut buf[..len];
        buf.fill(0);
        if len == 0 {
            return Ok(0);
        }
        if inode.has(flags::INLINE_DATA) {
            let whole = [inode.block(), &self.inline_rest(inode)?].concat();
            let start = to_usize(offset).min(whole.len());
            let end = (start + len).min(whole.len());
            buf[..end - start].copy_from_slice(&whole[start..end]);
            return Ok(len);
        }
        let map = self.map(inode)?;
        let block = self.block as u64;
        let first = map.runs.partition_point(|run| (run.logical + run.len).saturating_mul(block) <= offset);
        for run in &map.runs[first..] {
            let start = run.logical * block;
            if start >= offset + len as u64 {
                break;
            }
            if run.unwritten {
                continue;
            }
            let from = start.max(offset);
            let to = (start + run.len * block).min(offset + len as u64);
            let target = &mut buf[to_usize(from - offset)..to_usize(to - offset)];
            self.device.read(run.physical * block + (from - start), target)?;
        }
        Ok(len)
    }

    /// All bytes of a file of at most `most`.
    pub(super) fn whole(&self, inode: &Inode, most: u64) -> Result<Vec<u8>> {
        if inode.size() > most {
            return Err(Self::too_large(inode.number, inode.size(), most));
        }
        // Memory is taken for what is there, not for what a length claims.
        if inode.size() > MAX_HOLES && !inode.has(flags::INLINE_DATA) {
            let stored = self.map(inode)?.blocks().saturating_mul(self.block as u64);
            if stored.saturating_add(MAX_HOLES) < inode.size() {
                return Err(Self::too_large(inode.number, inode.size(), stored + MAX_HOLES));
            }
        }
        let mut bytes = vec![0; to_usize(inode.size())];
        self.read_file(inode, 0, &mut bytes)?;
        Ok(bytes)
    }

    /// Whether a link's target lies where others have their map (Linux, `fs/ext4/inode.c`, `ext4_inode_is_fast_symlink`): it has no blocks but
    /// maybe a cluster of attributes. Where attributes have inodes of their own, their blocks count as the link's, and its length alone tells.
    fn is_short_link(&self, inode: &Inode) -> bool {
        let own = if inode.attribute_block() == 0 { 0 } else { self.sb.cluster_blocks() };
        let fits = inode.is_link() && inode.size() < 60 && !inode.has(flags::INLINE_DATA);
        fits && (self.sb.has_incompat(incompat::EA_INODE) || inode.used_blocks(self.block) == own)
    }

    /// The ranges of a file that are stored.
    pub(super) fn stored_ranges(&self, inode: &Inode) -> Result<Vec<Range<u64>>> {
        if inode.has(flags::INLINE_DATA) {
            return Ok(std::iter::once(0..inode.size()).collect());
        }
        Ok(self.map(inode)?.stored(self.block as u64, inode.size()))
    }

    /// Where a symbolic link leads.
    #[expect(
        clippy::indexing_slicing,
        reason = "such a target is shorter than the room in the inode, as was just compared"
    )]
    pub(super) fn target_of(&self, inode: &Inode) -> Result<Vec<u8>> {
        if self.is_short_link(inode) {
            return Ok(inode.block()[..to_usize(inode.size())].to_vec());
        }
        self.whole(inode, 64 << 10)
    }

    /// Makes something called `name` in a folder.
    #[expect(clippy::indexing_slicing, reason = "only a target that fits is kept in the inode")]
    pub(super) fn make(&mut self, folder: u32, name: &[u8], new: &New<'_>, owner: &Owner) -> Result<u32> {
        self.begin_change()?;
        let mut folder = self.inode(folder)?;
        let text = || String::from_utf8_lossy(name).into_owned();
        check_name(name)?;
        if self.find(&folder, name)?.is_some() {
            return Err(Error::Exists { path: text() });
        }
        let kind = match new {
            New::File(_) => mode::FILE,
            New::Folder => mode::FOLDER,
            New::Link(_) => mode::LINK,
        };
        let kind = kind | owner.mode & 0o7777;
        let mut inode = self.allocate_inode(folder.number, kind)?;
        inode.set_owner(owner.uid, owner.gid);
        inode.set_links(1);
        if let Some(modified) = owner.modified {
            inode.set_time(Time::Modification, modified);
        }
        self.set_attributes(&mut inode, &owner.attributes)?;
        match new {
            New::File(bytes) => {
                self.start_map(&mut inode);
                self.fill_file(&mut inode, bytes)?;
            }
            New::Link(target) if target.len() < 60 => {
                inode.block_mut()[..target.len()].copy_from_slice(target);
                inode.set_size(target.len() as u64);
            }
            New::Link(target) => {
                self.start_map(&mut inode);
                self.fill_file(&mut inode, target)?;
            }
            New::Folder => {
                self.start_map(&mut inode);
                let bytes = self.empty_folder(&inode, folder.number);
                self.fill_file(&mut inode, &bytes)?;
                inode.set_links(2);
                self.count_link(&mut folder, true);
            }
        }
        self.write_inode(&mut inode)?;
        self.add_entry(&mut folder, name, inode.number, kind)?;
        self.touch(&mut folder);
        self.write_inode(&mut folder)?;
        self.flush()?;
        Ok(inode.number)
    }

    /// Writes `bytes` into new blocks of a file that has none.
    fn fill_file(&mut self, inode: &mut Inode, bytes: &[u8]) -> Result<()> {
        let goal = self.group_start(self.inode_place(inode.number).0);
        let map = self.extend(Map::default(), 0, bytes, goal)?;
        inode.set_size(bytes.len() as u64);
        self.lay_map(inode, map)?;
        self.note_large(inode)
    }

    /// Adds `bytes` to a map, from block `logical` of the file on, in new blocks.
    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the buffer, the run and the block")]
    fn extend(&mut self, mut map: Map, logical: u64, bytes: &[u8], goal: u64) -> Result<Map> {
        let block = self.block;
        let count = bytes.len().div_ceil(block) as u64;
        let mut done = 0;
        for run in self.allocate(count, goal)? {
            let from = to_usize(done) * block;
            let mut piece = bytes[from..bytes.len().min(from + to_usize(run.len) * block)].to_vec();
            piece.resize(to_usize(run.len) * block, 0);
            self.device.write(run.physical * block as u64, &piece)?;
            map.push(Run { logical: logical + done, ..run });
            done += run.len;
        }
        Ok(map)
    }

    pub(super) fn note_large(&mut self, inode: &Inode) -> Result<()> {
        if inode.size() >= 1 << 31 && !self.sb.has_ro(ro_compat::LARGE_FILE) {
            return Err(self.device.unchangeable("it does not hold files of 2 GiB"));
        }
        Ok(())
    }

    /// Refuses files whose bytes are more than what lies in their blocks.
    pub(super) fn check_plain(&self, inode: &Inode) -> Result<()> {
        let special = [(flags::ENCRYPT, "is encrypted"), (flags::VERITY, "is sealed by a tree of hashes")];
        match special.into_iter().find(|(flag, _)| inode.has(*flag)) {
            Some((_, what)) => Err(self.device.unchangeable(format!("inode {} {what}", inode.number))),
            None => Ok(()),
        }
    }

    /// Replaces all bytes of a file; owner, mode, attributes and other names of it stay.
    pub(super) fn replace_all(&mut self, number: u32, bytes: &[u8]) -> Result<()> {
        self.begin_change()?;
        let mut inode = self.inode(number)?;
        self.check_plain(&inode)?;
        self.release_blocks(&mut inode)?;
        self.start_map(&mut inode);
        self.fill_file(&mut inode, bytes)?;
        self.touch(&mut inode);
        self.write_inode(&mut inode)?;
        self.flush()
    }

    /// Adds bytes at the end of a file.
    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the buffer, the run and the block")]
    pub(super) fn append(&mut self, number: u32, bytes: &[u8]) -> Result<()> {
        self.begin_change()?;
        let mut inode = self.inode(number)?;
        self.check_plain(&inode)?;
        if inode.has(flags::INLINE_DATA) {
            let whole = [self.whole(&inode, 64 << 10)?, bytes.to_vec()].concat();
            return self.replace_all(number, &whole);
        }
        let size = inode.size();
        let block = self.block as u64;
        // Space that was reserved behind the end would have to be taken first: it is given back instead.
        let map = self.map(&inode)?;
        let mut map = self.cut(map, size.div_ceil(block))?;
        let inside = size % block;
        let mut rest = bytes;
        if inside != 0 {
            let fitting = rest.len().min(to_usize(block - inside));
            let (now, later) = rest.split_at(fitting);
            match map.block(size / block) {
                Some(physical) => {
                    let mut last = self.read_block(physical)?;
                    last[to_usize(inside)..].fill(0);
                    last[to_usize(inside)..][..fitting].copy_from_slice(now);
                    self.write_block(physical, &last)?;
                    rest = later;
                }
                // The end is a hole, or reserved: the file is written anew.
                None => {
                    let whole = [self.whole(&inode, 1 << 30)?, bytes.to_vec()].concat();
                    self.lay_map(&mut inode, map)?;
                    self.write_inode(&mut inode)?;
                    return self.replace_all(number, &whole);
                }
            }
        }
        let goal = map.runs.last().map_or(0, |run| run.physical + run.len);
        map = self.extend(map, size.div_ceil(block), rest, goal)?;
        inode.set_size(size + bytes.len() as u64);
        self.lay_map(&mut inode, map)?;
        self.note_large(&inode)?;
        self.touch(&mut inode);
        self.write_inode(&mut inode)?;
        self.flush()
    }

    /// Gives back all blocks of a file's bytes; its attributes stay.
    pub(super) fn release_blocks(&mut self, inode: &mut Inode) -> Result<()> {
        if inode.has(flags::INLINE_DATA) {
            self.drop_inline_rest(inode)?;
            inode.set_flag(flags::INLINE_DATA, false);
            return Ok(());
        }
        let has_blocks = inode.is_file() || inode.is_folder() || inode.is_link() && !self.is_short_link(inode);
        if !has_blocks {
            return Ok(());
        }
        let map = self.map(inode)?;
        let map = self.cut(map, 0)?;
        self.free_blocks(&map.tables)
    }

    /// Removes `name` from a folder: a folder only when nothing is in it.
    pub(super) fn remove(&mut self, folder: u32, name: &[u8]) -> Result<()> {
        self.begin_change()?;
        let text = || String::from_utf8_lossy(name).into_owned();
        let mut parent = self.inode(folder)?;
        let number = self.find(&parent, name)?.ok_or_else(|| Error::NotFound { path: text() })?;
        let mut inode = self.inode(number)?;
        if inode.is_folder() {
            if number == super::ROOT || number == folder {
                return Err(self.device.damaged("folders lie inside themselves"));
            }
            if !self.entries(&inode)?.is_empty() {
                return Err(Error::WrongKind { path: text(), wanted: "folder with nothing in it" });
            }
        }
        self.remove_entry(&mut parent, name)?;
        if inode.is_folder() {
            self.count_link(&mut parent, false);
        }
        self.touch(&mut parent);
        self.write_inode(&mut parent)?;
        if !inode.is_folder() && inode.links() > 1 {
            inode.set_links(inode.links() - 1);
            inode.set_time(Time::Change, self.now);
            self.write_inode(&mut inode)?;
        } else {
            self.destroy(&mut inode)?;
        }
        self.flush()
    }

    /// Gives back an inode and all that it has.
    pub(super) fn destroy(&mut self, inode: &mut Inode) -> Result<()> {
        // In this order: whether a link's text is a map is told by the blocks that it has, those of attributes among them.
        self.release_blocks(inode)?;
        self.release_attributes(inode)?;
        self.free_inode(inode)
    }

    /// Lets something have these attributes, and no others.
    pub(super) fn set_attributes_of(&mut self, number: u32, attributes: &[Attribute]) -> Result<()> {
        self.begin_change()?;
        let mut inode = self.inode(number)?;
        self.replace_attributes(&mut inode, attributes)?;
        inode.set_time(Time::Change, self.now);
        self.write_inode(&mut inode)?;
        self.flush()
    }

    /// Sets owner, permissions and time of something that is there.
    pub(super) fn set_meta_of(&mut self, number: u32, meta: &Meta) -> Result<()> {
        self.begin_change()?;
        let mut inode = self.inode(number)?;
        if let Some((uid, gid)) = meta.owner {
            inode.set_owner(uid, gid);
        }
        if let Some(permissions) = meta.mode {
            inode.set_mode(inode.mode() & mode::KIND | permissions & 0o7777);
        }
        if let Some(modified) = meta.modified {
            inode.set_time(Time::Modification, modified);
        }
        inode.set_time(Time::Change, self.now);
        self.write_inode(&mut inode)
    }

    /// Gives what is called `name` in one folder another name, in that folder or in another one; its number.
    pub(super) fn move_entry(&mut self, from: u32, name: &[u8], to: u32, new: &[u8]) -> Result<u32> {
        self.begin_change()?;
        let text = |name: &[u8]| String::from_utf8_lossy(name).into_owned();
        check_name(new)?;
        let mut source = self.inode(from)?;
        let number = self.find(&source, name)?.ok_or_else(|| Error::NotFound { path: text(name) })?;
        if self.find(&self.inode(to)?, new)?.is_some() {
            return Err(Error::Exists { path: text(new) });
        }
        let mut inode = self.inode(number)?;
        if inode.is_folder() && from != to {
            // Its own entry for the folder above would have to change, and both folders' counts.
            return Err(self.device.unchangeable("a folder only gets another name in the folder that it is in"));
        }
        self.remove_entry(&mut source, name)?;
        self.touch(&mut source);
        self.write_inode(&mut source)?;
        let mut target = self.inode(to)?;
        self.add_entry(&mut target, new, number, inode.mode())?;
        self.touch(&mut target);
        self.write_inode(&mut target)?;
        inode.set_time(Time::Change, self.now);
        self.write_inode(&mut inode)?;
        self.flush()?;
        Ok(number)
    }

    pub(super) fn touch(&self, inode: &mut Inode) {
        inode.set_time(Time::Modification, self.now);
        inode.set_time(Time::Change, self.now);
    }

    /// Counts a folder more or less in the folder that holds it.
    fn count_link(&self, folder: &mut Inode, more: bool) {
        // One link stands for more than can be counted.
        let links = match folder.links() {
            1 => 1,
            links if more && links >= MAX_LINKS - 1 && self.sb.has_ro(ro_compat::DIR_NLINK) => 1,
            links if more => links + 1,
            links => links.saturating_sub(1),
        };
        folder.set_links(links);
    }
}
