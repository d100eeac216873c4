//! Digests of source files as they lie there, for the manifest and the receipt.

use std::sync::Arc;

use reformis_disk::{
    Storage,
    pipeline::{self, Watch},
    raw::RawDisk,
};
use reformis_machine::manifest::{Algorithm, Entry};

use crate::{
    error::{Error, Result},
    receipt::FileDigest,
};

const PIECE: u64 = 1 << 20;

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
    let value = match entry.algorithm {
        Algorithm::Sha1 => hash::<sha1::Sha1>(storage.as_ref(), cancel)?,
        Algorithm::Sha256 => hash::<sha2::Sha256>(storage.as_ref(), cancel)?,
        Algorithm::Sha512 => hash::<sha2::Sha512>(storage.as_ref(), cancel)?,
    };
    if value != entry.digest {
        return Err(Error::ManifestMismatch {
            file: storage.name().into(),
            algorithm: entry.algorithm.name(),
            found: value,
            expected: entry.digest.clone(),
        });
    }
    Ok(FileDigest { algorithm: entry.algorithm.name().into(), value })
}

fn hash<D: sha2::Digest>(storage: &dyn Storage, cancel: &(dyn Fn() -> bool + Sync)) -> Result<String> {
    let mut hasher = D::new();
    let mut buf = vec![0; PIECE as usize];
    let mut at = 0;
    while at < storage.len() {
        if cancel() {
            return Err(reformis_disk::Error::Interrupted.into());
        }
        let piece = &mut buf[..PIECE.min(storage.len() - at) as usize];
        storage.read_at(at, piece)?;
        hasher.update(&*piece);
        at += piece.len() as u64;
    }
    Ok(hex(&hasher.finalize()))
}

/// A digest in lower-case hexadecimal digits.
pub(crate) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
