//! Where a disk is stored: a file, a block device, a member of an archive in place, or several pieces in a row.

mod access;
pub mod archive;
mod cursor;
mod file;
mod links;
mod memory;
mod pieces;
mod stream;
mod tar;
mod window;
pub mod wrapped;
mod zip;

use crate::to_usize;
use std::{
    io,
    path::{Path, PathBuf},
    sync::Arc,
};

pub use access::Access;
pub use archive::Archive;
pub use file::{FileStorage, Identity};
pub use links::{Links, check_relative_name, open_link};
pub use memory::MemoryStorage;
pub use pieces::Pieces;
pub use stream::{Stream, unpacked};
use wrapped::Wrapping;

use crate::{
    budget::{Budget, Held, Hold},
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

    /// The memory that what is collected from these bytes is counted against.
    fn budget(&self) -> &Arc<Budget>;

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

/// Memory for `bytes` bytes of `what`, a structure that `storage` has.
pub(crate) fn hold(storage: &dyn Storage, bytes: u64, what: &str) -> Result<Hold> {
    storage.budget().take(bytes).map_err(Error::memory(storage.name(), what))
}

/// Reads `len` bytes at `offset`; `what` names the structure in the error.
pub fn read_vec(storage: &dyn Storage, offset: u64, len: usize, what: &str) -> Result<Held<Vec<u8>>> {
    require(storage, offset, len as u64, what)?;
    let hold = hold(storage, len as u64, what)?;
    let mut buf = vec![0; len];
    storage.read_at(offset, &mut buf)?;
    Ok(hold.of(buf))
}

/// Reads a table of `count` entries of `N` bytes; what is read takes no more memory than the table, and little beside it.
#[expect(clippy::indexing_slicing, reason = "a part is never longer than the piece")]
pub(crate) fn read_entries<const N: usize, T>(
    storage: &dyn Storage,
    offset: u64,
    count: u64,
    what: &str,
    decode: fn([u8; N]) -> T,
) -> Result<Held<Vec<T>>> {
    let len = count.saturating_mul(N as u64);
    require(storage, offset, len, what)?;
    let hold = hold(storage, count.saturating_mul(size_of::<T>() as u64), what)?;
    let mut entries = Vec::with_capacity(to_usize(count));
    let mut piece = vec![0; len.min(64 << 10) as usize];
    let mut done = 0;
    while done < len {
        let part = to_usize((len - done).min(piece.len() as u64));
        storage.read_at(offset + done, &mut piece[..part])?;
        let (whole, _) = piece[..part].as_chunks::<N>();
        entries.extend(whole.iter().map(|bytes| decode(*bytes)));
        done += part as u64;
    }
    Ok(hold.of(entries))
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
/// a storage; [`Source::unwrapped`] makes a stream of it. What is collected from it is counted against `budget`.
///
/// # Errors
/// What the system says; [`Error::NoMember`]; those of [`Archive::open`]; a piece that is missing.
pub fn locate(path: &Path, budget: &Arc<Budget>) -> Result<Source> {
    let (file, member) = split_at_archive(path);
    let Some(member) = member else {
        return Ok(Source::Storage(match pieces::find(&file, budget)? {
            Some(pieces) => Arc::new(pieces),
            None => Arc::new(FileStorage::open(&file, budget)?),
        }));
    };
    locate_in(Arc::new(FileStorage::open(&file, budget)?), Some(&member))
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

    /// What can be read at any place.
    ///
    /// # Errors
    /// [`Error::Unsupported`] for what can only be read forwards.
    pub fn random_access(self) -> Result<Arc<dyn Storage>> {
        match self {
            Self::Storage(storage) => Ok(storage),
            Self::Stream(stream) => Err(Error::Unsupported {
                path: stream.name().into(),
                what: format!(
                    "it is compressed ({}) and can only be read from start to end; `reformis recast` unpacks it",
                    stream.kind()
                ),
            }),
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
pub fn open(path: &Path, budget: &Arc<Budget>) -> Result<Arc<dyn Storage>> {
    locate(path, budget)?.random_access()
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
