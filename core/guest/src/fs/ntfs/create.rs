//! Names in folders: files and folders made, removed and renamed, and streams beside them.

use std::ops::ControlFlow;

use super::{
    Ntfs,
    btree::Tree,
    change::{are_pair, by_name, by_numbers, exists, file_flag, set_times},
    fields::u32,
    file::File,
    index::{Entry, FOLDER, Index},
    names::{FileName, space, split, units_of},
    number,
    record::{Attribute, FOLDER as IS_FOLDER, IN_USE, NUMBER, kind},
    store::{empty_root, made},
    times::ticks,
};
use crate::{
    error::{Error, Result},
    fs::node::{New, Node},
};

/// What a name of the family must not hold.
const FORBIDDEN: &[u8] = b"\"*/:<>?\\|";
/// Bytes of the standard information of version 3.
const INFORMATION: usize = 72;

/// Whether a name has 8 and 3 units that a short one may have.
fn is_short(name: &[u16]) -> bool {
    let Ok(text) = String::from_utf16(name) else { return false };
    let (stem, end) = text.split_once('.').unwrap_or((&text, ""));
    let is_fit = |part: &str, most: usize| {
        let fits = |byte: u8| byte.is_ascii_alphanumeric() || b"!#$%&'()-@^_`{}~".contains(&byte);
        part.len() <= most && part.bytes().all(fits)
    };
    !stem.is_empty() && is_fit(stem, 8) && is_fit(end, 3) && (text.contains('.') != end.is_empty())
}

impl Ntfs {
    /// The units of a name that may be given to something.
    fn fit_name(&self, name: &[u8]) -> Result<Vec<u16>> {
        let refuse = |what: &str| Error::Unsupported {
            volume: String::from_utf8_lossy(name).into(),
            action: "made",
            what: what.into(),
        };
        if name.iter().any(|byte| *byte < 0x20 || FORBIDDEN.contains(byte)) {
            return Err(refuse("the guest's system allows none of its characters \" * / : < > ? \\ | in a name"));
        }
        if name.ends_with(b".") || name.ends_with(b" ") {
            return Err(refuse("the guest's system could not open a name that ends with a dot or a space"));
        }
        let units = units_of(name).filter(|units| (1..=255).contains(&units.len()));
        units.ok_or_else(|| refuse("a name has 1 to 255 characters"))
    }

    /// A folder that is to be changed.
    fn folder_for_change(&self, node: Node) -> Result<File> {
        let folder = self.owned(node.number)?;
        if folder.number != number::ROOT {
            self.check_changeable(&folder)?;
        } else if !self.is_sound.get() {
            self.check_sound()?;
            self.is_sound.set(true);
        }
        if !folder.is_folder() || node.stream != 0 {
            return Err(self.wrong_kind("folder"));
        }
        Ok(folder)
    }

    /// Puts a name into a folder, or takes it out, and stores the folder.
    fn name_in(&mut self, folder: u64, file: u64, name: &FileName, is_put: bool) -> Result<()> {
        let mut folder = self.owned(folder)?;
        let mut tree = Tree { fs: self, file: &mut folder, name: &FOLDER, order: &by_name };
        let key = name.to_bytes();
        if is_put {
            let entry = Entry { head: file, key, data: Vec::new(), below: None, is_last: false };
            tree.insert(entry)?;
        } else if !tree.remove(&key)? {
            return Err(self
                .device
                .damaged(format!("file record {} has a name that its folder does not", file & NUMBER)));
        }
        let now = ticks(self.now);
        set_times(&mut folder, &[(8, now), (16, now)]);
        self.store(folder)
    }

    /// Which rules a new name in a folder follows. A long one of the system's own rules has a short one beside it, and what finds none takes the
    /// name for damaged: a name that stands alone is one without rules.
    fn space_of(folder: &File, name: &[u16]) -> u8 {
        if !folder.minds_case() && is_short(name) { space::BOTH } else { space::POSIX }
    }

