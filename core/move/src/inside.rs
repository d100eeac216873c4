//! What is inside a guest, made ready on the way: the edits that its new hardware asks for, and the chain of boot evidence.

use std::{collections::BTreeMap, io::Read, path::Path, sync::Arc};

use jiff::Timestamp;
use reformis_disk::{
    Disk,
    overlay::{Edit, Overlay},
    source::open_within,
};
use reformis_guest::{
    DiskPlace, Evidence, Found, Guest, Hardware, Link, Refit, Remark, State, Summary, Wishes, edit,
    nt::drivers::{Library, Medium},
};
use reformis_machine::{Clock, Destination, Firmware, Machine};
use serde::Serialize;

use crate::{
    brief::{Brief, NewGuest},
    error::{Error, Result},
    finding::Finding,
    hardware::{Table, adapter_places, described_hardware, disk_place, guests_order, host_rules, others},
    observer::Context,
    record::{Chain, GuestRecord},
    target::Target,
    verdict::Verdict,
};

/// The largest script for the first boot, in bytes.
const MAX_SCRIPT: u64 = 16 << 20;

/// A disk with what was changed.
#[derive(Clone)]
pub(crate) struct EditedDisk {
    pub(crate) disk: Arc<dyn Disk>,
    /// The edits that changed something.
    pub(crate) edits: Vec<Edit>,
}

impl From<Overlay> for EditedDisk {
    fn from(overlay: Overlay) -> Self {
        let edits = overlay.edits().iter().filter(|edit| !edit.ranges.is_empty()).cloned().collect();
        Self { disk: Arc::new(overlay), edits }
    }
}

/// A guest that was made ready.
#[derive(Default)]
pub(crate) struct Inside {
    /// The disks with what was changed, by their places among the target's.
    pub(crate) disks: BTreeMap<usize, EditedDisk>,
    pub(crate) record: GuestRecord,
    pub(crate) findings: Vec<Finding>,
    /// Whether there is a system that was made ready.
    pub(crate) has_system: bool,
    /// Whether it will boot.
    pub(crate) verdict: Option<Verdict>,
}

impl Inside {
    /// Whether the firmware finds a loader in what was made.
    pub(crate) fn finds_loader(&self) -> bool {
        let mut links = self.record.evidence.iter().flat_map(|chain| &chain.links);
        links.any(|link| link.link == Link::Firmware && matches!(link.state, State::Holds | State::Mended))
    }
}

/// Makes the guest of `target` ready for the machine `after`, in memory. Disks that can only be read forwards stay closed.
#[expect(clippy::indexing_slicing, reason = "the places are those of these disks, and a window of two has two")]
pub(crate) fn make_ready(
    target: &Target,
    brief: &Brief,
    destination: &Destination,
    before: &Machine,
    after: &Machine,
    keeps_entries: bool,
    context: &Context<'_>,
) -> Result<Inside> {
    let order = guests_order(before, target.disks.len()).into_iter();
    let readable: Vec<(usize, Arc<dyn Disk>)> =
        order.filter_map(|index| Some((index, readable(target, index)?))).collect();
    let hardware = Hardware {
        uefi: after.firmware != Firmware::Bios,
        unchanged: false,
        keeps_entries,
        disks: readable
            .iter()
            .map(|(index, _)| {
                let new = brief.disks.iter().find(|disk| disk.source == target.disks[*index].id)?;
                Some(DiskPlace { boot: new.boot, ..disk_place(new.controller, destination, after.firmware) })
            })
            .collect(),
        adapters: adapter_places(brief, destination, before, after),
        host: destination.helpers.clone(),
        others: others(destination),
        agents: destination.agents.clone(),
        rules: host_rules(destination),
        has_local_clock: Some(after.clock == Clock::Local),
    };
    let wishes = wishes(&brief.guest, context)?;
    ready(readable, &hardware, &wishes, &destination.name, context)
}

