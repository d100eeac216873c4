//! File systems by paths, without following links: what is alike in all of them.

use std::sync::Arc;

use reformis_disk::budget::Budget;

use crate::{
    bench::Device,
    error::{Error, Result},
    fs::{
        ext::{self, Ext},
        fat::Fat,
        node::{Kind, New, Owner, Stat},
    },
    volume::probe::{self, Volume},
};

/// The edit that a replayed journal is.
pub(crate) const JOURNAL: &str = "journal";

/// A name in a folder, as bytes.
pub(crate) type Name = Vec<u8>;

/// A file system that we read and write.
pub(crate) enum Fs {
    Ext(Box<Ext>),
    Fat(Fat),
}

pub(crate) fn shown(path: &[Name]) -> String {
    let parts: Vec<_> = path.iter().map(|name| String::from_utf8_lossy(name)).collect();
    format!("/{}", parts.join("/"))
}

fn texts(path: &[Name]) -> Vec<String> {
    path.iter().map(|name| String::from_utf8_lossy(name).into_owned()).collect()
}

fn kind_of(mode: u16) -> Kind {
    match mode & ext::mode::KIND {
        ext::mode::FILE => Kind::File,
        ext::mode::FOLDER => Kind::Folder,
        ext::mode::LINK => Kind::Link,
        _ => Kind::Other,
    }
}

fn of_inode(inode: &ext::Inode) -> Stat {
    Stat {
        kind: kind_of(inode.mode()),
        size: inode.size(),
        mode: inode.mode() & 0o7777,
        uid: inode.uid(),
        gid: inode.gid(),
        modified: inode.modified(),
        links: inode.links().into(),
        id: inode.number,
    }
}

fn of_entry(entry: Option<&crate::fs::fat::Entry>) -> Stat {
    // FAT knows no owners: what a system would show for root's mount.
    let is_folder = entry.is_none_or(|entry| entry.is_folder);
    Stat {
        kind: if is_folder { Kind::Folder } else { Kind::File },
        size: entry.map_or(0, |entry| entry.size),
        mode: 0o755,
        uid: 0,
        gid: 0,
        modified: entry.map_or(0, |entry| entry.modified),
        links: 1,
        id: 0,
    }
}

impl Fs {
    /// The file system on `device`, and whether its journal was replayed, as an edit of its own; `None` when there is none that
    /// we read.
    pub(crate) fn open(device: &Device, now: i64) -> Result<Option<(Self, bool)>> {
        match probe::probe(device, 0, device.size())? {
            Some(Volume::Ext) => {
                let mut ext = Ext::open(device.clone(), now)?;
                let unclean = ext.state() == ext::State::Journal;
                if unclean {
                    device.bench().begin(JOURNAL, "what the guest had noted and not yet written to its place");
                    // Orphans are given back where all that counts them is kept right; else their own kernel does it.
                    let replayed = ext.replay().and_then(|()| match ext.check_features() {
                        Ok(()) => ext.release_orphans(),
                        Err(_) => Ok(()),
                    });
                    if let Err(error) = replayed {
                        device.bench().rollback();
                        return Err(error);
                    }
                }
                Ok(Some((Self::Ext(Box::new(ext)), unclean)))
            }
            Some(Volume::Fat) => Ok(Fat::open(device.clone(), now)?.map(|fat| (Self::Fat(fat), false))),
            _ => Ok(None),
        }
    }

    /// Memory for what is collected from it.
    pub(crate) fn budget(&self) -> &Arc<Budget> {
        match self {
            Self::Ext(ext) => ext.budget(),
            Self::Fat(fat) => fat.budget(),
        }
    }

    /// The inode at `path`; `None` when there is nothing.
    fn inode(ext: &Ext, path: &[Name]) -> Result<Option<ext::Inode>> {
        let mut inode = ext.inode(ext::ROOT)?;
        for name in path {
            if !inode.is_folder() {
                return Ok(None);
            }
            match ext.find(&inode, name)? {
                Some(number) => inode = ext.inode(number)?,
                None => return Ok(None),
            }
        }
        Ok(Some(inode))
    }

    fn inode_there(ext: &Ext, path: &[Name]) -> Result<ext::Inode> {
        Self::inode(ext, path)?.ok_or_else(|| Error::NotFound { path: shown(path) })
    }

    pub(crate) fn stat(&self, path: &[Name]) -> Result<Option<Stat>> {
        match self {
            Self::Ext(ext) => Ok(Self::inode(ext, path)?.map(|inode| of_inode(&inode))),
            Self::Fat(_) if path.is_empty() => Ok(Some(of_entry(None))),
            Self::Fat(fat) => Ok(fat.entry(&texts(path))?.map(|entry| of_entry(Some(&entry)))),
        }
    }

    /// Names in the folder at `path`, in the order in which they lie.
    pub(crate) fn list(&self, path: &[Name]) -> Result<Vec<Name>> {
        match self {
            Self::Ext(ext) => {
                let folder = Self::inode_there(ext, path)?;
                if !folder.is_folder() {
                    return Err(Error::WrongKind { path: shown(path), wanted: "folder" });
                }
                Ok(ext.entries(&folder)?.into_iter().map(|entry| entry.name).collect())
            }
            Self::Fat(fat) => Ok(fat.list(&texts(path))?.into_iter().map(|entry| entry.name.into_bytes()).collect()),
        }
    }

