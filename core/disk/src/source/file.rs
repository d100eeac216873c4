//! A plain file or a block device, opened read-only.

use std::{
    fs::File,
    io::{self, Seek, SeekFrom},
    os::unix::fs::{FileExt, FileTypeExt, MetadataExt},
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant, SystemTime},
};

use super::{Access, Identity, Links, Stamp, Storage, Version, holes::Holes};
use crate::{
    budget::Budget,
    disk::Extent,
    error::{Error, Result},
};

/// A file or block device that is only ever read.
#[derive(Debug)]
pub struct FileStorage {
    file: File,
    name: String,
    /// The path as it was given.
    path: PathBuf,
    allocated: u64,
    identity: Identity,
    /// Whether it has no place of its own, and so nothing beside it.
    spooled: bool,
    budget: Arc<Budget>,
    holes: Mutex<Holes>,
}

fn lock(holes: &Mutex<Holes>) -> MutexGuard<'_, Holes> {
    holes.lock().unwrap_or_else(PoisonError::into_inner)
}

impl FileStorage {
    /// Opens `path` for reading; what is collected from it is counted against `budget`.
    ///
    /// # Errors
    /// What the system says, and for a folder, a pipe or a socket that it is not a file.
    pub fn open(path: &Path, budget: &Arc<Budget>) -> Result<Self> {
        let name = path.to_string_lossy().into_owned();
        // Asked before opening: opening a pipe would wait for its writer, and a device may do something.
        check_kind(std::fs::metadata(path).map_err(Error::io("opening", &name, None))?.file_type(), &name)?;
        Self::opened(File::open(path).map_err(Error::io("opening", &name, None))?, path.into(), budget)
    }

    /// The open `file`, which was found at `path`.
    ///
    /// # Errors
    /// As [`FileStorage::open`].
    pub fn opened(mut file: File, path: PathBuf, budget: &Arc<Budget>) -> Result<Self> {
        let name = path.to_string_lossy().into_owned();
        let metadata = file.metadata().map_err(Error::io("opening", &name, None))?;
        check_kind(metadata.file_type(), &name)?;
        let device = metadata.file_type().is_block_device();
        let len = if device {
            file.seek(SeekFrom::End(0)).map_err(Error::io("measuring", &name, None))?
        } else {
            metadata.len()
        };
        let version = if device { Version::Unknown } else { Version::File(Stamp::of(&metadata)) };
        let identity = Identity { len, version, access: Some(Access::of(&metadata)) };
        let holes = Mutex::new(Holes::new(budget));
        let allocated = if device { len } else { metadata.blocks().saturating_mul(512) };
        Ok(Self { file, name, path, allocated, identity, spooled: false, budget: budget.clone(), holes })
    }

    /// A file without a name of its own, such as a spooled one; `name` stands for it in messages.
    ///
    /// # Errors
    /// What the system says.
    pub fn of_spool(file: File, name: String, budget: &Arc<Budget>) -> Result<Self> {
        let metadata = file.metadata().map_err(Error::io("opening", &name, None))?;
        let path = PathBuf::from(&name);
        let identity = Identity { len: metadata.len(), version: Version::Unknown, access: None };
        let allocated = metadata.blocks().saturating_mul(512);
        let holes = Mutex::new(Holes::new(budget));
        Ok(Self { file, name, path, allocated, identity, spooled: true, budget: budget.clone(), holes })
    }

    fn changed(&self, what: impl Into<String>) -> Error {
        Error::Changed { path: self.name.clone(), what: what.into() }
    }
}

fn check_kind(kind: std::fs::FileType, name: &str) -> Result<()> {
    if kind.is_file() || kind.is_block_device() {
        return Ok(());
    }
    let what = if kind.is_dir() { "it is a folder" } else { "it is neither a file nor a block device" };
    Err(Error::Unsupported { path: name.into(), what: what.into() })
}

/// How long a file must have been left alone before its version can be trusted: file systems tell the time of a change in steps, of one
/// second on ext with inodes of 128 bytes.
const STILL: Duration = Duration::from_secs(2);
/// How far the clock may be from where it should be, beside a clock that nobody sets.
const STEP: Duration = Duration::from_millis(500);

/// Whether a file system notes the time of every write to its files, through memory maps too: a page that was flushed is protected, so
/// that the next write to it is noticed (`page_mkwrite`). One that lies in memory does not, nor need one on another machine. By the
/// numbers of statfs(2): ext2 to ext4, XFS, Btrfs.
fn notes_every_write(file: &File) -> bool {
    rustix::fs::fstatfs(file)
        .is_ok_and(|stat| [0xef53, 0x5846_5342, 0x9123_683e].contains(&(stat.f_type as u64 & 0xffff_ffff)))
}

impl Storage for FileStorage {
    fn name(&self) -> &str {
        &self.name
    }

    fn len(&self) -> u64 {
        self.identity.len
    }

