//! What is asked of the program, and the same by the kernel, in a volume as its root.

use std::{
    ffi::{OsStr, OsString},
    fs::{self, File},
    io::Write,
    os::{
        fd::OwnedFd,
        unix::{
            ffi::{OsStrExt, OsStringExt},
            fs::{PermissionsExt, symlink},
        },
    },
    path::Path,
};

use rustix::{
    fs::{AtFlags, Mode, OFlags, ResolveFlags, mkdirat, openat2, statat, symlinkat, unlinkat},
    io::Errno,
};

use crate::case::{Inner, Order, bytes, path, target};

/// Lays in `here` what these orders put in, each by its number.
pub(crate) fn prepare(orders: &[Order], here: &Path) {
    fs::create_dir(here).unwrap();
    for (number, order) in orders.iter().enumerate() {
        let from = here.join(number.to_string());
        match order {
            Order::Put(_, len, mode) => lay_file(&from, *len, *mode),
            Order::PutFolder(_, all) => {
                fs::create_dir(&from).unwrap();
                fs::set_permissions(&from, fs::Permissions::from_mode(0o755)).unwrap();
                all.iter().for_each(|(place, inner)| lay(&from, place, inner));
            }
            Order::Remove(_) | Order::Folder(_) | Order::Link(..) => {}
        }
    }
}

/// The options of `patch` for these orders, with their numbers.
pub(crate) fn options(orders: &[(usize, Order)], here: &Path) -> Vec<OsString> {
    let mut options = Vec::new();
    let mut add = |option: &str, value: Vec<u8>| options.extend([option.into(), OsString::from_vec(value)]);
    let rooted = |place: &[u8]| [b"/", path(place).as_slice()].concat();
    for (number, order) in orders {
        match order {
            Order::Remove(place) => add("--remove", rooted(place)),
            Order::Folder(place) => add("--folder", rooted(place)),
            Order::Put(place, ..) | Order::PutFolder(place, _) => {
                let from = here.join(number.to_string());
                add("--put", [from.as_os_str().as_bytes(), b":", &rooted(place)].concat());
            }
            Order::Link(place, len) => add("--link", [&rooted(place), &b":"[..], &target(*len)].concat()),
        }
    }
    options
}

fn lay_file(at: &Path, len: u32, mode: u16) {
    fs::write(at, bytes(len, len as usize)).unwrap();
    fs::set_permissions(at, fs::Permissions::from_mode(mode.into())).unwrap();
}

/// Lays what is put in with a folder; what is in its way stays out.
fn lay(root: &Path, place: &[u8], inner: &Inner) {
    let at = root.join(OsStr::from_bytes(&path(place)));
    let is_free = at.symlink_metadata().is_err();
    let above = at.parent().unwrap();
    if !is_free || above.symlink_metadata().is_ok_and(|above| !above.is_dir()) || fs::create_dir_all(above).is_err() {
        return;
    }
    match inner {
        Inner::File(len, mode) => lay_file(&at, *len, *mode),
        Inner::Folder(mode) => {
            fs::create_dir(&at).unwrap();
            fs::set_permissions(&at, fs::Permissions::from_mode((*mode).into())).unwrap();
        }
        Inner::Link(len) => symlink(OsStr::from_bytes(&target(*len)), at).unwrap(),
    }
}

type Done = Result<(), Errno>;

/// A volume as the kernel has it, with its first folder for the root of paths.
pub(crate) struct Kernel(OwnedFd);

impl Kernel {
    pub(crate) fn new(root: &Path) -> Self {
        Self(File::open(root).unwrap().into())
    }

    fn open(&self, path: &[u8], flags: OFlags, mode: u32) -> Result<OwnedFd, Errno> {
        openat2(&self.0, OsStr::from_bytes(path), flags, Mode::from_raw_mode(mode), ResolveFlags::IN_ROOT)
    }

