//! A folder that is opened once, and the names in it.

use std::{
    ffi::{OsStr, OsString},
    fs::File,
    os::fd::OwnedFd,
    path::{Path, PathBuf},
    sync::Arc,
};

use reformis_disk::source::Access;
use rustix::{
    fs::{AtFlags, Dir, FileType, FlockOperation, Gid, Mode, OFlags, RenameFlags, Stat, Uid, fstat},
    io::Errno,
};

use super::parent;
use crate::error::{Error, Result};

/// How often a name is tried that other runs make and remove meanwhile.
const TRIES: usize = 100;
/// How deep folders of a killed run are followed: ours have no folders in them.
const MAX_DEPTH: usize = 8;

/// A folder, by its handle: what its path leads to later does not matter.
#[derive(Clone)]
pub(crate) struct Place {
    folder: Arc<OwnedFd>,
    path: PathBuf,
}

/// Flags of everything that is opened: not for programs that are started, and no terminal is taken.
const PLAIN: OFlags = OFlags::CLOEXEC.union(OFlags::NOCTTY).union(OFlags::NOFOLLOW);

impl Place {
    /// Opens the folder at `path`.
    pub(crate) fn open(path: &Path) -> Result<Self> {
        let flags = OFlags::CLOEXEC | OFlags::DIRECTORY | OFlags::RDONLY;
        let folder = rustix::fs::open(path, flags, Mode::empty()).map_err(system("opening", path))?;
        Ok(Self { folder: Arc::new(folder), path: path.into() })
    }

    /// The folder in which `target` is to lie, and its name there.
    pub(crate) fn of(target: &Path) -> Result<(Self, OsString)> {
        let Some(name) = target.file_name() else {
            return Err(Error::NoFileName { path: target.to_string_lossy().into() });
        };
        Ok((Self::open(&parent(target))?, name.into()))
    }

    /// The path of a name, for messages and for reading.
    pub(crate) fn path_of(&self, name: impl AsRef<OsStr>) -> PathBuf {
        if self.path == Path::new(".") { name.as_ref().into() } else { self.path.join(name.as_ref()) }
    }

    /// The path by which the folder was opened.
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// What has the name; a link is not followed.
    pub(crate) fn stat(&self, name: &OsStr) -> Result<Option<Stat>> {
        match rustix::fs::statat(&*self.folder, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => Ok(Some(stat)),
            Err(Errno::NOENT) => Ok(None),
            Err(error) => Err(system("looking at", &self.path_of(name))(error)),
        }
    }

    /// Makes the new file `name`, which nobody may open who may not open a file of `access`.
    ///
    /// # Errors
    /// What the system says, also when the name is taken by anything at all.
    pub(crate) fn create(&self, name: &OsStr, access: Access) -> Result<File> {
        self.try_create(name, access).map_err(system("making", &self.path_of(name)))
    }

    fn try_create(&self, name: &OsStr, access: Access) -> rustix::io::Result<File> {
        // For its owner alone at first: the group that a new file gets is the folder's choice.
        let flags = PLAIN | OFlags::RDWR | OFlags::CREATE | OFlags::EXCL;
        let wanted = Mode::from_raw_mode(access.mode_in(rustix::process::getegid().as_raw()));
        let file = rustix::fs::openat(&*self.folder, name, flags, wanted)?;
        let stat = fstat(&file)?;
        let narrower = stat.st_mode & 0o666 & access.mode_in(stat.st_gid);
        if narrower != stat.st_mode & 0o777 {
            rustix::fs::fchmod(&file, Mode::from_raw_mode(narrower))?;
        }
        Ok(file.into())
    }

    /// Opens the plain file `name` for reading; a link is not followed, and a pipe is not waited for.
    pub(crate) fn open_file(&self, name: &OsStr) -> Result<File> {
        let flags = PLAIN | OFlags::RDONLY | OFlags::NONBLOCK;
        let file = rustix::fs::openat(&*self.folder, name, flags, Mode::empty());
        Ok(file.map_err(system("opening", &self.path_of(name)))?.into())
    }

    /// Opens the plain file `name` to go on writing it; `None` where there is none. A link is not followed, and it has to be ours alone.
    pub(crate) fn open_file_again(&self, name: &OsStr) -> Result<Option<File>> {
        Ok(self.open_stale(name, FileType::RegularFile, OFlags::RDWR)?.map(File::from))
    }

    /// As [`Place::open_file_again`]; a file that is not there is made, for those who may read everything of `access`.
    pub(crate) fn open_or_create(&self, name: &OsStr, access: Access) -> Result<File> {
        self.open_file_again(name)?.map_or_else(|| self.create(name, access), Ok)
    }

