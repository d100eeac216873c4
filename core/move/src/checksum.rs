//! Digests of source files as they lie there, for the manifest and the receipt.

use reformis_disk::to_usize;
use std::sync::Arc;

use reformis_disk::{
    Storage,
    copy::{pipeline, watch::Watch},
    format::raw::RawDisk,
};
use reformis_machine::manifest::{Algorithm, Entry};
use sha2::Digest as _;

use crate::{
    error::{Error, Result},
    record::FileDigest,
};

/// Bytes that are digested at a time.
const PIECE: usize = 1 << 20;

/// The digest of all bytes of `storage`: by the algorithm of its manifest `entry`, against which it is checked; or,
/// where there is none, the content digest, for which holes need not be read.
///
/// # Errors
/// [`Error::ManifestMismatch`]; those of reading; interrupted when `cancel` says so.
pub(crate) fn of_storage(
    storage: &Arc<dyn Storage>,
    entry: Option<&Entry>,
    cancel: &(dyn Fn() -> bool + Sync),
) -> Result<FileDigest> {
    let Some(entry) = entry else {
        let watch = Watch { cancel, progress: &|_| {}, workers: Some(1) };
        let value = pipeline::scan(&RawDisk::new(storage.clone()), &watch)?;
        return Ok(FileDigest { algorithm: "content".into(), value: value.to_string() });
    };
    let mut at = 0;
    let digest = of_reads(entry.algorithm, cancel, |buf| {
        let len = storage.len().saturating_sub(at).min(buf.len() as u64);
        if let Some(piece) = buf.get_mut(..to_usize(len)) {
            storage.read_at(at, piece)?;
        }
        at += len;
        Ok(to_usize(len))
    })?;
    compare(storage.name(), entry, &digest.value)?;
    Ok(digest)
}

/// The digest of what `read` gives: it fills a part of the memory that it gets, and says how much; nothing at the end.
///
/// # Errors
/// Those of `read`; interrupted when `cancel` says so.
pub(crate) fn of_reads(
    algorithm: Algorithm,
    cancel: &(dyn Fn() -> bool + Sync),
    mut read: impl FnMut(&mut [u8]) -> Result<usize>,
) -> Result<FileDigest> {
    let mut hasher = Hasher::new(Some(algorithm));
    let mut buf = vec![0; PIECE];
    loop {
        if cancel() {
            return Err(reformis_disk::Error::Interrupted.into());
        }
        let len = read(&mut buf)?;
        match buf.get(..len) {
            Some(piece) if len > 0 => hasher.update(piece),
            _ => return Ok(hasher.finish()),
        }
    }
}

/// Fails when the digest `found` of `file` is not the one in its `entry`.
///
/// # Errors
/// [`Error::ManifestMismatch`].
pub(crate) fn compare(file: &str, entry: &Entry, found: &str) -> Result<()> {
    if found == entry.digest {
        return Ok(());
    }
    Err(Error::ManifestMismatch {
        file: file.into(),
        algorithm: entry.algorithm.name(),
        found: found.into(),
        expected: entry.digest.clone(),
    })
}

/// A digest in the making: by the algorithm of a manifest, or BLAKE3 where there is none.
#[derive(Clone)]
pub(crate) enum Hasher {
    Sha1(sha1::Sha1),
    Sha256(sha2::Sha256),
    Sha512(Box<sha2::Sha512>),
    Blake3(Box<blake3::Hasher>),
}

impl Hasher {
    pub(crate) fn new(algorithm: Option<Algorithm>) -> Self {
        match algorithm {
            Some(Algorithm::Sha1) => Self::Sha1(sha1::Sha1::new()),
            Some(Algorithm::Sha256) => Self::Sha256(sha2::Sha256::new()),
            Some(Algorithm::Sha512) => Self::Sha512(Box::default()),
            None => Self::Blake3(Box::new(blake3::Hasher::new())),
        }
    }

    pub(crate) fn update(&mut self, bytes: &[u8]) {
        match self {
            Self::Sha1(hasher) => hasher.update(bytes),
            Self::Sha256(hasher) => hasher.update(bytes),
            Self::Sha512(hasher) => hasher.update(bytes),
            Self::Blake3(hasher) => drop(hasher.update(bytes)),
        }
    }

    pub(crate) fn finish(self) -> FileDigest {
        let (algorithm, value) = match self {
            Self::Sha1(hasher) => (Algorithm::Sha1.name(), hex(&hasher.finalize())),
            Self::Sha256(hasher) => (Algorithm::Sha256.name(), hex(&hasher.finalize())),
            Self::Sha512(hasher) => (Algorithm::Sha512.name(), hex(&hasher.finalize())),
            Self::Blake3(hasher) => ("blake3", hasher.finalize().to_string()),
        };
        FileDigest { algorithm: algorithm.into(), value }
    }

    /// The digest of `bytes`.
    pub(crate) fn of(algorithm: Option<Algorithm>, bytes: &[u8]) -> FileDigest {
        let mut hasher = Self::new(algorithm);
        hasher.update(bytes);
        hasher.finish()
    }
}

impl std::io::Write for Hasher {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// A digest in lower-case hexadecimal digits.
fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
