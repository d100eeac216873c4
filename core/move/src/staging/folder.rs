//! A folder that is being filled.

use std::{
    ffi::{OsStr, OsString},
    fs,
    path::{Path, PathBuf},
    sync::atomic::{AtomicBool, Ordering},
};

use rustix::fs::{FileType, Mode};

use super::{
    file::temporary_for,
    keep::Kept,
    parent,
    place::{Place, exists, system},
};
use crate::error::{Error, Result};

/// A folder that is being filled. Dropped, it leaves nothing.
pub(crate) struct StagedFolder {
    /// The folder in which it will lie.
    above: Place,
    name: OsString,
    temporary: OsString,
    /// The folder itself, which is locked.
    inside: Place,
    target: PathBuf,
    /// Folders above the target that did not exist before, innermost first.
    made: Vec<PathBuf>,
    force: bool,
    stale: bool,
    /// The mode that new folders get here.
    mode: Mode,
    done: bool,
    /// Whether it stays as it is when it does not get done.
    left: AtomicBool,
}

impl StagedFolder {
    /// Begins to fill what will be `target`; folders above it are made.
    ///
    /// # Errors
    /// `Exists` when something is there and `force` is not set; `NotALanding` when it is set and the folder there holds
    /// no `mark`; `Busy`; [`Error::InTheWay`] when someone else's file has the temporary name.
    /// With `again`, what an earlier run left is gone on with, not cleared away.
    pub(crate) fn create(target: &Path, force: bool, mark: &str, again: bool) -> Result<Self> {
        let made = make_folders(&parent(target))?;
        match Self::begin(target, force, mark, again) {
            Ok(mut folder) => {
                folder.made = made;
                Ok(folder)
            }
            Err(error) => {
                remove_folders(&made);
                Err(error)
            }
        }
    }

    /// What an earlier run of this user left of what will be `target`, to look into.
    pub(crate) fn left_by_us(target: &Path) -> Option<Place> {
        let (above, name) = Place::of(target).ok()?;
        above.open_folder_again(&temporary_for(&name)).ok()?
    }

    /// Removes what an earlier run of this user left of what would have been `target`; whether there was something.
    ///
    /// # Errors
    /// What the system says; `Busy` while somebody works on it.
    pub(crate) fn remove_left(target: &Path) -> Result<bool> {
        if Self::left_by_us(target).is_none() {
            return Ok(false);
        }
        // Dropped, it leaves nothing.
        drop(Self::begin(target, true, "", false)?);
        Ok(true)
    }

    /// Removes the folder `name` in `above`, which is at `target`: out of sight in one step, so that no half of it is taken for a landing. What
    /// a kill leaves of it is found by [`StagedFolder::remove_left`]. Once it is out of sight, `check` is asked once more; where it refuses, the
    /// folder gets its name back.
    ///
    /// # Errors
    /// Those of `check`. What the system says; `Busy` while somebody works on what was left before.
    pub(crate) fn remove_whole(
        above: &Place,
        name: &OsStr,
        target: &Path,
        check: impl FnOnce(&Path) -> Result<()>,
    ) -> Result<()> {
        Self::remove_left(target)?;
        let temporary = temporary_for(name);
        above.rename_new(name, &temporary)?;
        if let Err(error) = check(&above.path_of(&temporary)) {
            above.rename_new(&temporary, name)?;
            return Err(error);
        }
        above.remove_folder(&temporary)
    }

    fn begin(target: &Path, force: bool, mark: &str, again: bool) -> Result<Self> {
        let (above, name) = Place::of(target)?;
        let temporary = temporary_for(&name);
        above.settle(&temporary, &name)?;
        match above.stat(&name)? {
            None => {}
            Some(stat) if !force || FileType::from_raw_mode(stat.st_mode) != FileType::Directory => {
                return Err(exists(target));
            }
            Some(_) if above.open_folder(&name)?.stat(OsStr::new(mark))?.is_none() => {
                return Err(Error::NotALanding { path: target.to_string_lossy().into() });
            }
            Some(_) => {}
        }
        let (inside, mode, stale) = above.create_folder_locked(&temporary, target, again)?;
        let (target, made) = (target.into(), Vec::new());
        Ok(Self {
            above,
            name,
            temporary,
            inside,
            target,
            made,
            force,
            stale,
            mode,
            done: false,
            left: AtomicBool::new(false),
        })
    }

    /// It is for its owner alone, also under its name.
    pub(crate) fn keep_private(&mut self) {
        self.mode = Mode::RWXU;
    }

    /// The folder to fill.
    pub(crate) fn inside(&self) -> &Place {
        &self.inside
    }

    /// Leaves it as it is when it does not get done: a later run goes on with it.
    pub(crate) fn leave(&self) {
        self.left.store(true, Ordering::Relaxed);
    }

    /// Whether something of an earlier run was there, which was cleared away, or is gone on with.
    pub(crate) fn had_stale(&self) -> bool {
        self.stale
    }

    /// Gives the folder its name; with `force`, what had it is removed afterwards, and its owner, mode and attributes, and
    /// those of files of the same name, are kept.
    pub(crate) fn commit(mut self) -> Result<()> {
        let replaced = match self.above.stat(&self.name)? {
            Some(_) if self.force => Some(self.above.open_folder(&self.name)?),
            Some(_) => return Err(exists(&self.target)),
            None => None,
        };
        match &replaced {
            Some(old) => self.keep(old)?,
            None => {
                let opened = rustix::fs::fchmod(self.inside.handle(), self.mode);
                opened.map_err(system("setting the mode of", self.inside.path()))?;
            }
        }
        self.inside.sync()?;
        if replaced.is_some() {
            self.above.exchange(&self.temporary, &self.name)?;
            self.done = true;
            self.above.sync()?;
            // The landing is there: what is left of the old one is hidden, and the next run clears it away.
            if let Err(error) = self.above.remove_folder(&self.temporary) {
                tracing::warn!(%error, "the replaced landing is left over");
            }
            return Ok(());
        }
        self.above.rename_new(&self.temporary, &self.name)?;
        self.done = true;
        self.above.sync()
    }

    fn keep(&self, old: &Place) -> Result<()> {
        for name in self.inside.names()? {
            let was = old.stat(&name)?.map(|stat| FileType::from_raw_mode(stat.st_mode));
            if was == Some(FileType::RegularFile) {
                let file = self.inside.open_file(&name)?;
                Kept::of(old.open_file(&name)?, &old.path_of(&name))?.give(&file)?;
            }
        }
        Kept::of(old.handle(), old.path())?.give(self.inside.handle())
    }
}

impl Drop for StagedFolder {
    fn drop(&mut self) {
        if !self.done && !*self.left.get_mut() {
            self.above.remove_folder(&self.temporary).ok();
            remove_folders(&self.made);
        }
    }
}

/// Makes `path` and what is missing above it; returns what was made, innermost first.
fn make_folders(path: &Path) -> Result<Vec<PathBuf>> {
    let missing: Vec<PathBuf> =
        path.ancestors().take_while(|p| *p != Path::new("") && !p.exists()).map(Path::to_path_buf).collect();
    fs::create_dir_all(path).map_err(Error::io("making", path))?;
    Ok(missing)
}

/// Removes folders that we made and that are still empty.
fn remove_folders(made: &[PathBuf]) {
    for folder in made {
        if fs::remove_dir(folder).is_err() {
            return;
        }
    }
}
