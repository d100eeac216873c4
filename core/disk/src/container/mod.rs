//! Files that hold other files: archives, and what is compressed as a whole; and finding what a path leads to.

mod archive;
mod cursor;
mod member;
pub mod packed;
mod stream;
mod tar;
mod window;
mod zip;

use std::{
    io,
    path::{Path, PathBuf},
    sync::Arc,
};

pub use archive::{Archive, is_archive};
pub use member::Member;
use packed::Wrapping;
pub use stream::{Forwards, Stream, unpacked};

use crate::{
    budget::Budget,
    error::{Error, Result},
    source::{FileStorage, Pieces, Storage, read_vec},
};

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
        return Ok(Source::Storage(match Pieces::find(&file, budget)? {
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
    if is_archive(storage.as_ref())? {
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
        if storage.is_raw() {
            return Ok(self);
        }
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