/// Makes the guest on `disks` ready, each with its number; `on` is where it goes, for the verdict.
pub(crate) fn ready(
    disks: Vec<(usize, Arc<dyn Disk>)>,
    hardware: &Hardware,
    wishes: &Wishes,
    on: &str,
    context: &Context<'_>,
) -> Result<Inside> {
    let now = Timestamp::now().as_second();
    let mut guest = Guest::open_with(
        disks.iter().map(|(_, disk)| context.stoppable(disk.clone())),
        context.keys,
        now,
        context.budget,
    )?;
    let otherwise = || guest.unread.first().map(|(volume, why)| format!("{volume}: {why}"));
    if guest.systems.is_empty() && !guest.has_closed() && !wishes_anything(wishes) {
        let verdict = Some(Verdict::of(on, &[], 0, otherwise()));
        let findings = reformis_guest::remarks(&guest).into_iter().filter_map(told).collect();
        return Ok(Inside { findings, verdict, ..Inside::default() });
    }
    let otherwise = otherwise();
    let Refit { done, evidence, remarks } = reformis_guest::refit(&mut guest, hardware, wishes, now);
    context.check()?;
    let mut findings: Vec<Finding> = remarks.into_iter().filter_map(told).collect();
    let without_driver: Vec<String> = findings
        .iter()
        .filter_map(|finding| match finding {
            Finding::NoDriver { device, .. } => Some(device.clone()),
            _ => None,
        })
        .collect();
    for (system, chain) in &evidence {
        // An adapter without a driver was told, with what helps.
        let is_told = |finding: &Finding| match finding {
            Finding::LinkBroken { seen, .. } => without_driver.iter().any(|device| seen.contains(device)),
            _ => false,
        };
        findings.extend(broken(system, chain).into_iter().filter(|finding| !is_told(finding)));
    }
    if guest.systems.is_empty() {
        findings.extend(not_done(wishes));
    }
    let record = GuestRecord { evidence: GuestRecord::chains(evidence), edits: done };
    let verdict = Some(Verdict::of(on, &record.evidence, record.edits.len(), otherwise));
    let has_system = !guest.systems.is_empty();
    let mut inside = Inside { record, findings, has_system, verdict, ..Inside::default() };
    if !inside.record.edits.is_empty() {
        let edited = guest.bench.take().into_iter().map(EditedDisk::from);
        inside.disks = disks.into_iter().map(|(index, _)| index).zip(edited).collect();
    }
    Ok(inside)
}

fn wishes_anything(wishes: &Wishes) -> bool {
    wishes.host_name.is_some() || wishes.new_machine_id || wishes.new_ssh_keys || !wishes.first_boot.is_empty()
}

/// What the person wishes of a guest in which no edit is made.
fn not_done(wishes: &Wishes) -> Vec<Finding> {
    let why = "no system was found".to_string();
    let identity = wishes.host_name.is_some() || wishes.new_machine_id || wishes.new_ssh_keys;
    let wanted = [(identity, edit::IDENTITY), (!wishes.first_boot.is_empty(), edit::FIRST_BOOT)];
    let wanted = wanted.into_iter().filter(|(is_wanted, _)| *is_wanted);
    wanted.map(|(_, name)| Finding::EditFailed { edit: name.into(), why: why.clone() }).collect()
}

/// What is inside a target, as a survey tells it.
#[derive(Debug, Clone, Serialize)]
pub struct InsideSurvey {
    /// Partitions, logical volumes, whole disks.
    pub volumes: Vec<Found>,
    /// The systems.
    pub systems: Vec<Summary>,
    /// Whether the guest boots on the machine that it has now; none for disks without a machine.
    pub verdict: Option<Verdict>,
    /// The chain of each system, on the machine that it has now; none for disks without a machine.
    pub evidence: Vec<Chain>,
    /// What cannot be read, and why.
    pub unread: Vec<(String, String)>,
    /// Files and folders of the systems that cannot be read, and why.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub unread_paths: Vec<(String, String)>,
}

/// Looks into the disks of `target`, on the hardware that they have now. `None` when none of them can be read.
pub(crate) fn survey(target: &Target, context: &Context<'_>) -> Result<Option<InsideSurvey>> {
    let machine = target.described.as_ref().map(|described| &described.machine);
    let disks = readable_disks(target);
    if disks.is_empty() {
        return Ok(None);
    }
    let whole = disks.len() == target.disks.len();
    let disks = disks.into_iter().map(|disk| context.stoppable(disk));
    let mut guest = Guest::open_with(disks, context.keys, Timestamp::now().as_second(), context.budget)?;
    let evidence = match machine.filter(|machine| whole && machine.disks.len() == target.disks.len()) {
        Some(machine) => {
            // What any destination knows of a device is known here too.
            let mut table = Table::new();
            for destination in reformis_machine::Site::default().destinations()? {
                table.extend(destination.guest);
            }
            // Variables of a firmware that are not here may be with the host.
            let hardware = Hardware { unchanged: true, ..described_hardware(machine, &table, true) };
            GuestRecord::chains(reformis_guest::walk(&mut guest, &hardware))
        }
        None => Vec::new(),
    };
    context.check()?;
    let systems = guest.systems.iter().map(|system| system.summary(&guest.volumes)).collect();
    let otherwise = || guest.unread.first().map(|(volume, why)| format!("{volume}: {why}"));
    let verdict = machine.map(|_| Verdict::of("the hardware that it has now", &evidence, 0, otherwise()));
    let Guest { unread, unread_paths, volumes, .. } = guest;
    Ok(Some(InsideSurvey { systems, verdict, evidence, unread, unread_paths, volumes }))
}

