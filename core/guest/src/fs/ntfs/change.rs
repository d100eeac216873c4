//! Changing values: bytes over bytes, longer and shorter, from a record into clusters, from a packed file to a plain one.

use reformis_disk::to_usize;

use super::{
    Ntfs,
    btree::Tree,
    fields::{u32, u64},
    file::File,
    index::{Entry, FOLDER},
    names::{FileName, space},
    number,
    record::{Attribute, FOLDER as IS_FOLDER, Mapped, NUMBER, Value, flag, kind},
    reparse::Reparse,
    runs,
    store::made,
    times::ticks,
};
use crate::{
    error::{Error, Result},
    fs::node::Node,
};

/// Bytes that are read and written at a time.
const PIECE: u64 = 1 << 20;
/// The largest value that begins in a record; whether it stays there, room says.
const RESIDENT: u64 = 4096;

/// Flags of files.
pub(super) mod file_flag {
    pub(in super::super) const ARCHIVE: u32 = 0x20;
    pub(in super::super) const SPARSE: u32 = 0x200;
    pub(in super::super) const REPARSE: u32 = 0x400;
    pub(in super::super) const COMPRESSED: u32 = 0x800;
}

/// The order of keys that are numbers of 32 bits.
pub(super) fn by_numbers(_: &Ntfs, one: &[u8], other: &[u8]) -> Option<std::cmp::Ordering> {
    let numbers = |key: &[u8]| key.as_chunks().0.iter().copied().map(u32::from_le_bytes).collect::<Vec<_>>();
    Some(numbers(one).cmp(&numbers(other)))
}

/// The order of names in a folder.
pub(super) fn by_name(fs: &Ntfs, one: &[u8], other: &[u8]) -> Option<std::cmp::Ordering> {
    Some(fs.upcase.order(&FileName::name_in(one)?, &FileName::name_in(other)?))
}

impl Ntfs {
    /// Takes a value out of its record into clusters.
    pub(super) fn move_to_clusters(&mut self, attribute: &mut Attribute) -> Result<()> {
        let Value::Resident { bytes, .. } = &attribute.value else { return Ok(()) };
        let bytes = bytes.clone();
        let size = bytes.len() as u64;
        let clusters = size.div_ceil(self.geometry.cluster);
        let runs = if clusters == 0 { Vec::new() } else { self.take(0, clusters, self.data_zone())? };
        let allocated = clusters * self.geometry.cluster;
        attribute.value = Value::Mapped(Mapped { runs, allocated, size, initialized: size, unit: 0 });
        self.write_all(attribute, 0, &bytes)
    }

    /// Where files go: behind the room that is left for file records to grow into.
    fn data_zone(&self) -> u64 {
        let end = self.mft.runs.first().and_then(|run| Some(run.lcn? + run.len)).unwrap_or_default();
        end + self.geometry.clusters / 8
    }

    /// Writes into clusters that are there; the rest of the last one is zero.
    fn write_all(&self, attribute: &Attribute, offset: u64, bytes: &[u8]) -> Result<()> {
        let end = offset + bytes.len() as u64;
        let rest = end.next_multiple_of(self.geometry.cluster) - end;
        self.overwrite(attribute, offset, bytes)?;
        if rest > 0 && end == attribute.size() {
            self.overwrite(attribute, end, &vec![0; to_usize(rest)])?;
        }
        Ok(())
    }

    /// Lets a value have `size` bytes: cut off, or with zeros behind it.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; those of reading and writing.
    pub(super) fn resize(&mut self, attribute: &mut Attribute, size: u64) -> Result<()> {
        if size > RESIDENT {
            self.move_to_clusters(attribute)?;
        }
        let cluster = self.geometry.cluster;
        let mapped = match &mut attribute.value {
            Value::Resident { bytes, .. } => {
                bytes.resize(self.small(size)?, 0);
                return Ok(());
            }
            Value::Mapped(mapped) => mapped,
        };
        let clusters = size.div_ceil(cluster);
        let have = mapped.runs.last().map_or(0, |run| run.end());
        if clusters > have {
            let near = mapped.runs.last().and_then(|run| Some(run.lcn? + run.len));
            let near = near.unwrap_or_else(|| self.data_zone());
            for run in self.take(have, clusters - have, near)? {
                runs::push(&mut mapped.runs, run);
            }
        } else if clusters < have {
            self.give_back(&runs::cut(&mapped.runs, clusters..have))?;
            mapped.runs = runs::cut(&mapped.runs, 0..clusters);
        }
        mapped.allocated = clusters * cluster;
        mapped.size = size;
        mapped.initialized = mapped.initialized.min(size);
        Ok(())
    }

