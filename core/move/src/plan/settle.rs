//! Settling a brief: the machine as it lands, its disks, and all that there is to say before a byte moves.

use std::path::Path;

use reformis_guest::{Look, Volume};
use reformis_machine::{
    Adapter, ControllerKind, Destination, DiskDevice, Firmware, Keep, LandedDisk, Machine, MachineFile, Name,
    Removable, RemovableKind, System, destination::Lacking,
};

use super::{Identity, Plan};
use crate::{
    brief::{Brief, Mac, NewDisk},
    error::Result,
    finding::{self, Finding},
    landing, propose,
    target::Target,
};

/// Settles how `target` lands as `brief` says, and what there is to say about it. No plan when there is no way to do it;
/// a blocker is among the findings then.
#[expect(clippy::string_slice, reason = "cut behind a prefix that was seen there")]
pub(crate) fn settle(
    target: &Target,
    brief: &Brief,
    destination: &Destination,
    boot: Option<&Look>,
) -> Result<(Option<Plan>, Vec<Finding>)> {
    let before = propose::machine_before(target, boot);
    let mut settler = Settler { target, brief, destination, boot, findings: Vec::new() };
    let mut plan = settler.plan(before);
    if let Some(plan) = &mut plan {
        plan.seed = landing::seed::make(brief, &plan.machine, destination)?;
        if let Some(seed) = &plan.seed {
            settler.findings.push(Finding::SeedMade { file: seed.file.clone() });
        }
        // What the machine file cannot say is known before it is written: by writing it, and reading it back.
        let machine = landing::files::with_files(plan);
        let landed: Vec<LandedDisk> = plan.disks.iter().map(landing::facts::empty).collect();
        let files =
            landing::files::machine_files(&machine, plan.machine_file, &landed, destination, plan.earlier(target))?;
        plan.lost = landing::files::lost(&machine, plan.machine_file, destination, &files)?;
        // An identity that was made for it here is no loss.
        plan.lost.retain(|lost| lost.setting != "uuid" || plan.before.uuid.is_some());
        let mut by_place: Vec<&NewDisk> = brief.disks.iter().collect();
        by_place.sort_by_key(|disk| (disk.controller.name(), disk.bus, disk.slot));
        let misplaced = plan.lost.iter().filter_map(|lost| {
            let (index, what) =
                lost.setting.strip_prefix("disks.")?.split_once('.').unwrap_or((&lost.setting[6..], ""));
            let disk = by_place.get(index.parse::<usize>().ok()?)?;
            (what != "boot").then(|| Finding::PlaceLost { disk: disk.source.clone(), file: plan.machine_file.name() })
        });
        settler.findings.extend(misplaced);
        settler.findings.extend(unknown(plan, target));
        let told = plan.lost.iter().filter(|lost| finding::matters(&lost.setting));
        settler.findings.extend(told.map(|lost| Finding::SettingLost {
            setting: lost.setting.clone(),
            value: lost.value.clone(),
            file: plan.machine_file.name(),
        }));
    }
    Ok((plan, settler.findings))
}

/// What there is to say about settings of the source's machine file that may do anything on the new host.
fn unknown(plan: &Plan, target: &Target) -> Option<Finding> {
    let names = reformis_machine::unknown(plan.machine_file, plan.earlier(target)?.text);
    if names.is_empty() {
        return None;
    }
    let file = plan.machine_file.name();
    Some(match plan.keep {
        Keep::Harmless => Finding::UnknownDropped { file, names },
        Keep::Everything => Finding::UnknownKept { file, names },
    })
}

pub(super) struct Settler<'a> {
    pub(super) target: &'a Target,
    pub(super) brief: &'a Brief,
    pub(super) destination: &'a Destination,
    pub(super) boot: Option<&'a Look>,
    pub(super) findings: Vec<Finding>,
}

