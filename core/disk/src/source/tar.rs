//! The directory of an uncompressed tar archive.

use std::io::{self, Read};

use super::{
    Storage,
    archive::{MAX_DIRECTORY, Member, Members, plain, refuse_name},
    cursor::Cursor,
};
use crate::error::{Error, Result};

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

/// Reads the headers. Folders, links and special files are passed over: nothing that moves lies in them.
///
/// # Errors
/// [`Error::Damaged`] for a broken header, [`Error::CutShort`] when a member's bytes end after the archive; those of
/// [`Members::add`].
pub(super) fn members(storage: &dyn Storage) -> Result<Members> {
    let path = storage.name().to_string();
    let broken = |offset: u64, error: &io::Error| Error::damaged(&path, offset, error.to_string());
    let mut members = Members::default();
    let mut end = 0;
    let mut reader = tar::Archive::new(Cursor::new(storage, MAX_DIRECTORY));
    for entry in reader.entries_with_seek().map_err(|e| broken(0, &e))? {
        let entry = entry.map_err(|e| broken(end, &e))?;
        let kind = entry.header().entry_type();
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        let member = Member { offset: entry.raw_file_position(), len: entry.size(), name, packed: None };
        super::require(storage, member.offset, member.len, &format!("member '{}'", member.name))?;
        end = (member.offset + member.len).next_multiple_of(512);
        if kind.is_gnu_sparse() {
            return Err(Error::Unsupported {
                path,
                what: format!("member '{}' is stored sparsely, which cannot be read in place", member.name),
            });
        }
        if kind.is_file() || kind.is_contiguous() {
            members.add(member, &path)?;
        }
    }
    // The archive ends in two blocks of zeros; writers differ in how many more they add.
    let mut mark = [1; 1024];
    members.ended = storage.read_at(end, &mut mark).is_ok() && mark.iter().all(|&b| b == 0);
    Ok(members)
}

/// Gives `visit` the bytes of member `name` of the archive that `stream` unpacks to, read forwards, with their length.
///
/// # Errors
/// [`Error::NoMember`]; [`Error::Damaged`]; those of `visit`.
pub(super) fn visit_member<T>(
    stream: &mut (dyn Read + Send),
    archive: &str,
    name: &str,
    visit: &mut dyn FnMut(&mut (dyn Read + Send), u64) -> Result<T>,
) -> Result<T> {
    let len = seek_member(stream, archive, name)?;
    // The headers are read one by one, so that the member's bytes come next.
    visit(&mut stream.take(len), len)
}

/// Reads up to the first byte of member `name`; returns its length.
fn seek_member(stream: &mut (dyn Read + Send), archive: &str, name: &str) -> Result<u64> {
    let broken = |error: io::Error| Error::damaged(archive, None, error.to_string());
    let mut reader = tar::Archive::new(stream);
    for entry in reader.entries().map_err(broken)? {
        let entry = entry.map_err(broken)?;
        let found = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        if entry.header().entry_type().is_file() && plain(&found) == plain(name) {
            refuse_name(&found, archive)?;
            return Ok(entry.size());
        }
    }
    Err(Error::NoMember { archive: archive.into(), member: name.into() })
}
