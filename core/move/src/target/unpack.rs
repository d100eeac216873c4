//! What can only be read forwards, unpacked into a nameless file, so that it can be read at any place.

use reformis_disk::to_usize;
use std::{
    io::{self, Read},
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
};

use reformis_disk::{
    Storage,
    budget::Budget,
    container::{self, Stream, packed},
    disk::Extent,
    source::{FileStorage, Identity, Links},
};
use reformis_machine::manifest::{Algorithm, Entry};

use super::{Packed, Part};
use crate::{
    checksum::{self, Hasher},
    error::{Error, Result},
    finding::Finding,
    observer::{Context, Step},
    record::FileDigest,
};

/// Bytes between two that are read one after the other, up to which a digest is taken of those between too.
const GAP: u64 = 1 << 20;
/// The same where they come over a network: the workers overtake one another, and what was fetched is still there.
const FAR_GAP: u64 = 8 << 20;

/// Where and for whom streams are unpacked.
#[derive(Clone, Copy)]
pub struct Unpack<'a> {
    /// The folder for the nameless files; the first one above it that is there is used.
    pub folder: &'a Path,
    /// Is told what is unpacked and how far it is.
    pub context: &'a Context<'a>,
}

/// A stream that was unpacked.
pub(crate) struct Unpacked {
    /// What was inside, sparse; it goes with this run.
    file: std::fs::File,
    /// The stream.
    pub(crate) stream: Stream,
    /// Digest of the packed file, taken as it was read.
    pub(crate) digest: FileDigest,
}

impl Unpacked {
    /// What was inside, called as the stream without the ending that says how it is packed: the name tells raw disks.
    pub(crate) fn storage(&self) -> Result<Arc<dyn Storage>> {
        self.named(packed::inner_name(self.stream.name()))
    }

    /// What was inside, called as the stream: an archive's members continue its path.
    pub(crate) fn archive(&self) -> Result<Arc<dyn Storage>> {
        self.named(self.stream.name().into())
    }

    fn named(&self, name: String) -> Result<Arc<dyn Storage>> {
        let file = self.file.try_clone().map_err(Error::io("opening", Path::new(&name)))?;
        Ok(Arc::new(FileStorage::of_spool(file, name, self.stream.budget())?))
    }

    /// The packed file as a part of a disk, with its line of the manifest.
    pub(crate) fn part(&self, entry: Option<Entry>) -> Option<Part> {
        let is_far = self.stream.storage().is_none_or(|storage| storage.is_far());
        let (name, kind) = (self.stream.name().into(), self.stream.kind().into());
        let packed = Packed { name, kind, digest: self.digest.clone(), is_far };
        // A remote that gives its bytes from the start on is known by what came of it.
        let storage = match self.stream.storage() {
            Some(storage) => storage.clone(),
            None => self.named(self.stream.name().into()).ok()?,
        };
        Some(Part { storage, entry, packed: Some(packed), digesting: None })
    }
}

