//! Whether a landing is what its source was, plus the recorded edits, and nothing else.

mod files;

use std::{ops::Range, path::Path, sync::Arc};

pub use files::FileProof;

use reformis_disk::{
    Disk, Format, Storage,
    container::Source,
    copy::{
        pipeline::{self, Comparison},
        watch::Watch,
    },
    disk::{EmptyDisk, GrownDisk},
    format::{self, Opener},
    overlay,
    source::{Links, Pieces},
};
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

/// The outcome for one disk.
#[derive(Debug, Clone, Serialize)]
pub struct DiskProof {
    /// What it was compared with.
    pub source: String,
    /// The disk.
    pub result: String,
    /// Guest-visible size of the source and of the result in bytes.
    pub sizes: (u64, u64),
    /// Bytes that recorded edits cover, which may differ.
    pub edited: u64,
    /// Whether it is as it should be.
    pub holds: bool,
    /// The first byte that differs, outside the recorded edits.
    pub first_difference: Option<u64>,
    /// Bytes in blocks of 1 MiB that differ.
    pub differing: u64,
    /// Content digest of the result.
    pub content_digest: String,
    /// What does not hold, as a sentence.
    pub reason: Option<String>,
}

/// What a proof allows.
#[derive(Debug, Clone, Copy, Default)]
pub struct Options {
    /// Where names in the sources may lead.
    pub links: Links,
    /// Whether the machine file, and others beside the disks, may have been changed after the landing.
    pub machine_may_differ: bool,
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
    for file in &receipt.sources {
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
        let mut proof = match source {
            Source::Storage(storage) if !from_pipe => {
                let unpack = Unpack { folder, context };
                prove_disk(record, storage, &opener, &step, &unpack)?
            }
            source => prove_alone(record, &source, &step, context)?,
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

fn prove_disk(
    record: &DiskRecord,
    storage: Arc<dyn Storage>,
    opener: &Opener,
    step: &Step,
    unpack: &Unpack<'_>,
) -> Result<DiskProof> {
    let path = storage.name().to_string();
    let result = format::open(storage, declared(&record.after.shape))?.disk;
    if result.size() != record.after.virtual_size {
        let (found, recorded) = (result.size(), record.after.virtual_size);
        return Ok(DiskProof {
            source: record.source.join(" + "),
            result: path,
            sizes: (recorded, found),
            edited: 0,
            holds: false,
            first_difference: None,
            differing: 0,
            content_digest: String::new(),
            reason: Some(format!("the disk has {found} bytes, but the receipt records {recorded}")),
        });
    }
    let before: Arc<dyn Disk> = match (&record.source[..], &record.before) {
        ([], _) | (_, None) => Arc::new(EmptyDisk::new(record.after.virtual_size)),
        (files, Some(facts)) => {
            let open = |file: &String| open_source(Path::new(file), record.packed.is_some(), unpack);
            let parts: Vec<Arc<dyn Storage>> = files.iter().map(open).collect::<Result<_>>()?;
            let whole = match &parts[..] {
                [one] => one.clone(),
                _ => Arc::new(Pieces::new(files.join(" + "), parts, unpack.context.budget)),
            };
            opener.open(whole, declared(&facts.shape))?.disk
        }
    };
    let mut allowed: Vec<Range<u64>> = Vec::new();
    for range in record.edits.iter().flat_map(|edit| &edit.ranges) {
        overlay::add_range(&mut allowed, range.clone());
    }
    let source = if record.source.is_empty() { "an empty disk".into() } else { record.source.join(" + ") };
    // A disk that was made larger on the way, as recorded, ends in zeros.
    let before = Arc::new(GrownDisk::new(before, record.after.virtual_size));
    let mut proof = compare(before, &result, &allowed, step, unpack.context)?;
    proof.source = source;
    proof.result = path;
    if proof.reason.is_none() && proof.content_digest != record.content_digest {
        proof.reason = Some("its content digest is not the one in the receipt".into());
    }
    proof.holds = proof.reason.is_none();
    Ok(proof)
}

/// Opens a file that a disk was read from; one that is packed is unpacked again.
fn open_source(path: &Path, packed: bool, unpack: &Unpack<'_>) -> Result<Arc<dyn Storage>> {
    let source = crate::target::locate(path, unpack.context.budget, unpack.context.wires)?;
    match if packed { source.unwrapped()? } else { source } {
        Source::Storage(storage) => Ok(storage),
        Source::Stream(stream) => unpack.spool(&stream, None)?.storage(),
    }
}

/// A disk whose source came out of a pipe and is gone, or that can only be read forwards itself: its digest alone is
/// compared with the one that the receipt records.
fn prove_alone(record: &DiskRecord, result: &Source, step: &Step, context: &Context<'_>) -> Result<DiskProof> {
    let (size, digest) = match result {
        Source::Storage(storage) => {
            let disk = format::open(storage.clone(), declared(&record.after.shape))?.disk;
            let total = pipeline::work(disk.as_ref())?;
            (disk.size(), context.step(step, total, |watch| pipeline::scan(disk.as_ref(), watch))?)
        }
        Source::Stream(stream) => {
            let total = stream.storage().map_or(0, |storage| storage.len());
            context.step(step, total, |watch| {
                let silent = Watch { progress: &|_| {}, ..*watch };
                stream.visit(&mut std::io::empty(), watch.progress, false, &mut |bytes, _| {
                    pipeline::scan_forward(bytes, stream.name(), &silent)
                })
            })?
        }
    };
    let holds = digest.to_string() == record.content_digest;
    Ok(DiskProof {
        source: "what the receipt records".into(),
        result: result.name().into(),
        sizes: (record.after.virtual_size, size),
        edited: 0,
        holds,
        first_difference: None,
        differing: 0,
        content_digest: digest.to_string(),
        reason: (!holds).then(|| "its content digest is not the one in the receipt".into()),
    })
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
        Ok(format::opener(links).open(open_source(path, packed, &unpack)?, from)?.disk)
    };
    let (before, after) = (open(left)?, open(right)?);
    let step = Step { action: "comparing", what: right.to_string_lossy().into(), number: 1, of: 1 };
    let mut proof = compare(before, &after, &[], &step, context)?;
    proof.source = left.to_string_lossy().into();
    proof.result = right.to_string_lossy().into();
    Ok(Proof { holds: proof.holds, disks: vec![proof], files: Vec::new(), evidence: Vec::new(), findings: Vec::new() })
}

/// Compares over the whole length of the longer disk: where one ends, the other must be zero, and less than a sector of
/// that is no difference, since most formats count in sectors.
fn compare(
    before: Arc<dyn Disk>,
    after: &Arc<dyn Disk>,
    allowed: &[Range<u64>],
    step: &Step,
    context: &Context<'_>,
) -> Result<DiskProof> {
    let sizes = (before.size(), after.size());
    let size = sizes.0.max(sizes.1);
    let (left, right) = (GrownDisk::new(before, size), GrownDisk::new(after.clone(), size));
    let total = pipeline::work(&left)?.max(pipeline::work(&right)?);
    let Comparison { first_difference, differing, right: digest, .. } =
        context.step(step, total, |watch| pipeline::compare(&left, &right, allowed, watch))?;
    tracing::info!(disk = step.what, %digest, first_difference, differing, "compared");
    let reason = match first_difference {
        Some(at) => Some(format!("the first byte that differs is byte {at}")),
        None if sizes.0.abs_diff(sizes.1) >= reformis_disk::SECTOR => {
            Some(format!("the sizes differ: {} and {} bytes; what is more is all zero", sizes.0, sizes.1))
        }
        None => None,
    };
    Ok(DiskProof {
        source: String::new(),
        result: String::new(),
        sizes,
        edited: allowed.iter().map(|range| range.end - range.start).sum(),
        holds: reason.is_none(),
        first_difference,
        differing,
        content_digest: digest.to_string(),
        reason,
    })
}
