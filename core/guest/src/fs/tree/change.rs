//! Changing a guest's files.

use std::ops::ControlFlow;

use super::{Label, MAX_TEXT, Name, Tree, named, names, parent, shown, steps};
use crate::{
    error::{Error, Result},
    fs::{
        Shared,
        node::{Attribute, Kind, Meta, New, Node, Owner},
    },
};

/// Folders that are removed below one another.
const MAX_DEPTH: usize = 256;

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

    /// What something new at `path` should belong to: the superuser, with the label that the guest's policy has for it, or else
    /// the one that neighbours show.
    fn owner(&mut self, path: &[Name], wanted: Kind, mode: u16) -> Result<Owner> {
        let mut owner = Owner::root(mode);
        let folder = parent(path);
        let whole: Vec<u8> = path.iter().flat_map(|name| [b"/", name.as_slice()].concat()).collect();
        match self.labels.as_ref().map(|labels| labels.label(&whole, wanted)) {
            Some(Label::Is(value)) => {
                owner.attributes.push(Attribute { index: 6, name: b"selinux".into(), value });
                return Ok(owner);
            }
            Some(Label::None) => return Ok(owner),
            Some(Label::Unknown) | None => {}
        }
        let label = |tree: &Self, path: &[Name]| -> Result<Option<Attribute>> {
            let (fs, node) = tree.must_find(path)?;
            let attributes = fs.lock().attributes(node)?;
            Ok(attributes.into_iter().find(Attribute::is_label))
        };
        let Some(own) = label(self, folder)? else {
            // Without a label on the folder: either none has one, or this one was forgotten.
            self.unlabelled |= label(self, &[])?.is_some();
            return Ok(owner);
        };
        let mut neighbour = None;
        for name in self.names_at(folder)?.into_iter().take(32) {
            let path = [folder, &[name]].concat();
            if self.stat_at(&path)?.is_some_and(|stat| stat.kind == wanted) {
                neighbour = label(self, &path)?;
            }
            if neighbour.is_some() {
                break;
            }
        }
        owner.attributes.push(neighbour.unwrap_or(own));
        Ok(owner)
    }

    fn create(&mut self, path: &[Name], new: &New<'_>, owner: &Owner) -> Result<()> {
        let Some((name, folder)) = path.split_last() else { return Err(Error::Exists { path: "/".into() }) };
        let (fs, node) = self.must_find(folder)?;
        let made = fs.lock().create(node, name, new, owner);
        made.map(drop).map_err(named(path))
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
        if let Some((fs, node)) = self.find(&found)? {
            let replaced = fs.lock().replace(node, bytes);
            return replaced.map_err(named(&found));
        }
        let owner = self.owner(&found, Kind::File, mode)?;
        self.create(&found, &New::File(bytes), &owner)
    }

    /// Adds bytes at the end of the file at `path`.
    ///
    /// # Errors
    /// As [`Tree::write`].
    pub fn append(&mut self, path: impl AsRef<[u8]>, bytes: &[u8]) -> Result<()> {
        let (found, stat) = self.there(path.as_ref(), true)?;
        let (fs, node) = self.must_find(&found)?;
        let written = fs.lock().write_at(node, stat.size, bytes);
        written.map_err(named(&found))
    }

    /// Writes `bytes` at `offset` of the file at `path`; a gap before them is zero.
    ///
    /// # Errors
    /// As [`Tree::write`].
    pub fn write_at(&mut self, path: impl AsRef<[u8]>, offset: u64, bytes: &[u8]) -> Result<()> {
        let (found, stat) = self.there(path.as_ref(), true)?;
        let (fs, node) = self.must_find(&found)?;
        if bytes.is_empty() && stat.kind == Kind::File {
            // As the system's own call has it (POSIX, `pwrite`): nothing is written, and nothing grows.
            return Ok(());
        }
        let written = fs.lock().write_at(node, offset, bytes);
        written.map_err(named(&found))
    }

    /// Lets the file at `path` have `size` bytes: cut off, or filled up with zeros.
    ///
    /// # Errors
    /// As [`Tree::write`].
    pub fn truncate(&mut self, path: impl AsRef<[u8]>, size: u64) -> Result<()> {
        let (found, _) = self.there(path.as_ref(), true)?;
        let (fs, node) = self.must_find(&found)?;
        let cut = fs.lock().truncate(node, size);
        cut.map_err(named(&found))
    }

    /// Makes the folder at `path`, and those that lead to it.
    ///
    /// # Errors
    /// As [`Tree::write`].
    #[expect(clippy::indexing_slicing, reason = "a depth is at most the number of names")]
    pub fn make_folders(&mut self, path: impl AsRef<[u8]>) -> Result<()> {
        let all: Vec<Name> = names(path.as_ref()).collect();
        for depth in 1..=all.len() {
            let text = shown(&all[..depth]);
            let found = self.resolve(text.as_bytes(), true)?;
            match self.stat_at(&found)? {
                Some(stat) if stat.kind == Kind::Folder => {}
                // A link that leads nowhere is in the way too.
                None if self.stat_link(&text).is_ok() => return Err(Error::WrongKind { path: text, wanted: "folder" }),
                Some(_) => return Err(Error::WrongKind { path: text, wanted: "folder" }),
                None => {
                    let owner = self.owner(&found, Kind::Folder, 0o755)?;
                    self.create(&found, &New::Folder, &owner)?;
                }
            }
        }
        Ok(())
    }

    /// Makes a symbolic link at `path` that leads to `target`; one that is there is replaced.
    ///
    /// # Errors
    /// As [`Tree::write`]; [`Error::Exists`] when something else is there.
    pub fn link(&mut self, path: impl AsRef<[u8]>, target: impl AsRef<[u8]>) -> Result<()> {
        let found = self.resolve(path.as_ref(), false)?;
        match self.stat_at(&found)? {
            Some(stat) if stat.kind == Kind::Link => {
                self.unlink(&found)?;
            }
            Some(_) => return Err(Error::Exists { path: shown(&found) }),
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
        let (found, _) = self.there(path.as_ref(), false)?;
        if self.mounts.iter().any(|mount| mount.path.starts_with(&found)) {
            let what = "a volume is mounted there".into();
            return Err(Error::Unsupported { volume: shown(&found), action: "removed", what });
        }
        let Some((name, folder)) = found.split_last() else {
            return Err(Error::WrongKind { path: "/".into(), wanted: "file" });
        };
        let (fs, folder) = self.must_find(folder)?;
        remove_below(&fs, folder, name, 0).map_err(named(&found))
    }

    fn unlink(&mut self, path: &[Name]) -> Result<()> {
        let Some((name, folder)) = path.split_last() else {
            return Err(Error::WrongKind { path: "/".into(), wanted: "file" });
        };
        let (fs, folder) = self.must_find(folder)?;
        let removed = fs.lock().unlink(folder, name);
        removed.map_err(named(path))
    }

    /// Gives what is at `path`, be it a link, the path `new` on the same volume, where nothing is yet.
    ///
    /// # Errors
    /// As [`Tree::stat`]; [`Error::Exists`]; [`Error::Unsupported`] for another volume, and where something is mounted.
    pub fn rename(&mut self, path: impl AsRef<[u8]>, new: impl AsRef<[u8]>) -> Result<()> {
        let (found, _) = self.there(path.as_ref(), false)?;
        let mut target = self.resolve(new.as_ref(), false)?;
        // Where case does not tell names apart, it may be all that changes.
        if let (Some(name), Some(last)) = (steps(new.as_ref()).next_back(), target.last_mut())
            && name != b"."
            && name != b".."
        {
            *last = name;
        }
        if found == target {
            return Ok(());
        }
        let refuse = |what: &str| Error::Unsupported { volume: shown(&found), action: "renamed", what: what.into() };
        let (Some((name, from)), Some((new, to))) = (found.split_last(), target.split_last()) else {
            return Err(refuse("it is the first folder"));
        };
        if self.mounts.iter().any(|mount| mount.path.starts_with(&found)) {
            return Err(refuse("a volume is mounted there"));
        }
        if self.mount_of(&found).0 != self.mount_of(&target).0 {
            return Err(refuse("its new place is on another volume"));
        }
        let ((fs, from), (_, to)) = (self.must_find(from)?, self.must_find(to)?);
        let renamed = fs.lock().rename(from, name, to, new);
        renamed.map(drop).map_err(named(&target))
    }

    /// Sets owner and permissions of what is at `path`.
    ///
    /// # Errors
    /// As [`Tree::stat`].
    pub fn set_owner(&mut self, path: impl AsRef<[u8]>, uid: u32, gid: u32, mode: u16) -> Result<()> {
        let (found, _) = self.there(path.as_ref(), false)?;
        let (fs, node) = self.must_find(&found)?;
        let meta = Meta { owner: Some((uid, gid)), mode: Some(mode), modified: None };
        fs.lock().set_meta(node, &meta)
    }

    /// Free bytes of the volume that `path` lies on, and whether it can be changed.
    pub(crate) fn room(&self, path: &str) -> Result<u64> {
        let found = self.resolve(path.as_bytes(), true)?;
        let (fs, _) = self.must_find(&found)?;
        let fs = fs.lock();
        fs.check_writable()?;
        fs.free()
    }
}

/// Removes `name` from a folder; a folder with all that is in it.
fn remove_below(shared: &Shared, folder: Node, name: &[u8], depth: usize) -> Result<()> {
    let missing = || Error::NotFound { path: String::from_utf8_lossy(name).into() };
    let fs = shared.lock();
    let node = fs.lookup(folder, name)?.ok_or_else(missing)?.node;
    if fs.stat(node)?.kind == Kind::Folder {
        if depth > MAX_DEPTH {
            let (volume, what) = (String::from_utf8_lossy(name).into(), "folders lie inside themselves".into());
            return Err(Error::Unsupported { volume, action: "removed", what });
        }
        let mut inside = Vec::new();
        fs.read_dir(node, &mut |entry| {
            inside.push(entry.name);
            Ok(ControlFlow::Continue(()))
        })?;
        drop(fs);
        inside.iter().try_for_each(|name| remove_below(shared, node, name, depth + 1))?;
    } else {
        drop(fs);
    }
    shared.lock().unlink(folder, name)
}
