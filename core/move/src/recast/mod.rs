//! One disk into another shape, nothing else changed.

mod job;

use std::{io::Write, path::PathBuf, sync::Arc};

use jiff::Timestamp;
use reformis_disk::{
    Disk, Facts, Format, Shape,
    container::{Source, Stream},
    format::Squeeze,
    overlay::Edit,
    source::{Access, Links},
};
use serde::Serialize;

use job::{Job, Place};

use crate::{
    error::{Error, Result},
    finding::Finding,
    observer::Context,
    record::GuestRecord,
    staging::StagedFile,
    verdict::Verdict,
};

/// What to recast.
#[derive(Debug, Clone)]
pub struct Options {
    /// A file, a block device, a member of an archive, or `-` for standard input.
    pub source: PathBuf,
    /// The file to make, or `-` for standard output.
    pub result: PathBuf,
    /// The format of the source; skips detection.
    pub from: Option<Format>,
    /// The state to read that the image keeps under this name.
    pub snapshot: Option<String>,
    /// The shape to make; `None` to go by the result's name.
    pub shape: Option<Shape>,
    /// Compress what is stored.
    pub squeeze: Option<Squeeze>,
    /// Bytes of a cluster.
    pub cluster: Option<u64>,
    /// Replace a file that exists.
    pub force: bool,
    /// Where names in the source's files may lead.
    pub links: Links,
    /// Round the size up to a multiple of this many bytes.
    pub align: Option<u64>,
    /// The size in bytes that the result is to have, not less than the source's.
    pub grow: Option<u64>,
    /// Where to write a record of it.
    pub receipt: Option<PathBuf>,
    /// The result takes the source's place when it is whole.
    pub in_place: bool,
}

/// A disk that was changed on its way.
pub(crate) struct Edited {
    pub(crate) disk: Arc<dyn Disk>,
    pub(crate) edits: Vec<Edit>,
    pub(crate) guest: Option<GuestRecord>,
    pub(crate) verdict: Option<Verdict>,
    pub(crate) findings: Vec<Finding>,
}

/// Changes a disk, in memory; an error stops the whole before anything is written.
pub(crate) type Editor<'a> = dyn Fn(Arc<dyn Disk>) -> Result<Edited> + 'a;

/// What was made.
#[derive(Debug, Clone, Serialize)]
pub struct Recast {
    /// The image before.
    pub before: Facts,
    /// The image after; `None` when it went into a pipe.
    pub after: Option<Facts>,
    /// Content digest of the result's guest-visible bytes.
    pub content_digest: String,
    /// Whether its guest will boot at the destination that it was made ready for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub verdict: Option<Verdict>,
    /// What was found and changed inside; `None` when nothing was to be changed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub guest: Option<GuestRecord>,
    /// What the person should know.
    pub findings: Vec<Finding>,
}

/// Recasts a disk.
///
/// # Errors
/// [`Error::Refused`] when something stands in the way of reading the source. Those of reading and writing; nothing
/// half-made stays, except what went into a pipe.
pub fn recast(options: &Options, context: &Context<'_>) -> Result<Recast> {
    recast_edited(options, None, Access::ANYBODY, context)
}

/// Recasts a disk that `editor` changes on the way; the result is open to nobody who may not open all of `narrowed`.
pub(crate) fn recast_edited(
    options: &Options,
    editor: Option<&Editor<'_>>,
    narrowed: Access,
    context: &Context<'_>,
) -> Result<Recast> {
    let job = Job::new(options, editor, narrowed, context.wires)?;
    let started = Timestamp::now();
    let staged_receipt = match &options.receipt {
        Some(path) => Some(StagedFile::create(path, options.force, job.access())?),
        None => None,
    };
    let mut findings = Vec::new();
    let source = match job.is_stdin() {
        true => Source::Stream(Stream::pipe("stdin", context.budget)),
        false => crate::target::locate(&options.source, context.budget, context.wires)?,
    };
    let is_packed = |stream: &Stream| stream.storage().is_some().then(|| stream.kind().to_string());
    // What is declared raw is raw, also where it looks like a stream.
    let source = if options.from == Some(Format::Raw) { source } else { source.unwrapped()? };
    let made = match source {
        Source::Storage(storage) => (job.copy_image(storage, &mut findings, context)?, None),
        Source::Stream(stream) => (job.copy_stream(&stream, &mut findings, context)?, is_packed(&stream)),
    };
    let (made, packed) = made;
    tracing::info!(
        source = reformis_wire::without_secrets(&options.source.to_string_lossy()),
        result = %options.result.display(),
        shape = %job.shape,
        size = made.copied.size,
        stored = made.copied.stored,
        digest = %made.copied.digest,
        "recast"
    );
    findings.extend(job.misleading_name());
    let content_digest = made.copied.digest.to_string();
    let recast = Recast {
        before: made.before,
        after: made.after,
        content_digest,
        verdict: made.verdict,
        guest: made.guest,
        findings,
    };
    if let Some(staged) = staged_receipt {
        let receipt = job.receipt(&recast, (made.sources, made.edits, packed), started);
        let mut file = staged.file()?;
        file.write_all(&receipt.to_json()).map_err(Error::io("writing", staged.target()))?;
        staged.commit()?;
    }
    // Only now is nothing left that could fail.
    if let Place::File(staged) = made.place {
        staged.keep();
    }
    Ok(recast)
}
