//! The move: every disk streamed once into its place, the machine file and the receipt beside it.

mod ahead;
mod changes;
mod delta;
mod making;

use std::path::PathBuf;

pub use ahead::{Ahead, ahead, first_pass};
use jiff::Timestamp;
use making::{Made, Move};
use reformis_disk::source::Links;
use reformis_machine::{MachineFile, Site};
use uuid::Uuid;

use crate::{
    TOOL,
    error::{Error, Result},
    finding::Finding,
    landing::{
        again::{had_second_pass, head, is_whole, receipt_left},
        ahead::{self as first, Kept as FirstKept},
        arrival::{self, Arrival},
        holder::{can_be_changed, can_go_on},
        journal::{self, Head},
        shipping::Shipping,
    },
    lend::Kept,
    observer::Context,
    plan::{Plan, PlannedDisk},
    prepare::{self, Order},
    receipt::{self, AheadRecord, MachineRecord, Receipt},
    staging::{Place, StagedFolder, write_into},
    target::TargetDisk,
};

/// What to move, and how.
#[derive(Debug, Clone)]
pub struct Options {
    /// A target, or a brief.
    pub order: Order,
    /// What the site adds.
    pub site: Site,
    /// Codes of blockers that the person accepts.
    pub accept: Vec<String>,
    /// Replace a landing that exists.
    pub force: bool,
    /// Where names in the source's files may lead.
    pub links: Links,
    /// Go on with what an earlier run of the same move left.
    pub resume: bool,
    /// The folder in which is kept what the guest wrote while its disks were lent: that lands too.
    pub with: Option<PathBuf>,
    /// The job of a fleet that this is, by which its landing is known again.
    pub job: Option<Uuid>,
    /// Whether a first pass must be there, of which only what changed is written.
    pub is_second: bool,
    /// The map of its block device that tells what was written since the first pass began: what is not in it is not read.
    pub bitmap: Option<String>,
    /// When the machine was stopped, where that is known; else the beginning of this move counts.
    pub off_since: Option<Timestamp>,
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
    /// The store that its disks are in, and the folder there: `NAME:FOLDER`.
    pub store: Option<String>,
}