impl Unpack<'_> {
    /// Unpacks `stream`, of which `entry` is the manifest's line. Tells before that it does.
    ///
    /// # Errors
    /// [`Error::ManifestMismatch`]; those of reading, unpacking and writing; interrupted.
    pub(crate) fn spool(&self, stream: &Stream, entry: Option<&Entry>) -> Result<Unpacked> {
        let name = stream.name();
        self.context.observer.tell(&spooled(stream));
        let file = spool_file(self.folder)?;
        let Some(packed) = stream.storage() else {
            if !stream.is_pipe() {
                return self.spool_far(stream, entry, file);
            }
            return Err(reformis_disk::Error::Unsupported {
                path: name.into(),
                what: "a pipe is only read by `reformis recast`".into(),
            }
            .into());
        };
        // A manifest covers what is a file for it: a member as it is without its archive, or a packed file as it lies there.
        let algorithm = entry.map(|entry| entry.algorithm);
        let is_member = stream.is_counted();
        let digesting = Arc::new(Digesting::new(packed.clone(), algorithm.filter(|_| !is_member)));
        let mut member = Hasher::new(algorithm);
        let reading = stream.over(digesting.clone());
        let short = Path::new(name).file_name().unwrap_or_default().to_string_lossy().into_owned();
        let step = Step { action: "unpacking", what: short, number: 1, of: 1 };
        self.context.step(&step, packed.len(), |watch| {
            // What is read is counted, not what is made of it.
            let silent = reformis_disk::copy::Watch { progress: &|_| {}, ..*watch };
            reading.visit(&mut io::empty(), watch.progress, is_member, &mut |bytes, _| {
                if !is_member {
                    return packed::spool(bytes, &file, name, &silent);
                }
                let mut teeing = Teeing { stream: bytes, hasher: &mut member };
                let len =
                    packed::spool(container::unpacked(&mut teeing, name, packed.budget())?, &file, name, &silent)?;
                // Bytes behind what is packed inside are the file's too.
                io::copy(&mut teeing, &mut io::sink()).map_err(reformis_disk::Error::io("unpacking", name, None))?;
                Ok(len)
            })
        })?;
        packed.check_unchanged()?;
        let digest = digesting.finish(&|| self.context.is_cancelled())?;
        match entry {
            Some(entry) if is_member => checksum::compare(name, entry, &member.finish().value)?,
            Some(entry) => checksum::compare(packed.name(), entry, &digest.value)?,
            None => {}
        }
        Ok(Unpacked { file, stream: stream.clone(), digest })
    }
}

impl Unpack<'_> {
    /// What a remote gives from its start on, unpacked into `file`.
    fn spool_far(&self, stream: &Stream, entry: Option<&Entry>, file: std::fs::File) -> Result<Unpacked> {
        let name = stream.name();
        let mut whole = Hasher::new(entry.map(|entry| entry.algorithm));
        let short = Path::new(name).file_name().unwrap_or_default().to_string_lossy().into_owned();
        let step = Step { action: "fetching", what: short, number: 1, of: 1 };
        let total = stream.visit_len().unwrap_or(0);
        self.context.step(&step, total, |watch| {
            let silent = reformis_disk::copy::Watch { progress: &|_| {}, ..*watch };
            stream.visit(&mut io::empty(), watch.progress, true, &mut |bytes, _| {
                let mut teeing = Teeing { stream: bytes, hasher: &mut whole };
                let unpacked = container::unpacked(&mut teeing, name, stream.budget())?;
                packed::spool(unpacked, &file, name, &silent)?;
                io::copy(&mut teeing, &mut io::sink()).map_err(reformis_disk::Error::io("fetching", name, None))?;
                Ok(())
            })
        })?;
        let digest = whole.finish();
        if let Some(entry) = entry {
            checksum::compare(name, entry, &digest.value)?;
        }
        Ok(Unpacked { file, stream: stream.clone(), digest })
    }
}

/// What is said before a stream is unpacked.
pub(crate) fn spooled(stream: &Stream) -> Finding {
    Finding::Spooled { source: stream.name().into(), kind: stream.kind().into() }
}

/// A file without a name in `folder`, or in the first folder above it that is there; it goes with this run, however it ends.
pub(crate) fn spool_file(folder: &Path) -> Result<std::fs::File> {
    let there = folder.ancestors().find(|path| path.is_dir()).unwrap_or(Path::new("."));
    let there: PathBuf = if there == Path::new("") { ".".into() } else { there.into() };
    tempfile::tempfile_in(&there).map_err(Error::io("making a file to unpack into, in", &there))
}

/// Takes a digest of what is read through it.
struct Teeing<'a> {
    stream: &'a mut (dyn Read + Send),
    hasher: &'a mut Hasher,
}

impl Read for Teeing<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = self.stream.read(buf)?;
        self.hasher.update(buf.get(..len).unwrap_or_default());
        Ok(len)
    }
}

