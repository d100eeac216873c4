//! Members of an uncompressed tar archive, read in place.

use std::{
    io::{self, Read, Seek, SeekFrom},
    sync::Arc,
};

use super::{Identity, Links, Storage, check_relative_name};
use crate::{
    disk::Extent,
    error::{Error, Result},
};

/// Bytes of headers and long names that we are willing to read: room for some ten thousand members.
const MAX_DIRECTORY: u64 = 16 << 20;
/// Members that we are willing to list.
const MAX_MEMBERS: usize = 10_000;

/// Whether the storage starts with a tar header (POSIX.1-1988 "ustar" or the older GNU kind of the same).
///
/// # Errors
/// What reading says.
pub fn is_tar(storage: &dyn Storage) -> Result<bool> {
    if storage.len() < 512 {
        return Ok(false);
    }
    let mut magic = [0; 5];
    storage.read_at(257, &mut magic)?;
    Ok(&magic == b"ustar")
}

/// A plain file inside the archive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its name, relative, without `..`.
    pub name: String,
    /// Where its bytes start in the archive.
    pub offset: u64,
    /// Length in bytes.
    pub len: u64,
}

/// An archive and the directory of its plain files.
#[derive(Clone)]
pub struct Archive {
    storage: Arc<dyn Storage>,
    members: Arc<[Member]>,
    ended: bool,
}

impl Archive {
    /// Reads the headers. Folders, links and special files are passed over: nothing that moves lies in them.
    ///
    /// # Errors
    /// [`Error::Damaged`] for a broken header or two members of one name, [`Error::CutShort`] when a member's bytes
    /// end after the archive, [`Error::UnsafeName`] for a name that leaves the archive's folder.
    pub fn open(storage: Arc<dyn Storage>) -> Result<Self> {
        let path = storage.name().to_string();
        let broken = |offset: u64, error: &io::Error| Error::damaged(&path, offset, error.to_string());
        let mut members: Vec<Member> = Vec::new();
        let mut end = 0;
        let mut reader = tar::Archive::new(Cursor { storage: storage.as_ref(), at: 0, budget: MAX_DIRECTORY });
        for entry in reader.entries_with_seek().map_err(|e| broken(0, &e))? {
            let entry = entry.map_err(|e| broken(end, &e))?;
            let kind = entry.header().entry_type();
            let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
            let member = Member { offset: entry.raw_file_position(), len: entry.size(), name };
            super::require(storage.as_ref(), member.offset, member.len, &format!("member '{}'", member.name))?;
            end = (member.offset + member.len).next_multiple_of(512);
            if kind.is_gnu_sparse() {
                return Err(Error::Unsupported {
                    path,
                    what: format!("member '{}' is stored sparsely, which cannot be read in place", member.name),
                });
            }
            if !kind.is_file() && !kind.is_contiguous() {
                continue;
            }
            if let Err(why) = check_relative_name(&member.name) {
                return Err(Error::UnsafeName { path, name: member.name, why: why.into(), trustable: false });
            }
            if members.iter().any(|m| m.name == member.name) {
                return Err(Error::damaged(&path, member.offset, format!("two members are called '{}'", member.name)));
            }
            if members.len() == MAX_MEMBERS {
                return Err(Error::Unsupported { path, what: format!("it has more than {MAX_MEMBERS} members") });
            }
            members.push(member);
        }
        // The archive ends in two blocks of zeros; writers differ in how many more they add.
        let mut mark = [1; 1024];
        let ended = storage.read_at(end, &mut mark).is_ok() && mark.iter().all(|&b| b == 0);
        Ok(Self { storage, members: members.into(), ended })
    }

    /// The plain files, in the archive's order.
    pub fn members(&self) -> &[Member] {
        &self.members
    }

    /// The archive's own storage.
    pub fn storage(&self) -> &Arc<dyn Storage> {
        &self.storage
    }

    /// Whether the end mark is there; without it members may have been lost.
    pub fn is_ended(&self) -> bool {
        self.ended
    }

    /// Whether there is a member `name`; a leading `./` does not count.
    pub fn find(&self, name: &str) -> Option<&Member> {
        let plain = |n: &str| n.trim_start_matches("./").to_string();
        let wanted = plain(name);
        self.members.iter().find(|member| plain(&member.name) == wanted)
    }

    /// The bytes of member `name`, in place.
    ///
    /// # Errors
    /// [`Error::NoMember`].
    pub fn member(&self, name: &str) -> Result<Arc<dyn Storage>> {
        let Some(member) = self.find(name) else {
            return Err(Error::NoMember { archive: self.storage.name().into(), member: name.into() });
        };
        Ok(Arc::new(MemberStorage {
            name: format!("{}/{}", self.storage.name(), member.name.trim_start_matches("./")),
            offset: member.offset,
            len: member.len,
            own_name: member.name.clone(),
            archive: self.clone(),
        }))
    }
}

/// A window of the archive.
struct MemberStorage {
    archive: Archive,
    /// Its name in the archive.
    own_name: String,
    name: String,
    offset: u64,
    len: u64,
}

impl Storage for MemberStorage {
    fn name(&self) -> &str {
        &self.name
    }

    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        super::require(self, offset, buf.len() as u64, "a read")?;
        self.archive.storage.read_at(self.offset + offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let extent = self.archive.storage.extent_at(self.offset + offset)?;
        Ok(Extent { start: offset, ..extent }.clipped(self.len))
    }

    fn check_unchanged(&self) -> Result<()> {
        self.archive.storage.check_unchanged()
    }

    fn identity(&self) -> Option<&Identity> {
        self.archive.storage.identity()
    }

    fn sibling(&self, name: &str, _: Links) -> Result<Arc<dyn Storage>> {
        // A name that climbs finds no member: none has such a name.
        let folder = self.own_name.rfind('/').map_or("", |end| &self.own_name[..=end]);
        self.archive.member(&format!("{folder}{name}"))
    }
}

/// What the tar reader reads: headers only, and no more of them than the budget.
struct Cursor<'a> {
    storage: &'a dyn Storage,
    at: u64,
    budget: u64,
}

impl Read for Cursor<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = (buf.len() as u64).min(self.storage.len().saturating_sub(self.at));
        if len > self.budget {
            return Err(io::Error::other("the archive's headers and names take more than 16 MiB"));
        }
        let buf = &mut buf[..len as usize];
        self.storage.read_at(self.at, buf).map_err(|error| io::Error::other(error.to_string()))?;
        self.at += len;
        self.budget -= len;
        Ok(buf.len())
    }
}

impl Seek for Cursor<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let target = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => self.storage.len().checked_add_signed(by),
        };
        self.at = target.ok_or_else(|| io::Error::other("a member's length leads out of the archive"))?;
        Ok(self.at)
    }
}
