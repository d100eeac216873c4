//! One disk into another shape, nothing else changed.

use std::{
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use reformis_disk::{
    Facts, Format, Shape,
    disk::GrownDisk,
    formats, pipeline,
    source::{self, FileStorage, Links},
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
    let image = formats::Opener::new(options.links).open(source::open(&options.source)?, options.from)?;
    let mut findings = Vec::new();
    let name = options.source.file_name().unwrap_or_default().to_string_lossy().into_owned();
    if image.facts.unclean {
        findings.push(Finding::ImageUnclean { disk: name.clone() });
    }
    let (before, size) = (image.facts.virtual_size, formats::stored_size(shape.format, image.facts.virtual_size));
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
    if context.is_cancelled() {
        return Err(reformis_disk::Error::Interrupted.into());
    }
    staged.commit(options.force)?;
    let after = formats::open(Arc::new(FileStorage::open(&options.result)?), Some(shape.format))?.facts;
    Ok(Recast { before: image.facts, after, content_digest: copied.digest.to_string(), findings })
}

fn refuse_same_file(source: &Path, result: &Path) -> Result<()> {
    let place = |path: &Path| std::fs::metadata(path).ok().map(|metadata| (metadata.dev(), metadata.ino()));
    match place(source) {
        Some(there) if Some(there) == place(result) => Err(Error::SameFile { path: source.to_string_lossy().into() }),
        _ => Ok(()),
    }
}
