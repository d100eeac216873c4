//! Results that appear whole or not at all: written under a temporary name beside their place, flushed to disk, and
//! renamed at the end.
//!
//! The temporary name is always the same for the same result, and locked while a run writes there. What a killed run
//! left is therefore found, and cleared away, by the next one; what a living run writes is not touched.

use std::{
    fs::{self, File, OpenOptions},
    io,
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use reformis_disk::output::PieceMaker;

use rustix::fs::{CWD, FlockOperation, RenameFlags, flock, renameat_with};

use crate::error::{Error, Result};

const SUFFIX: &str = ".reformis-partial";

/// A file that is being written, and others that belong to it.
pub(crate) struct StagedFile {
    file: File,
    temporary: PathBuf,
    target: PathBuf,
    /// What a run that was killed left lay there: its pieces may have their names already.
    stale: bool,
    pieces: Arc<Mutex<Vec<Piece>>>,
    done: bool,
}

/// A further file of the same result.
struct Piece {
    temporary: PathBuf,
    target: PathBuf,
    named: bool,
}

impl StagedFile {
    /// Begins to write what will be `target`.
    ///
    /// # Errors
    /// `Exists` when something is there and `force` is not set, or what is there is no plain file; `Busy`.
    pub(crate) fn create(target: &Path, force: bool) -> Result<Self> {
        check_free(target, force, fs::Metadata::is_file)?;
        let temporary = temporary_for(target);
        let file = lock_file(&temporary, target)?;
        let stale = file.metadata().map_err(Error::io("looking at", &temporary))?.len() > 0;
        file.set_len(0).map_err(Error::io("emptying", &temporary))?;
        Ok(Self { file, temporary, target: target.into(), stale, pieces: Arc::default(), done: false })
    }

    /// Where it will lie.
    pub(crate) fn target(&self) -> &Path {
        &self.target
    }

    /// What makes further files beside it; they get their names together with it.
    pub(crate) fn pieces(&self, force: bool) -> PieceMaker {
        let (folder, pieces, replace) = (parent(&self.target), self.pieces.clone(), force || self.stale);
        Box::new(move |name| {
            let target = folder.join(name);
            check_free(&target, replace, fs::Metadata::is_file).map_err(Error::into_disk)?;
            let temporary = temporary_for(&target);
            let shown = temporary.to_string_lossy().into_owned();
            let file = OpenOptions::new().read(true).write(true).create(true).truncate(true).open(&temporary);
            lock(&pieces).push(Piece { temporary, target, named: false });
            file.map_err(reformis_disk::Error::io("making", shown, None))
        })
    }

    /// A handle of the file.
    pub(crate) fn file(&self) -> Result<File> {
        self.file.try_clone().map_err(Error::io("opening", &self.temporary))
    }

    /// Flushes the file to disk and gives it its name.
    pub(crate) fn commit(mut self, force: bool) -> Result<()> {
        // The file that names the others comes last: whoever sees it finds them.
        let flags = |force| if force { RenameFlags::empty() } else { RenameFlags::NOREPLACE };
        for piece in lock(&self.pieces).iter_mut() {
            let file = File::open(&piece.temporary).map_err(Error::io("opening", &piece.temporary))?;
            file.sync_all().map_err(Error::io("flushing", &piece.temporary))?;
            rename(&piece.temporary, &piece.target, flags(force || self.stale))?;
            piece.named = true;
        }
        self.file.sync_all().map_err(Error::io("flushing", &self.temporary))?;
        rename(&self.temporary, &self.target, flags(force))?;
        self.done = true;
        sync_folder(&parent(&self.target))
    }
}

impl Drop for StagedFile {
    fn drop(&mut self) {
        if !self.done {
            for piece in lock(&self.pieces).iter() {
                fs::remove_file(if piece.named { &piece.target } else { &piece.temporary }).ok();
            }
            fs::remove_file(&self.temporary).ok();
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A folder that is being filled.
pub(crate) struct StagedFolder {
    temporary: PathBuf,
    target: PathBuf,
    /// Folders above the target that did not exist before, innermost first.
    made: Vec<PathBuf>,
    stale: bool,
    done: bool,
    _lock: File,
}

impl StagedFolder {
    /// Begins to fill what will be `target`; folders above it are made.
    ///
    /// # Errors
    /// `Exists` when something is there and `force` is not set; `NotALanding` when it is set and the folder there holds
    /// no `mark`; `Busy`.
    pub(crate) fn create(target: &Path, force: bool, mark: &str) -> Result<Self> {
        check_free(target, force, fs::Metadata::is_dir)?;
        if force && target.exists() && !target.join(mark).exists() {
            return Err(Error::NotALanding { path: target.to_string_lossy().into() });
        }
        let temporary = temporary_for(target);
        let made = make_folders(&parent(target))?;
        let lock = match lock_file(&temporary.with_extension("reformis-lock"), target) {
            Ok(lock) => lock,
            Err(error) => {
                remove_folders(&made);
                return Err(error);
            }
        };
        // From here on, dropping clears everything away.
        let mut folder = Self { temporary, target: target.into(), made, stale: false, done: false, _lock: lock };
        if folder.temporary.exists() {
            fs::remove_dir_all(&folder.temporary).map_err(Error::io("clearing away", &folder.temporary))?;
            folder.stale = true;
        }
        fs::create_dir(&folder.temporary).map_err(Error::io("making", &folder.temporary))?;
        Ok(folder)
    }

    /// The folder to fill.
    pub(crate) fn path(&self) -> &Path {
        &self.temporary
    }

    /// Whether something of an earlier run was cleared away.
    pub(crate) fn had_stale(&self) -> bool {
        self.stale
    }

    /// Gives the folder its name; with `force`, what had it is removed afterwards.
    pub(crate) fn commit(mut self, force: bool) -> Result<()> {
        sync_folder(&self.temporary)?;
        if force && self.target.exists() {
            rename(&self.temporary, &self.target, RenameFlags::EXCHANGE)?;
            self.done = true;
            fs::remove_dir_all(&self.temporary).map_err(Error::io("removing", &self.temporary))?;
        } else {
            rename(&self.temporary, &self.target, RenameFlags::NOREPLACE)?;
            self.done = true;
        }
        sync_folder(&parent(&self.target))
    }
}

impl Drop for StagedFolder {
    fn drop(&mut self) {
        if !self.done {
            fs::remove_dir_all(&self.temporary).ok();
        }
        fs::remove_file(self.temporary.with_extension("reformis-lock")).ok();
        if !self.done {
            remove_folders(&self.made);
        }
    }
}

/// Writes `bytes` as a file of a staged folder, flushed to disk.
pub(crate) fn write_file(path: &Path, bytes: &[u8]) -> Result<()> {
    let write = || -> io::Result<()> {
        let mut file = OpenOptions::new().write(true).create_new(true).open(path)?;
        io::Write::write_all(&mut file, bytes)?;
        file.sync_all()
    };
    write().map_err(Error::io("writing", path))
}

pub(crate) fn parent(path: &Path) -> PathBuf {
    match path.parent() {
        Some(parent) if parent != Path::new("") => parent.into(),
        _ => ".".into(),
    }
}

fn temporary_for(target: &Path) -> PathBuf {
    let name = target.file_name().unwrap_or_default().to_string_lossy();
    parent(target).join(format!(".{name}{SUFFIX}"))
}

fn check_free(target: &Path, force: bool, replaceable: impl Fn(&fs::Metadata) -> bool) -> Result<()> {
    match fs::symlink_metadata(target) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(Error::io("looking at", target)(error)),
        Ok(metadata) if force && replaceable(&metadata) => Ok(()),
        Ok(_) => Err(reformis_disk::Error::Exists { path: target.to_string_lossy().into() }.into()),
    }
}

/// Opens and locks `path`. A file that another run renamed or removed between the two is not the one to lock.
fn lock_file(path: &Path, target: &Path) -> Result<File> {
    loop {
        let file = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path);
        let file = file.map_err(Error::io("making", path))?;
        match flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => {}
            Err(rustix::io::Errno::WOULDBLOCK) => {
                return Err(reformis_disk::Error::Busy { path: target.to_string_lossy().into() }.into());
            }
            Err(error) => return Err(Error::io("locking", path)(error.into())),
        }
        let ours = file.metadata().map_err(Error::io("looking at", path))?;
        if fs::metadata(path).is_ok_and(|there| (there.dev(), there.ino()) == (ours.dev(), ours.ino())) {
            return Ok(file);
        }
    }
}

fn rename(from: &Path, to: &Path, flags: RenameFlags) -> Result<()> {
    match renameat_with(CWD, from, CWD, to, flags) {
        Ok(()) => Ok(()),
        Err(rustix::io::Errno::EXIST) => Err(reformis_disk::Error::Exists { path: to.to_string_lossy().into() }.into()),
        // A file system that knows no flags: it was free a moment ago, and our lock keeps our own kind away.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) if flags == RenameFlags::NOREPLACE => {
            check_free(to, false, |_| false)?;
            fs::rename(from, to).map_err(Error::io("naming", to))
        }
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) if flags == RenameFlags::EXCHANGE => {
            let aside = from.with_extension("reformis-replaced");
            fs::rename(to, &aside).map_err(Error::io("setting aside", to))?;
            fs::rename(from, to).map_err(Error::io("naming", to))?;
            fs::rename(&aside, from).map_err(Error::io("setting aside", &aside))
        }
        Err(error) => Err(Error::io("naming", to)(error.into())),
    }
}