    fn allocated(&self) -> u64 {
        self.allocated
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        super::require(self, offset, buf.len() as u64, "a read")?;
        self.file.read_exact_at(buf, offset).map_err(|source| match source.kind() {
            // It was long enough when it was opened.
            io::ErrorKind::UnexpectedEof => self.changed("it became shorter"),
            _ => Error::Io { action: "reading", path: self.name.clone(), offset: Some(offset), source },
        })
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let len = self.identity.len;
        if self.identity.version == Version::Unknown && !self.spooled {
            return Ok(Extent::data(offset, len - offset));
        }
        Ok(lock(&self.holes).at(&self.file, len, offset))
    }

    fn check_unchanged(&self) -> Result<()> {
        let Version::File(before) = self.identity.version else { return Ok(()) };
        let now = self.file.metadata().map_err(Error::io("checking", &self.name, None))?;
        if now.len() != self.identity.len {
            return Err(self.changed(format!("{} bytes before, {} now", self.identity.len, now.len())));
        }
        let now = Stamp::of(&now);
        if now.modified != before.modified {
            return Err(self.changed("its modification time is another one"));
        }
        if now != before {
            return Err(self.changed("the time of its last change (ctime) is another one"));
        }
        Ok(())
    }

    fn is_at_rest(&self) -> bool {
        let Version::File(stamp) = self.identity.version else { return false };
        let (wall, steady) = (SystemTime::now(), Instant::now());
        // Flushed, a page that is still mapped somewhere is protected: the next write to it has a time of its own.
        if !notes_every_write(&self.file) || rustix::fs::fdatasync(&self.file).is_err() {
            return false;
        }
        let is_same = self.file.metadata().is_ok_and(|now| Stamp::of(&now) == stamp);
        let was_left_alone = wall.duration_since(stamp.changed).is_ok_and(|since| since >= STILL)
            && wall.duration_since(stamp.modified).is_ok_and(|since| since >= STILL);
        // A clock that is set meanwhile would make a change look older than it is.
        let took = SystemTime::now().duration_since(wall).unwrap_or(Duration::MAX);
        let is_steady = took.abs_diff(steady.elapsed()) < STEP;
        is_same && was_left_alone && is_steady
    }

    fn identity(&self) -> Option<&Identity> {
        Some(&self.identity)
    }

    fn budget(&self) -> &Arc<Budget> {
        &self.budget
    }

    fn sibling(&self, name: &str, links: Links) -> Result<Arc<dyn Storage>> {
        if self.spooled {
            return Err(Error::NoMember { archive: self.name.clone(), member: name.into() });
        }
        let folder = self.path.parent().filter(|folder| *folder != Path::new(""));
        let folder = folder.unwrap_or(Path::new("."));
        Ok(Arc::new(super::open_link(folder, &self.name, name, links, &self.budget)?))
    }

    fn neighbours(&self) -> Result<Vec<String>> {
        if self.spooled {
            return Ok(Vec::new());
        }
        let folder = self.path.parent().filter(|folder| *folder != Path::new("")).unwrap_or(Path::new("."));
        let entries = std::fs::read_dir(folder).map_err(Error::io("listing", folder.to_string_lossy(), None))?;
        let files = entries.flatten().filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_file()));
        let names = files.filter_map(|entry| entry.file_name().into_string().ok());
        let mut names: Vec<String> = names.take(super::MAX_NEIGHBOURS).collect();
        names.sort();
        Ok(names)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn holes_are_asked_of_the_file_system_and_changes_noticed() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("disk");
        let file = File::create(&path).unwrap();
        file.set_len(64 << 20).unwrap();
        file.write_all_at(&[1; 4096], 32 << 20).unwrap();
        let storage = FileStorage::open(&path, &Budget::whole()).unwrap();
        assert_eq!(storage.extent_at(0).unwrap(), Extent::zero(0, 32 << 20));
        assert_eq!(storage.extent_at(32 << 20).unwrap().kind, crate::ExtentKind::Data);
        assert_eq!(storage.extent_at(48 << 20).unwrap(), Extent::zero(48 << 20, 16 << 20));
        assert!(storage.allocated() < 1 << 20);
        storage.check_unchanged().unwrap();

        file.set_len(1 << 20).unwrap();
        assert!(matches!(storage.check_unchanged(), Err(Error::Changed { .. })));
        assert!(matches!(storage.read_at(32 << 20, &mut [0; 8]), Err(Error::Changed { .. })));
        assert!(matches!(storage.read_at(64 << 20, &mut [0; 8]), Err(Error::CutShort { .. })));
    }

    #[test]
    fn folders_and_pipes_are_no_disks() {
        let folder = tempfile::tempdir().unwrap();
        assert!(matches!(FileStorage::open(folder.path(), &Budget::whole()), Err(Error::Unsupported { .. })));
        let pipe = folder.path().join("pipe");
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, rustix::fs::FileType::Fifo, 0o600.into(), 0).unwrap();
        assert!(matches!(FileStorage::open(&pipe, &Budget::whole()), Err(Error::Unsupported { .. })));
    }
}
