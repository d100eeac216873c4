//! Where a disk is stored: a file, a block device, a member of an archive in place, or several pieces in a row.

pub mod archive;
mod cursor;
mod file;
mod memory;
mod pieces;
mod stream;
mod tar;
pub mod wrapped;
mod zip;

use std::{
    io,
    path::{Path, PathBuf},
    sync::Arc,
};

pub use archive::Archive;
pub use file::{FileStorage, Identity};
pub use memory::MemoryStorage;
pub use pieces::Pieces;
pub use stream::Stream;
use wrapped::Wrapping;

use crate::{
    disk::Extent,
    error::{Error, Result},
};

/// Bytes as they lie in a file, before any format is considered. Reading never changes them.
pub trait Storage: Send + Sync {
    /// The file as the person would name it; a member of an archive continues the archive's path.
    fn name(&self) -> &str;

    /// Length in bytes.
    fn len(&self) -> u64;

    /// Whether there is nothing.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Bytes that the file takes on its file system: less than the length where it has holes.
    fn allocated(&self) -> u64 {
        self.len()
    }

    /// Fills `buf` from `offset`.
    ///
    /// # Errors
    /// [`Error::CutShort`] when the range ends after [`Storage::len`].
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()>;

    /// The run at `offset` (less than [`Storage::len`]) that is a hole of the file system, or not.
    fn extent_at(&self, offset: u64) -> Result<Extent>;

    /// Fails with [`Error::Changed`] when a file below was written since it was opened.
    fn check_unchanged(&self) -> Result<()>;

    /// The file below and what told it apart when it was opened; the first of several.
    fn identity(&self) -> Option<&Identity>;

    /// Opens what this file calls `name`: a file in its folder, or a member of the same archive.
    ///
    /// # Errors
    /// [`Error::UnsafeName`] when `links` does not allow where it leads; what the system says when it is not there.
    fn sibling(&self, name: &str, _links: Links) -> Result<Arc<dyn Storage>> {
        Err(Error::NoMember { archive: self.name().into(), member: name.into() })
    }

    /// Names of the plain files beside this one, for [`Storage::sibling`].
    ///
    /// # Errors
    /// What the system says.
    fn neighbours(&self) -> Result<Vec<String>> {
        Ok(Vec::new())
    }
}

/// The most files that are looked at beside one.
const MAX_NEIGHBOURS: usize = 4096;

/// Reads `len` bytes at `offset`; `what` names the structure in the error.
pub(crate) fn read_vec(storage: &dyn Storage, offset: u64, len: usize, what: &str) -> Result<Vec<u8>> {
    require(storage, offset, len as u64, what)?;
    let mut buf = vec![0; len];
    storage.read_at(offset, &mut buf)?;
    Ok(buf)
}

/// Reads a table of `count` entries of `N` bytes; what is read takes no more memory than the table, and little beside it.
pub(crate) fn read_entries<const N: usize, T>(
    storage: &dyn Storage,
    offset: u64,
    count: u64,
    what: &str,
    decode: fn([u8; N]) -> T,
) -> Result<Vec<T>> {
    let len = count.saturating_mul(N as u64);
    require(storage, offset, len, what)?;
    let mut entries = Vec::with_capacity(count as usize);
    let mut piece = vec![0; len.min(64 << 10) as usize];
    let mut done = 0;
    while done < len {
        let part = (len - done).min(piece.len() as u64) as usize;
        storage.read_at(offset + done, &mut piece[..part])?;
        let (whole, _) = piece[..part].as_chunks::<N>();
        entries.extend(whole.iter().map(|bytes| decode(*bytes)));
        done += part as u64;
    }
    Ok(entries)
}

/// Fails with [`Error::CutShort`] when `what` does not lie inside the storage.
pub(crate) fn require(storage: &dyn Storage, offset: u64, len: u64, what: &str) -> Result<()> {
    match offset.checked_add(len) {
        Some(end) if end <= storage.len() => Ok(()),
        _ => Err(Error::CutShort {
            path: storage.name().into(),
            what: what.into(),
            start: offset,
            end: offset.saturating_add(len),
            len: storage.len(),
        }),
    }
}

