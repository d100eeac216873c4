//! The first pass: the disks of a machine that still runs are brought near, unchanged inside, so that its stop is short.

use std::path::{Path, PathBuf};

use jiff::Timestamp;

use super::{Options, making::Move};
use crate::{
    error::{Error, Result},
    finding::Finding,
    inside::Inside,
    landing::{
        again::{chains, head},
        ahead::{self, FirstPass, Kept},
        holder::{Holder, can_be_changed},
        journal,
    },
    observer::{Context, Step},
    plan::Plan,
    prepare::{self, Prepared},
    receipt,
    record::SourceFile,
    staging::StagedFolder,
};

/// What a first pass came to.
#[derive(Debug, Clone)]
pub struct Ahead {
    /// The machine.
    pub name: String,
    /// The folder that will be its landing.
    pub folder: PathBuf,
    /// How many disks it has.
    pub disks: usize,
    /// Bytes of its disks as the guest sees them.
    pub size: u64,
    /// When, and how much.
    pub pass: FirstPass,
    /// What the person should know.
    pub findings: Vec<Finding>,
}

/// Makes the first pass.
///
/// # Errors
/// Those of [`super::carry`]; [`Error::NotAhead`] for a landing into which what changed cannot be put later.
pub fn ahead(options: &Options, context: &Context<'_>) -> Result<Ahead> {
    let began = Timestamp::now();
    let settled = prepare::settled(&options.order, &options.site, options.links, context)?;
    // What is changed inside is changed in the second pass: the guest still writes there.
    let prepared = settled.with(Inside::default());
    let (plan, findings) = prepared.accepted(&options.accept)?;
    check(plan)?;
    let (head, mut chains) = (head(&prepared, plan), chains_at_rest(&prepared, plan));
    let staged = StagedFolder::create(&plan.folder, options.force, receipt::FILE_NAME, true)?;
    if staged.had_stale() {
        // A pass that was cut off goes on where nothing has changed; a whole one is made anew.
        let earlier = journal::left(staged.inside()).filter(|_| ahead::left(staged.inside()).is_none());
        let goes_on = earlier.is_some_and(|earlier| head.goes_on(&earlier));
        let disks: Vec<&str> = plan.disks.iter().map(|disk| disk.file.as_str()).collect();
        journal::tidy(staged.inside(), &disks, goes_on)?;
        // One that was cut off in the middle of being written.
        ahead::unmark(staged.inside())?;
    }
    journal::begin(staged.inside(), &head)?;
    let keep = |error: &Error| {
        if !matches!(error, Error::Disk(reformis_disk::Error::Changed { .. })) {
            staged.leave();
            context.observer.tell(&Finding::PartKept { path: plan.folder.to_string_lossy().into() });
        }
    };
    tracing::info!(target = prepared.settled.target.name, into = %plan.folder.display(), "carrying ahead");
    let mut holder = Holder::Folder { folder: staged.inside().clone(), digests: false };
    let (sources, shipping) = (prepared.settled.target.files.clone(), None);
    let mut move_ = Move {
        prepared: &prepared,
        plan,
        staged: &staged,
        context,
        sources,
        shipping,
        is_kept: true,
        first: None,
        bitmap: None,
    };
    let mut carried = 0u64;
    for (index, planned) in plan.disks.iter().enumerate() {
        let step =
            Step { action: "carrying ahead", what: planned.file.clone(), number: index + 1, of: plan.disks.len() };
        let disk = move_.carry_disk(index, planned, &mut holder, &step).inspect_err(keep)?;
        carried = carried.saturating_add(disk.written.copied.stored);
    }
    let pass = FirstPass { began, ended: Timestamp::now(), carried };
    for file in chains.iter_mut().flatten() {
        let read = move_.sources.iter().find(|read| read.path == file.path && read.inode == file.inode);
        file.digest = read.and_then(|read| read.digest.clone());
    }
    ahead::mark(staged.inside(), &Kept { pass: pass.clone(), chains }).inspect_err(keep)?;
    staged.inside().sync().inspect_err(keep)?;
    staged.leave();
    let (name, folder, disks) = (plan.machine.name.to_string(), plan.folder.clone(), plan.disks.len());
    let size = plan.disks.iter().map(|disk| disk.size).fold(0, u64::saturating_add);
    Ok(Ahead { name, folder, disks, size, pass, findings })
}

/// The files of each disk; one that could be written to without another version has no time of its last change, so that no later pass
/// takes it for what it was.
fn chains_at_rest(prepared: &Prepared, plan: &Plan) -> Vec<Vec<SourceFile>> {
    let mut chains = chains(prepared, plan);
    let disks = plan.disks.iter().filter_map(|disk| prepared.settled.target.disks.get(disk.source));
    for (disk, chain) in disks.zip(&mut chains) {
        for (storage, file) in disk.storages().zip(chain) {
            if !storage.is_at_rest() {
                tracing::info!(path = file.path, "a write to it might not show");
                file.changed = None;
            }
        }
    }
    chains
}

/// Fails for a landing that is written in one order.
fn check(plan: &Plan) -> Result<()> {
    if plan.store.is_some() {
        return Err(Error::NotAhead { what: "its disks go into a store, as they are made".into() });
    }
    match plan.disks.iter().find(|disk| !can_be_changed(plan, disk)) {
        Some(disk) => Err(Error::NotAhead {
            what: format!("'{}' is {}, which is written in one order; choose a thin shape", disk.file, disk.shape),
        }),
        None => Ok(()),
    }
}

/// The first pass that is kept for what will be `landing`.
pub fn first_pass(landing: &Path) -> Option<FirstPass> {
    StagedFolder::left_by_us(landing).and_then(|left| Some(ahead::left(&left)?.pass))
}
