//! Archives and the files in them: what is stored plainly is read in place.

use std::{collections::HashSet, sync::Arc};

use super::{Identity, Links, Storage, check_relative_name, tar, zip};
use crate::{
    budget::{Budget, Held, Hold},
    disk::Extent,
    error::{Error, Result},
};

/// Bytes of headers and long names that we are willing to read: room for some ten thousand members.
pub(super) const MAX_DIRECTORY: u64 = 16 << 20;
/// Members that we are willing to list.
const MAX_MEMBERS: usize = 10_000;

/// A plain file inside the archive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its name, relative, without `..`.
    pub name: String,
    /// Where its bytes start in the archive.
    pub offset: u64,
    /// Length in bytes.
    pub len: u64,
    /// How it is compressed there; `None` when it is stored as it is.
    pub packed: Option<String>,
}

/// Memory for a member beside its name, which is kept twice while the directory is read.
const MEMBER: u64 = 256;

/// The directory while it is read.
pub(super) struct Members {
    members: Vec<Member>,
    names: HashSet<String>,
    /// Whether the archive's end is there.
    pub(super) ended: bool,
    hold: Hold,
}

impl Members {
    /// None yet, of the archive in `storage`.
    pub(super) fn of(storage: &dyn Storage) -> Self {
        let hold = storage.budget().hold();
        Self { members: Vec::new(), names: HashSet::new(), ended: false, hold }
    }

    /// Adds a plain file of the archive `path`.
    ///
    /// # Errors
    /// [`Error::Damaged`] for two members of one name, [`Error::UnsafeName`] for a name that leaves the archive's folder,
    /// [`Error::Unsupported`] for too many, [`Error::Memory`].
    pub(super) fn add(&mut self, member: Member, path: &str) -> Result<()> {
        refuse_name(&member.name, path)?;
        let memory = self.hold.grow(2 * member.name.len() as u64 + MEMBER);
        memory.map_err(Error::memory(path, "the archive's directory"))?;
        if !self.names.insert(member.name.clone()) {
            return Err(Error::damaged(path, member.offset, format!("two members are called '{}'", member.name)));
        }
        if self.members.len() == MAX_MEMBERS {
            let what = format!("it has more than {MAX_MEMBERS} members");
            return Err(Error::Unsupported { path: path.into(), what });
        }
        self.members.push(member);
        Ok(())
    }
}

/// Fails for a name in the archive `path` that leaves its folder.
pub(super) fn refuse_name(name: &str, path: &str) -> Result<()> {
    check_relative_name(name).map_err(|why| Error::UnsafeName {
        path: path.into(),
        name: name.into(),
        why: why.into(),
        trustable: false,
    })
}

/// A name without what does not count at its start.
pub(super) fn plain(name: &str) -> &str {
    name.trim_start_matches("./")
}

/// Whether the storage is an archive that can be read in place.
///
/// # Errors
/// What reading says.
pub fn is_archive(storage: &dyn Storage) -> Result<bool> {
    Ok(zip::is_zip(storage)? || tar::is_tar(storage)?)
}

/// An archive and the directory of its plain files.
#[derive(Clone)]
pub struct Archive {
    storage: Arc<dyn Storage>,
    members: Arc<Held<Vec<Member>>>,
    ended: bool,
}

impl Archive {
    /// Reads the directory of a tar or zip archive.
    ///
    /// # Errors
    /// [`Error::Damaged`] for a broken header or two members of one name, [`Error::CutShort`] when a member's bytes
    /// end after the archive, [`Error::UnsafeName`] for a name that leaves the archive's folder.
    pub fn open(storage: Arc<dyn Storage>) -> Result<Self> {
        let members = match zip::is_zip(storage.as_ref())? {
            true => zip::members(storage.as_ref())?,
            false => tar::members(storage.as_ref())?,
        };
        let Members { members, ended, hold, .. } = members;
        Ok(Self { storage, members: Arc::new(hold.of(members)), ended })
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
        self.members.iter().find(|member| plain(&member.name) == plain(name))
    }

    /// The bytes of member `name`, in place.
    ///
    /// # Errors
    /// [`Error::NoMember`]; [`Error::Unsupported`] when it is compressed.
    pub fn member(&self, name: &str) -> Result<Arc<dyn Storage>> {
        let Some(member) = self.find(name) else {
            return Err(Error::NoMember { archive: self.storage.name().into(), member: name.into() });
        };
        let name = format!("{}/{}", self.storage.name(), plain(&member.name));
        if let Some(method) = &member.packed {
            let what = format!(
                "it is compressed in its archive ({method}) and can only be read from start to end; `reformis recast` unpacks it"
            );
            return Err(Error::Unsupported { path: name, what });
        }
        Ok(Arc::new(MemberStorage {
            name,
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

    fn budget(&self) -> &Arc<Budget> {
        self.archive.storage.budget()
    }

    #[expect(clippy::string_slice, reason = "cut behind a slash that was found")]
    fn sibling(&self, name: &str, _: Links) -> Result<Arc<dyn Storage>> {
        // A name that climbs finds no member: none has such a name.
        let folder = self.own_name.rfind('/').map_or("", |end| &self.own_name[..=end]);
        self.archive.member(&format!("{folder}{name}"))
    }

    #[expect(clippy::string_slice, reason = "cut behind a slash that was found")]
    fn neighbours(&self) -> Result<Vec<String>> {
        let folder = self.own_name.rfind('/').map_or("", |end| &self.own_name[..=end]);
        let names = self.archive.members.iter().filter_map(|member| member.name.strip_prefix(folder));
        Ok(names.filter(|name| !name.contains('/')).take(super::MAX_NEIGHBOURS).map(Into::into).collect())
    }
}