/// What a path leads to.
#[derive(Clone)]
pub enum Source {
    /// Bytes that can be read at any place.
    Storage(Arc<dyn Storage>),
    /// Bytes that can only be read forwards.
    Stream(Stream),
}

/// Finds what `path` names: a file, a block device, the first of several pieces (`disk.img.000`), or, where the path
/// continues into an archive (`tidelog.ova/tidelog-disk1.vmdk`), that member. A file that is compressed as a whole is
/// a storage; [`Source::unwrapped`] makes a stream of it.
///
/// # Errors
/// What the system says; [`Error::NoMember`]; those of [`Archive::open`]; a piece that is missing.
pub fn locate(path: &Path) -> Result<Source> {
    let (file, member) = split_at_archive(path);
    let Some(member) = member else {
        return Ok(Source::Storage(match pieces::find(&file)? {
            Some(pieces) => Arc::new(pieces),
            None => Arc::new(FileStorage::open(&file)?),
        }));
    };
    locate_in(Arc::new(FileStorage::open(&file)?), Some(&member))
}

/// Finds `member` in the archive `storage`, compressed or not; without a member, it is the storage itself.
///
/// # Errors
/// [`Error::NoMember`]; those of [`Archive::open`].
pub fn locate_in(storage: Arc<dyn Storage>, member: Option<&str>) -> Result<Source> {
    let Some(member) = member.map(str::to_string) else { return Ok(Source::Storage(storage)) };
    if archive::is_archive(storage.as_ref())? {
        let archive = Archive::open(storage.clone())?;
        return match archive.find(&member).and_then(|found| found.packed.clone()) {
            Some(method) => Ok(Source::Stream(Stream::in_zip(storage, method, member))),
            None => archive.member(&member).map(Source::Storage),
        };
    }
    let head = read_vec(storage.as_ref(), 0, storage.len().min(8) as usize, "its start")?;
    match Wrapping::detect(&head) {
        Some(kind) => Ok(Source::Stream(Stream::in_tar(storage, kind, member))),
        None => Err(Error::NoMember { archive: storage.name().into(), member }),
    }
}

impl Source {
    /// As the person would name it.
    pub fn name(&self) -> &str {
        match self {
            Self::Storage(storage) => storage.name(),
            Self::Stream(stream) => stream.name(),
        }
    }

    /// A stream instead of a file that is compressed as a whole.
    ///
    /// # Errors
    /// What reading says.
    pub fn unwrapped(self) -> Result<Self> {
        let Self::Storage(storage) = &self else { return Ok(self) };
        let head = read_vec(storage.as_ref(), 0, storage.len().min(8) as usize, "its start")?;
        Ok(match Wrapping::detect(&head) {
            Some(kind) => Self::Stream(Stream::wrapped(storage.clone(), kind)),
            None => self,
        })
    }
}

/// Opens what `path` names and can be read at any place: see [`locate`].
///
/// # Errors
/// Those of [`locate`]; [`Error::Unsupported`] for a compressed member of an archive.
pub fn open(path: &Path) -> Result<Arc<dyn Storage>> {
    match locate(path)? {
        Source::Storage(storage) => Ok(storage),
        Source::Stream(stream) => Err(Error::Unsupported {
            path: stream.name().into(),
            what: format!(
                "it is compressed ({}) and can only be read forwards, which `reformis recast` does",
                stream.kind()
            ),
        }),
    }
}

/// The longest beginning of `path` that is a file, and the rest of it.
fn split_at_archive(path: &Path) -> (PathBuf, Option<String>) {
    for candidate in path.ancestors().skip(1) {
        let is_archive = match std::fs::metadata(candidate) {
            Ok(metadata) => metadata.is_file(),
            Err(error) if error.kind() == io::ErrorKind::NotADirectory => continue,
            Err(_) => false,
        };
        if is_archive && let Ok(rest) = path.strip_prefix(candidate) {
            return (candidate.into(), Some(rest.to_string_lossy().into_owned()));
        }
    }
    (path.into(), None)
}