/// The disks of `target` that can be read at any place, in the guest's order.
pub(crate) fn readable_disks(target: &Target) -> Vec<Arc<dyn Disk>> {
    let count = target.disks.len();
    let machine = target.described.as_ref().map(|described| &described.machine);
    let order = machine.map_or_else(|| (0..count).collect(), |machine| guests_order(machine, count));
    order.into_iter().filter_map(|index| readable(target, index)).collect()
}

/// A disk of `target`, where it can be read at any place.
fn readable(target: &Target, index: usize) -> Option<Arc<dyn Disk>> {
    let image = target.disks.get(index)?.image.as_ref()?;
    image.facts.troubles.is_empty().then(|| image.disk.clone())
}

/// The chain of each system on `disks`, in the order of the machine's, as it landed.
pub(crate) fn walk_landed(
    disks: Vec<Arc<dyn Disk>>,
    machine: &Machine,
    destination: &Destination,
    keeps_entries: bool,
    context: &Context<'_>,
) -> Result<Vec<Chain>> {
    let order = guests_order(machine, disks.len());
    let disks = order.into_iter().filter_map(|index| Some(context.stoppable(disks.get(index)?.clone())));
    let mut guest = Guest::open_with(disks, context.keys, 0, context.budget)?;
    let hardware = described_hardware(machine, &destination.guest, keeps_entries);
    Ok(GuestRecord::chains(reformis_guest::walk(&mut guest, &hardware)))
}

/// What the person wants, with the scripts and the driver media that they named.
pub(crate) fn wishes(guest: &NewGuest, context: &Context<'_>) -> Result<Wishes> {
    for name in &guest.leave_out {
        if !edit::ALL.contains(&name.as_str()) {
            return Err(Error::NoSuchEdit { name: name.clone(), known: edit::ALL.join(", ") });
        }
    }
    let script = |path: &String| {
        let place = Path::new(path);
        let home = guest.confined_to.as_deref();
        let file = open_within(home, &home.unwrap_or(Path::new("")).to_string_lossy(), place)?;
        let mut bytes = Vec::new();
        file.take(MAX_SCRIPT + 1).read_to_end(&mut bytes).map_err(Error::io("reading", place))?;
        if bytes.len() as u64 > MAX_SCRIPT {
            return Err(Error::io("reading", place)(std::io::ErrorKind::FileTooLarge.into()));
        }
        let name = place.file_name().unwrap_or_default().to_string_lossy().into_owned();
        Ok((name, bytes))
    };
    Ok(Wishes {
        without: guest.leave_out.clone(),
        first_boot: guest.first_boot.iter().map(script).collect::<Result<_>>()?,
        host_name: guest.host_name.clone(),
        new_machine_id: guest.new_machine_id,
        new_ssh_keys: guest.new_ssh_keys,
        drivers: library(&guest.drivers, context)?,
    })
}

/// The drivers on the media at `paths`; none where there are no media.
pub(crate) fn library(paths: &[String], context: &Context<'_>) -> Result<Option<Arc<Library>>> {
    if paths.is_empty() {
        return Ok(None);
    }
    let open = |path: &String| {
        let unread = |why: reformis_guest::Error| Error::Medium { path: path.clone(), why: why.to_string() };
        Medium::open(Path::new(path), context.budget).map_err(unread)
    };
    let media = paths.iter().map(open).collect::<Result<Vec<_>>>()?;
    for medium in &media {
        if !medium.has_drivers() {
            return Err(Error::NoDrivers { path: medium.name.clone(), has_udf: medium.has_udf() });
        }
    }
    Ok(Some(Arc::new(Library::read(media, context.budget)?)))
}

