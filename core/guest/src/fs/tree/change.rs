//! Changing a guest's files.

use super::{MAX_TEXT, Tree, names, parent};
use crate::{
    error::{Error, Result},
    fs::{
        any::{Name, shown},
        node::{Attribute, Kind, New, Owner},
    },
};

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

    /// What something new in `folder` should belong to: the superuser, with the label that neighbours show.
    #[expect(clippy::indexing_slicing, reason = "the depth is that of a mount above this very path")]
    fn owner(&mut self, folder: &[Name], is_folder: bool, mode: u16) -> Result<Owner> {
        let mut owner = Owner::root(mode);
        let label = |tree: &Self, path: &[Name]| -> Result<Option<Attribute>> {
            let (fs, depth) = tree.fs(path);
            Ok(fs.attributes(&path[depth..])?.into_iter().find(Attribute::is_label))
        };
        let Some(own) = label(self, folder)? else {
            // Without a label on the folder: either none has one, or this one was forgotten.
            self.unlabelled |= label(self, &[])?.is_some();
            return Ok(owner);
        };
        let (fs, depth) = self.fs(folder);
        let wanted = if is_folder { Kind::Folder } else { Kind::File };
        let mut neighbour = None;
        for name in fs.list(&folder[depth..])?.into_iter().take(32) {
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

    #[expect(clippy::indexing_slicing, reason = "the depth is that of a mount above this very path")]
    fn create(&mut self, path: &[Name], new: &New<'_>, owner: &Owner) -> Result<()> {
        let (fs, depth) = self.fs_mut(path);
        fs.create(&path[depth..], new, owner)
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
    #[expect(clippy::indexing_slicing, reason = "the depth is that of a mount above this very path")]
    pub fn write_as(&mut self, path: impl AsRef<[u8]>, bytes: &[u8], mode: u16) -> Result<()> {
        let found = self.resolve(path.as_ref(), true)?;
        if self.stat_at(&found)?.is_some() {
            let (fs, depth) = self.fs_mut(&found);
            return fs.replace(&found[depth..], bytes);
        }
        let owner = self.owner(parent(&found), false, mode)?;
        self.create(&found, &New::File(bytes), &owner)
    }

    /// Adds bytes at the end of the file at `path`.
    ///
    /// # Errors
    /// As [`Tree::write`].
    #[expect(clippy::indexing_slicing, reason = "the depth is that of a mount above this very path")]
    pub fn append(&mut self, path: impl AsRef<[u8]>, bytes: &[u8]) -> Result<()> {
        let (found, _) = self.there(path.as_ref(), true)?;
        let (fs, depth) = self.fs_mut(&found);
        fs.append(&found[depth..], bytes)
    }

    /// Makes the folder at `path`, and those that lead to it.
    ///
    /// # Errors
    /// As [`Tree::write`].
    #[expect(clippy::indexing_slicing, reason = "the depth is that of a mount above this very path")]
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
                    let owner = self.owner(parent(&found), true, 0o755)?;
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
    #[expect(clippy::indexing_slicing, reason = "the depth is that of a mount above this very path")]
    pub fn link(&mut self, path: impl AsRef<[u8]>, target: impl AsRef<[u8]>) -> Result<()> {
        let found = self.resolve(path.as_ref(), false)?;
        match self.stat_at(&found)? {
            Some(stat) if stat.kind == Kind::Link => {
                let (fs, depth) = self.fs_mut(&found);
                fs.remove(&found[depth..])?;
            }
            Some(_) => return Err(Error::Exists { path: shown(&found) }),
            None => {}
        }
        let owner = self.owner(parent(&found), false, 0o777)?;
        self.create(&found, &New::Link(target.as_ref()), &owner)
    }

    /// Removes what is at `path`, be it a link; a folder with all that is in it, unless something is mounted there.
    ///
    /// # Errors
    /// As [`Tree::stat`].
    #[expect(clippy::indexing_slicing, reason = "the depth is that of a mount above this very path")]
    pub fn remove(&mut self, path: impl AsRef<[u8]>) -> Result<()> {
        let (found, _) = self.there(path.as_ref(), false)?;
        if self.mounts.iter().any(|mount| mount.path.starts_with(&found)) {
            let what = "a volume is mounted there".into();
            return Err(Error::Unsupported { volume: shown(&found), action: "removed", what });
        }
        let (fs, depth) = self.fs_mut(&found);
        fs.remove(&found[depth..])
    }

    /// Sets owner and permissions of what is at `path`.
    ///
    /// # Errors
    /// As [`Tree::stat`].
    #[expect(clippy::indexing_slicing, reason = "the depth is that of a mount above this very path")]
    pub fn set_owner(&mut self, path: impl AsRef<[u8]>, uid: u32, gid: u32, mode: u16) -> Result<()> {
        let (found, _) = self.there(path.as_ref(), false)?;
        let (fs, depth) = self.fs_mut(&found);
        fs.set_owner(&found[depth..], uid, gid, mode)
    }

    /// Free bytes of the volume that `path` lies on, and whether it can be changed.
    pub(crate) fn room(&self, path: &str) -> Result<u64> {
        let found = self.resolve(path.as_bytes(), true)?;
        let (fs, _) = self.fs(&found);
        fs.check_writable()?;
        fs.free()
    }
}