    /// Makes the temporary file `name` and locks it; tells whether a killed run's was cleared away before.
    ///
    /// # Errors
    /// `Busy` when another run holds it, [`Error::InTheWay`] when what lies there is nothing of ours.
    pub(crate) fn create_locked(&self, name: &OsStr, access: Access, target: &Path) -> Result<(File, bool)> {
        let mut stale = false;
        for _ in 0..TRIES {
            match self.try_create(name, access) {
                Ok(file) => {
                    if lock(&file).is_ok() && self.is_still(name, &file)? {
                        return Ok((file, stale));
                    }
                    // Another run took it for a killed one's before it was locked.
                }
                Err(Errno::EXIST) => {
                    let Some(left) = self.open_stale(name, FileType::RegularFile, OFlags::RDWR)? else { continue };
                    lock(&left).map_err(|_| busy(target))?;
                    if self.is_still(name, &left)? {
                        // Not emptied and used: whoever opened it before would see what is written.
                        stale |= fstat(&left).is_ok_and(|stat| stat.st_size > 0);
                        self.remove(name)?;
                    }
                }
                Err(error) => return Err(system("making", &self.path_of(name))(error)),
            }
        }
        Err(busy(target))
    }

    /// Makes the temporary folder `name`, for us alone, and locks it; tells the mode that new folders get here, and whether a
    /// killed run's was there: it was cleared away, or with `again` it is the one that is given.
    ///
    /// # Errors
    /// As [`Place::create_locked`].
    pub(crate) fn create_folder_locked(&self, name: &OsStr, target: &Path, again: bool) -> Result<(Self, Mode, bool)> {
        let mut stale = false;
        let path = self.path_of(name);
        for _ in 0..TRIES {
            match rustix::fs::mkdirat(&*self.folder, name, Mode::RWXU | Mode::RWXG | Mode::RWXO) {
                Ok(()) => {
                    let folder = self.open_folder(name)?;
                    let mode = fstat(&folder.folder).map_err(system("looking at", &path))?.st_mode & 0o777;
                    // Nobody but us, before anything is in it; whoever was faster has only an empty folder.
                    rustix::fs::fchmod(&folder.folder, Mode::RWXU).map_err(system("closing", &path))?;
                    let is_ours = lock(&folder.folder).is_ok() && self.is_still(name, &folder.folder)?;
                    if is_ours && folder.names()?.is_empty() {
                        return Ok((folder, Mode::from_raw_mode(mode), stale));
                    }
                }
                Err(Errno::EXIST) => {
                    let Some(left) = self.open_stale(name, FileType::Directory, OFlags::DIRECTORY)? else { continue };
                    lock(&left).map_err(|_| busy(target))?;
                    if self.is_still(name, &left)? {
                        if again {
                            let left = Self { folder: Arc::new(left), path };
                            let mode = left.mode_of_new_folders()?;
                            return Ok((left, mode, true));
                        }
                        stale = true;
                        self.remove_folder(name)?;
                    }
                }
                Err(error) => return Err(system("making", &path)(error)),
            }
        }
        Err(busy(target))
    }

    /// Opens the folder at `path`, which has to be ours alone, and locks it.
    ///
    /// # Errors
    /// `Busy` when another run holds it; [`Error::InTheWay`] when others may have put it there, or may change it.
    pub(crate) fn open_locked(path: &Path) -> Result<Self> {
        let (above, name) = Self::of(path)?;
        let missing = || Error::io("opening", path)(std::io::ErrorKind::NotFound.into());
        let folder = above.open_stale(&name, FileType::Directory, OFlags::DIRECTORY)?.ok_or_else(missing)?;
        let stat = fstat(&folder).map_err(system("looking at", path))?;
        if stat.st_mode & 0o022 != 0 {
            let what = "others than its owner may change it".into();
            return Err(Error::InTheWay { path: path.to_string_lossy().into(), what });
        }
        lock(&folder).map_err(|_| busy(path))?;
        Ok(Self { folder: Arc::new(folder), path: path.into() })
    }

    /// The mode that new folders get in here, found by making one. It is asked of a folder that is ours alone: nobody else has put
    /// anything in the way, and what a killed run left there is cleared away.
    fn mode_of_new_folders(&self) -> Result<Mode> {
        let probe = OsStr::new(".mode");
        let path = self.path_of(probe);
        match rustix::fs::unlinkat(&*self.folder, probe, AtFlags::REMOVEDIR) {
            Ok(()) | Err(Errno::NOENT) => {}
            Err(error) => return Err(system("removing", &path)(error)),
        }
        rustix::fs::mkdirat(&*self.folder, probe, Mode::RWXU | Mode::RWXG | Mode::RWXO)
            .map_err(system("making", &path))?;
        let stat = self.stat(probe);
        rustix::fs::unlinkat(&*self.folder, probe, AtFlags::REMOVEDIR).map_err(system("removing", &path))?;
        Ok(Mode::from_raw_mode(stat?.map_or(0o700, |stat| stat.st_mode & 0o777)))
    }

