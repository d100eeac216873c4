//! The directory of a zip archive (APPNOTE.TXT of the format, sections 4.3 and 4.4), also of more than 4 GiB.

use std::{
    io::{self, Read},
    sync::Arc,
};

use zip::CompressionMethod;

use super::{
    cursor::Cursor,
    member::{MAX_DIRECTORY, Member, Members, Zipped, plain},
    packed::{Forward, Wrapping},
};
use crate::{
    error::{Error, Result},
    source::{Storage, require},
};

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

/// Memory that the reader of the directory keeps for each byte of it: an entry of 46 bytes and its name become some 450, and twice that for a moment, as its list grows.
const WEIGHT: u64 = 10;

/// Reads the central directory.
fn directory(storage: &dyn Storage) -> Result<zip::ZipArchive<Cursor<'_>>> {
    zip::ZipArchive::new(Cursor::new(storage, MAX_DIRECTORY, WEIGHT)).map_err(broken(storage.name()))
}

/// Reads the central directory, and the local header of each member. Folders and links are passed over.
///
/// # Errors
/// [`Error::Damaged`] for a broken directory; [`Error::Unsupported`] for encrypted members; those of [`Members::add`].
pub(super) fn members(storage: &dyn Storage) -> Result<Members> {
    let path = storage.name();
    let mut archive = directory(storage)?;
    // Without its end a zip archive cannot be read at all.
    let mut members = Members::of(storage);
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
            CompressionMethod::Stored => None,
            method => Some(method.to_string().to_lowercase()),
        };
        let offset = file.data_start().ok_or_else(|| Error::damaged(path, None, "a member that starts nowhere"))?;
        let zipped = Zipped { len: file.compressed_size(), method: file.compression(), crc32: file.crc32() };
        let member = Member { name, offset, len: file.size(), packed, zipped: Some(zipped) };
        require(storage, offset, file.compressed_size(), &format!("member '{}'", member.name))?;
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
/// [`Error::NoMember`]; [`Error::Damaged`]; [`Error::Unsupported`] for a way of compressing that is not read; those of `visit`.
pub(super) fn visit_member<T>(
    storage: &Arc<dyn Storage>,
    name: &str,
    counted: &(dyn Fn(u64) + Sync),
    visit: &mut dyn FnMut(&mut (dyn Read + Send), u64) -> Result<T>,
) -> Result<T> {
    let found = find(storage.as_ref(), name)?;
    visit_found(storage, name, &found, counted, visit)
}

/// The same for a member that was found.
///
/// # Errors
/// As [`visit_member`].
pub(super) fn visit_found<T>(
    storage: &Arc<dyn Storage>,
    name: &str,
    found: &Member,
    counted: &(dyn Fn(u64) + Sync),
    visit: &mut dyn FnMut(&mut (dyn Read + Send), u64) -> Result<T>,
) -> Result<T> {
    let path = storage.name();
    let Some(zipped) = found.zipped else {
        return Err(Error::NoMember { archive: path.into(), member: name.into() });
    };
    let packed = Forward::new(storage.clone(), counted).part(found.offset, zipped.len);
    let shown = format!("{path}/{name}");
    let unpacked: Box<dyn Read + Send + '_> = match zipped.method {
        CompressionMethod::Stored => Box::new(packed),
        CompressionMethod::Deflated => Box::new(flate2::read::DeflateDecoder::new(packed)),
        CompressionMethod::Deflate64 => Box::new(deflate64::Deflate64Decoder::new(packed)),
        CompressionMethod::Bzip2 => Wrapping::Bzip2.unpack(packed, &shown, storage.budget())?,
        CompressionMethod::Zstd => Wrapping::Zstd.unpack(packed, &shown, storage.budget())?,
        other => {
            let what = format!("it is compressed in its archive in a way that is not read ({other})");
            return Err(Error::Unsupported { path: shown, what });
        }
    };
    let hasher = crc32fast::Hasher::new();
    visit(&mut Checked { stream: unpacked, left: found.len, hasher, expected: zipped.crc32 }, found.len)
}

/// Looks for member `name` in the directory.
fn find(storage: &dyn Storage, name: &str) -> Result<Member> {
    let path = storage.name();
    let mut archive = directory(storage)?;
    let index = archive.file_names().position(|found| found.is_ok_and(|found| plain(&found) == plain(name)));
    let Some(index) = index else {
        return Err(Error::NoMember { archive: path.into(), member: name.into() });
    };
    let file = archive.by_index_raw(index).map_err(broken(path))?;
    let start = file.data_start().ok_or_else(|| Error::damaged(path, None, "a member that starts nowhere"))?;
    require(storage, start, file.compressed_size(), &format!("member '{name}'"))?;
    let zipped = Zipped { len: file.compressed_size(), method: file.compression(), crc32: file.crc32() };
    Ok(Member { name: name.into(), offset: start, len: file.size(), packed: None, zipped: Some(zipped) })
}

/// The bytes of a member; they end with an error unless their length and their checksum are what the directory says.
struct Checked<'a> {
    stream: Box<dyn Read + Send + 'a>,
    left: u64,
    hasher: crc32fast::Hasher,
    expected: u32,
}

impl Read for Checked<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let wrong = |what: &str| Err(io::Error::new(io::ErrorKind::InvalidData, what));
        let len = self.stream.read(buf)?;
        self.hasher.update(buf.get(..len).unwrap_or_default());
        let Some(left) = self.left.checked_sub(len as u64) else {
            return wrong("the member is longer than its directory says");
        };
        if len == 0 && left > 0 && !buf.is_empty() {
            return wrong("the member is shorter than its directory says");
        }
        if left == 0 && len > 0 && self.hasher.clone().finalize() != self.expected {
            return wrong("its checksum is not the one in its directory");
        }
        self.left = left;
        Ok(len)
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
