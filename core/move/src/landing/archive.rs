//! The archive that a landing may lie in.

use std::{ffi::OsStr, fs::File, os::unix::fs::FileExt, path::PathBuf};

use reformis_disk::{source::Access, to_usize};

use super::sink::Sink;
use crate::{
    error::{Error, Result},
    staging::Place,
};

/// Bytes of a record of an archive.
const RECORD: u64 = 512;

/// An archive (ustar) whose first members, the descriptor and the manifest, get their room at the start and their content
/// at the end, when the disks' lengths and digests are known.
pub(crate) struct ArchiveFile {
    file: File,
    path: PathBuf,
    /// Bytes kept for the content of the descriptor, and of the manifest.
    room: (u64, u64),
    at: u64,
}

impl ArchiveFile {
    /// Makes the archive `name` in `folder`, with room for a descriptor of `descriptor` bytes and a manifest of `manifest`.
    pub(crate) fn create(folder: &Place, name: &str, access: Access, descriptor: u64, manifest: u64) -> Result<Self> {
        let (file, path) = (folder.create(OsStr::new(name), access)?, folder.path_of(name));
        let room = (descriptor.next_multiple_of(RECORD), manifest.next_multiple_of(RECORD));
        Ok(Self { file, path, room, at: 2 * RECORD + room.0 + room.1 })
    }

    fn put(&self, bytes: &[u8], at: u64) -> Result<()> {
        self.file.write_all_at(bytes, at).map_err(Error::io("writing", &self.path))
    }

    fn header(&self, name: &str, len: u64, at: u64) -> Result<()> {
        let mut header = tar::Header::new_ustar();
        header.set_path(name).map_err(Error::io("naming a member of", &self.path))?;
        header.set_size(len);
        header.set_mode(0o644);
        header.set_entry_type(tar::EntryType::Regular);
        header.set_cksum();
        self.put(header.as_bytes(), at)
    }

    pub(super) fn begin(&self) -> Result<Sink> {
        let file = self.file.try_clone().map_err(Error::io("opening", &self.path))?;
        Ok(Sink::new(file, self.at + RECORD))
    }

    pub(super) fn end(&mut self, name: &str, len: u64) -> Result<()> {
        self.header(name, len, self.at)?;
        self.at += RECORD + len.next_multiple_of(RECORD);
        Ok(())
    }

    /// `descriptor` with line ends up to the room that it has.
    pub(crate) fn filled(&self, mut descriptor: Vec<u8>) -> Vec<u8> {
        descriptor.resize(to_usize(self.room.0), b'\n');
        descriptor
    }

    /// Writes the descriptor, which fills its room, and the manifest; ends the archive.
    pub(crate) fn finish(self, descriptor: (&str, &[u8]), manifest: (&str, &[u8])) -> Result<()> {
        self.header(descriptor.0, descriptor.1.len() as u64, 0)?;
        self.put(descriptor.1, RECORD)?;
        let at = RECORD + self.room.0;
        self.header(manifest.0, manifest.1.len() as u64, at)?;
        self.put(manifest.1, at + RECORD)?;
        self.put(&[0; 2 * to_usize(RECORD)], self.at)?;
        self.file.sync_all().map_err(Error::io("flushing", &self.path))
    }
}
