//! The members of an archive, and what is refused of a stranger's.

use std::collections::HashSet;

use crate::{
    budget::{Held, Hold},
    error::{Error, Result},
    source::{Storage, check_relative_name},
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
    /// How it lies in a zip archive.
    pub(super) zipped: Option<Zipped>,
}

/// How a member lies in a zip archive, and what its bytes have to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Zipped {
    /// Bytes there.
    pub(super) len: u64,
    pub(super) method: zip::CompressionMethod,
    pub(super) crc32: u32,
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

    /// All of them, and whether the archive's end is there.
    pub(super) fn finish(self) -> (Held<Vec<Member>>, bool) {
        (self.hold.of(self.members), self.ended)
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