    /// Writes `bytes` at `offset` of a value, which grows as far as it has to.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; those of reading and writing.
    pub(super) fn put(&mut self, attribute: &mut Attribute, offset: u64, bytes: &[u8]) -> Result<()> {
        let end = offset.checked_add(bytes.len() as u64).filter(|end| *end < 1 << 62);
        let end = end.ok_or_else(|| self.device.unchangeable("a file would be longer than any volume"))?;
        if end > attribute.size() {
            self.resize(attribute, end)?;
        }
        if let Value::Resident { bytes: value, .. } = &mut attribute.value {
            if let Some(place) = value.get_mut(to_usize(offset)..to_usize(end)) {
                place.copy_from_slice(bytes);
            }
            return Ok(());
        }
        self.initialize(attribute, offset)?;
        self.write_all(attribute, offset, bytes)?;
        if let Value::Mapped(mapped) = &mut attribute.value {
            mapped.initialized = mapped.initialized.max(end);
        }
        Ok(())
    }

    /// Writes zeros where nothing was written yet, up to `end`.
    fn initialize(&self, attribute: &mut Attribute, end: u64) -> Result<()> {
        let Value::Mapped(mapped) = &attribute.value else { return Ok(()) };
        let mut at = mapped.initialized;
        while at < end {
            let len = (end - at).min(PIECE);
            self.overwrite(attribute, at, &vec![0; to_usize(len)])?;
            at += len;
        }
        if let Value::Mapped(mapped) = &mut attribute.value {
            mapped.initialized = mapped.initialized.max(end);
        }
        Ok(())
    }

    /// Refuses to change what must stay as it is.
    pub(super) fn check_changeable(&self, file: &File) -> Result<()> {
        if !self.is_sound.get() {
            self.check_sound()?;
            self.is_sound.set(true);
        }
        if file.number < number::FIRST_FREE {
            return Err(self.device.unchangeable("it is one of the file system's own files"));
        }
        let is_encrypted = file.attributes.iter().any(|one| one.flags & flag::ENCRYPTED != 0);
        if is_encrypted {
            return Err(self.device.unchangeable("it is a file that the guest keeps encrypted (EFS)"));
        }
        Ok(())
    }

    /// A file that is to be changed, with the place of the stream that a node stands for; one is made where there is none.
    fn for_change(&self, node: Node) -> Result<(File, usize)> {
        let mut file = self.owned(node.number)?;
        self.check_changeable(&file)?;
        if file.is_folder() && node.stream == 0 {
            return Err(self.wrong_kind("file"));
        }
        let name = match node.stream.checked_sub(1) {
            None => Vec::new(),
            Some(index) => self.streams.borrow().get(index as usize).cloned().unwrap_or_default(),
        };
        let found = file.attributes.iter().position(|one| one.kind == kind::DATA && one.name == name);
        let place = found.unwrap_or(file.attributes.len());
        if found.is_none() {
            file.attributes.push(made(kind::DATA, &name, Vec::new()));
        }
        Ok((file, place))
    }

    /// Writes `bytes` at `offset` of the stream that a node stands for.
    pub(super) fn write_stream(&mut self, node: Node, offset: u64, bytes: &[u8]) -> Result<()> {
        let (mut file, place) = self.for_change(node)?;
        let place = self.make_plain(&mut file, node, place, u64::MAX)?;
        let mut stream = file.attributes.swap_remove(place);
        self.put(&mut stream, offset, bytes)?;
        file.attributes.push(stream);
        self.changed(file)
    }

