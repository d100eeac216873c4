//! Where drivers come from: a folder, an optical medium, an archive, or a cabinet. All of them are lists of files by their paths.

use std::{
    io::{self, Read, Seek, SeekFrom},
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

use reformis_disk::{
    Storage,
    budget::{Budget, Hold},
    container::{self, Archive},
    source::FileStorage,
    to_usize,
};

use crate::{
    error::{Error, Result},
    formats::iso,
};

/// Files of a folder that are listed, and folders below one another.
const MAX_FILES: usize = 20_000;
const MAX_DEPTH: usize = 32;
/// Bytes of a cabinet's head that are read: its folders, its files, and where their blocks lie.
const MAX_HEAD: u64 = 4 << 20;
/// Blocks of a cabinet that are unpacked in all. A file is reached only through all that lies before it.
const MAX_BLOCKS: u64 = 1 << 17;
/// Memory for a file beside its path.
const FILE: u64 = 64;

/// A file of a medium.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct File {
    /// Its path on the medium, with `/` between names.
    pub(crate) path: String,
    /// Its bytes.
    pub(crate) len: u64,
    /// Where they begin, on an optical medium; its place among the files of a cabinet's list of blocks.
    at: u64,
}

enum Store {
    Folder(PathBuf),
    Optical(Arc<dyn Storage>),
    Archive(Box<Archive>),
    Cabinet(Arc<dyn Storage>),
}

/// A driver medium.
pub struct Medium {
    /// As the person named it.
    pub name: String,
    store: Store,
    files: Vec<File>,
    has_udf: bool,
    /// Blocks of a cabinet that may yet be unpacked.
    left: AtomicU64,
    _hold: Hold,
}

/// A storage as the reader of cabinets wants it, which reads no more of it than is allowed.
struct Cursor {
    storage: Arc<dyn Storage>,
    at: u64,
    left: u64,
}

impl Read for Cursor {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = (buf.len() as u64).min(self.storage.len().saturating_sub(self.at));
        self.left = self.left.checked_sub(len).ok_or_else(|| io::Error::other("its head is too long"))?;
        let buf = buf.get_mut(..to_usize(len)).unwrap_or_default();
        self.storage.read_at(self.at, buf).map_err(|error| io::Error::other(error.to_string()))?;
        self.at += len;
        Ok(buf.len())
    }
}

impl Seek for Cursor {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let target = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => self.storage.len().checked_add_signed(by),
        };
        self.at = target.ok_or_else(|| io::Error::other("a place before its start"))?;
        Ok(self.at)
    }
}

fn broken(name: &str) -> impl Fn(io::Error) -> Error {
    let volume = name.to_string();
    move |error| Error::Damaged { volume: volume.clone(), what: error.to_string() }
}

/// A cabinet, of which `most` bytes may be read.
fn cabinet(storage: &Arc<dyn Storage>, most: u64) -> Result<cab::Cabinet<Cursor>> {
    let cursor = Cursor { storage: storage.clone(), at: 0, left: most };
    cab::Cabinet::new(cursor).map_err(broken(storage.name()))
}

fn starts_with(storage: &dyn Storage, magic: &[u8]) -> Result<bool> {
    let mut head = vec![0; magic.len()];
    if storage.len() < magic.len() as u64 {
        return Ok(false);
    }
    storage.read_at(0, &mut head)?;
    Ok(head == magic)
}

impl Medium {
    /// What [`Medium::kind`] says of a folder.
    pub const FOLDER: &str = "folder";
    /// The same of an ISO image.
    pub const OPTICAL: &str = "ISO image";
    /// The same of a zip or tar archive.
    pub const ARCHIVE: &str = "archive";
    /// The same of a cabinet.
    pub const CABINET: &str = "cabinet";

