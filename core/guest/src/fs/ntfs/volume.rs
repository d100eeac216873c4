//! NTFS as a file system among others. A node is the number of a file's first record, and of a stream's name where it is one.

use std::{
    iter,
    ops::{ControlFlow, Range},
    sync::Arc,
};

use reformis_disk::budget::Budget;

use super::{
    Ntfs,
    change::set_times,
    fields::u64,
    file::File,
    index::{FOLDER, Index},
    names::{FileName, bytes_of, space, split, units_of},
    number,
    record::{Attribute, NUMBER, kind},
    reparse::{self, Reparse},
    times::{nanoseconds, seconds, ticks},
};
use crate::{
    error::{Error, Result},
    fs::{
        FileSystem, FileSystemMut,
        node::{self, Entry, Facts, Kind, Meta, New, Node, Owner, Stat, Stream},
    },
};

impl Ntfs {
    /// What the reparse point of a file says.
    pub(super) fn reparse_of(&self, file: &File) -> Result<Option<Reparse>> {
        let Some(point) = file.find(kind::REPARSE_POINT, &[]) else { return Ok(None) };
        Ok(reparse::read(&self.all_of(point)?))
    }

    /// Fills `buf` from `offset` of a file's own bytes, as far as they go, in whichever form they are kept.
    pub(super) fn read_content(&self, file: &File, data: &Attribute, offset: u64, buf: &mut [u8]) -> Result<usize> {
        match self.reparse_of(file)? {
            Some(Reparse::Other(reparse::tag::DEDUPLICATED)) if data.name.is_empty() => {
                Err(self.device.unreadable("it is a file whose bytes are kept once for many (deduplicated)"))
            }
            Some(Reparse::Packed(method)) if data.name.is_empty() => self.read_packed(file, data, method, offset, buf),
            _ => self.read_value(data, offset, buf),
        }
    }

    /// The stream of data that a node stands for, of its file; `None` where there is none.
    pub(super) fn data_of<'a>(&self, file: &'a File, node: Node) -> Option<&'a Attribute> {
        match node.stream.checked_sub(1) {
            None => file.find(kind::DATA, &[]),
            Some(index) => file.find(kind::DATA, self.streams.borrow().get(index as usize)?),
        }
    }

    /// The node of a file's stream, as it is called there.
    pub(super) fn stream_node(&self, file: u64, name: &[u16]) -> Result<Node> {
        let mut streams = self.streams.borrow_mut();
        let known = streams.iter().position(|known| known == name);
        let index = known.unwrap_or(streams.len());
        if known.is_none() {
            // They are few, and counted all the same.
            self.device.bench().budget().take(64 * (streams.len() as u64 + 1))?;
            streams.push(name.into());
        }
        Ok(Node { stream: u32::try_from(index + 1).unwrap_or(u32::MAX), ..Node::of(file) })
    }

    /// The stream of a file that is called `name`, case aside.
    pub(super) fn stream_named<'a>(&self, file: &'a File, name: &[u16]) -> Option<&'a Attribute> {
        let data =
            file.attributes.iter().filter(|attribute| attribute.kind == kind::DATA && !attribute.name.is_empty());
        data.into_iter().find(|attribute| self.upcase.compare(&attribute.name, name).is_eq())
    }

    /// The name in its folder that a short one stands beside.
    pub(super) fn long_name(&self, file: &File, found: FileName) -> FileName {
        if found.space != space::DOS {
            return found;
        }
        let long =
            file.names().find(|name| name.space == space::WIN32 && name.parent & NUMBER == found.parent & NUMBER);
        long.unwrap_or(found)
    }
}

impl FileSystem for Ntfs {
    fn facts(&self) -> Result<Facts> {
        let (_, _, label) = self.information()?;
        Ok(Facts { identity: Some(format!("{:016X}", self.geometry.serial)), label })
    }

    fn free(&self) -> Result<u64> {
        Ok(self.free_clusters()?.saturating_mul(self.geometry.cluster))
    }

    fn budget(&self) -> &Arc<Budget> {
        self.device.bench().budget()
    }

    fn root(&self) -> Node {
        Node::of(number::ROOT)
    }

    fn lookup(&self, folder: Node, name: &[u8]) -> Result<Option<Entry>> {
        let file = self.file(folder.number)?;
        if !file.is_folder() || folder.stream != 0 {
            return Err(self.wrong_kind("folder"));
        }
        let Some(wanted) = units_of(name) else { return Ok(None) };
        if let Some((reference, found)) = self.find_name(&file, &wanted)? {
            let file = self.referred(reference)?;
            let name = bytes_of(&self.long_name(&file, found).name);
            return Ok(Some(Entry { name, node: Node::of(file.number) }));
        }
        let Some((name, stream)) = split(name) else { return Ok(None) };
        let (Some(name), Some(stream)) = (units_of(name), units_of(stream)) else { return Ok(None) };
        let Some((reference, found)) = self.find_name(&file, &name)? else { return Ok(None) };
        let file = self.referred(reference)?;
        let Some(data) = self.stream_named(&file, &stream) else { return Ok(None) };
        let name = [bytes_of(&self.long_name(&file, found).name), bytes_of(&data.name)].join(&b':');
        Ok(Some(Entry { name, node: self.stream_node(file.number, &data.name)? }))
    }