impl Settler<'_> {
    pub(super) fn not_offered(&mut self, what: &'static str, asked: impl ToString, offered: Vec<String>) {
        let destination = self.destination.name.clone();
        let offered = offered.join(", ");
        self.findings.push(Finding::NotOffered { what, asked: asked.to_string(), destination, offered });
    }

    fn plan(&mut self, before: Machine) -> Option<Plan> {
        let new = &self.brief.machine;
        let known = self.findings.len();
        if !propose::is_allowed(&new.name, self.destination) {
            let proposed = propose::landing_name(&new.name, self.destination);
            self.findings.push(Finding::NameNotAllowed { name: new.name.clone(), proposed });
        }
        let machine_file = self.brief.journey.machine_file;
        let kinds = &self.destination.machine_files;
        if !kinds.contains(&machine_file) {
            self.not_offered("machine file", machine_file.word(), kinds.iter().map(|k| k.word().into()).collect());
        }
        if self.brief.disks.is_empty() && !self.target.findings.contains(&Finding::NoDisk) {
            self.findings.push(Finding::NoDisk);
        }
        let disks = self.disks();
        let placed = self.places();
        // What follows makes no sense without a name, a machine file and all disks in their places.
        if self.findings.len() > known && disks.is_none()
            || !placed
            || !propose::is_allowed(&new.name, self.destination)
        {
            return None;
        }
        let disks = disks?;
        self.firmware();
        let folder = Path::new(&self.brief.journey.into).join(&new.name);
        let folder = std::path::absolute(&folder).unwrap_or(folder);
        let identity = Identity::of(&folder, &self.target.name);
        let mut machine = Machine::new(new.name.clone());
        machine.uuid = Some(new.uuid.unwrap_or_else(|| identity.machine()));
        machine.description = new.description.clone();
        machine.cpu = reformis_machine::Cpu { sockets: new.sockets, cores: new.cores };
        machine.memory = new.memory.0;
        machine.firmware = new.starts_with();
        machine.tpm = new.tpm;
        machine.clock = new.clock;
        machine.time_zone = new.time_zone.clone();
        machine.start_with_host = new.start_with_host;
        machine.system = new.system.map(|cim_os_type| System { cim_os_type, description: new.system_name.clone() });
        machine.serial_ports = new.serial_ports;
        machine.disks = self.brief.disks.iter().map(device).collect();
        machine.adapters = self.adapters(&before, identity);
        machine.removable = self
            .brief
            .drives
            .iter()
            .map(|drive| Removable { kind: drive.kind, controller: drive.controller, media: None })
            .collect();
        self.dropped(&before);
        self.security(&before);
        let described = self.target.described.as_ref().filter(|described| described.kind == machine_file);
        let variables = described.and_then(|described| described.nvram.clone());
        let ending = if machine_file == MachineFile::DomainXml { "_VARS.fd" } else { ".nvram" };
        let nvram = variables
            .filter(|_| machine.firmware != Firmware::Bios)
            .map(|storage| (format!("{}{ending}", machine.name), storage));
        if nvram.is_some() {
            // The boot entries come along after all.
            self.findings.retain(|finding| *finding != Finding::NoFallbackLoader);
        }
        let keep = if self.brief.journey.keep_unknown { Keep::Everything } else { Keep::Harmless };
        let store = self.brief.journey.store.clone();
        let journey = &self.brief.journey;
        let cloud = journey.cloud.clone().map(|cloud| (cloud, journey.then.unwrap_or_default()));
        let plan = Plan {
            before,
            machine,
            disks,
            machine_file,
            folder,
            identity,
            store,
            cloud,
            seed: None,
            nvram,
            lost: Vec::new(),
            keep,
        };
        self.landing(&plan);
        Some(plan)
    }

    fn firmware(&mut self) {
        let firmware = self.brief.machine.starts_with();
        if !self.destination.firmware.iter().any(|offered| offered == firmware.name()) {
            self.findings.push(Finding::FirmwareNotOffered {
                firmware: firmware.to_string(),
                destination: self.destination.name.clone(),
                offered: self.destination.firmware.join(", "),
            });
        }
        if firmware == (Firmware::Uefi { secure_boot: true }) && self.destination.lacks(Lacking::SecureBoot) {
            self.findings.push(Finding::NoSecureBoot { destination: self.destination.name.clone() });
        }
        let Some(look) = self.boot else { return };
        let uefi = firmware != Firmware::Bios;
        let (wanted, other) =
            if uefi { (look.boots_uefi(), look.boots_bios()) } else { (look.boots_bios(), look.boots_uefi()) };
        let names = if uefi { ("UEFI", "BIOS") } else { ("BIOS", "UEFI") };
        match (wanted, other) {
            (false, true) => {
                self.findings.push(Finding::FirmwareMismatch { said: names.0.into(), seen: names.1.into() });
            }
            (false, false) => self.findings.push(Finding::NoBootLoader { firmware: names.0.into() }),
            (true, _) if uefi && !look.has_fallback() => self.findings.push(Finding::NoFallbackLoader),
            _ => {}
        }
        let from = self.target.described.as_ref().and_then(|described| {
            described.machine.disks.iter().min_by_key(|disk| disk.boot.unwrap_or(u32::MAX)).map(|disk| disk.controller)
        });
        let first = self.brief.disks.iter().min_by_key(|disk| disk.boot.unwrap_or(u32::MAX));
        if let Some(to) = first.map(|disk| disk.controller).filter(|to| from != Some(*to)) {
            let from = from.unwrap_or(ControllerKind::Unknown);
            self.findings.push(Finding::DriverUnchecked { from, to });
        }
    }

    fn adapters(&mut self, before: &Machine, identity: Identity) -> Vec<Adapter> {
        let mut adapters = Vec::new();
        for (index, new) in self.brief.adapters.iter().enumerate() {
            if !self.destination.adapters.contains(&new.model) {
                let words = self.destination.adapters.iter().map(ToString::to_string).collect();
                self.not_offered("adapter model", new.model, words);
            }
            let named = |adapter: &&Adapter| new.source.as_deref() == Some(&*adapter.name);
            let old = before.adapters.iter().find(named);
            if let (Some(source), None) = (&new.source, old) {
                self.findings.push(Finding::NoSuchAdapter { adapter: source.clone() });
            }
            let fallback = format!("adapter {}", index + 1);
            let name = Name::cleaned(new.source.as_deref().unwrap_or_default(), &fallback);
            if new.network.is_none() && new.connected {
                let network = old.and_then(|old| old.network.clone()).map(String::from);
                self.findings.push(Finding::Unconnected { adapter: name.to_string(), network });
            }
            let mac = match &new.mac {
                Mac::Keep => old.and_then(|old| old.mac),
                Mac::Fresh => Some(identity.mac(index)),
                Mac::Given(mac) => Some(*mac),
            };
            if let (Mac::Keep, Some(mac)) = (&new.mac, &mac) {
                self.findings.push(Finding::MacKept { adapter: name.to_string(), mac: mac.to_string() });
            }
            let twice = adapters.iter().any(|other: &Adapter| mac.is_some() && other.mac == mac);
            if let (true, Some(mac)) = (twice, &mac) {
                self.findings.push(Finding::MacTwice { mac: mac.to_string(), other: self.brief.machine.name.clone() });
            }
            adapters.push(Adapter {
                name,
                model: new.model,
                mac,
                network: new.network.clone(),
                connected: new.connected,
            });
        }
        adapters
    }

    /// What of the machine does not come along.
    fn dropped(&mut self, before: &Machine) {
        let mut drop = |what: &str, detail: String| {
            self.findings.push(Finding::DeviceDropped { what: what.into(), detail });
        };
        for leftover in &before.leftovers {
            drop(&leftover.what, leftover.detail.clone());
        }
        for adapter in &before.adapters {
            let kept = self.brief.adapters.iter().any(|new| new.source.as_deref() == Some(&*adapter.name));
            if !kept {
                drop("adapter", adapter.name.to_string());
            }
        }
        let count =
            |kind: RemovableKind, all: &mut dyn Iterator<Item = RemovableKind>| all.filter(|k| *k == kind).count();
        for (kind, word) in [(RemovableKind::Cdrom, "CD drive"), (RemovableKind::Floppy, "floppy drive")] {
            let had = count(kind, &mut before.removable.iter().map(|drive| drive.kind));
            let has = count(kind, &mut self.brief.drives.iter().map(|drive| drive.kind));
            for drive in before.removable.iter().filter(|drive| drive.kind == kind).take(had.saturating_sub(has)) {
                drop(word, drive.controller.to_string());
            }
        }
        for media in before.removable.iter().filter_map(|drive| drive.media.clone()) {
            self.findings.push(Finding::MediaDropped { media });
        }
    }

    /// What is bound to the old machine by keys.
    fn security(&mut self, before: &Machine) {
        let encrypted = self.boot.map(Look::encrypted).unwrap_or_default();
        if before.tpm.is_some() {
            let bound = encrypted.contains(&Volume::Fve);
            self.findings.push(if bound { Finding::TpmBound } else { Finding::TpmNew });
        }
        for volume in encrypted {
            self.findings.push(Finding::VolumeEncrypted { kind: volume.name().into() });
        }
    }
}

fn device(new: &NewDisk) -> DiskDevice {
    DiskDevice {
        id: Name::cleaned(&new.source, "disk"),
        files: Vec::new(),
        compression: new.compress.clone(),
        format: None,
        capacity: None,
        controller: new.controller,
        bus: new.bus,
        slot: new.slot,
        boot: new.boot,
    }
}