    /// Opens the medium at `path`; what is collected from it is counted against `budget`.
    ///
    /// # Errors
    /// What the system says; [`Error::Unsupported`] for what is no medium; [`Error::Damaged`]; [`Error::Memory`].
    pub fn open(path: &Path, budget: &Arc<Budget>) -> Result<Self> {
        let name = path.to_string_lossy().into_owned();
        if path.is_dir() {
            let (mut files, mut hold) = (Vec::new(), budget.hold());
            walk(path, "", 0, &mut files, &mut hold)?;
            return Ok(Self::of(name, Store::Folder(path.into()), files, hold));
        }
        let storage: Arc<dyn Storage> = Arc::new(FileStorage::open(path, budget)?);
        Self::of_storage(storage, budget)
    }

    /// The medium whose bytes are `storage`.
    ///
    /// # Errors
    /// As [`Medium::open`].
    pub fn of_storage(storage: Arc<dyn Storage>, budget: &Arc<Budget>) -> Result<Self> {
        let name = storage.name().to_string();
        let mut hold = budget.hold();
        if iso::is_medium(storage.as_ref())? {
            let listing = iso::list(storage.as_ref(), budget)?;
            let file = |file: iso::File| File { path: file.path, len: file.len, at: file.at };
            let mut files: Vec<File> = listing.files.into_iter().map(file).collect();
            count(&mut files, &mut hold)?;
            return Ok(Self { has_udf: listing.has_udf, ..Self::of(name, Store::Optical(storage), files, hold) });
        }
        if starts_with(storage.as_ref(), b"MSCF")? {
            super::cabinet::check(storage.as_ref())?;
            let cabinet = cabinet(&storage, MAX_HEAD)?;
            let mut files = Vec::new();
            for folder in cabinet.folder_entries() {
                for file in folder.file_entries() {
                    let (path, len) = (file.name().replace('\\', "/"), u64::from(file.uncompressed_size()));
                    files.push(File { path, len, at: u64::from(folder.num_data_blocks()) });
                }
            }
            count(&mut files, &mut hold)?;
            return Ok(Self::of(name, Store::Cabinet(storage), files, hold));
        }
        if container::is_archive(storage.as_ref())? {
            let archive = Archive::open(storage)?;
            let file = |member: &container::Member| File { path: member.name.clone(), len: member.len, at: 0 };
            let mut files: Vec<File> = archive.members().iter().map(file).collect();
            count(&mut files, &mut hold)?;
            return Ok(Self::of(name, Store::Archive(Box::new(archive)), files, hold));
        }
        let what = "it is no driver medium: a folder, an ISO image, a zip or tar archive, or a cabinet is one".into();
        Err(Error::Unsupported { volume: name, action: "read for drivers", what })
    }

    fn of(name: String, store: Store, mut files: Vec<File>, hold: Hold) -> Self {
        files.sort_by(|a, b| a.path.cmp(&b.path));
        Self { name, store, files, has_udf: false, left: AtomicU64::new(MAX_BLOCKS), _hold: hold }
    }