    pub(crate) fn read(&self, path: &[Name], most: u64) -> Result<Vec<u8>> {
        let outcome = match self {
            Self::Ext(ext) => ext.content(&Self::inode_there(ext, path)?, most),
            Self::Fat(fat) => match fat.entry(&texts(path))? {
                Some(entry) => fat.content(&entry, most),
                None => Err(Error::NotFound { path: shown(path) }),
            },
        };
        outcome.map_err(|error| match error {
            Error::TooLarge { size, most, .. } => Error::TooLarge { path: shown(path), size, most },
            other => other,
        })
    }

    /// Fills `buf` from `offset` of a file, as far as it goes; the number of bytes.
    pub(crate) fn read_at(&self, path: &[Name], offset: u64, buf: &mut [u8]) -> Result<usize> {
        match self {
            Self::Ext(ext) => ext.read_at(&Self::inode_there(ext, path)?, offset, buf),
            Self::Fat(fat) => match fat.entry(&texts(path))? {
                Some(entry) => fat.read_at(&entry, offset, buf),
                None => Err(Error::NotFound { path: shown(path) }),
            },
        }
    }

    pub(crate) fn link_target(&self, path: &[Name]) -> Result<Vec<u8>> {
        match self {
            Self::Ext(ext) => ext.link_target(&Self::inode_there(ext, path)?),
            Self::Fat(_) => Err(Error::WrongKind { path: shown(path), wanted: "link" }),
        }
    }

    /// The extended attributes of what is at `path`.
    pub(crate) fn attributes(&self, path: &[Name]) -> Result<Vec<ext::Attribute>> {
        match self {
            Self::Ext(ext) => ext.attributes(&Self::inode_there(ext, path)?),
            Self::Fat(_) => Ok(Vec::new()),
        }
    }

    /// Makes something new at `path`, whose folder is there.
    pub(crate) fn create(&mut self, path: &[Name], new: &New<'_>, owner: &Owner) -> Result<()> {
        let Some((name, folder)) = path.split_last() else { return Err(Error::Exists { path: "/".into() }) };
        match (self, new) {
            (Self::Ext(ext), new) => {
                let folder = Self::inode_there(ext, folder)?;
                if !folder.is_folder() {
                    return Err(Error::WrongKind { path: shown(path), wanted: "folder" });
                }
                ext.create(folder.number, name, new, owner).map(drop).map_err(|error| match error {
                    Error::Exists { .. } => Error::Exists { path: shown(path) },
                    other => other,
                })
            }
            (Self::Fat(fat), New::File(bytes)) => fat.write(&texts(path), bytes),
            (Self::Fat(fat), New::Folder) => fat.make_folder(&texts(path)),
            (Self::Fat(_), New::Link(_)) => {
                Err(Error::Unsupported { volume: shown(path), action: "made", what: "FAT has no links".into() })
            }
        }
    }

    /// Replaces the bytes of the file at `path`.
    pub(crate) fn replace(&mut self, path: &[Name], bytes: &[u8]) -> Result<()> {
        match self {
            Self::Ext(ext) => {
                let inode = Self::inode_there(ext, path)?;
                if !inode.is_file() {
                    return Err(Error::WrongKind { path: shown(path), wanted: "file" });
                }
                ext.replace(inode.number, bytes)
            }
            Self::Fat(fat) => fat.write(&texts(path), bytes),
        }
    }

    /// Adds bytes at the end of the file at `path`.
    pub(crate) fn append(&mut self, path: &[Name], bytes: &[u8]) -> Result<()> {
        match self {
            Self::Ext(ext) => {
                let inode = Self::inode_there(ext, path)?;
                if !inode.is_file() {
                    return Err(Error::WrongKind { path: shown(path), wanted: "file" });
                }
                ext.append(inode.number, bytes)
            }
            Self::Fat(_) => {
                let whole = [self.read(path, 1 << 30)?, bytes.to_vec()].concat();
                self.replace(path, &whole)
            }
        }
    }

    pub(crate) fn remove(&mut self, path: &[Name]) -> Result<()> {
        let Some((name, folder)) = path.split_last() else {
            return Err(Error::WrongKind { path: "/".into(), wanted: "file" });
        };
        match self {
            Self::Ext(ext) => {
                let folder = Self::inode_there(ext, folder)?;
                ext.remove(folder.number, name)
            }
            Self::Fat(fat) => fat.remove(&texts(path)),
        }
    }

    /// Sets owner and permissions of what is at `path`.
    pub(crate) fn set_owner(&mut self, path: &[Name], uid: u32, gid: u32, mode: u16) -> Result<()> {
        match self {
            Self::Ext(ext) => {
                let inode = Self::inode_there(ext, path)?;
                ext.set_owner(inode.number, uid, gid, mode)
            }
            // There is nothing to set.
            Self::Fat(_) => Ok(()),
        }
    }

    /// Refuses what could not be kept right.
    pub(crate) fn check_writable(&self) -> Result<()> {
        match self {
            Self::Ext(ext) => ext.check_writable(),
            Self::Fat(_) => Ok(()),
        }
    }

    /// Free bytes.
    pub(crate) fn free(&self) -> Result<u64> {
        match self {
            Self::Ext(ext) => Ok(ext.free()),
            Self::Fat(fat) => fat.free(),
        }
    }

    /// Reads again what is kept in memory, after an edit was taken back.
    pub(crate) fn reload(&mut self) -> Result<()> {
        match self {
            Self::Ext(ext) => ext.reload(),
            Self::Fat(_) => Ok(()),
        }
    }
}
