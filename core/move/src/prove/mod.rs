//! Whether a landing is what its source was, plus the recorded edits, and nothing else.

mod disk;
mod files;

use std::{path::Path, sync::Arc};

pub use disk::{Against, DiskProof};
pub use files::FileProof;

use reformis_disk::{Disk, Format, container::Source, format, source::Links};
use serde::Serialize;

use crate::{
    error::{Error, Result},
    finding::Finding,
    inside,
    landing::{facts::open_result, shipping},
    observer::{Context, Step},
    receipt::{DiskRecord, Kind, Receipt},
    record::Chain,
    target::Unpack,
};

/// The outcome of a proof.
#[derive(Debug, Clone, Serialize)]
pub struct Proof {
    /// Whether everything is as it should be.
    pub holds: bool,
    /// One for each disk, or for the pair that was compared.
    pub disks: Vec<DiskProof>,
    /// One for each other file of the landing: the machine file first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<FileProof>,
    /// The chain of boot evidence, walked again on what landed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub evidence: Vec<Chain>,
    /// What the person should know.
    pub findings: Vec<Finding>,
}

/// What a proof allows.
#[derive(Debug, Clone, Copy, Default)]
pub struct Options {
    /// Where names in the sources may lead.
    pub links: Links,
    /// Whether the machine file, and others beside the disks, may have been changed after the landing.
    pub machine_may_differ: bool,
    /// Whether sources are left unread, because they are gone: then the landing is compared with what the receipt records.
    pub without_sources: bool,
}

/// Proves the landing whose receipt is at `path`: each disk against its source, both against the receipt, and every other
/// file of the landing against the receipt too.
///
/// # Errors
/// When the receipt, a source or a result cannot be read. A difference is no error: see [`Proof::holds`].
pub fn prove_receipt(path: &Path, options: Options, context: &Context<'_>) -> Result<Proof> {
    let receipt = Receipt::read(path, context.budget)?;
    let folder = &crate::staging::parent(path);
    let mut findings = Vec::new();
    // The disks below a delta may lie elsewhere than it: the machine file said where, and the receipt does.
    let mut related = Vec::new();
    for file in receipt.sources.iter().filter(|_| !options.without_sources) {
        let opened = crate::target::locate(Path::new(&file.path), context.budget, context.wires);
        let Ok(storage) = opened.and_then(|found| Ok(found.random_access()?)) else { continue };
        related.push(storage.clone());
        let now = crate::target::source_file(storage.as_ref(), None);
        if !now.is_same_version(file) {
            findings.push(Finding::SourceChangedSince { path: file.path.clone() });
        }
    }
    let files = match &receipt.machine {
        Some(machine) => files::prove(machine, folder, context)?,
        None => Vec::new(),
    };
    if options.machine_may_differ {
        let changed = files.iter().filter(|file| !file.holds);
        findings.extend(changed.map(|file| Finding::MachineFileChanged { path: file.file.clone() }));
    }
    let opener = format::opener(options.links).with_related(related);
    // A landing is proved wherever it lies; a disk that was recast, where it was made.
    let results = if receipt.kind == Kind::Recast { Links::Trusted } else { Links::OwnFolder };
    let mut disks = Vec::new();
    for (index, record) in receipt.disks.iter().enumerate() {
        let step =
            Step { action: "comparing", what: record.result.clone(), number: index + 1, of: receipt.disks.len() };
        if record.result.is_empty() {
            let what = "its result went into a pipe, and is not here to be proved".into();
            return Err(Error::Receipt { path: path.to_string_lossy().into(), what });
        }
        let there = shipping::open_there(&record.result, context)?;
        let is_there = there.is_some();
        let source = match there {
            Some(source) => source.unwrapped()?,
            None => open_result(folder, &record.result, results, context.budget)?.unwrapped()?,
        };
        let from_pipe = receipt.kind == Kind::Recast && record.source.is_empty();
        let mut proof = match from_pipe || options.without_sources {
            true => disk::prove_alone(record, &source, &step, context)?,
            false => {
                let unpack = Unpack { folder, context };
                disk::prove(record, source, &opener, &step, &unpack)?
            }
        };
        if is_there {
            // As the receipt calls it, and not by the link of this hour.
            proof.result = record.result.clone();
        }
        disks.push(proof);
    }
    let evidence = walk(&receipt, folder, context);
    context.check()?;
    let files_hold = options.machine_may_differ || files.iter().all(|file| file.holds);
    let holds = disks.iter().all(|disk| disk.holds) && files_hold;
    Ok(Proof { holds, disks, files, evidence, findings })
}

/// The chain of each system on the disks that landed; none where the receipt knows of none, and where a disk can only be read
/// forwards.
fn walk(receipt: &Receipt, folder: &Path, context: &Context<'_>) -> Vec<Chain> {
    let (Some(machine), Some(_)) = (&receipt.machine, &receipt.guest) else { return Vec::new() };
    // A site's own destination may not be known where the proof is made.
    let Ok(destination) = reformis_machine::Site::default().destination(&receipt.destination) else {
        return Vec::new();
    };
    let open = |record: &DiskRecord| -> Option<Arc<dyn Disk>> {
        let found = match shipping::open_there(&record.result, context).ok()? {
            Some(source) => Ok(source),
            None => open_result(folder, &record.result, Links::OwnFolder, context.budget),
        };
        match found.ok()?.unwrapped().ok()? {
            Source::Storage(storage) => Some(format::open(storage, declared(&record.after.shape)).ok()?.disk),
            Source::Stream(_) => None,
        }
    };
    let disks: Option<Vec<_>> = receipt.disks.iter().map(open).collect();
    let Some(disks) = disks else { return Vec::new() };
    let keeps_entries =
        machine.also.iter().any(|file| file.file.ends_with("_VARS.fd") || file.file.ends_with(".nvram"));
    inside::walk_landed(disks, &machine.after, &destination, keeps_entries, context).unwrap_or_default()
}

/// The format of a shape that a receipt records.
fn declared(shape: &str) -> Option<Format> {
    shape.split('/').next().and_then(|format| format.parse().ok())
}

/// Compares two disks in any shapes; `links` says where names in them may lead.
///
/// # Errors
/// When one cannot be read. A difference is no error: see [`Proof::holds`].
pub fn prove_disks(
    left: &Path,
    right: &Path,
    from: Option<Format>,
    links: Links,
    context: &Context<'_>,
) -> Result<Proof> {
    let (folder, packed) = (crate::staging::parent(right), from != Some(Format::Raw));
    let unpack = Unpack { folder: &folder, context };
    let open = |path: &Path| -> Result<Arc<dyn Disk>> {
        Ok(format::opener(links).open(disk::open_source(path, packed, &unpack)?, from)?.disk)
    };
    let (before, after) = (open(left)?, open(right)?);
    let step = Step { action: "comparing", what: right.to_string_lossy().into(), number: 1, of: 1 };
    let mut proof = disk::compare(before, &after, &[], &step, context)?;
    proof.source = left.to_string_lossy().into();
    proof.result = right.to_string_lossy().into();
    Ok(Proof { holds: proof.holds, disks: vec![proof], files: Vec::new(), evidence: Vec::new(), findings: Vec::new() })
}
