//! The directory of a zip archive (APPNOTE.TXT of the format, sections 4.3 and 4.4), also of more than 4 GiB.

use std::io::{self, Read};

use super::{
    Storage,
    archive::{MAX_DIRECTORY, Member, Members, plain},
    cursor::Cursor,
};
use crate::error::{Error, Result};

/// Whether the storage starts with a member of a zip archive.
///
/// # Errors
/// What reading says.
pub fn is_zip(storage: &dyn Storage) -> Result<bool> {
    let mut magic = [0; 4];
    if storage.len() < 22 {
        return Ok(false);
    }
    storage.read_at(0, &mut magic)?;
    Ok(&magic == b"PK\x03\x04")
}

fn broken(path: &str) -> impl Fn(zip::result::ZipError) -> Error {
    let path = path.to_string();
    move |error| Error::damaged(&path, None, format!("its directory cannot be read: {error}"))
}

/// Reads the central directory, and the local header of each member. Folders and links are passed over.
///
/// # Errors
/// [`Error::Damaged`] for a broken directory; [`Error::Unsupported`] for encrypted members; those of [`Members::add`].
pub(super) fn members(storage: &dyn Storage) -> Result<Members> {
    let path = storage.name();
    let mut archive = zip::ZipArchive::new(Cursor::new(storage, MAX_DIRECTORY)).map_err(broken(path))?;
    // Without its end a zip archive cannot be read at all.
    let mut members = Members::default();
    members.ended = true;
    for index in 0..archive.len() {
        let file = archive.by_index_raw(index).map_err(broken(path))?;
        if !file.is_file() {
            continue;
        }
        let name = file.name().map_err(broken(path))?.into_owned();
        if file.encrypted() {
            let what = format!("its member '{name}' is encrypted");
            return Err(Error::Unsupported { path: path.into(), what });
        }
        let packed = match file.compression() {
            zip::CompressionMethod::Stored => None,
            method => Some(method.to_string().to_lowercase()),
        };
        let offset = file.data_start().ok_or_else(|| Error::damaged(path, None, "a member that starts nowhere"))?;
        let member = Member { name, offset, len: file.size(), packed };
        super::require(storage, offset, file.compressed_size(), &format!("member '{}'", member.name))?;
        if member.packed.is_none() && member.len != file.compressed_size() {
            let (len, stored) = (member.len, file.compressed_size());
            let what = format!("member '{}' is stored as it is, with {len} bytes in {stored}", member.name);
            return Err(Error::damaged(path, offset, what));
        }
        members.add(member, path)?;
    }
    Ok(members)
}

/// Gives `visit` the bytes of member `name`, unpacked and read forwards, with their length.
///
/// # Errors
/// [`Error::NoMember`]; [`Error::Damaged`]; those of `visit`.
pub(super) fn visit_member<T>(
    storage: &dyn Storage,
    name: &str,
    counted: &(dyn Fn(u64) + Sync),
    visit: &mut dyn FnMut(&mut (dyn Read + Send), u64) -> Result<T>,
) -> Result<T> {
    let path = storage.name();
    let mut archive =
        zip::ZipArchive::new(Counting { cursor: Cursor::new(storage, u64::MAX), counted }).map_err(broken(path))?;
    let index = archive.file_names().position(|found| found.is_ok_and(|found| plain(&found) == plain(name)));
    let Some(index) = index else {
        return Err(Error::NoMember { archive: path.into(), member: name.into() });
    };
    let mut file = archive.by_index(index).map_err(broken(path))?;
    let len = file.size();
    visit(&mut file, len)
}

/// Tells how much is read.
struct Counting<'a> {
    cursor: Cursor<'a>,
    counted: &'a (dyn Fn(u64) + Sync),
}

impl Read for Counting<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = self.cursor.read(buf)?;
        (self.counted)(len as u64);
        Ok(len)
    }
}

impl io::Seek for Counting<'_> {
    fn seek(&mut self, to: io::SeekFrom) -> io::Result<u64> {
        self.cursor.seek(to)
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;
    use crate::source::MemoryStorage;

    #[test]
    fn a_stored_member_is_as_long_as_what_is_stored() {
        let mut writer = zip::ZipWriter::new(io::Cursor::new(Vec::new()));
        let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
        writer.start_file("a", options).unwrap();
        writer.write_all(&[7; 700]).unwrap();
        let mut bytes = writer.finish().unwrap().into_inner();
        let read = |bytes: &[u8]| members(&MemoryStorage::new("x.zip", bytes.to_vec())).map(drop);
        read(&bytes).unwrap();
        // The size in the central directory: found by the fuzzer.
        let at = bytes.windows(4).position(|w| w == b"PK\x01\x02").unwrap() + 24;
        bytes[at..at + 4].copy_from_slice(&70_000u32.to_le_bytes());
        let error = read(&bytes).unwrap_err().to_string();
        assert!(error.contains("with 70000 bytes in 700"), "{error}");
    }
}
