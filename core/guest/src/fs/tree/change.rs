//! Changing a guest's files.

use std::ops::ControlFlow;

use super::{ENTRY, Found, Label, MAX_TEXT, Place, Tree, named, names, shown, steps};
use crate::{
    error::{Error, Result},
    fs::{
        acl::AccessList,
        node::{Attribute, Kind, Meta, New, Owner, Stat, name_space},
    },
};

/// Files of a folder that are asked for the label of something new.
const NEIGHBOURS: usize = 32;
/// The bit of a mode by which a folder hands on its group.
const SET_GROUP: u16 = 0o2000;

impl Tree {
    /// Replaces a text that was read by [`Tree::text`].
    pub(crate) fn set_text(&mut self, path: &str, text: &str) -> Result<()> {
        let was_utf8 = match self.read(path, MAX_TEXT) {
            Ok(bytes) => std::str::from_utf8(&bytes).is_ok(),
            Err(error) if error.is_absence() => true,
            Err(error) => return Err(error),
        };
        let latin: Option<Vec<u8>> = text.chars().map(|c| u8::try_from(c).ok()).collect();
        match latin.filter(|_| !was_utf8) {
            Some(bytes) => self.write(path, &bytes),
            None => self.write(path, text.as_bytes()),
        }
    }

    /// What something new at `path` should belong to: the superuser, or the group that its folder hands on, with the access list that the folder has
    /// for it, and with the label that the guest's policy has for it, or else the one that neighbours show.
    fn owner(&mut self, found: &Found, wanted: Kind, mode: u16) -> Result<Owner> {
        let mut owner = Owner::root(mode);
        let Some((folder, _)) = found.in_folder()? else { return Ok(owner) };
        let (attributes, above) = {
            let fs = folder.fs.lock();
            (fs.attributes(folder.node)?, fs.stat(folder.node)?)
        };
        inherit(&mut owner, &above, &attributes, wanted);
        let whole: Vec<u8> = found.path.iter().flat_map(|name| [b"/", name.as_slice()].concat()).collect();
        match self.labels.as_ref().map(|labels| labels.label(&whole, wanted)) {
            Some(Label::Is(value)) => {
                owner.attributes.push(Attribute { index: name_space::SECURITY, name: b"selinux".into(), value });
                return Ok(owner);
            }
            Some(Label::None) => return Ok(owner),
            Some(Label::Unknown) | None => {}
        }
        let Some(own) = attributes.into_iter().find(Attribute::is_label) else {
            // Without a label on the folder: either none has one, or this one was forgotten.
            let first = self.resolve(b"", true)?.must_be()?;
            self.unlabelled |= first.fs.lock().attributes(first.node)?.iter().any(Attribute::is_label);
            return Ok(owner);
        };
        let fs = folder.fs.lock();
        let mut near = Vec::new();
        fs.read_dir(folder.node, &mut |entry| {
            near.push(entry.node);
            Ok(if near.len() < NEIGHBOURS { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
        })?;
        for node in near {
            if fs.stat(node)?.kind == wanted
                && let Some(label) = fs.attributes(node)?.into_iter().find(Attribute::is_label)
            {
                owner.attributes.push(label);
                return Ok(owner);
            }
        }
        owner.attributes.push(own);
        Ok(owner)
    }

    fn create(&mut self, found: &Found, new: &New<'_>, owner: &Owner) -> Result<()> {
        let Some((folder, name)) = found.in_folder()? else { return Err(Error::Exists { path: "/".into() }) };
        let made = folder.fs.lock().create(folder.node, name, new, owner);
        made.map(drop).map_err(named(&found.path))
    }

    /// Makes the file at `path`, behind links, or replaces its bytes; its folder is there. A new one belongs to the
    /// superuser, and others may read it.
    ///
    /// # Errors
    /// [`Error::NotFound`] for the folder; [`Error::NoRoom`]; those of the file system.
    pub fn write(&mut self, path: impl AsRef<[u8]>, bytes: &[u8]) -> Result<()> {
        self.write_as(path.as_ref(), bytes, 0o644)
    }

    /// As [`Tree::write`], with the permissions that a new file gets.
    ///
    /// # Errors
    /// As [`Tree::write`].
    pub fn write_as(&mut self, path: impl AsRef<[u8]>, bytes: &[u8], mode: u16) -> Result<()> {
        let found = self.resolve(path.as_ref(), true)?;
        if let Some(place) = found.place() {
            return place.replace(bytes).map_err(named(&found.path));
        }
        let owner = self.owner(&found, Kind::File, mode)?;
        self.create(&found, &New::File(bytes), &owner)
    }

    /// Adds bytes at the end of the file at `path`.
    ///
    /// # Errors
    /// As [`Tree::write`].
    pub fn append(&mut self, path: impl AsRef<[u8]>, bytes: &[u8]) -> Result<()> {
        let (found, place, stat) = self.there(path.as_ref(), true)?;
        let written = place.fs.lock().write_at(place.node, stat.size, bytes);
        written.map_err(named(&found.path))
    }

    /// Writes `bytes` at `offset` of the file at `path`; a gap before them is zero.
    ///
    /// # Errors
    /// As [`Tree::write`].
    pub fn write_at(&mut self, path: impl AsRef<[u8]>, offset: u64, bytes: &[u8]) -> Result<()> {
        let (found, place, stat) = self.there(path.as_ref(), true)?;
        if bytes.is_empty() && stat.kind == Kind::File {
            // As the system's own call has it (POSIX, `pwrite`): nothing is written, and nothing grows.
            return Ok(());
        }
        let written = place.fs.lock().write_at(place.node, offset, bytes);
        written.map_err(named(&found.path))
    }

    /// Lets the file at `path` have `size` bytes: cut off, or filled up with zeros.
    ///
    /// # Errors
    /// As [`Tree::write`].
    pub fn truncate(&mut self, path: impl AsRef<[u8]>, size: u64) -> Result<()> {
        let (found, place, _) = self.there(path.as_ref(), true)?;
        let cut = place.fs.lock().truncate(place.node, size);
        cut.map_err(named(&found.path))
    }

    /// Makes the folder at `path`, and those that lead to it.
    ///
    /// # Errors
    /// As [`Tree::write`].
    pub fn make_folders(&mut self, path: impl AsRef<[u8]>) -> Result<()> {
        let mut all: Vec<u8> = Vec::new();
        for name in names(path.as_ref()) {
            all.extend([b"/", name.as_slice()].concat());
            self.make_folder(&all, 0o755)?;
        }
        Ok(())
    }

    /// Makes the folder at `path`, unless there is one or a link to one, with the permissions that a new one gets.
    ///
    /// # Errors
    /// As [`Tree::write`]; [`Error::WrongKind`] when something else is there.
    pub fn make_folder(&mut self, path: impl AsRef<[u8]>, mode: u16) -> Result<()> {
        let found = self.resolve(path.as_ref(), true)?;
        let in_the_way = || Error::WrongKind { path: String::from_utf8_lossy(path.as_ref()).into(), wanted: "folder" };
        match found.stat()? {
            Some(stat) if stat.kind == Kind::Folder => Ok(()),
            Some(_) => Err(in_the_way()),
            // A link that leads nowhere is in the way too.
            None if self.resolve(path.as_ref(), false)?.place().is_some() => Err(in_the_way()),
            None => {
                let owner = self.owner(&found, Kind::Folder, mode)?;
                self.create(&found, &New::Folder, &owner)
            }
        }
    }

    /// Makes a symbolic link at `path` that leads to `target`; one that is there is replaced.
    ///
    /// # Errors
    /// As [`Tree::write`]; [`Error::Exists`] when something else is there.
    pub fn link(&mut self, path: impl AsRef<[u8]>, target: impl AsRef<[u8]>) -> Result<()> {
        let found = self.resolve(path.as_ref(), false)?;
        match found.stat()? {
            Some(stat) if stat.kind == Kind::Link => {
                let Some((folder, name)) = found.in_folder()? else { return Err(Error::Exists { path: "/".into() }) };
                let removed = folder.fs.lock().unlink(folder.node, name);
                removed.map_err(named(&found.path))?;
            }
            Some(_) => return Err(Error::Exists { path: shown(&found.path) }),
            None => {}
        }
        let owner = self.owner(&found, Kind::Link, 0o777)?;
        self.create(&found, &New::Link(target.as_ref()), &owner)
    }

    /// Removes what is at `path`, be it a link; a folder with all that is in it, unless something is mounted there.
    ///
    /// # Errors
    /// As [`Tree::stat`].
    pub fn remove(&mut self, path: impl AsRef<[u8]>) -> Result<()> {
        let (found, ..) = self.there(path.as_ref(), false)?;
        if self.mounts.iter().any(|mount| mount.path.starts_with(&found.path)) {
            let what = "a volume is mounted there".into();
            return Err(Error::Unsupported { volume: shown(&found.path), action: "removed", what });
        }
        let Some((folder, name)) = found.in_folder()? else {
            return Err(Error::WrongKind { path: "/".into(), wanted: "file" });
        };
        self.remove_below(&folder, name).map_err(named(&found.path))
    }

    /// Removes `name` from a folder; a folder with all that is in it, however deep.
    fn remove_below(&self, folder: &Place, name: &[u8]) -> Result<()> {
        let mut hold = self.budget.hold();
        // The folder of each, its name, and whether what is in it was looked at. A circle of folders ends with the room for this list.
        let mut todo = vec![(folder.node, name.to_vec(), false)];
        while let Some((above, name, is_emptied)) = todo.pop() {
            let mut fs = folder.fs.lock();
            if !is_emptied {
                let missing = || Error::NotFound { path: String::from_utf8_lossy(&name).into() };
                let node = fs.lookup(above, &name)?.ok_or_else(missing)?.node;
                if fs.stat(node)?.kind == Kind::Folder {
                    todo.push((above, name, true));
                    fs.read_dir(node, &mut |entry| {
                        hold.grow(entry.name.len() as u64 + ENTRY)?;
                        todo.push((node, entry.name, false));
                        Ok(ControlFlow::Continue(()))
                    })?;
                    continue;
                }
            }
            fs.unlink(above, &name)?;
        }
        Ok(())
    }

    /// Gives what is at `path`, be it a link, the path `new` on the same volume, where nothing is yet.
    ///
    /// # Errors
    /// As [`Tree::stat`]; [`Error::Exists`]; [`Error::Unsupported`] for another volume, and where something is mounted.
    pub fn rename(&mut self, path: impl AsRef<[u8]>, new: impl AsRef<[u8]>) -> Result<()> {
        let (found, ..) = self.there(path.as_ref(), false)?;
        let mut target = self.resolve(new.as_ref(), false)?;
        // Where case does not tell names apart, it may be all that changes.
        if let (Some(name), Some(last)) = (steps(new.as_ref()).next_back(), target.path.last_mut())
            && name != b"."
            && name != b".."
        {
            *last = name;
        }
        if found.path == target.path {
            return Ok(());
        }
        let refuse =
            |what: &str| Error::Unsupported { volume: shown(&found.path), action: "renamed", what: what.into() };
        let (Some((from, name)), Some((to, new))) = (found.in_folder()?, target.in_folder()?) else {
            return Err(refuse("it is the first folder"));
        };
        if self.mounts.iter().any(|mount| mount.path.starts_with(&found.path)) {
            return Err(refuse("a volume is mounted there"));
        }
        if self.mount_of(&found.path) != self.mount_of(&target.path) {
            return Err(refuse("its new place is on another volume"));
        }
        let renamed = from.fs.lock().rename(from.node, name, to.node, new);
        renamed.map(drop).map_err(named(&target.path))
    }

    /// Sets owner and permissions of what is at `path`.
    ///
    /// # Errors
    /// As [`Tree::stat`].
    pub fn set_owner(&mut self, path: impl AsRef<[u8]>, uid: u32, gid: u32, mode: u16) -> Result<()> {
        let (_, place, _) = self.there(path.as_ref(), false)?;
        let meta = Meta { owner: Some((uid, gid)), mode: Some(mode), modified: None };
        place.fs.lock().set_meta(place.node, &meta)
    }

    /// Free bytes of the volume that `path` lies on, and whether it can be changed.
    pub(crate) fn room(&self, path: &str) -> Result<u64> {
        let place = self.resolve(path.as_bytes(), true)?.must_be()?;
        let fs = place.fs.lock();
        fs.check_writable()?;
        fs.free()
    }
}

impl Place {
    /// Replaces all bytes of a file. What its program might do beyond its user's rights, it may not any more (Linux, `fs/inode.c`,
    /// `file_remove_privs`): whoever writes a file is not who trusted it.
    fn replace(&self, bytes: &[u8]) -> Result<()> {
        let mut fs = self.fs.lock();
        let mut attributes = fs.attributes(self.node)?;
        if attributes.iter().any(Attribute::is_capability) {
            fs.truncate(self.node, 0)?;
            attributes.retain(|attribute| !attribute.is_capability());
            fs.set_attributes(self.node, &attributes)?;
        }
        fs.replace(self.node, bytes)
    }
}

/// What something new has from its folder: the group where that is handed on (Linux, `fs/inode.c`, `inode_init_owner`), and its default access list.
fn inherit(owner: &mut Owner, above: &Stat, attributes: &[Attribute], kind: Kind) {
    if above.mode & SET_GROUP != 0 {
        owner.gid = above.gid;
        owner.mode |= if kind == Kind::Folder { SET_GROUP } else { 0 };
    }
    let default = attributes.iter().find(|attribute| attribute.index == name_space::DEFAULT);
    let Some(list) = default.filter(|_| kind != Kind::Link).and_then(|default| AccessList::of(&default.value)) else {
        return;
    };
    let (own, mode) = list.inherited(owner.mode);
    owner.mode = mode;
    let mut give = |index, list: &AccessList| {
        owner.attributes.push(Attribute { index, name: Vec::new(), value: list.value() });
    };
    if let Some(own) = &own {
        give(name_space::ACCESS, own);
    }
    if kind == Kind::Folder {
        give(name_space::DEFAULT, &list);
    }
}
