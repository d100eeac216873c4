//! Everything that is known of a move before its first byte is written.

use std::path::{Path, PathBuf};

use reformis_disk::source::{Access, Links, check_within};
use reformis_guest::Look;
use reformis_machine::{Destination, Site};
use reformis_wire::Wires;

use crate::{
    brief::{Brief, NewGuest, Notes},
    error::{Error, Result},
    finding::{Finding, Severity},
    inside::{self, Inside},
    observer::Context,
    plan::{Plan, settle},
    propose::{self, Choices, Proposal},
    target::{self, Opening, Pick, Target, Unpack},
};

/// What to move, and how.
#[derive(Debug, Clone)]
pub enum Order {
    /// A target, whose brief is made here.
    Target {
        /// A machine file, an archive, a folder that holds one, or a disk.
        path: PathBuf,
        /// Which machine, where there are several.
        machine: Option<String>,
        /// What the guest will find.
        destination: String,
        /// The folder in which the landing is made.
        into: PathBuf,
        /// What the person chose already; on the heap, since it is much larger than the other kind.
        choices: Box<Choices>,
    },
    /// A brief, and the folder from which its paths start.
    Brief(Box<Brief>, PathBuf),
}

/// Everything that is known before the first byte is written.
pub(crate) struct Prepared {
    pub(crate) settled: Settled,
    /// The guest, made ready.
    pub(crate) inside: Inside,
}

/// A target and its brief, before its guest is looked into.
pub(crate) struct Settled {
    pub(crate) target: Target,
    pub(crate) destination: Destination,
    pub(crate) brief: Brief,
    pub(crate) notes: Notes,
    pub(crate) plan: Option<Plan>,
    pub(crate) findings: Vec<Finding>,
    pub(crate) boot: Option<Look>,
    /// Who may read all that is put in besides what the target has.
    pub(crate) narrowed: Access,
}

/// Opens the target, settles the brief, and makes the guest ready.
pub(crate) fn prepare(order: &Order, site: &Site, links: Links, context: &Context<'_>) -> Result<Prepared> {
    settled(order, site, links, context)?.made_ready(true, context)
}

/// What a brief or a fleet file of somebody else's names lies in that file's folder, as what an image names does.
fn check_confined(path: &str, guest: &NewGuest, links: Links, context: &Context<'_>) -> Result<()> {
    let Some(home) = guest.confined_to.as_deref().filter(|_| links == Links::OwnFolder) else { return Ok(()) };
    let is_here = |path: &&String| !Wires::is_link(Path::new(path)) && !context.wires.is_named(path);
    let by = home.to_string_lossy();
    let source = path.to_string();
    let files = guest.first_boot.iter().chain(&guest.drivers).chain(&guest.user_data).chain(&guest.network_config);
    for path in files.chain([&source]).filter(is_here) {
        // A path may go on into an archive.
        let file = Path::new(path).ancestors().find(|path| path.symlink_metadata().is_ok()).unwrap_or(Path::new(path));
        check_within(Some(home), &by, file)?;
    }
    Ok(())
}

/// Who may read all files of this machine that `guest` puts in, and what the keys open.
pub(crate) fn access_of(guest: &NewGuest, context: &Context<'_>) -> Access {
    let files = guest.first_boot.iter().chain(&guest.drivers).chain(&guest.user_data).chain(&guest.network_config);
    let access = files.filter_map(|path| std::fs::metadata(path).ok()).filter(std::fs::Metadata::is_file);
    let access = access.map(|metadata| Access::of(&metadata)).fold(Access::ANYBODY, Access::and);
    if context.keys.is_empty() { access } else { access.and(Access::OWNER) }
}

/// Opens the target and settles the brief.
pub(crate) fn settled(order: &Order, site: &Site, links: Links, context: &Context<'_>) -> Result<Settled> {
    let (target, destination, proposal, boot) = match order {
        Order::Target { path, machine, destination, into, choices } => {
            check_confined(&path.to_string_lossy(), &choices.guest, links, context)?;
            let destination = site.destination(destination)?;
            let machine = machine.as_deref().map_or(Pick::Only, Pick::Named);
            let unpack = Some(Unpack { folder: into, context });
            let mut target =
                target::open(path, &Opening { machine, unpack, ..Opening::new(links, context.budget, context.wires) })?;
            if !context.wires.is_named(&target.name) {
                target.name = target::absolute(&target.name);
            }
            let boot = look_at_boot(&target, None);
            let into = target::absolute(&into.to_string_lossy());
            let mut choices = choices.as_ref().clone();
            choices.store = store_of(choices.store, choices.cloud.as_deref(), context)?;
            let proposal = propose::propose(&target, &destination, site, &choices, &into, boot.as_ref())?;
            (target, destination, proposal, boot)
        }
        Order::Brief(brief, folder) => {
            let mut brief = brief.as_ref().clone();
            let from = |path: &str| match Wires::is_link(Path::new(path)) || context.wires.is_named(path) {
                true => path.to_string(),
                false => target::absolute(&folder.join(path).to_string_lossy()),
            };
            brief.journey.source = from(&brief.journey.source);
            brief.journey.into = from(&brief.journey.into);
            let guest = &mut brief.guest;
            let files = guest.first_boot.iter_mut().chain(&mut guest.drivers);
            for file in files.chain(&mut guest.user_data).chain(&mut guest.network_config) {
                *file = from(file);
            }
            check_confined(&brief.journey.source, &brief.guest, links, context)?;
            if let Some(home) = brief.guest.confined_to.as_deref().filter(|_| links == Links::OwnFolder) {
                for file in brief.disks.iter().filter_map(|disk| disk.file.as_ref()).map(|file| from(file)) {
                    check_within(Some(home), &home.to_string_lossy(), Path::new(&file))?;
                }
            }
            let journey = &mut brief.journey;
            journey.store = store_of(journey.store.take(), journey.cloud.as_deref(), context)?;
            let destination = site.destination(&brief.journey.destination)?;
            let machine = brief.journey.machine.as_deref().map_or(Pick::Only, Pick::Named);
            let named =
                brief.disks.iter().filter_map(|disk| Some((disk.source.clone(), from(disk.file.as_ref()?).into())));
            let unpack = Some(Unpack { folder: Path::new(&brief.journey.into), context });
            let opening = Opening {
                machine,
                files: named.collect(),
                unpack,
                ..Opening::new(links, context.budget, context.wires)
            };
            let target = target::open(Path::new(&brief.journey.source), &opening)?;
            let first = brief.disks.iter().min_by_key(|disk| disk.boot.unwrap_or(u32::MAX));
            let boot = look_at_boot(&target, first.map(|disk| disk.source.as_str()));
            let proposal = Proposal { brief, notes: Notes::new(), findings: Vec::new() };
            (target, destination, proposal, boot)
        }
    };
    let (plan, settled) = settle::settle(&target, &proposal.brief, &destination, boot.as_ref())?;
    let mut findings = target.findings.clone();
    findings.extend(proposal.findings);
    findings.extend(settled);
    let mut brief = proposal.brief;
    if links == Links::Trusted {
        brief.guest.confined_to = None;
    }
    let narrowed = access_of(&brief.guest, context);
    Ok(Settled { target, destination, brief, notes: proposal.notes, plan, findings, boot, narrowed })
}

