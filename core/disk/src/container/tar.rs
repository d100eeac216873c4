//! The directory of an uncompressed tar archive.

use std::{
    io::{self, Read},
    sync::Arc,
};

use super::{
    cursor::Cursor,
    member::{MAX_DIRECTORY, Member, Members, plain, refuse_name},
};
use crate::{
    budget::Budget,
    error::{Error, Result},
    source::{Storage, require},
};

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
    let mut members = Members::of(storage);
    let mut end = 0;
    let mut reader = tar::Archive::new(Cursor::new(storage, MAX_DIRECTORY, 1));
    for entry in reader.entries_with_seek().map_err(|e| broken(0, &e))? {
        let entry = entry.map_err(|e| broken(end, &e))?;
        let kind = entry.header().entry_type();
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        let member = Member { offset: entry.raw_file_position(), len: entry.size(), name, packed: None, zipped: None };
        require(storage, member.offset, member.len, &format!("member '{}'", member.name))?;
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
    budget: &Arc<Budget>,
    visit: &mut dyn FnMut(&mut (dyn Read + Send), u64) -> Result<T>,
) -> Result<T> {
    let len = seek_member(stream, archive, name, budget)?;
    // The headers are read one by one, so that the member's bytes come next.
    visit(&mut stream.take(len), len)
}

/// The longest name, or list of attributes, that a header may announce.
const MAX_LONG_NAME: u64 = 1 << 20;

/// Reads up to the first byte of member `name`; returns its length.
fn seek_member(stream: &mut (dyn Read + Send), archive: &str, name: &str, budget: &Arc<Budget>) -> Result<u64> {
    let broken = |error: io::Error| Error::damaged(archive, None, error.to_string());
    let mut reader = tar::Archive::new(stream);
    let mut long_name = None;
    // Headers as they stand: the library would take any length of a long name into memory.
    for entry in reader.entries().map_err(broken)?.raw(true) {
        let mut entry = entry.map_err(broken)?;
        let kind = entry.header().entry_type();
        if kind.is_gnu_longname() || kind.is_pax_local_extensions() {
            if entry.size() > MAX_LONG_NAME {
                let what = format!("a name of {} bytes, and {MAX_LONG_NAME} are the most", entry.size());
                return Err(Error::damaged(archive, None, what));
            }
            let _hold = budget.take(2 * entry.size()).map_err(Error::memory(archive, "a name"))?;
            let mut bytes = Vec::new();
            entry.read_to_end(&mut bytes).map_err(broken)?;
            let found = if kind.is_gnu_longname() {
                bytes.split(|&byte| byte == 0).next().map(<[u8]>::to_vec)
            } else {
                path_of_pax(&bytes)
            };
            long_name = found.or(long_name);
            continue;
        }
        let path = long_name.take().unwrap_or_else(|| entry.path_bytes().into_owned());
        let found = String::from_utf8_lossy(&path).into_owned();
        if kind.is_file() && plain(&found) == plain(name) {
            refuse_name(&found, archive)?;
            return Ok(entry.size());
        }
    }
    Err(Error::NoMember { archive: archive.into(), member: name.into() })
}

/// The path among the attributes of a member (POSIX.1-2001, "pax Extended Header": `LENGTH KEY=VALUE` and a line's end).
fn path_of_pax(bytes: &[u8]) -> Option<Vec<u8>> {
    let mut path = None;
    let mut rest = bytes;
    while let Some(space) = rest.iter().position(|&byte| byte == b' ') {
        let len: usize = std::str::from_utf8(rest.get(..space)?).ok()?.parse().ok()?;
        let record = rest.get(space + 1..len.checked_sub(1)?)?;
        path = record.strip_prefix(b"path=").map(<[u8]>::to_vec).or(path);
        rest = rest.get(len..)?;
    }
    path
}

#[cfg(test)]
mod tests {
    use super::*;

    fn archive(make: impl FnOnce(&mut tar::Builder<Vec<u8>>)) -> Vec<u8> {
        let mut builder = tar::Builder::new(Vec::new());
        make(&mut builder);
        builder.into_inner().unwrap()
    }

    #[test]
    fn long_names_are_found_and_bounded() {
        let long = format!("{}/disk.img", "a".repeat(200));
        let mut header = tar::Header::new_gnu();
        header.set_size(3);
        let gnu = archive(|builder| builder.append_data(&mut header.clone(), &long, &b"xyz"[..]).unwrap());
        let pax = archive(|builder| {
            builder.append_pax_extensions([("comment", &b"x"[..]), ("path", long.as_bytes())]).unwrap();
            header.set_path("short").unwrap();
            header.set_cksum();
            builder.append(&header, &b"xyz"[..]).unwrap();
        });
        for bytes in [gnu, pax] {
            let mut found = Vec::new();
            let mut stream = &bytes[..];
            visit_member(&mut stream, "x.tar.gz", &long, &Budget::whole(), &mut |bytes, len| {
                assert_eq!(len, 3);
                bytes.read_to_end(&mut found).map_err(Error::io("reading", "x", None))
            })
            .unwrap();
            assert_eq!(found, b"xyz");
        }
        let mut bomb = tar::Header::new_gnu();
        bomb.set_entry_type(tar::EntryType::GNULongName);
        bomb.set_size(8 << 30);
        bomb.set_cksum();
        let mut stream = bomb.as_bytes().chain(io::repeat(b'a'));
        let error = seek_member(&mut stream, "x.tar.gz", "disk.img", &Budget::whole()).unwrap_err().to_string();
        assert!(error.contains("a name of 8589934592 bytes"), "{error}");
        // A name that is not too long by itself, where there is no room left for it.
        bomb.set_size(1 << 20);
        bomb.set_cksum();
        let mut stream = bomb.as_bytes().chain(io::repeat(b'a'));
        let error = seek_member(&mut stream, "x.tar.gz", "disk.img", &Budget::new(1 << 20)).unwrap_err();
        assert!(matches!(error, Error::Memory { .. }), "{error}");
    }
}