fn sync_folder(path: &Path) -> Result<()> {
    File::open(path).and_then(|folder| folder.sync_all()).map_err(Error::io("flushing", path))
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_dropped_leaves_nothing_and_what_is_committed_is_whole() {
        let place = tempfile::tempdir().unwrap();
        let target = place.path().join("a/b/landing");
        let staged = StagedFolder::create(&target, false, "mark").unwrap();
        write_file(&staged.path().join("mark"), b"1").unwrap();
        drop(staged);
        assert_eq!(fs::read_dir(place.path()).unwrap().count(), 0);

        let staged = StagedFolder::create(&target, false, "mark").unwrap();
        write_file(&staged.path().join("mark"), b"1").unwrap();
        assert!(!target.exists());
        staged.commit(false).unwrap();
        assert_eq!(fs::read(target.join("mark")).unwrap(), b"1");
        let names: Vec<_> = fs::read_dir(target.parent().unwrap()).unwrap().map(|e| e.unwrap().file_name()).collect();
        assert_eq!(names, ["landing"]);

        assert!(StagedFolder::create(&target, false, "mark").is_err());
        let staged = StagedFolder::create(&target, true, "mark").unwrap();
        write_file(&staged.path().join("mark"), b"2").unwrap();
        staged.commit(true).unwrap();
        assert_eq!(fs::read(target.join("mark")).unwrap(), b"2");
        assert_eq!(fs::read_dir(target.parent().unwrap()).unwrap().count(), 1);
        assert!(matches!(StagedFolder::create(&target, true, "other"), Err(Error::NotALanding { .. })));
    }

    #[test]
    fn a_living_run_keeps_others_away_and_a_dead_one_does_not() {
        let place = tempfile::tempdir().unwrap();
        let target = place.path().join("disk.img");
        let living = StagedFile::create(&target, false).unwrap();
        let busy = StagedFile::create(&target, false);
        assert!(matches!(busy, Err(Error::Disk(reformis_disk::Error::Busy { .. }))));
        drop(living);
        // What a killed run leaves: the file, and no lock.
        fs::write(place.path().join(".disk.img.reformis-partial"), b"half").unwrap();
        let staged = StagedFile::create(&target, false).unwrap();
        io::Write::write_all(&mut staged.file().unwrap(), b"x").unwrap();
        staged.commit(false).unwrap();
        assert_eq!(fs::read(&target).unwrap(), b"x");

        fs::create_dir(place.path().join(".l.reformis-partial")).unwrap();
        let staged = StagedFolder::create(&place.path().join("l"), false, "mark").unwrap();
        assert!(staged.had_stale());
    }
}