/// What a remark comes to as a finding; `None` for what is told otherwise.
pub(crate) fn told(remark: Remark) -> Option<Finding> {
    Some(match remark {
        Remark::Failed { edit, why, .. } => Finding::EditFailed { edit, why },
        Remark::Unread { volume, why } => Finding::VolumeUnread { volume, why },
        Remark::PathUnread { path, why } => Finding::PathUnread { path, why },
        Remark::KeyRefused { volume, why } => Finding::KeyRefused { volume, why },
        Remark::ArrayIncomplete { array, missing, members } => Finding::ArrayIncomplete { array, missing, members },
        Remark::ArrayUnclean { array } => Finding::ArrayUnclean { array },
        Remark::Replayed { volume } => Finding::JournalReplayed { volume },
        Remark::Hibernated { volume } => Finding::Hibernated { volume },
        Remark::AdapterAssumed { name, mac } => Finding::AdapterAssumed { name, mac },
        Remark::AdapterUnknown { name } => Finding::AdapterUnknown { name },
        Remark::NoDriver { device, why } => Finding::NoDriver { device, why: why.join("; ") },
        Remark::DriverUnread { file, why } => Finding::DriverUnread { file, why },
        Remark::DomainController { system } => Finding::DomainController { system },
        Remark::Activation { system } => Finding::Activation { system },
        Remark::AddressesUnread { system } => Finding::AddressesUnread { system },
        Remark::SwapOnSystemDisk { swap } => Finding::SwapOnSystemDisk { swap },
        Remark::NoRemoteLogin { system } => Finding::NoRemoteLogin { system },
        Remark::KernelLeft { kernel, why } => Finding::KernelLeft { kernel, why },
        Remark::Several { systems } => Finding::SeveralSystems { systems: systems.join(", ") },
        // Whether one should be there is known by whoever looks at the kinds of volumes.
        Remark::NoSystem => return None,
    })
}

/// What of a chain does not hold. What the default start needs stands in the way; the rest is told.
pub(crate) fn broken(system: &str, chain: &[Evidence]) -> Vec<Finding> {
    let broken = chain.iter().filter(|evidence| evidence.state == State::Broken);
    broken
        // What a firmware finds is told from the machine's side.
        .filter(|evidence| evidence.link != Link::Firmware)
        .map(|evidence| {
            let (system, link) = (system.to_string(), evidence.link.name());
            let (about, seen) = (evidence.about.clone(), evidence.seen.clone());
            if evidence.needed {
                Finding::WillNotBoot { system, link, about, seen }
            } else {
                Finding::LinkBroken { system, link, about, seen }
            }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_seen_inside_is_told_by_a_finding_of_its_own() {
        let text = || String::from("x");
        let (volume, why, name) = (text(), text(), text());
        let told_as = |remark| told(remark).map(|finding| finding.code());
        for (remark, code) in [
            (Remark::Failed { edit: text(), why: text(), remedy: None }, "edit-failed"),
            (Remark::Unread { volume: text(), why: text() }, "volume-unread"),
            (Remark::PathUnread { path: text(), why: why.clone() }, "path-unread"),
            (Remark::KeyRefused { volume: text(), why: text() }, "key-refused"),
            (Remark::ArrayIncomplete { array: text(), missing: 1, members: 2 }, "array-incomplete"),
            (Remark::ArrayUnclean { array: text() }, "array-unclean"),
            (Remark::Replayed { volume: volume.clone() }, "journal-replayed"),
            (Remark::Hibernated { volume }, "hibernated"),
            (Remark::AdapterAssumed { name: text(), mac: text() }, "adapter-assumed"),
            (Remark::AdapterUnknown { name }, "adapter-unknown"),
            (Remark::KernelLeft { kernel: text(), why }, "kernel-left"),
            (Remark::SwapOnSystemDisk { swap: text() }, "swap-on-system-disk"),
            (Remark::NoRemoteLogin { system: text() }, "no-remote-login"),
            (Remark::NoDriver { device: text(), why: vec![text()] }, "no-driver"),
            (Remark::DriverUnread { file: text(), why: text() }, "driver-unread"),
            (Remark::DomainController { system: text() }, "domain-controller"),
            (Remark::Activation { system: text() }, "activation"),
            (Remark::AddressesUnread { system: text() }, "addresses-unread"),
            (Remark::Several { systems: vec![text(), text()] }, "several-systems"),
        ] {
            assert_eq!(told_as(remark), Some(code));
        }
        assert_eq!(told_as(Remark::NoSystem), None);
    }

    /// What the default start needs stands in the way; all else that does not hold is told, but for what the machine's side tells.
    #[test]
    fn what_is_needed_decides() {
        let link =
            |link, state, needed| Evidence { link, about: "x".into(), state, seen: "y".into(), edit: None, needed };
        let chain = [
            link(Link::Firmware, State::Broken, true),
            link(Link::Kernel, State::Holds, true),
            link(Link::Driver, State::Broken, true),
            link(Link::Kernel, State::Broken, false),
            link(Link::Root, State::Mended, true),
            link(Link::Root, State::Broken, true),
            link(Link::Adapters, State::Broken, false),
            link(Link::Adapters, State::Unknown, false),
        ];
        let told: Vec<&str> = broken("tidelog", &chain).iter().map(Finding::code).collect();
        assert_eq!(told, ["will-not-boot", "link-broken", "will-not-boot", "link-broken"]);
        assert!(broken("tidelog", &chain[1..2]).is_empty());
    }
}
