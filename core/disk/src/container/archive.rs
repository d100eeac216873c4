//! Archives and the files in them: what is stored plainly is read in place.

use std::sync::Arc;

use super::{
    member::{Member, plain},
    tar, zip,
};
use crate::{
    budget::{Budget, Held},
    disk::Extent,
    error::{Error, Result},
    source::{Identity, Links, MAX_NEIGHBOURS, Storage, require},
};

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
        let (members, ended) = members.finish();
        Ok(Self { storage, members: Arc::new(members), ended })
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

    /// All bytes of member `name`, unpacked, of which there are at most `most`; the archive's directory is not read again.
    ///
    /// # Errors
    /// [`Error::NoMember`]; [`Error::Unsupported`] for more bytes, and for a way of compressing that is not read; [`Error::Damaged`];
    /// those of reading.
    pub fn read(&self, name: &str, most: u64) -> Result<Vec<u8>> {
        let Some(member) = self.find(name) else {
            return Err(Error::NoMember { archive: self.storage.name().into(), member: name.into() });
        };
        let shown = format!("{}/{name}", self.storage.name());
        if member.len > most {
            let what = format!("it has {} bytes, more than the {most} that are read", member.len);
            return Err(Error::Unsupported { path: shown, what });
        }
        let mut bytes = Vec::new();
        if member.zipped.is_none() {
            bytes.resize(crate::to_usize(member.len), 0);
            self.storage.read_at(member.offset, &mut bytes)?;
            return Ok(bytes);
        }
        zip::visit_found(&self.storage, name, member, &|_| {}, &mut |stream, _| {
            stream.read_to_end(&mut bytes).map_err(Error::io("unpacking", shown.clone(), None))
        })?;
        Ok(bytes)
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

    fn is_far(&self) -> bool {
        self.archive.storage.is_far()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        require(self, offset, buf.len() as u64, "a read")?;
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
        Ok(names.filter(|name| !name.contains('/')).take(MAX_NEIGHBOURS).map(Into::into).collect())
    }
}