    /// Makes something called `name` in a folder: a stream beside a file's bytes, where that is `file:stream`.
    pub(super) fn make(&mut self, folder: Node, name: &[u8], new: &New<'_>) -> Result<Node> {
        let parent = self.folder_for_change(folder)?;
        if let Some((file, stream)) = split(name) {
            return self.make_stream(&parent, file, stream, new);
        }
        let units = self.fit_name(name)?;
        if self.find_name(&parent, &units)?.is_some() {
            return Err(exists(name));
        }
        let content = match new {
            New::File(bytes) => Some(*bytes),
            New::Folder => None,
            New::Link(_) => {
                let (volume, what) = (self.device.name().into(), "links are not made on NTFS".into());
                return Err(Error::Unsupported { volume, action: "made", what });
            }
        };
        let now = ticks(self.now);
        let flags = if content.is_some() { file_flag::ARCHIVE } else { 0 };
        // Who may do what goes by the folder that it is in.
        let own = parent.resident(kind::STANDARD_INFORMATION).unwrap_or_default();
        let has_security = own.len() >= INFORMATION;
        let mut information = vec![0; if has_security { INFORMATION } else { 48 }];
        let mut put = |at: usize, value: &[u8]| {
            if let Some(place) = information.get_mut(at..at + value.len()) {
                place.copy_from_slice(value);
            }
        };
        (0..4).for_each(|time| put(8 * time, &now.to_le_bytes()));
        put(32, &flags.to_le_bytes());
        if has_security {
            put(52, &u32(own, 52).unwrap_or_default().to_le_bytes());
        }
        let (number, sequence) = self.take_record()?;
        let mut file = self.owned(number)?;
        file.flags = IN_USE | if content.is_some() { 0 } else { IS_FOLDER };
        file.links = 1;
        file.attributes.push(made(kind::STANDARD_INFORMATION, &[], information));
        if !has_security && let Some(security) = parent.find(kind::SECURITY_DESCRIPTOR, &[]) {
            let bytes = self.all_of(security)?;
            file.attributes.push(made(kind::SECURITY_DESCRIPTOR, &[], bytes));
        }
        let entry = FileName {
            parent: parent.reference(),
            times: [now; 4],
            allocated: 0,
            size: 0,
            flags: flags | if content.is_some() { 0 } else { FileName::FOLDER },
            tag: 0,
            space: Self::space_of(&parent, &units),
            name: units,
        };
        file.attributes.push(made(kind::FILE_NAME, &[], entry.to_bytes()));
        match content {
            Some(bytes) => {
                let mut data = made(kind::DATA, &[], Vec::new());
                self.put(&mut data, 0, bytes)?;
                file.attributes.push(data);
            }
            None => {
                let root = empty_root(self.geometry.index_block, self.geometry.cluster);
                file.attributes.push(made(kind::INDEX_ROOT, &FOLDER, root));
            }
        }
        self.store(file)?;
        let told = self.told(&*self.file(number)?, &entry);
        self.name_in(parent.number, number | u64::from(sequence) << 48, &told, true)?;
        Ok(Node::of(number))
    }

    /// Makes the stream `stream` of `file` in a folder.
    fn make_stream(&mut self, folder: &File, file: &[u8], stream: &[u8], new: &New<'_>) -> Result<Node> {
        let New::File(bytes) = new else { return Err(self.wrong_kind("file")) };
        let (name, stream) = (self.fit_name(file)?, self.fit_name(stream)?);
        let missing = || Error::NotFound { path: String::from_utf8_lossy(file).into() };
        let (reference, _) = self.find_name(folder, &name)?.ok_or_else(missing)?;
        let mut changed = self.owned(reference & NUMBER)?;
        self.check_changeable(&changed)?;
        if self.stream_named(&changed, &stream).is_some() {
            return Err(exists(file));
        }
        let mut data = made(kind::DATA, &stream, Vec::new());
        self.put(&mut data, 0, bytes)?;
        changed.attributes.push(data);
        let number = changed.number;
        self.changed(changed)?;
        self.stream_node(number, &stream)
    }

    /// Removes `name` from a folder: a file's last name with the file, or a stream where that is `file:stream`.
    pub(super) fn take_away(&mut self, folder: Node, name: &[u8]) -> Result<()> {
        let parent = self.folder_for_change(folder)?;
        let missing = || Error::NotFound { path: String::from_utf8_lossy(name).into() };
        let whole = units_of(name).ok_or_else(missing)?;
        let Some((reference, found)) = self.find_name(&parent, &whole)? else {
            let (file, stream) = split(name).ok_or_else(missing)?;
            let (file, stream) = (units_of(file).ok_or_else(missing)?, units_of(stream).ok_or_else(missing)?);
            let (reference, _) = self.find_name(&parent, &file)?.ok_or_else(missing)?;
            let mut file = self.owned(reference & NUMBER)?;
            self.check_changeable(&file)?;
            let data = self.stream_named(&file, &stream).cloned().ok_or_else(missing)?;
            self.give_back_value(&data)?;
            file.attributes.retain(|one| one.kind != kind::DATA || one.name != data.name);
            return self.changed(file);
        };
        self.referred(reference)?;
        let mut file = self.owned(reference & NUMBER)?;
        self.check_changeable(&file)?;
        if file.is_folder() && file.find(kind::REPARSE_POINT, &[]).is_none() {
            let mut is_empty = true;
            Index::of(self, &file, &FOLDER)?.walk(&mut |_| {
                is_empty = false;
                Ok(ControlFlow::Break(()))
            })?;
            if !is_empty {
                return Err(Error::WrongKind {
                    path: String::from_utf8_lossy(name).into(),
                    wanted: "folder with nothing in it",
                });
            }
        }
        self.drop_names(&mut file, &parent, &found)?;
        if file.names().next().is_some() {
            let now = ticks(self.now);
            set_times(&mut file, &[(16, now)]);
            return self.store_and_tell(file);
        }
        self.drop_file(file)
    }