    /// Opens what a run left under a temporary name; `None` when it is gone by now.
    ///
    /// # Errors
    /// [`Error::InTheWay`] for anything that another user may have put there: a link, another kind of file, one with a
    /// second name, one that is not ours.
    fn open_stale(&self, name: &OsStr, kind: FileType, flags: OFlags) -> Result<Option<OwnedFd>> {
        let path = self.path_of(name);
        let foreign = |what: &str| Err(Error::InTheWay { path: path.to_string_lossy().into(), what: what.into() });
        let opened = rustix::fs::openat(&*self.folder, name, PLAIN | OFlags::NONBLOCK | flags, Mode::empty());
        let file = match opened {
            Ok(file) => file,
            Err(Errno::NOENT) => return Ok(None),
            Err(Errno::LOOP) => return foreign("it is a symbolic link"),
            Err(Errno::ACCESS | Errno::PERM) => return foreign("it belongs to another user"),
            Err(_) => return foreign("it is not what a run of ours leaves there"),
        };
        let stat = fstat(&file).map_err(system("looking at", &path))?;
        if FileType::from_raw_mode(stat.st_mode) != kind {
            return foreign("it is not what a run of ours leaves there");
        }
        if stat.st_uid != rustix::process::geteuid().as_raw() {
            return foreign("it belongs to another user");
        }
        Ok(Some(file))
    }

    /// Whether the name still leads to `file`.
    fn is_still(&self, name: &OsStr, file: impl std::os::fd::AsFd) -> Result<bool> {
        let own = fstat(file).map_err(system("looking at", &self.path_of(name)))?;
        Ok(self.stat(name)?.is_some_and(|stat| same(&stat, &own)))
    }

    /// Whether `temporary` and `name` are two names of one file of ours, which no run holds.
    pub(crate) fn is_second_name(&self, temporary: &OsStr, name: &OsStr) -> Result<bool> {
        let Some(there) = self.stat(name)? else { return Ok(false) };
        let Some(left) = self.open_stale(temporary, FileType::RegularFile, OFlags::RDWR)? else { return Ok(false) };
        let own = fstat(&left).map_err(system("looking at", &self.path_of(temporary)))?;
        Ok(same(&own, &there) && lock(&left).is_ok())
    }

    /// Removes the file `name`.
    pub(crate) fn remove(&self, name: &OsStr) -> Result<()> {
        rustix::fs::unlinkat(&*self.folder, name, AtFlags::empty()).map_err(system("removing", &self.path_of(name)))
    }

    /// Removes the folder `name` with all that is in it; no link is followed.
    pub(crate) fn remove_folder(&self, name: &OsStr) -> Result<()> {
        remove_tree(&self.folder, name, MAX_DEPTH).map_err(system("removing", &self.path_of(name)))
    }

    /// Gives the file a second name, unless that is taken.
    pub(crate) fn link(&self, from: &OsStr, to: &OsStr) -> rustix::io::Result<()> {
        rustix::fs::linkat(&*self.folder, from, &*self.folder, to, AtFlags::empty())
    }

    /// Renames within the folder.
    pub(crate) fn rename(&self, from: &OsStr, to: &OsStr, flags: RenameFlags) -> rustix::io::Result<()> {
        rustix::fs::renameat_with(&*self.folder, from, &*self.folder, to, flags)
    }

    /// Renames within the folder, unless the new name is taken.
    pub(crate) fn rename_new(&self, from: &OsStr, to: &OsStr) -> Result<()> {
        let path = self.path_of(to);
        match self.rename(from, to, RenameFlags::NOREPLACE) {
            Ok(()) => Ok(()),
            Err(Errno::EXIST) => Err(exists(&path)),
            // A file system that knows no flags: it was free a moment ago, and our lock keeps our own kind away.
            Err(Errno::INVAL | Errno::NOSYS) => match self.stat(to)? {
                None => self.rename(from, to, RenameFlags::empty()).map_err(system("naming", &path)),
                Some(_) => Err(exists(&path)),
            },
            Err(error) => Err(system("naming", &path)(error)),
        }
    }

    /// Lets two names change places; where the file system cannot, by a third name.
    pub(crate) fn exchange(&self, one: &OsStr, two: &OsStr) -> Result<()> {
        let path = self.path_of(two);
        match self.rename(one, two, RenameFlags::EXCHANGE) {
            Err(Errno::INVAL | Errno::NOSYS) => {}
            result => return result.map_err(system("naming", &path)),
        }
        let aside = aside_of(one);
        self.rename_new(two, &aside)?;
        if let Err(error) = self.rename_new(one, two) {
            self.rename_new(&aside, two)?;
            return Err(error);
        }
        self.rename_new(&aside, one)
    }

