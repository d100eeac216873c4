//! The move: every disk streamed once into its place, the machine file and the receipt beside it.

use std::{
    fs::OpenOptions,
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

use jiff::Timestamp;
use reformis_disk::{
    Disk, Facts,
    disk::GrownDisk,
    formats,
    overlay::Overlay,
    pipeline::{self, Watch},
    source::{FileStorage, Links},
};
use reformis_machine::{
    Destination,
    domain::{self, LandedDisk},
};

use crate::{
    TOOL, checksum,
    error::{Error, Result},
    finding::{self, Finding},
    observer::{Context, Step},
    plan::{self, Plan, PlannedDisk},
    receipt::{self, DiskFacts, DiskRecord, FileDigest, MachineRecord, Receipt, SourceFile},
    staging::{self, StagedFolder},
    target::{self, TargetDisk},
};

/// What to move, and where.
#[derive(Debug, Clone)]
pub struct Options {
    /// An archive or a descriptor.
    pub target: PathBuf,
    /// What the guest will find.
    pub destination: Destination,
    /// The folder in which the landing is made.
    pub into: PathBuf,
    /// Replace a landing that exists.
    pub force: bool,
    /// Where names in the source's files may lead.
    pub links: Links,
}

/// A finished move.
#[derive(Debug, Clone)]
pub struct Landing {
    /// The folder.
    pub folder: PathBuf,
    /// Its record.
    pub receipt: Receipt,
    /// The machine's part of it.
    pub machine: MachineRecord,
    /// What the person should know.
    pub findings: Vec<Finding>,
}

/// Makes the move.
///
/// # Errors
/// [`Error::Refused`] with all findings when one of them is a blocker: nothing was written then. Otherwise those of
/// reading and writing; nothing half-made stays.
pub fn carry(options: &Options, context: &Context<'_>) -> Result<Landing> {
    let started = Timestamp::now();
    let target = target::open(&options.target, options.links)?;
    let (plan, more) = plan::propose(&target, &options.destination);
    let mut findings: Vec<Finding> = target.findings.iter().cloned().chain(more).collect();
    let (Some(plan), false) = (plan, finding::blocked(&findings)) else {
        return Err(Error::Refused { findings });
    };
    let folder = std::path::absolute(options.into.join(&plan.machine.name))
        .map_err(Error::io("finding the folder of", &options.into))?;
    let staged = StagedFolder::create(&folder, options.force, receipt::FILE_NAME)?;
    if staged.had_stale() {
        findings.push(Finding::StaleRemoved { path: folder.to_string_lossy().into() });
    }

    tracing::info!(target = target.name, kind = target.kind.name(), into = %folder.display(), "carrying");
    let mut sources = target.files.clone();
    let mut disks = Vec::new();
    for (index, (disk, planned)) in target.disks.iter().zip(&plan.disks).enumerate() {
        let step = Step { action: "carrying", what: planned.file.clone(), number: index + 1, of: target.disks.len() };
        let (record, files) = carry_disk(disk, planned, staged.path(), &step, context)?;
        disks.push(record);
        sources.extend(files);
    }
    let machine = write_machine(plan, &staged)?;
    let receipt = Receipt {
        schema: receipt::SCHEMA,
        tool: TOOL.into(),
        kind: receipt::Kind::Carry,
        started,
        finished: Timestamp::now(),
        target: target.name.clone(),
        destination: options.destination.name.clone(),
        sources,
        disks,
        machine: Some(machine.clone()),
        findings: findings.iter().map(Finding::record).collect(),
    };
    staging::write_file(&staged.path().join(receipt::FILE_NAME), &receipt.to_json())?;
    if context.is_cancelled() {
        return Err(reformis_disk::Error::Interrupted.into());
    }
    staged.commit(options.force)?;
    tracing::info!(landing = %folder.display(), "landed");
    Ok(Landing { folder, receipt, machine, findings })
}

/// Streams one disk into its image, while its files are compared with the manifest.
fn carry_disk(
    disk: &TargetDisk,
    planned: &PlannedDisk,
    folder: &Path,
    step: &Step,
    context: &Context<'_>,
) -> Result<(DiskRecord, Vec<SourceFile>)> {
    let overlay = Overlay::new(disk.disk());
    let edits = overlay.edits().to_vec();
    let whole = GrownDisk::new(Arc::new(overlay), planned.size);
    let path = folder.join(&planned.file);
    let total = pipeline::work(&whole)?;
    // Either half stops the other when it fails; the person's wish to stop reaches both.
    let failed = AtomicBool::new(false);
    let stop = || failed.load(Ordering::Relaxed) || context.is_cancelled();
    let noting = |error: &Error| {
        tracing::debug!(%error, disk = disk.id, "one half of the work ended");
        failed.store(true, Ordering::Relaxed);
    };
    let (copied, digests) = context.step(step, total, |watch| {
        std::thread::scope(|scope| {
            let digests = scope.spawn(|| digest_parts(disk, &stop).inspect_err(&noting));
            let copied = write_disk(&whole, planned, &path, &Watch { cancel: &stop, ..*watch }).inspect_err(&noting);
            let digests = digests.join().unwrap_or(Err(reformis_disk::Error::Interrupted.into()));
            (copied, digests)
        })
    });
    // What went wrong is told, not that the other half was stopped for it.
    let (copied, files) = match (copied, digests) {
        (Ok(copied), Ok(files)) => (copied, files),
        (Err(error), Err(other)) if error.is_interrupted() => return Err(other),
        (Err(error), _) | (_, Err(error)) => return Err(error),
    };
    let after = facts_of(&path, planned)?;
    tracing::info!(
        disk = disk.id,
        result = planned.file,
        shape = %planned.shape,
        size = planned.size,
        stored = copied.stored,
        digest = %copied.digest,
        "carried a disk"
    );
    let record = DiskRecord {
        id: disk.id.clone(),
        source: disk.parts.iter().map(|part| target::absolute(part.storage.name())).collect(),
        result: planned.file.clone(),
        before: disk.image.as_ref().map(|image| DiskFacts::from(&image.facts)),
        after: DiskFacts::from(&after),
        content_digest: copied.digest.to_string(),
        edits,
    };
    Ok((record, files))
}

fn write_disk(disk: &dyn Disk, planned: &PlannedDisk, path: &Path, watch: &Watch<'_>) -> Result<pipeline::Copied> {
    let file = OpenOptions::new().read(true).write(true).create_new(true).open(path);
    let file = file.map_err(Error::io("making", path))?;
    let name = path.to_string_lossy().into_owned();
    let own = file.try_clone().map_err(Error::io("opening", path))?;
    let mut writer = formats::create(file, name, planned.shape, planned.size)?;
    let copied = pipeline::copy(disk, writer.as_mut(), watch)?;
    own.sync_all().map_err(Error::io("flushing", path))?;
    Ok(copied)
}

/// Digests the files that hold a disk, each against its line of the manifest, and those of the disks below it.
fn digest_parts(disk: &TargetDisk, stop: &(dyn Fn() -> bool + Sync)) -> Result<Vec<SourceFile>> {
    let digest = |part: &target::Part| {
        let digest = checksum::of_storage(&part.storage, part.entry.as_ref(), stop)?;
        Ok(target::source_file(part.storage.as_ref(), Some(digest)))
    };
    let below = disk.image.iter().flat_map(|image| &image.files).map(|file| {
        let digest = checksum::of_storage(file, None, stop)?;
        Ok(target::source_file(file.as_ref(), Some(digest)))
    });
    disk.parts.iter().map(digest).chain(below).collect()
}

/// What the finished image says of itself, read back.
fn facts_of(path: &Path, planned: &PlannedDisk) -> Result<Facts> {
    Ok(formats::open(Arc::new(FileStorage::open(path)?), Some(planned.shape.format))?.facts)
}

fn write_machine(plan: Plan, staged: &StagedFolder) -> Result<MachineRecord> {
    let landed: Vec<LandedDisk> = plan
        .disks
        .iter()
        .map(|disk| LandedDisk {
            path: staged.target().join(&disk.file).to_string_lossy().into(),
            format: disk.shape.format.to_string(),
        })
        .collect();
    let file = format!("{}.xml", plan.machine.name);
    let path = staged.path().join(&file);
    let text = domain::write(&plan.machine, &landed).map_err(Error::io("writing", &path))?;
    staging::write_file(&path, text.as_bytes())?;
    Ok(MachineRecord {
        before: plan.before,
        after: plan.machine,
        kind: "domain-xml".into(),
        file,
        digest: FileDigest::blake3(text.as_bytes()),
    })
}