/// Makes the move.
///
/// # Errors
/// [`Error::Refused`] with all findings when one of them is a blocker that is not accepted: nothing was written then.
/// Otherwise those of reading and writing; nothing half-made stays, but what can be gone on with.
pub fn carry(options: &Options, context: &Context<'_>) -> Result<Landing> {
    let started = Timestamp::now();
    let settled = prepare::settled(&options.order, &options.site, options.links, context)?;
    let mut kept = options.with.as_deref().map(Kept::open).transpose()?;
    let mut prepared = match &mut kept {
        Some(kept) => {
            let mut prepared = kept.applied_to(settled, context)?;
            kept.note_writes(&mut prepared)?;
            prepared
        }
        None => settled.made_ready(true, context)?,
    };
    arrival::ask(&mut prepared, true, options.resume, context)?;
    let (plan, mut findings) = prepared.accepted(&options.accept)?;
    // Whatever a store will not take is told before a byte is written.
    let shipping = Shipping::open(plan, context)?;
    if let Some(shipping) = &shipping {
        if !options.force && !options.resume {
            shipping.check_names(plan, None)?;
        }
        for disk in plan.disks.iter().filter(|disk| !shipping.streams(disk)) {
            let finding = Finding::MadeHereFirst { disk: disk.file.clone(), why: shipping.why_not(disk) };
            context.observer.tell(&finding);
            findings.push(finding);
        }
    }
    let head = head(&prepared, plan);
    let goes_on = options.resume || options.is_second;
    if goes_on && !options.force && options.job.is_none() && shipping.is_none() {
        // A run that was killed just after its landing had its name.
        let landed = Place::open(&plan.folder).ok();
        let receipt = landed.and_then(|at| {
            let receipt = receipt_left(&at, &head, plan, None, context.budget)?;
            is_whole(&at, &receipt).then_some(receipt)
        });
        if let Some(receipt) = receipt
            && let Some(machine) = receipt.machine.clone()
        {
            tracing::info!(landing = %plan.folder.display(), "it had landed");
            let (folder, store) = (plan.folder.clone(), plan.store.clone());
            return Ok(Landing { folder, receipt, machine, findings, store });
        }
    }
    let first = first_of(options, plan, &head, context)?;
    let again = goes_on || first.is_some();
    let staged = StagedFolder::create(&plan.folder, options.force, receipt::FILE_NAME, again)?;
    let target = &prepared.settled.target;
    // What comes over a network is worth keeping, where it can be gone on with; what lies here is read again as quickly.
    let is_archive = plan.machine_file == MachineFile::Ova;
    let goes = |disk: &&PlannedDisk| !is_archive && shipping.is_none() && can_go_on(disk);
    let goers: Vec<&PlannedDisk> = plan.disks.iter().filter(goes).collect();
    let is_far = |disk: &&PlannedDisk| target.disks.get(disk.source).is_some_and(TargetDisk::is_far);
    // What is in a store already is never sent twice.
    let is_kept = shipping.is_some() || goers.iter().any(|disk| again || is_far(disk));
    let keep = |error: &Error| {
        // What is of a source that has changed is worth nothing.
        let has_changed = matches!(error, Error::Disk(reformis_disk::Error::Changed { .. }));
        if is_kept && (first.is_some() || !has_changed) {
            staged.leave();
            context.observer.tell(&Finding::PartKept { path: plan.folder.to_string_lossy().into() });
        }
    };
    let left = || receipt_left(staged.inside(), &head, plan, shipping.as_ref(), context.budget);
    if let Some(receipt) = (goes_on && staged.had_stale() && is_kept).then(left).flatten()
        && let Some(machine) = receipt.machine.clone()
    {
        context.observer.may_land().inspect_err(keep)?;
        end(&receipt, shipping.as_ref(), staged.inside()).inspect_err(keep)?;
        return named(staged, plan, receipt, machine, findings);
    }
    if first.is_some() {
        let disks: Vec<&str> = plan.disks.iter().map(|disk| disk.file.as_str()).collect();
        journal::tidy(staged.inside(), &disks, true)?;
    } else if goes_on && staged.had_stale() {
        let goes_on = is_kept && journal::left(staged.inside()).is_some_and(|earlier| head.goes_on(&earlier));
        let disks: Vec<&str> = goers.iter().map(|disk| disk.file.as_str()).collect();
        journal::tidy(staged.inside(), &disks, goes_on)?;
        if !goes_on {
            findings.push(Finding::BegunAnew { path: plan.folder.to_string_lossy().into() });
        }
    } else if staged.had_stale() {
        findings.push(Finding::StaleRemoved { path: plan.folder.to_string_lossy().into() });
    }
    if is_kept {
        journal::begin(staged.inside(), &head)?;
    }
    tracing::info!(target = target.name, kind = target.kind.name(), into = %plan.folder.display(), "carrying");
    let sources = target.files.clone();
    if let Some(shipping) = shipping.as_ref().filter(|_| options.resume && !options.force) {
        shipping.check_names(plan, Some(staged.inside())).inspect_err(keep)?;
    }
    let bitmap = options.bitmap.as_deref();
    let first = first.as_ref();
    let mut move_ =
        Move { prepared: &prepared, plan, staged: &staged, context, sources, shipping, is_kept, first, bitmap };
    let Made { disks, machine, changed, told, reads } = move_.make().inspect_err(keep)?;
    // Others see what comes now.
    context.observer.may_land().inspect_err(keep)?;
    let cloud = match (Arrival::of(plan, context)?, &move_.shipping) {
        (Some(arrival), Some(shipping)) => {
            let arrived = arrival.arrive(plan, shipping, &machine.file, staged.inside(), context);
            Some(arrived.inspect_err(keep)?)
        }
        _ => None,
    };
    let finished = Timestamp::now();
    let off_since = options.off_since.unwrap_or(started);
    let receipt = Receipt {
        schema: receipt::SCHEMA,
        tool: TOOL.into(),
        kind: receipt::Kind::Carry,
        started,
        finished,
        target: target.name.clone(),
        site: options.site.file().map(str::to_string),
        destination: prepared.settled.destination.name.clone(),
        sources: move_.sources,
        disks,
        machine: Some(machine.clone()),
        verdict: prepared.inside.verdict.clone(),
        guest: Some(prepared.inside.record.clone())
            .filter(|record| prepared.inside.has_system || !record.edits.is_empty()),
        findings: findings.iter().map(Finding::record).collect(),
        cloud,
        lent: kept.map(Kept::into_record),
        job: options.job,
        ahead: first.map(|first| AheadRecord::new(&first.pass, (changed, told, reads), off_since, finished)),
    };
    let access = prepared.settled.access();
    write_into(staged.inside(), receipt::FILE_NAME, &receipt.to_json(), access)?;
    if context.is_cancelled() {
        return Err(reformis_disk::Error::Interrupted.into()).inspect_err(keep);
    }
    context.observer.may_land().inspect_err(keep)?;
    end(&receipt, move_.shipping.as_ref(), staged.inside()).inspect_err(keep)?;
    named(staged, plan, receipt, machine, findings)
}

/// The first pass of this move that is kept, where there is one.
fn first_of(options: &Options, plan: &Plan, head: &Head, context: &Context<'_>) -> Result<Option<FirstKept>> {
    let folder = StagedFolder::left_by_us(&plan.folder);
    let left = folder.as_ref().and_then(|left| Some((first::left(left)?, journal::left(left)?)));
    match left {
        Some((kept, earlier))
            if (head.is_of(&earlier) || head.is_above(&earlier, &kept.chains))
                && plan.disks.iter().all(|disk| can_be_changed(plan, disk)) =>
        {
            Ok(Some(kept))
        }
        None if !options.is_second => Ok(None),
        // The second pass was killed in its last moments. Its landing is taken as it is where its sources are still what they were, and
        // made from its beginning where they are not.
        None if folder.is_some_and(|left| had_second_pass(&left, head, context.budget)) => Ok(None),
        None => Err(first::none(&plan.folder, "there is none")),
        Some(_) if options.is_second => {
            Err(first::none(&plan.folder, "the one that is there is of another machine, destination or shape"))
        }
        Some(_) => Ok(None),
    }
}

/// Puts the receipt beside disks in a store; what was kept to go on with is worth nothing more.
fn end(receipt: &Receipt, shipping: Option<&Shipping>, folder: &Place) -> Result<()> {
    shipping.map_or(Ok(()), |shipping| shipping.put(receipt::FILE_NAME, &receipt.to_json()))?;
    journal::end(folder)
}

/// Gives the landing its name.
fn named(
    staged: StagedFolder,
    plan: &Plan,
    receipt: Receipt,
    machine: MachineRecord,
    findings: Vec<Finding>,
) -> Result<Landing> {
    let folder = plan.folder.clone();
    staged.commit()?;
    tracing::info!(landing = %folder.display(), "landed");
    Ok(Landing { folder, receipt, machine, findings, store: plan.store.clone() })
}
