//! One disk into another shape, nothing else changed.

use std::{
    io::{self, Read},
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use reformis_disk::{
    Facts, Format, Shape, Storage,
    disk::GrownDisk,
    formats, pipeline,
    source::{
        self, FileStorage, Links,
        wrapped::{self, Forward, Wrapping},
    },
};
use serde::Serialize;

use crate::{
    error::{Error, Result},
    finding::Finding,
    observer::{Context, Step},
    staging::StagedFile,
};

/// What to recast.
#[derive(Debug, Clone)]
pub struct Options {
    /// A file, a block device, or a member of an archive.
    pub source: PathBuf,
    /// The file to make.
    pub result: PathBuf,
    /// The source's format, where its content is not to be asked.
    pub from: Option<Format>,
    /// The shape to make; `None` to go by the result's name.
    pub shape: Option<Shape>,
    /// Replace a file that exists.
    pub force: bool,
    /// Where names in the source's files may lead.
    pub links: Links,
    /// Round the size up to a multiple of this many bytes.
    pub align: Option<u64>,
    /// The size in bytes that the result is to have, not less than the source's.
    pub grow: Option<u64>,
}

/// What was made.
#[derive(Debug, Clone, Serialize)]
pub struct Recast {
    /// The image before.
    pub before: Facts,
    /// The image after.
    pub after: Facts,
    /// Content digest of the result's guest-visible bytes.
    pub content_digest: String,
    /// What the person should know.
    pub findings: Vec<Finding>,
}

/// Recasts a disk.
///
/// # Errors
/// Those of reading and writing; nothing half-made stays.
pub fn recast(options: &Options, context: &Context<'_>) -> Result<Recast> {
    let shape = formats::shape_for(&options.result, options.shape).map_err(reformis_disk::Error::from)?;
    refuse_same_file(&options.source, &options.result)?;
    let mut findings = Vec::new();
    let storage = open_source(options, &mut findings, context)?;
    let image = formats::Opener::new(options.links).open(storage, options.from)?;
    let name = options.source.file_name().unwrap_or_default().to_string_lossy().into_owned();
    if image.facts.unclean {
        findings.push(Finding::ImageUnclean { disk: name.clone() });
    }
    let before = image.facts.virtual_size;
    if let Some(grow) = options.grow.filter(|&grow| grow < before) {
        return Err(Error::Shrink { path: options.source.to_string_lossy().into(), size: before, asked: grow });
    }
    let wanted = options.grow.unwrap_or(before).next_multiple_of(options.align.unwrap_or(1).max(1));
    let size = formats::stored_size(shape.format, wanted);
    if size != before {
        findings.push(Finding::SizeRounded { disk: name, size: before, rounded: size });
    }
    let disk = GrownDisk::new(image.disk.clone(), size);
    let total = pipeline::work(&disk)?;
    let shown = options.result.to_string_lossy().into_owned();
    let staged = StagedFile::create(&options.result, options.force)?;
    let mut writer = formats::create(staged.file()?, shown.clone(), shape, size)?;
    let step = Step { action: "recasting", what: shown, number: 1, of: 1 };
    let copied = context.step(&step, total, |watch| pipeline::copy(&disk, writer.as_mut(), watch))?;
    // Its tables are as large as those that are read back below.
    drop(writer);
    if context.is_cancelled() {
        return Err(reformis_disk::Error::Interrupted.into());
    }
    staged.commit(options.force)?;
    tracing::info!(
        source = %options.source.display(),
        result = %options.result.display(),
        %shape,
        size,
        stored = copied.stored,
        digest = %copied.digest,
        "recast"
    );
    let after = formats::open(Arc::new(FileStorage::open(&options.result)?), Some(shape.format))?.facts;
    Ok(Recast { before: image.facts, after, content_digest: copied.digest.to_string(), findings })
}

/// The source's bytes. A stream, which can only be read forwards, is unpacked into a nameless file beside the result,
/// which goes with this run, however it ends.
fn open_source(options: &Options, findings: &mut Vec<Finding>, context: &Context<'_>) -> Result<Arc<dyn Storage>> {
    let stdin = options.source == Path::new("-");
    let storage = if stdin { None } else { Some(source::open(&options.source)?) };
    let name = if stdin { "stdin".to_string() } else { options.source.to_string_lossy().into_owned() };
    let mut head = vec![0; 8];
    let mut input = io::stdin().lock();
    match &storage {
        Some(storage) => {
            head.truncate(storage.len().min(8) as usize);
            storage.read_at(0, &mut head)?;
        }
        None => {
            let mut first = Vec::new();
            input.by_ref().take(8).read_to_end(&mut first).map_err(Error::io("reading", Path::new("stdin")))?;
            head = first;
        }
    }
    // What is declared raw is raw, also where it looks like a stream.
    let wrapping = Wrapping::detect(&head).filter(|_| options.from != Some(Format::Raw));
    if let (Some(storage), None) = (&storage, wrapping) {
        return Ok(storage.clone());
    }
    let spooled = Finding::Spooled { source: name.clone(), kind: wrapping.map_or("a stream", Wrapping::name).into() };
    context.observer.tell(&spooled);
    findings.push(spooled);
    let folder = options.result.parent().filter(|p| *p != Path::new("")).unwrap_or(Path::new("."));
    let file = tempfile::tempfile_in(folder).map_err(Error::io("making a file to unpack into, in", folder))?;
    let total = storage.as_ref().map_or(0, |storage| storage.len());
    let step = Step { action: "unpacking", what: name.clone(), number: 1, of: 1 };
    context.step(&step, total, |watch| -> Result<()> {
        let packed: Box<dyn Read + '_> = match storage.clone() {
            Some(storage) => Box::new(Forward::new(storage, *watch)),
            None => Box::new(io::Cursor::new(head).chain(input)),
        };
        match wrapping {
            Some(kind) => {
                let unpacked = kind.unpack(packed).map_err(Error::io("unpacking", Path::new(&name)))?;
                wrapped::spool(unpacked, &file, &name, watch)?;
            }
            None => drop(wrapped::spool(packed, &file, &name, watch)?),
        }
        Ok(())
    })?;
    if let Some(storage) = storage {
        storage.check_unchanged()?;
    }
    // The name tells what is inside, without the ending of the stream; what comes from a pipe is raw unless it shows.
    let inner = if stdin { "stdin.raw".into() } else { Path::new(&name).with_extension("").to_string_lossy().into() };
    Ok(Arc::new(FileStorage::of_spool(file, inner)?))
}

fn refuse_same_file(source: &Path, result: &Path) -> Result<()> {
    let place = |path: &Path| std::fs::metadata(path).ok().map(|metadata| (metadata.dev(), metadata.ino()));
    match place(source) {
        Some(there) if Some(there) == place(result) => Err(Error::SameFile { path: source.to_string_lossy().into() }),
        _ => Ok(()),
    }
}