/// The store that disks go to: the one that is said, else that of the cloud.
fn store_of(store: Option<String>, cloud: Option<&str>, context: &Context<'_>) -> Result<Option<String>> {
    match (store, cloud) {
        (None, Some(cloud)) => Ok(Some(context.wires.cloud(cloud)?.store().to_string())),
        (store, _) => Ok(store),
    }
}

impl Settled {
    /// Who may open what tells of the machine.
    pub(crate) fn access(&self) -> Access {
        self.target.access().and(self.narrowed)
    }

    /// Makes the guest ready, in memory; `keeps_entries` says whether the firmware's variables go along where there are some.
    pub(crate) fn made_ready(self, keeps_entries: bool, context: &Context<'_>) -> Result<Prepared> {
        let inside = match &self.plan {
            Some(plan) => inside::make_ready(
                &self.target,
                &self.brief,
                &self.destination,
                &plan.before,
                &plan.machine,
                keeps_entries && plan.nvram.is_some(),
                context,
            )?,
            None => Inside::default(),
        };
        Ok(self.with(inside))
    }

    /// With a guest that is ready.
    pub(crate) fn with(mut self, mut inside: Inside) -> Prepared {
        let findings = &mut self.findings;
        if inside.has_system {
            findings.retain(|finding| !matches!(finding, Finding::DriverUnchecked { .. }));
        }
        if inside.finds_loader() {
            findings.retain(|finding| *finding != Finding::NoFallbackLoader);
        }
        findings.append(&mut inside.findings);
        findings.dedup();
        Prepared { settled: self, inside }
    }
}

impl Prepared {
    /// The plan, when every blocker is accepted by its code; a code that stands for nothing here is no error, since a script
    /// gives the same ones to many machines.
    pub(crate) fn accepted(&self, accept: &[String]) -> Result<(&Plan, Vec<Finding>)> {
        let mut findings = self.settled.findings.clone();
        let is_accepted = |finding: &Finding| accept.iter().any(|code| code == finding.code());
        let blockers = || self.settled.findings.iter().filter(|finding| finding.severity() == Severity::Blocker);
        if let Some(finding) = blockers().find(|finding| is_accepted(finding) && !finding.is_acceptable()) {
            return Err(Error::NotAcceptable { code: finding.code().into() });
        }
        let open = blockers().any(|finding| !is_accepted(finding));
        match &self.settled.plan {
            Some(plan) if !open => {
                let mut codes: Vec<&str> = blockers().map(Finding::code).collect();
                codes.dedup();
                findings.extend(codes.into_iter().map(|code| Finding::Accepted { code: code.into() }));
                Ok((plan, findings))
            }
            _ => Err(Error::Refused { findings }),
        }
    }
}

/// Reads the brief at `path`.
///
/// # Errors
/// [`Error::Brief`], and what the system says.
pub fn read_brief(path: &Path) -> Result<Order> {
    let (text, is_own) = crate::brief::text_of(path)?;
    let mut brief = crate::brief::read(&text, &path.to_string_lossy())?;
    brief.guest.confined_to = (!is_own).then(|| crate::staging::parent(path));
    Ok(Order::Brief(Box::new(brief), crate::staging::parent(path)))
}

/// What was seen on the disk that boots, where it can be read: the disk called `named`, else the first of the machine's
/// own boot order.
#[expect(clippy::indexing_slicing, reason = "the places are those of these disks")]
fn look_at_boot(target: &Target, named: Option<&str>) -> Option<Look> {
    let order = target.described.as_ref().map(|described| &described.machine.disks);
    let first = order.and_then(|disks| (0..disks.len()).min_by_key(|&index| disks[index].boot.unwrap_or(u32::MAX)));
    let named = named.and_then(|id| target.disks.iter().position(|disk| disk.id == id));
    let disk = target.disks.get(named.or(first).unwrap_or(0))?;
    let image = disk.image.as_ref().filter(|image| image.facts.troubles.is_empty())?;
    // What cannot be read is told when it is carried.
    reformis_guest::look(&image.disk, &target.budget).ok()
}