    /// Lets the stream that a node stands for have `size` bytes.
    pub(super) fn resize_stream(&mut self, node: Node, size: u64) -> Result<()> {
        let (mut file, place) = self.for_change(node)?;
        let place = self.make_plain(&mut file, node, place, size)?;
        let mut stream = file.attributes.swap_remove(place);
        if size == 0 {
            self.give_back_value(&stream)?;
            stream.value = Value::Resident { bytes: Vec::new(), indexed: 0 };
        }
        self.resize(&mut stream, size)?;
        file.attributes.push(stream);
        self.changed(file)
    }

    /// Gives back the clusters of a value.
    pub(super) fn give_back_value(&mut self, attribute: &Attribute) -> Result<()> {
        match &attribute.value {
            Value::Mapped(mapped) => self.give_back(&mapped.runs),
            Value::Resident { .. } => Ok(()),
        }
    }

    /// Makes a packed or sparse stream a plain one, with the first `most` of its bytes; where the stream is then.
    fn make_plain(&mut self, file: &mut File, node: Node, place: usize, most: u64) -> Result<usize> {
        let point = if node.stream == 0 { self.reparse_of(file)? } else { None };
        let packed = match point {
            Some(Reparse::Packed(_)) => true,
            Some(Reparse::Link(_)) => return Err(self.wrong_kind("file")),
            Some(Reparse::Other(tag)) => {
                return Err(self
                    .device
                    .unchangeable(format!("another program keeps a file in a form of its own (tag {tag:#x})")));
            }
            None => false,
        };
        let Some(old) = file.attributes.get(place).cloned() else { return Ok(place) };
        if !packed && old.flags & (flag::COMPRESSED | flag::SPARSE) == 0 {
            return Ok(place);
        }
        let mut plain = made(kind::DATA, &old.name, Vec::new());
        plain.id = old.id;
        let size = old.size().min(most);
        let mut at = 0;
        while at < size {
            let mut piece = vec![0; to_usize((size - at).min(PIECE))];
            let read = self.read_content(file, &old, at, &mut piece)?;
            self.put(&mut plain, at, piece.get(..read).unwrap_or_default())?;
            at += (read as u64).max(1);
        }
        self.give_back_value(&old)?;
        if let Some(place) = file.attributes.get_mut(place) {
            *place = plain;
        }
        if packed {
            self.drop_reparse(file)?;
            let name: Vec<u16> = super::WOF_STREAM.encode_utf16().collect();
            let stream = file.attributes.iter().position(|one| one.kind == kind::DATA && one.name == name);
            if let Some(stream) = stream {
                let stream = file.attributes.remove(stream);
                self.give_back_value(&stream)?;
            }
        }
        if node.stream == 0 {
            set_file_flags(file, 0, file_flag::COMPRESSED | file_flag::SPARSE);
        }
        let found = file.attributes.iter().position(|one| one.kind == kind::DATA && one.name == old.name);
        Ok(found.unwrap_or_default())
    }

    /// Takes the reparse point off a file, and its entry out of the index of all of them.
    pub(super) fn drop_reparse(&mut self, file: &mut File) -> Result<()> {
        let Some(place) = file.attributes.iter().position(|one| one.kind == kind::REPARSE_POINT) else { return Ok(()) };
        let point = file.attributes.remove(place);
        let tag = u32(&self.all_of(&point)?, 0).unwrap_or_default();
        self.give_back_value(&point)?;
        set_file_flags(file, 0, file_flag::REPARSE);
        let extend = self.file(number::EXTEND)?;
        let name: Vec<u16> = "$Reparse".encode_utf16().collect();
        let Some((reference, _)) = self.find_name(&extend, &name)? else { return Ok(()) };
        let mut index = self.owned(reference & NUMBER)?;
        let key = [&tag.to_le_bytes()[..], &file.reference().to_le_bytes()].concat();
        let name: Vec<u16> = "$R".encode_utf16().collect();
        let mut tree = Tree { fs: self, file: &mut index, name: &name, order: &by_numbers };
        if tree.remove(&key)? {
            self.store(index)?;
        }
        Ok(())
    }