    /// Brings in order what a run that was killed in the middle of [`Place::exchange`], where that takes a third name, has left of `name`
    /// and its `temporary` name: what was to be replaced gets its name back where nothing else has it, and goes where it was replaced.
    ///
    /// # Errors
    /// What the system says. What is not ours is left alone.
    pub(crate) fn settle(&self, temporary: &OsStr, name: &OsStr) -> Result<()> {
        let aside = aside_of(temporary);
        let Some(stat) = self.stat(&aside)?.filter(|stat| stat.st_uid == rustix::process::geteuid().as_raw()) else {
            return Ok(());
        };
        if self.stat(name)?.is_none() {
            return self.rename_new(&aside, name);
        }
        match FileType::from_raw_mode(stat.st_mode) {
            FileType::Directory => self.remove_folder(&aside),
            _ => self.remove(&aside),
        }
    }

    /// Flushes the folder's names to disk.
    pub(crate) fn sync(&self) -> Result<()> {
        rustix::fs::fsync(&*self.folder).map_err(system("flushing", &self.path))
    }

    /// The names in the folder.
    pub(crate) fn names(&self) -> Result<Vec<OsString>> {
        names_in(&self.folder).map_err(system("listing", &self.path))
    }

    /// Opens the folder `name` in this one.
    pub(crate) fn open_folder(&self, name: &OsStr) -> Result<Self> {
        let flags = PLAIN | OFlags::DIRECTORY;
        let folder = rustix::fs::openat(&*self.folder, name, flags, Mode::empty());
        let path = self.path_of(name);
        Ok(Self { folder: Arc::new(folder.map_err(system("opening", &path))?), path })
    }

    /// The folder `name` that an earlier run of this user left; `None` where there is none.
    pub(crate) fn open_folder_again(&self, name: &OsStr) -> Result<Option<Self>> {
        let left = self.open_stale(name, FileType::Directory, OFlags::RDONLY | OFlags::DIRECTORY)?;
        Ok(left.map(|folder| Self { folder: Arc::new(folder), path: self.path_of(name) }))
    }

    /// The folder itself, for its owner and attributes.
    pub(crate) fn handle(&self) -> &OwnedFd {
        &self.folder
    }
}

/// The third name of an exchange that takes one.
fn aside_of(temporary: &OsStr) -> OsString {
    let mut aside = temporary.to_os_string();
    aside.push("-replaced");
    aside
}

/// The names in a folder, sorted.
fn names_in(folder: &OwnedFd) -> rustix::io::Result<Vec<OsString>> {
    use std::os::unix::ffi::OsStrExt;
    let mut names = Vec::new();
    for entry in Dir::read_from(folder)? {
        let entry = entry?;
        let name = OsStr::from_bytes(entry.file_name().to_bytes());
        if name != "." && name != ".." {
            names.push(name.to_os_string());
        }
    }
    names.sort();
    Ok(names)
}

fn remove_tree(above: &OwnedFd, name: &OsStr, depth: usize) -> rustix::io::Result<()> {
    let flags = PLAIN | OFlags::DIRECTORY;
    let folder = rustix::fs::openat(above, name, flags, Mode::empty())?;
    for inner in names_in(&folder)? {
        match rustix::fs::unlinkat(&folder, &inner, AtFlags::empty()) {
            Err(Errno::ISDIR | Errno::PERM) if depth > 0 => remove_tree(&folder, &inner, depth - 1)?,
            result => result?,
        }
    }
    rustix::fs::unlinkat(above, name, AtFlags::REMOVEDIR)
}

/// Whether both are the same file.
pub(super) fn same(one: &Stat, two: &Stat) -> bool {
    (one.st_dev, one.st_ino) == (two.st_dev, two.st_ino)
}

/// Sets owner and group.
pub(super) fn chown(file: impl std::os::fd::AsFd, owner: u32, group: u32) -> rustix::io::Result<()> {
    rustix::fs::fchown(file, Some(Uid::from_raw(owner)), Some(Gid::from_raw(group)))
}

fn lock(file: impl std::os::fd::AsFd) -> rustix::io::Result<()> {
    rustix::fs::flock(file, FlockOperation::NonBlockingLockExclusive)
}

fn busy(target: &Path) -> Error {
    reformis_disk::Error::Busy { path: target.to_string_lossy().into() }.into()
}

pub(super) fn exists(path: &Path) -> Error {
    reformis_disk::Error::Exists { path: path.to_string_lossy().into() }.into()
}

/// What the system said about `path`.
pub(super) fn system(action: &'static str, path: &Path) -> impl FnOnce(Errno) -> Error {
    let convert = Error::io(action, path);
    move |error| convert(error.into())
}