    fn read_dir(&self, folder: Node, visit: &mut dyn FnMut(Entry) -> Result<ControlFlow<()>>) -> Result<()> {
        let file = self.file(folder.number)?;
        if !file.is_folder() || folder.stream != 0 {
            return Err(self.wrong_kind("folder"));
        }
        Index::of(self, &file, &FOLDER)?.walk(&mut |entry| {
            let damaged =
                || self.device.damaged(format!("file record {} has an index with a damaged key", file.number));
            let key = FileName::of(&entry.key).ok_or_else(damaged)?;
            let number = entry.head & NUMBER;
            // A short name is another one of a file that is listed anyway; the file system's own files are none of the guest's.
            if key.space == space::DOS || (number < number::FIRST_FREE && file.number == number::ROOT) {
                return Ok(ControlFlow::Continue(()));
            }
            visit(Entry { name: bytes_of(&key.name), node: Node::of(number) })
        })
    }

    fn stat(&self, node: Node) -> Result<Stat> {
        let file = self.file(node.number)?;
        let kind = match self.reparse_of(&file)? {
            _ if node.stream != 0 => Kind::File,
            Some(Reparse::Link(_)) => Kind::Link,
            _ if file.is_folder() => Kind::Folder,
            _ => Kind::File,
        };
        let times = file.resident(kind::STANDARD_INFORMATION).unwrap_or_default();
        let is_read_only = file.file_flags() & 1 != 0;
        let names = file.names().filter(|name| name.space != space::DOS).count();
        Ok(Stat {
            kind,
            special: None,
            size: if kind == Kind::File { self.data_of(&file, node).map_or(0, Attribute::size) } else { 0 },
            // NTFS keeps lists of who may do what; these are what a program for files would show.
            mode: if kind == Kind::File && is_read_only { 0o555 } else { 0o755 },
            uid: 0,
            gid: 0,
            modified: u64(times, 8).map_or(0, seconds),
            nanoseconds: u64(times, 8).map_or(0, nanoseconds),
            links: u32::try_from(names).unwrap_or(u32::MAX),
            id: node.number,
        })
    }

    fn read_at(&self, node: Node, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let file = self.file(node.number)?;
        if file.is_folder() && node.stream == 0 {
            return Err(self.wrong_kind("file"));
        }
        let Some(data) = self.data_of(&file, node) else { return Ok(0) };
        if node.stream == 0 { self.read_content(&file, data, offset, buf) } else { self.read_value(data, offset, buf) }
    }

    fn stored(&self, node: Node) -> Result<Vec<Range<u64>>> {
        let file = self.file(node.number)?;
        let whole = |size: u64| iter::once(0..size).collect();
        match self.data_of(&file, node) {
            None => Ok(Vec::new()),
            // What a filter of the system unpacks is told by nobody but it.
            Some(data) if node.stream == 0 && file.find(kind::REPARSE_POINT, &[]).is_some() => Ok(whole(data.size())),
            Some(data) => Ok(self.stored_of(data).unwrap_or_else(|| whole(data.size()))),
        }
    }

    fn link_target(&self, node: Node) -> Result<Vec<u8>> {
        match self.reparse_of(&*self.file(node.number)?)? {
            Some(Reparse::Link(target)) => Ok(target),
            _ => Err(self.wrong_kind("link")),
        }
    }

    fn streams(&self, node: Node) -> Result<Vec<Stream>> {
        let file = self.file(node.number)?;
        let named = file.attributes.iter().filter(|one| one.kind == kind::DATA && !one.name.is_empty());
        let shown =
            |one: &Attribute| Stream { name: String::from_utf8_lossy(&bytes_of(&one.name)).into(), size: one.size() };
        Ok(named.map(shown).collect())
    }

    fn check_writable(&self) -> Result<()> {
        self.check_sound()
    }
}

impl FileSystemMut for Ntfs {
    fn create(&mut self, folder: Node, name: &[u8], new: &New<'_>, _: &Owner) -> Result<Node> {
        self.make(folder, name, new)
    }

    fn write_at(&mut self, node: Node, offset: u64, bytes: &[u8]) -> Result<()> {
        self.write_stream(node, offset, bytes)
    }

    fn truncate(&mut self, node: Node, size: u64) -> Result<()> {
        self.resize_stream(node, size)
    }

    fn rename(&mut self, from: Node, name: &[u8], to: Node, new: &[u8]) -> Result<Node> {
        self.give_name(from, name, to, new)
    }

    fn unlink(&mut self, folder: Node, name: &[u8]) -> Result<()> {
        self.take_away(folder, name)
    }

    fn set_meta(&mut self, node: Node, meta: &Meta) -> Result<()> {
        // There are lists of who may do what, and no owners and modes to set.
        let Some(modified) = meta.modified else { return Ok(()) };
        let mut file = self.owned(node.number)?;
        self.check_changeable(&file)?;
        set_times(&mut file, &[(8, ticks(modified))]);
        self.store_and_tell(file)
    }

    fn set_attributes(&mut self, _: Node, attributes: &[node::Attribute]) -> Result<()> {
        if attributes.is_empty() {
            return Ok(());
        }
        let (volume, what) = (self.device.name().into(), "it has no extended attributes".into());
        Err(Error::Unsupported { volume, action: "changed", what })
    }

    fn reload(&mut self) -> Result<()> {
        *self = Self::open(self.device.clone(), self.now)?;
        Ok(())
    }
}
