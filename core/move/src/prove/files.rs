//! The files of a landing beside its disks: machine file, manifest, firmware variables.

use reformis_disk::to_usize;
use std::path::Path;

use reformis_disk::{Storage, source::Links};
use reformis_machine::{Difference, Machine, MachineFile};
use serde::Serialize;

use crate::{
    checksum::Hasher,
    error::{Error, Result},
    landing,
    observer::Context,
    receipt::{LandedFile, MachineRecord},
    record::FileDigest,
    target,
};

/// Bytes that are read at once.
const PIECE: usize = 1 << 20;

/// The outcome for one file.
#[derive(Debug, Clone, Serialize)]
pub struct FileProof {
    /// Its path.
    pub file: String,
    /// Whether it is as it landed.
    pub holds: bool,
    /// What does not hold, as a sentence.
    pub reason: Option<String>,
    /// For a machine file: what it says now and did not when it landed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub settings: Vec<Difference>,
}

/// Compares the files of the landing in `folder` with what `record` says of them.
pub(super) fn prove(record: &MachineRecord, folder: &Path, context: &Context<'_>) -> Result<Vec<FileProof>> {
    let own = LandedFile { file: record.file.clone(), digest: record.digest.clone() };
    let mut proofs = vec![prove_file(&own, Some(record), folder, context)?];
    for other in &record.also {
        proofs.push(prove_file(other, None, folder, context)?);
    }
    Ok(proofs)
}

fn prove_file(
    landed: &LandedFile,
    machine: Option<&MachineRecord>,
    folder: &Path,
    context: &Context<'_>,
) -> Result<FileProof> {
    let file = folder.join(&landed.file).to_string_lossy().into_owned();
    let differs =
        |reason: String, settings| FileProof { file: file.clone(), holds: false, reason: Some(reason), settings };
    let storage = match landing::facts::open_result(folder, &landed.file, Links::OwnFolder, context.budget)
        .and_then(|s| Ok(s.random_access()?))
    {
        Ok(storage) => storage,
        Err(Error::Disk(reformis_disk::Error::Io { source, .. })) if source.kind() == std::io::ErrorKind::NotFound => {
            return Ok(differs("it is missing".into(), Vec::new()));
        }
        Err(error) => return Err(error),
    };
    if digest(storage.as_ref(), context)? == landed.digest {
        return Ok(FileProof { file, holds: true, reason: None, settings: Vec::new() });
    }
    let reason = "it was changed after the landing".to_string();
    let Some(record) = machine else { return Ok(differs(reason, Vec::new())) };
    Ok(match read_machine(storage.as_ref(), &record.kind) {
        Ok(Some(now)) => {
            // What the file could not say when it was written, it does not say now either.
            let mut settings = reformis_machine::differences(&record.after, &now);
            settings.retain(|difference| !record.lost.iter().any(|lost| lost.setting == difference.setting));
            differs(reason, settings)
        }
        Ok(None) => differs(reason, Vec::new()),
        Err(error) => differs(format!("{reason}, and cannot be read any more: {error}"), Vec::new()),
    })
}

fn digest(storage: &dyn Storage, context: &Context<'_>) -> Result<FileDigest> {
    let mut hasher = Hasher::new(None);
    let mut piece = vec![0; PIECE];
    let mut at = 0;
    while at < storage.len() {
        if context.is_cancelled() {
            return Err(reformis_disk::Error::Interrupted.into());
        }
        let len = (storage.len() - at).min(PIECE as u64);
        let Some(part) = piece.get_mut(..to_usize(len)) else { break };
        storage.read_at(at, part)?;
        hasher.update(part);
        at += len;
    }
    Ok(hasher.finish())
}

/// The machine that a file of the `kind` describes; none where that kind is not read.
fn read_machine(storage: &dyn Storage, kind: &str) -> Result<Option<Machine>> {
    let Some(kind) = MachineFile::from_word(kind).filter(|kind| *kind != MachineFile::StartScript) else {
        return Ok(None);
    };
    let (_, document) = target::read_machine(storage, kind)?;
    Ok(document.machines.into_iter().next())
}