    /// Takes a name off a file and out of its folder, and the short or long one that belongs to it.
    fn drop_names(&mut self, file: &mut File, folder: &File, name: &FileName) -> Result<()> {
        let is_meant = |one: &FileName| {
            one.parent == folder.reference()
                && (one.name == name.name && one.space == name.space || are_pair(one.space, name.space))
        };
        let names: Vec<FileName> = file.names().filter(is_meant).collect();
        if names.is_empty() {
            return Err(self
                .device
                .damaged(format!("file record {} does not have the name that its folder gives it", file.number)));
        }
        for name in &names {
            self.name_in(folder.number, file.reference(), name, false)?;
        }
        let is_gone = |one: &Attribute| {
            let known = (one.kind == kind::FILE_NAME).then(|| one.resident().and_then(FileName::of)).flatten();
            known.is_some_and(|known| names.contains(&known))
        };
        file.attributes.retain(|one| !is_gone(one));
        file.links = file.links.saturating_sub(u16::try_from(names.len()).unwrap_or_default());
        Ok(())
    }

    /// Gives back all that a file has, which has no name any more.
    fn drop_file(&mut self, mut file: File) -> Result<()> {
        self.drop_reparse(&mut file)?;
        if let Some(id) = file.resident(kind::OBJECT_ID).and_then(|id| id.get(..16)).map(<[u8]>::to_vec) {
            self.drop_object_id(&id)?;
        }
        for attribute in std::mem::take(&mut file.attributes) {
            self.give_back_value(&attribute)?;
        }
        // With nothing left it lies in its first record alone.
        let number = file.number;
        self.store(file)?;
        self.free_record(number)
    }

    /// Takes an object's identity out of the index of all of them.
    fn drop_object_id(&mut self, id: &[u8]) -> Result<()> {
        let extend = self.file(number::EXTEND)?;
        let name: Vec<u16> = "$ObjId".encode_utf16().collect();
        let Some((reference, _)) = self.find_name(&extend, &name)? else { return Ok(()) };
        let mut index = self.owned(reference & NUMBER)?;
        let name: Vec<u16> = "$O".encode_utf16().collect();
        let mut tree = Tree { fs: self, file: &mut index, name: &name, order: &by_numbers };
        if tree.remove(id)? {
            self.store(index)?;
        }
        Ok(())
    }

    /// Gives what is called `name` in `from` the name `new` in the folder `to`.
    pub(super) fn give_name(&mut self, from: Node, name: &[u8], to: Node, new: &[u8]) -> Result<Node> {
        let (old_folder, new_folder) = (self.folder_for_change(from)?, self.folder_for_change(to)?);
        let missing = || Error::NotFound { path: String::from_utf8_lossy(name).into() };
        let units = units_of(name).ok_or_else(missing)?;
        let (reference, found) = self.find_name(&old_folder, &units)?.ok_or_else(missing)?;
        self.referred(reference)?;
        let mut file = self.owned(reference & NUMBER)?;
        self.check_changeable(&file)?;
        let wanted = self.fit_name(new)?;
        match self.find_name(&new_folder, &wanted)? {
            // The same under another case is what is renamed.
            Some((other, there)) if other != reference || there.name == wanted && from != to => {
                return Err(exists(new));
            }
            Some((_, there)) if there.name == wanted && from == to => return Ok(Node::of(file.number)),
            _ => {}
        }
        if file.is_folder() {
            self.check_not_below(&new_folder, file.number)?;
        }
        self.drop_names(&mut file, &old_folder, &found)?;
        let entry = FileName {
            parent: new_folder.reference(),
            space: Self::space_of(&new_folder, &wanted),
            name: wanted,
            ..found
        };
        file.attributes.push(made(kind::FILE_NAME, &[], entry.to_bytes()));
        file.links += 1;
        let now = ticks(self.now);
        set_times(&mut file, &[(16, now)]);
        let (number, reference) = (file.number, file.reference());
        self.store(file)?;
        let told = self.told(&*self.file(number)?, &entry);
        self.name_in(new_folder.number, reference, &told, true)?;
        Ok(Node::of(number))
    }

    /// Refuses a folder that is, or lies in, the folder of this number.
    fn check_not_below(&self, folder: &File, number: u64) -> Result<()> {
        let mut at = folder.number;
        for _ in 0..1024 {
            if at == number {
                return Err(Error::WrongKind { path: self.device.name().into(), wanted: "place outside the folder" });
            }
            if at == number::ROOT {
                return Ok(());
            }
            let file = self.file(at)?;
            let Some(name) = file.names().next() else { break };
            at = name.parent & NUMBER;
        }
        Err(self.device.damaged("a folder is in no folder"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_names_are_told_from_long_ones() {
        let short = |name: &str| is_short(&name.encode_utf16().collect::<Vec<_>>());
        assert!(["A", "tide.sys", "TIDE~1.TXT", "12345678.123", "a_b-c"].into_iter().all(short));
        let long = ["123456789", "a.long", ".hidden", "a b", "a.b.c", "Grüße", "a,b", "end."];
        assert!(!long.into_iter().any(short));
    }
}