    /// What kind of thing it is.
    pub fn kind(&self) -> &'static str {
        match self.store {
            Store::Folder(_) => Self::FOLDER,
            Store::Optical(_) => Self::OPTICAL,
            Store::Archive(_) => Self::ARCHIVE,
            Store::Cabinet(_) => Self::CABINET,
        }
    }

    /// Whether there is a UDF file system too, which is not read and may hold other files.
    pub fn has_udf(&self) -> bool {
        self.has_udf
    }

    /// Its files, in the order of their paths.
    pub(crate) fn files(&self) -> &[File] {
        &self.files
    }

    /// Whether there is anything for a driver among its files: what tells a medium from other archives and folders.
    pub fn has_drivers(&self) -> bool {
        self.files.iter().any(|file| is_inf(&file.path))
    }

    /// The file at `path`, whatever its case.
    pub(crate) fn find(&self, path: &str) -> Option<&File> {
        let exact = self.files.iter().find(|file| file.path == path);
        exact.or_else(|| self.files.iter().find(|file| file.path.eq_ignore_ascii_case(path)))
    }

    /// The bytes of a file, at most `most`.
    ///
    /// # Errors
    /// [`Error::TooLarge`]; [`Error::Memory`]; those of reading.
    pub(crate) fn read(&self, file: &File, most: u64, budget: &Arc<Budget>) -> Result<Vec<u8>> {
        let shown = format!("{}/{}", self.name, file.path);
        if file.len > most {
            return Err(Error::TooLarge { path: shown, size: file.len, most });
        }
        let _room = budget.take(file.len)?;
        let at_once = |storage: &dyn Storage, at: u64| -> Result<Vec<u8>> {
            Ok(reformis_disk::source::read_vec(storage, at, to_usize(file.len), "a file of the medium")?.to_vec())
        };
        match &self.store {
            Store::Folder(folder) => {
                let storage = FileStorage::open(&folder.join(&file.path), budget)?;
                if storage.len() != file.len {
                    return Err(Error::Damaged { volume: shown, what: "it changed while it was read".into() });
                }
                at_once(&storage, 0)
            }
            Store::Optical(storage) => at_once(storage.as_ref(), file.at),
            Store::Archive(archive) => Ok(archive.read(&file.path, most)?),
            Store::Cabinet(storage) => {
                let left =
                    self.left.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |left| left.checked_sub(file.at));
                if left.is_err() {
                    let what = "its files lie behind too much that has to be unpacked first".into();
                    return Err(Error::Unsupported { volume: self.name.clone(), action: "read for drivers", what });
                }
                let mut cabinet = cabinet(storage, MAX_HEAD + 2 * storage.len())?;
                let name = file.path.replace('/', "\\");
                // Names come with either separator.
                let name = if cabinet.get_file_entry(&name).is_some() { name } else { file.path.clone() };
                let mut bytes = Vec::new();
                let reader = cabinet.read_file(&name).map_err(broken(&shown))?;
                reader.take(file.len).read_to_end(&mut bytes).map_err(broken(&shown))?;
                Ok(bytes)
            }
        }
    }
}

/// Whether a path is that of a setup information file.
pub(crate) fn is_inf(path: &str) -> bool {
    path.rsplit_once('.').is_some_and(|(_, ending)| ending.eq_ignore_ascii_case("inf"))
}

fn count(files: &mut Vec<File>, hold: &mut Hold) -> Result<()> {
    // A name that leads out of the medium is nothing that could be asked for.
    files.retain(|file| reformis_disk::source::check_relative_name(&file.path).is_ok());
    files.truncate(MAX_FILES);
    Ok(hold.grow(files.iter().map(|file| file.path.len() as u64 + FILE).sum())?)
}

/// Lists the files below a folder; links are passed over, since they may lead anywhere.
fn walk(folder: &Path, below: &str, depth: usize, files: &mut Vec<File>, hold: &mut Hold) -> Result<()> {
    let shown = folder.to_string_lossy().into_owned();
    let failed = || reformis_disk::Error::io("listing", shown.clone(), None);
    if depth > MAX_DEPTH {
        return Ok(());
    }
    for entry in std::fs::read_dir(folder).map_err(failed())? {
        let entry = entry.map_err(failed())?;
        let (Ok(name), kind) = (entry.file_name().into_string(), entry.file_type().map_err(failed())?) else {
            continue;
        };
        let path = if below.is_empty() { name } else { format!("{below}/{name}") };
        if kind.is_dir() {
            walk(&entry.path(), &path, depth + 1, files, hold)?;
        } else if kind.is_file() {
            if files.len() == MAX_FILES {
                let what = format!("it has more than {MAX_FILES} files");
                return Err(Error::Unsupported { volume: shown, action: "read for drivers", what });
            }
            hold.grow(path.len() as u64 + FILE)?;
            let len = entry.metadata().map_err(failed())?.len();
            files.push(File { path, len, at: 0 });
        }
    }
    Ok(())
}