    /// The folder above, and the last name.
    fn above<'a>(&self, path: &'a [u8]) -> Result<(OwnedFd, &'a OsStr), Errno> {
        let (above, name) = match path.iter().rposition(|byte| *byte == b'/') {
            Some(at) => (&path[..at], &path[at + 1..]),
            None => (&b"."[..], path),
        };
        Ok((self.open(above, OFlags::PATH | OFlags::DIRECTORY, 0)?, OsStr::from_bytes(name)))
    }

    /// Does what an order says; an error where it cannot be done as a whole, and then not all of it may be done.
    pub(crate) fn does(&self, order: &Order, from: &Path) -> Done {
        match order {
            Order::Remove(place) => self.remove(&path(place)),
            Order::Folder(place) => self.folders(&path(place)),
            Order::Put(place, ..) => {
                // A folder takes the file by its own name.
                let place = path(place);
                match self.open(&place, OFlags::PATH | OFlags::DIRECTORY, 0) {
                    Ok(_) => self.put(from, &[&place, &b"/"[..], from.file_name().unwrap().as_bytes()].concat()),
                    Err(_) => self.put(from, &place),
                }
            }
            Order::PutFolder(place, _) => self.put_folder(from, &path(place), None),
            Order::Link(place, len) => self.link(&path(place), &target(*len)),
        }
    }

    fn remove(&self, path: &[u8]) -> Done {
        let (above, name) = self.above(path)?;
        let kind = rustix::fs::FileType::from_raw_mode(statat(&above, name, AtFlags::SYMLINK_NOFOLLOW)?.st_mode);
        if kind != rustix::fs::FileType::Directory {
            return unlinkat(&above, name, AtFlags::empty());
        }
        let folder = self.open(path, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW, 0)?;
        for entry in rustix::fs::Dir::read_from(&folder)? {
            let entry = entry?;
            let inside = entry.file_name().to_bytes();
            if inside != b"." && inside != b".." {
                self.remove(&[path, b"/", inside].concat())?;
            }
        }
        unlinkat(&above, name, AtFlags::REMOVEDIR)
    }

    fn folder(&self, path: &[u8], mode: u16) -> Result<bool, Errno> {
        let (above, name) = self.above(path)?;
        match mkdirat(&above, name, Mode::from_raw_mode(mode.into())) {
            Ok(()) => Ok(true),
            // What a link leads to is as good as a folder.
            Err(Errno::EXIST) => self.open(path, OFlags::PATH | OFlags::DIRECTORY, 0).map(|_| false),
            Err(error) => Err(error),
        }
    }

    fn folders(&self, path: &[u8]) -> Done {
        let ends = path.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(at, _)| at);
        for end in ends.chain([path.len()]) {
            self.folder(&path[..end], 0o755)?;
        }
        Ok(())
    }

    fn put(&self, from: &Path, path: &[u8]) -> Done {
        let mode = from.metadata().unwrap().permissions().mode() & 0o7777;
        let flags = OFlags::WRONLY | OFlags::TRUNC | OFlags::NONBLOCK;
        let opened = match self.open(path, flags, 0) {
            Err(Errno::NOENT) => self.open(path, flags | OFlags::CREATE, mode)?,
            opened => opened?,
        };
        let content = fs::read(from).unwrap();
        let kind = rustix::fs::FileType::from_raw_mode(rustix::fs::fstat(&opened)?.st_mode);
        if kind != rustix::fs::FileType::RegularFile {
            return Err(Errno::INVAL);
        }
        File::from(opened).write_all(&content).map_err(|error| Errno::from_io_error(&error).unwrap_or(Errno::IO))
    }

    fn put_folder(&self, from: &Path, path: &[u8], mode: Option<u16>) -> Done {
        match mode {
            Some(mode) => drop(self.folder(path, mode)?),
            // The folder itself is put with its own mode; those that lead to it are made as any.
            None => {
                if let Some(end) = path.iter().rposition(|byte| *byte == b'/') {
                    self.folders(&path[..end])?;
                }
                let mode = from.metadata().unwrap().permissions().mode() & 0o7777;
                self.folder(path, mode as u16)?;
            }
        }
        let mut names: Vec<OsString> = fs::read_dir(from).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        names.sort();
        for name in names {
            let (here, there) = (from.join(&name), [path, b"/", name.as_bytes()].concat());
            let metadata = here.symlink_metadata().unwrap();
            if metadata.is_dir() {
                self.put_folder(&here, &there, Some((metadata.permissions().mode() & 0o7777) as u16))?;
            } else if metadata.is_symlink() {
                self.link(&there, fs::read_link(&here).unwrap().as_os_str().as_bytes())?;
            } else {
                self.put(&here, &there)?;
            }
        }
        Ok(())
    }

    fn link(&self, path: &[u8], target: &[u8]) -> Done {
        let (above, name) = self.above(path)?;
        match statat(&above, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) if rustix::fs::FileType::from_raw_mode(stat.st_mode) == rustix::fs::FileType::Symlink => {
                unlinkat(&above, name, AtFlags::empty())?;
            }
            Ok(_) => return Err(Errno::EXIST),
            Err(Errno::NOENT) => {}
            Err(error) => return Err(error),
        }
        symlinkat(OsStr::from_bytes(target), &above, name)
    }
}