/// Whether names that a stranger's file contains may lead outside its own folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Links {
    /// Only to plain files in the folder of the file that names them, or below it.
    #[default]
    OwnFolder,
    /// Anywhere, but never to a device.
    Trusted,
}

/// Resolves `name`, which the file in `folder` called `by` contains, to a plain file.
///
/// # Errors
/// [`Error::UnsafeName`] when it leads out of the folder (also through a symbolic link) or to something that is no
/// plain file; what the system says when it is not there.
pub fn resolve_link(folder: &Path, by: &str, name: &str, links: Links) -> Result<PathBuf> {
    let refuse =
        |why: &str, trustable| Error::UnsafeName { path: by.into(), name: name.into(), why: why.into(), trustable };
    if links == Links::OwnFolder
        && let Err(why) = check_relative_name(name)
    {
        return Err(refuse(why, true));
    }
    let path = folder.join(name);
    let shown = || path.to_string_lossy().into_owned();
    let real = path.canonicalize().map_err(Error::io("opening", shown(), None))?;
    let home = folder.canonicalize().map_err(Error::io("opening", folder.to_string_lossy(), None))?;
    if links == Links::OwnFolder && !real.starts_with(&home) {
        return Err(refuse("a symbolic link leads it out of that file's folder", true));
    }
    let metadata = real.metadata().map_err(Error::io("opening", shown(), None))?;
    if !metadata.is_file() {
        return Err(refuse("that is no plain file", false));
    }
    Ok(path)
}

/// Says why `name` is not a relative path that stays below the folder where it starts.
///
/// # Errors
/// The reason, as the end of a sentence.
pub fn check_relative_name(name: &str) -> Result<(), &'static str> {
    let bytes = name.as_bytes();
    if name.is_empty() {
        return Err("the name is empty");
    }
    if name.contains('\0') {
        return Err("the name holds a NUL character");
    }
    let drive = bytes.len() > 1 && bytes[1] == b':' && bytes[0].is_ascii_alphabetic();
    if name.starts_with(['/', '\\']) || drive {
        return Err("the name is absolute");
    }
    if name.split(['/', '\\']).any(|part| part == "..") {
        return Err("the name climbs out of its folder");
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_leave_their_folder_are_refused() {
        for name in ["", "/etc/passwd", "../x", "a/../../x", "..", "C:\\x", "\\\\host\\x", "a\0b", "a\\..\\..\\b"] {
            assert!(check_relative_name(name).is_err(), "{name:?}");
        }
        for name in ["disk.vmdk", "sub/disk.vmdk", "./disk", "..disk", "a..b", "küste.vmdk"] {
            assert_eq!(check_relative_name(name), Ok(()), "{name:?}");
        }
    }

    #[test]
    fn a_link_out_of_the_folder_needs_trust_and_a_device_is_never_opened() {
        let outside = tempfile::tempdir().unwrap();
        let inside = tempfile::tempdir().unwrap();
        std::fs::write(outside.path().join("secret"), b"x").unwrap();
        std::os::unix::fs::symlink(outside.path().join("secret"), inside.path().join("link")).unwrap();
        std::os::unix::fs::symlink("/dev/null", inside.path().join("null")).unwrap();
        let resolve = |name: &str, links| resolve_link(inside.path(), "x.ovf", name, links);
        assert!(matches!(resolve("link", Links::OwnFolder), Err(Error::UnsafeName { trustable: true, .. })));
        assert!(resolve("link", Links::Trusted).is_ok());
        assert!(matches!(resolve("null", Links::Trusted), Err(Error::UnsafeName { trustable: false, .. })));
        assert!(matches!(resolve("absent", Links::OwnFolder), Err(Error::Io { .. })));
    }
}