    /// Stores a file whose bytes changed: with the time, and what its folders say of it.
    pub(super) fn changed(&mut self, mut file: File) -> Result<()> {
        let now = ticks(self.now);
        // The archive flag says that a backup has something to do.
        let flags = if file.is_folder() { 0 } else { file_flag::ARCHIVE };
        set_file_flags(&mut file, flags, 0);
        set_times(&mut file, &[(8, now), (16, now)]);
        self.store_and_tell(file)
    }

    /// Stores a file, and lets its folders say the same of it.
    pub(super) fn store_and_tell(&mut self, file: File) -> Result<()> {
        let number = file.number;
        self.store(file)?;
        let file = self.file(number)?;
        for name in file.names() {
            let told = self.told(&file, &name);
            let mut folder = self.owned(name.parent & NUMBER)?;
            let mut tree = Tree { fs: self, file: &mut folder, name: &FOLDER, order: &by_name };
            if tree.replace(&told.to_bytes())? {
                self.store(folder)?;
            }
        }
        Ok(())
    }

    /// A name of a file with what a folder tells of it.
    pub(super) fn told(&self, file: &File, name: &FileName) -> FileName {
        let information = file.resident(kind::STANDARD_INFORMATION).unwrap_or_default();
        let time = |at: usize| u64(information, at).unwrap_or_default();
        let data = file.find(kind::DATA, &[]);
        let allocated = match data.map(|data| &data.value) {
            Some(Value::Resident { bytes, .. }) => (bytes.len() as u64).next_multiple_of(8),
            Some(Value::Mapped(mapped)) => mapped.allocated,
            None => 0,
        };
        let folder = if file.flags & IS_FOLDER != 0 { FileName::FOLDER } else { 0 };
        let tag = file
            .find(kind::REPARSE_POINT, &[])
            .and_then(|point| self.all_of(point).ok())
            .and_then(|point| u32(&point, 0));
        FileName {
            times: [time(0), time(8), time(16), time(24)],
            allocated: if folder == 0 { allocated } else { 0 },
            size: if folder == 0 { data.map_or(0, Attribute::size) } else { 0 },
            flags: file.file_flags() | folder,
            // Without a reparse point there may be the size of extended attributes.
            tag: tag.unwrap_or(if name.flags & file_flag::REPARSE == 0 { name.tag } else { 0 }),
            ..name.clone()
        }
    }
}

impl Tree<'_> {
    /// Puts what is told of a file, of the same length, into the entry with its name; whether the root was changed.
    pub(super) fn replace(&mut self, key: &[u8]) -> Result<bool> {
        self.exchange(key, |entry| Entry { key: key.to_vec(), ..entry })
    }
}

/// Sets and clears flags of a file.
pub(super) fn set_file_flags(file: &mut File, set: u32, clear: u32) {
    let flags = (file.file_flags() | set) & !clear;
    set_in_information(file, 32, &flags.to_le_bytes());
}

/// Sets times: where they lie in the standard information, and what they are.
pub(super) fn set_times(file: &mut File, times: &[(usize, u64)]) {
    times.iter().for_each(|(at, time)| set_in_information(file, *at, &time.to_le_bytes()));
}

fn set_in_information(file: &mut File, at: usize, value: &[u8]) {
    let information = file.attributes.iter_mut().find(|one| one.kind == kind::STANDARD_INFORMATION);
    if let Some(Attribute { value: Value::Resident { bytes, .. }, .. }) = information
        && let Some(place) = bytes.get_mut(at..at + value.len())
    {
        place.copy_from_slice(value);
    }
}

/// Names that a short one and a long one are for one another.
pub(super) fn are_pair(one: u8, other: u8) -> bool {
    matches!((one, other), (space::DOS, space::WIN32) | (space::WIN32, space::DOS))
}

/// The error for what a folder holds already.
pub(super) fn exists(name: &[u8]) -> Error {
    Error::Exists { path: String::from_utf8_lossy(name).into() }
}