/// Takes a digest of a storage while it is read for something else.
pub(crate) struct Digesting {
    storage: Arc<dyn Storage>,
    gap: u64,
    state: Mutex<(u64, Hasher)>,
}

impl Digesting {
    /// Of `storage`, by `algorithm`.
    pub(crate) fn new(storage: Arc<dyn Storage>, algorithm: Option<Algorithm>) -> Self {
        let gap = if storage.is_far() { FAR_GAP } else { GAP };
        Self { storage, gap, state: Mutex::new((0, Hasher::new(algorithm))) }
    }

    /// Reads what lies between here and `end`.
    fn read_up_to(&self, end: u64, state: &mut (u64, Hasher)) -> reformis_disk::Result<()> {
        let mut piece = vec![0; to_usize(GAP.min(end - state.0))];
        while state.0 < end {
            let len = to_usize((end - state.0).min(piece.len() as u64));
            let Some(part) = piece.get_mut(..len) else { break };
            self.storage.read_at(state.0, part)?;
            state.1.update(part);
            state.0 += len as u64;
        }
        Ok(())
    }

    /// The digest, after reading what was not read.
    pub(crate) fn finish(&self, cancel: &(dyn Fn() -> bool + Sync)) -> Result<FileDigest> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        while state.0 < self.storage.len() {
            if cancel() {
                return Err(reformis_disk::Error::Interrupted.into());
            }
            let end = self.storage.len().min(state.0.saturating_add(GAP));
            self.read_up_to(end, &mut state)?;
        }
        Ok(std::mem::replace(&mut state.1, Hasher::new(None)).finish())
    }
}

impl Storage for Digesting {
    fn name(&self) -> &str {
        self.storage.name()
    }

    fn len(&self) -> u64 {
        self.storage.len()
    }

    fn allocated(&self) -> u64 {
        self.storage.allocated()
    }

    fn is_far(&self) -> bool {
        self.storage.is_far()
    }

    fn is_raw(&self) -> bool {
        self.storage.is_raw()
    }

    fn budget(&self) -> &Arc<Budget> {
        self.storage.budget()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> reformis_disk::Result<()> {
        self.storage.read_at(offset, buf)?;
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if offset.checked_sub(state.0).is_some_and(|gap| (1..=self.gap).contains(&gap)) {
            self.read_up_to(offset, &mut state)?;
        }
        let known = state.0.checked_sub(offset).and_then(|known| usize::try_from(known).ok());
        if let Some(new) = known.and_then(|known| buf.get(known..)) {
            state.1.update(new);
            state.0 += new.len() as u64;
        }
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> reformis_disk::Result<Extent> {
        self.storage.extent_at(offset)
    }

    fn check_unchanged(&self) -> reformis_disk::Result<()> {
        self.storage.check_unchanged()
    }

    fn identity(&self) -> Option<&Identity> {
        self.storage.identity()
    }

    fn sibling(&self, name: &str, links: Links) -> reformis_disk::Result<Arc<dyn Storage>> {
        self.storage.sibling(name, links)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use reformis_disk::source::MemoryStorage;

    use super::*;

    proptest! {
        /// However it is read, the digest is that of all bytes in their order.
        #[test]
        fn the_digest_does_not_depend_on_the_reads(
            len in 0usize..5000,
            reads in prop::collection::vec((0u64..5000, 0usize..3000), 0..12),
        ) {
            let bytes: Vec<u8> = (0..len).map(|i| (i * 7 % 251) as u8).collect();
            let whole: Arc<dyn Storage> = Arc::new(MemoryStorage::new("x", bytes.clone()));
            let digesting = Digesting::new(whole, None);
            for (offset, count) in reads {
                let _ = digesting.read_at(offset, &mut vec![0; count]);
            }
            let digest = digesting.finish(&|| false).unwrap();
            prop_assert_eq!(digest, FileDigest::blake3(&bytes));
        }
    }
}
