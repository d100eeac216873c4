//! One disk of a landing.

use std::{io, ops::Range, path::Path, sync::Arc};

use reformis_disk::{
    Disk, Storage,
    container::{Source, Stream},
    copy::{
        pipeline::{self, Comparison},
        watch::Watch,
    },
    disk::{EmptyDisk, GrownDisk},
    format::{self, Opener},
    overlay,
    source::Pieces,
};
use serde::Serialize;

use super::declared;
use crate::{
    error::Result,
    observer::{Context, Step},
    receipt::DiskRecord,
    target::Unpack,
};

/// What a disk was compared with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Against {
    /// Its source, of which every byte was read again; and the content digest that the receipt records.
    Source,
    /// The content digest that the receipt records, alone: the source was not read.
    Receipt,
    /// Another disk, of which every byte was read.
    Disk,
}

/// The outcome for one disk.
#[derive(Debug, Clone, Serialize)]
pub struct DiskProof {
    /// What it was compared with.
    pub source: String,
    /// What of that was read.
    pub against: Against,
    /// The disk.
    pub result: String,
    /// Guest-visible size of the source and of the result in bytes.
    pub sizes: (u64, u64),
    /// Edits that the receipt lists.
    pub edits: usize,
    /// Bytes that these cover, which may differ.
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

/// The ranges that the edits of `record` cover, ascending.
fn allowed(record: &DiskRecord) -> Vec<Range<u64>> {
    let mut allowed: Vec<Range<u64>> = Vec::new();
    for range in record.edits.iter().flat_map(|edit| &edit.ranges) {
        overlay::add_range(&mut allowed, range.clone());
    }
    allowed
}

fn covered(allowed: &[Range<u64>]) -> u64 {
    allowed.iter().map(|range| range.end - range.start).sum()
}

/// Compares `result` with the source that `record` names, read again.
pub(super) fn prove(
    record: &DiskRecord,
    result: Source,
    opener: &Opener,
    step: &Step,
    unpack: &Unpack<'_>,
) -> Result<DiskProof> {
    let path = result.name().to_string();
    let allowed = allowed(record);
    let before = source_of(record, opener, unpack)?;
    let mut proof = match result {
        Source::Storage(storage) => {
            let result = format::open(storage, declared(&record.after.shape))?.disk;
            if result.size() == record.after.virtual_size {
                compare(before, &result, &allowed, step, unpack.context)?
            } else {
                of_another_size(record, result.size())
            }
        }
        // What is compressed as a whole is read forwards, beside its source.
        Source::Stream(stream) => compare_forward(record, &before, &stream, &allowed, step, unpack.context)?,
    };
    proof.source = if record.source.is_empty() { "an empty disk".into() } else { record.source.join(" + ") };
    proof.result = path;
    proof.against = Against::Source;
    proof.edits = record.edits.len();
    if proof.reason.is_none() && proof.content_digest != record.content_digest {
        proof.reason = Some("its content digest is not the one in the receipt".into());
    }
    proof.holds = proof.reason.is_none();
    Ok(proof)
}

/// The disk as it was before the move, as large as it is now: one that was made larger on the way, as recorded, ends in zeros.
fn source_of(record: &DiskRecord, opener: &Opener, unpack: &Unpack<'_>) -> Result<Arc<dyn Disk>> {
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
    Ok(Arc::new(GrownDisk::new(before, record.after.virtual_size)))
}

fn of_another_size(record: &DiskRecord, found: u64) -> DiskProof {
    let recorded = record.after.virtual_size;
    DiskProof {
        source: String::new(),
        against: Against::Source,
        result: String::new(),
        sizes: (recorded, found),
        edits: record.edits.len(),
        edited: covered(&allowed(record)),
        holds: false,
        first_difference: None,
        differing: 0,
        content_digest: String::new(),
        reason: Some(format!("the disk has {found} bytes, but the receipt records {recorded}")),
    }
}

fn compare_forward(
    record: &DiskRecord,
    before: &Arc<dyn Disk>,
    stream: &Stream,
    allowed: &[Range<u64>],
    step: &Step,
    context: &Context<'_>,
) -> Result<DiskProof> {
    let total = stream.storage().map_or(0, |storage| storage.len());
    let (size, compared) = context.step(step, total, |watch| {
        let silent = Watch { progress: &|_| {}, ..*watch };
        stream.visit(&mut io::empty(), watch.progress, false, &mut |bytes, _| {
            pipeline::compare_forward(before.as_ref(), bytes, stream.name(), allowed, &silent)
        })
    })?;
    let mut proof = of_another_size(record, size);
    if size == record.after.virtual_size {
        proof.reason = compared.first_difference.map(|at| format!("the first byte that differs is byte {at}"));
    }
    proof.sizes = (before.size(), size);
    proof.first_difference = compared.first_difference;
    proof.differing = compared.differing;
    proof.content_digest = compared.right.to_string();
    Ok(proof)
}

/// Opens a file that a disk was read from; one that is packed is unpacked again.
pub(super) fn open_source(path: &Path, packed: bool, unpack: &Unpack<'_>) -> Result<Arc<dyn Storage>> {
    let source = crate::target::locate(path, unpack.context.budget, unpack.context.wires)?;
    match if packed { source.unwrapped()? } else { source } {
        Source::Storage(storage) => Ok(storage),
        Source::Stream(stream) => unpack.spool(&stream, None)?.storage(),
    }
}

/// A disk whose source came out of a pipe, or is gone: its digest alone is compared with the one that the receipt records.
pub(super) fn prove_alone(
    record: &DiskRecord,
    result: &Source,
    step: &Step,
    context: &Context<'_>,
) -> Result<DiskProof> {
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
                stream.visit(&mut io::empty(), watch.progress, false, &mut |bytes, _| {
                    pipeline::scan_forward(bytes, stream.name(), &silent)
                })
            })?
        }
    };
    let holds = digest.to_string() == record.content_digest;
    Ok(DiskProof {
        source: "what the receipt records".into(),
        against: Against::Receipt,
        result: result.name().into(),
        sizes: (record.after.virtual_size, size),
        edits: record.edits.len(),
        edited: covered(&allowed(record)),
        holds,
        first_difference: None,
        differing: 0,
        content_digest: digest.to_string(),
        reason: (!holds).then(|| "its content digest is not the one in the receipt".into()),
    })
}

/// Compares over the whole length of the longer disk: where one ends, the other must be zero, and less than a sector of
/// that is no difference, since most formats count in sectors.
pub(super) fn compare(
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
        against: Against::Disk,
        result: String::new(),
        sizes,
        edits: 0,
        edited: covered(allowed),
        holds: reason.is_none(),
        first_difference,
        differing,
        content_digest: digest.to_string(),
        reason,
    })
}
