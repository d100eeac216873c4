//! The brief that is proposed for a target and a destination.

mod before;
mod names;

pub(crate) use before::machine_before;
pub(crate) use names::{is_allowed, landing_name};

use reformis_disk::{ByteSize, Shape};
use reformis_guest::{Family, Look};
use reformis_machine::{
    AdapterModel, ControllerKind, Destination, Firmware, Machine, MachineFile, Name, RemovableKind, Site, Tpm,
    destination::{Controller, DiskShape, Lacking},
};

use reformis_wire::clouds::Then;

use crate::brief::{
    Brief, FirmwareKind, Journey, Mac, NewAdapter, NewDisk, NewDrive, NewGuest, NewMachine, Notes, Size,
};
use crate::{
    error::{Error, Result},
    finding::Finding,
    target::{Described, Target},
};

/// What the person chose; what is not chosen is proposed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Choices {
    /// The machine's name.
    pub name: Option<String>,
    /// Memory in bytes.
    pub memory: Option<u64>,
    /// Sockets.
    pub sockets: Option<u32>,
    /// Cores of each socket.
    pub cores: Option<u32>,
    /// What starts it.
    pub firmware: Option<FirmwareKind>,
    /// The network of all adapters.
    pub network: Option<Name>,
    /// The hardware addresses of all adapters.
    pub mac: Option<Mac>,
    /// The shape of all disks.
    pub shape: Option<Shape>,
    /// The machine file.
    pub machine_file: Option<MachineFile>,
    /// What is changed inside.
    pub guest: NewGuest,
    /// Settings of the source's machine file stay that are not known to be harmless.
    pub keep_unknown: bool,
    /// The store that the disks go to, and the folder there.
    pub store: Option<String>,
    /// The cloud that makes an image of them.
    pub cloud: Option<String>,
    /// What becomes of the image.
    pub then: Option<Then>,
}

/// A proposal.
#[derive(Debug, Clone)]
pub struct Proposal {
    /// The brief.
    pub brief: Brief,
    /// Where its values come from.
    pub notes: Notes,
    /// What was noticed in making it.
    pub findings: Vec<Finding>,
}

/// Proposes how `target` lands on `destination`. `into` is the folder for the landing, `boot` what was seen on the disk
/// that boots.
///
/// # Errors
/// [`Error::NotOffered`] for a shape or a machine file that the destination does not take.
pub fn propose(
    target: &Target,
    destination: &Destination,
    site: &Site,
    choices: &Choices,
    into: &str,
    boot: Option<&Look>,
) -> Result<Proposal> {
    let before = machine_before(target, boot);
    let mut maker = Maker { destination, site, choices, notes: Notes::new(), findings: Vec::new() };
    for (index, disk) in target.disks.iter().enumerate() {
        let file =
            disk.parts.first().map(|part| part.storage.name().rsplit('/').next().unwrap_or_default().to_string());
        let file = file.unwrap_or_else(|| "starts empty".into());
        maker.note(format!("disks.{index}.source"), format!("{file}, {}", ByteSize(disk.size)));
    }
    let (machine_file, shape) = maker.machine_file_and_shape()?;
    let machine = maker.machine(&before, target.described.as_ref(), boot);
    let disks = maker.disks(&before, machine.starts_with(), &shape);
    let adapters = maker.adapters(&before);
    let drives = maker.drives(&before, machine.starts_with());
    let several = target.described.as_ref().is_some_and(|described| described.names.len() > 1);
    let journey = Journey {
        source: target.name.clone(),
        machine: several.then(|| before.name.to_string()),
        destination: destination.name.clone(),
        into: into.into(),
        store: choices.store.clone(),
        cloud: choices.cloud.clone(),
        then: choices.cloud.as_ref().map(|_| choices.then.unwrap_or_default()),
        machine_file,
        keep_unknown: choices.keep_unknown,
    };
    if journey.then.is_some() {
        maker.note("move.then", "or image, started, stopped");
    }
    maker.note("guest.leave-out", format!("none of {}", reformis_guest::edit::ALL.join(", ")));
    let mut guest = choices.guest.clone();
    let has_windows = boot.is_some_and(|look| look.family() == Some(Family::Nt));
    if has_windows && guest.drivers.is_empty() && !site.drivers().is_empty() {
        guest.drivers = site.drivers();
        maker.note("guest.drivers", format!("from {}", site.file().unwrap_or_default()));
    }
    let brief = Brief { journey, machine, disks, adapters, drives, guest };
    Ok(Proposal { brief, notes: maker.notes, findings: maker.findings })
}

struct Maker<'a> {
    destination: &'a Destination,
    site: &'a Site,
    choices: &'a Choices,
    notes: Notes,
    findings: Vec<Finding>,
}

impl Maker<'_> {
    fn note(&mut self, path: impl Into<String>, note: impl Into<String>) {
        self.notes.insert(path.into(), note.into());
    }

    /// The machine file and the disk shape: what is chosen decides about what is not.
    fn machine_file_and_shape(&mut self) -> Result<(MachineFile, DiskShape)> {
        let Destination { name, disks, machine_files, .. } = self.destination;
        let not_offered = |what: &'static str, asked: String, offered: Vec<String>| Error::NotOffered {
            what,
            asked,
            destination: name.clone(),
            offered: offered.join(", "),
        };
        let words = || machine_files.iter().map(|kind| kind.word().to_string()).collect();
        if let Some(kind) = self.choices.machine_file.filter(|kind| !machine_files.contains(kind)) {
            return Err(not_offered("machine file", kind.word().into(), words()));
        }
        let is_chosen = |disk: &DiskShape| {
            self.choices.shape.is_none_or(|shape| disk.shape == shape.to_string())
                && self.choices.machine_file.is_none_or(|kind| disk.goes_with(kind))
        };
        let Some(shape) = disks.iter().find(|disk| is_chosen(disk)) else {
            let shapes = disks.iter().filter(|disk| self.choices.machine_file.is_none_or(|kind| disk.goes_with(kind)));
            let asked = self.choices.shape.map_or(String::new(), |shape| shape.to_string());
            return Err(not_offered("disk shape", asked, shapes.map(|disk| disk.shape.clone()).collect()));
        };
        let kind =
            self.choices.machine_file.or_else(|| machine_files.iter().copied().find(|kind| shape.goes_with(*kind)));
        let kind = kind.ok_or_else(|| not_offered("disk shape", shape.shape.clone(), words()))?;
        if self.choices.machine_file.is_none() && machine_files.len() > 1 {
            let others: Vec<_> = machine_files.iter().filter(|other| **other != kind).map(|kind| kind.word()).collect();
            self.note("move.machine-file", format!("or {}", others.join(", ")));
        }
        Ok((kind, shape.clone()))
    }

    fn machine(&mut self, before: &Machine, described: Option<&Described>, boot: Option<&Look>) -> NewMachine {
        if described.is_none() {
            self.findings.push(Finding::MachineGuessed);
            for key in ["sockets", "cores", "memory"] {
                self.note(format!("machine.{key}"), "a guess: there are no machine settings");
            }
            self.note("machine.system", "from the file systems on the disk");
        }
        let name = match &self.choices.name {
            Some(name) => name.clone(),
            None => {
                let name = landing_name(&before.name, self.destination);
                if name != before.name {
                    self.note("machine.name", format!("'{}' is not allowed there", before.name));
                    self.findings.push(Finding::NameChanged { name: before.name.to_string(), to: name.clone() });
                }
                name
            }
        };
        let memory = self.choices.memory.unwrap_or_else(|| before.memory.next_multiple_of(1 << 20));
        let firmware = self.firmware(before, described, boot);
        let mut secure_boot = before.firmware == Firmware::Uefi { secure_boot: true } && firmware == FirmwareKind::Uefi;
        if secure_boot && self.destination.lacks(Lacking::SecureBoot) {
            secure_boot = false;
            self.note("machine.secure-boot", "the destination does not have it");
        }
        let mut tpm = before.tpm;
        if tpm.is_some() && firmware == FirmwareKind::Bios {
            tpm = Some(Tpm::V12).filter(|_| before.tpm == Some(Tpm::V12));
        }
        let wants_tpm = before.system.as_ref().is_some_and(reformis_machine::System::asks_for_tpm);
        if tpm.is_none() && wants_tpm && firmware == FirmwareKind::Uefi && !self.destination.lacks(Lacking::Tpm) {
            tpm = Some(Tpm::V20);
            self.note("machine.tpm", "the system asks for one");
        }
        if self.destination.lacks(Lacking::Tpm) {
            tpm = None;
        }
        if let Some(system) = &before.system {
            let word = system.description.clone().unwrap_or_default();
            self.notes.entry("machine.system".into()).or_insert(format!("CIM OS type; '{word}' in the source"));
        }
        if let Some(described) = described {
            let from = format!("from the {}", described.kind.name());
            for key in ["sockets", "memory", "firmware", "clock"] {
                self.notes.entry(format!("machine.{key}")).or_insert(from.clone());
            }
            if before.uuid.is_none() {
                self.note("machine.uuid", "made anew: the source does not say one");
            }
        }
        if self.choices.memory.is_some() {
            self.notes.remove("machine.memory");
        }
        if self.choices.sockets.is_some() {
            self.notes.remove("machine.sockets");
        }
        let serial_ports = if self.destination.lacks(Lacking::SerialPorts) { 0 } else { before.serial_ports.min(4) };
        NewMachine {
            name,
            description: before.description.clone(),
            uuid: before.uuid,
            sockets: self.choices.sockets.unwrap_or(before.cpu.sockets),
            cores: self.choices.cores.unwrap_or(before.cpu.cores),
            memory: Size(memory),
            firmware,
            secure_boot,
            tpm,
            clock: before.clock,
            time_zone: before.time_zone.clone(),
            system: before.system.as_ref().map(|system| system.cim_os_type),
            system_name: before.system.as_ref().and_then(|system| system.description.clone()),
            serial_ports,
            start_with_host: before.start_with_host,
        }
    }

    /// The firmware that the machine says, unless its disk boots only with the other.
    fn firmware(&mut self, before: &Machine, described: Option<&Described>, boot: Option<&Look>) -> FirmwareKind {
        if let Some(chosen) = self.choices.firmware {
            return chosen;
        }
        let said = if before.firmware == Firmware::Bios { FirmwareKind::Bios } else { FirmwareKind::Uefi };
        let Some(look) = boot else { return said };
        let seen = match (look.boots_bios(), look.boots_uefi()) {
            (true, false) => FirmwareKind::Bios,
            (false, true) => FirmwareKind::Uefi,
            _ => return said,
        };
        if described.is_none() {
            self.note("machine.firmware", "from the disk: what it boots with");
        } else if seen != said {
            let name = |kind| if kind == FirmwareKind::Bios { "BIOS" } else { "UEFI" };
            self.note(
                "machine.firmware",
                format!("the source says {}, and its disk boots with this alone", name(said)),
            );
            let (said, seen) = (name(said).to_string(), name(seen).to_string());
            self.findings.push(Finding::FirmwareCorrected { said, seen });
        }
        seen
    }

    /// The controller for all disks: the one that the boot disk had, where that is a fast one and boots there too; else
    /// what the destination proposes.
    fn controller(&mut self, before: &Machine, firmware: Firmware) -> Option<Controller> {
        let first = before.disks.iter().min_by_key(|disk| disk.boot.unwrap_or(u32::MAX))?;
        let fast = matches!(
            first.controller,
            ControllerKind::VirtioScsi
                | ControllerKind::VirtioBlk
                | ControllerKind::Nvme
                | ControllerKind::Pvscsi
                | ControllerKind::VmbusScsi
        );
        let offered = self.destination.controllers.iter();
        let same = offered.clone().find(|offer| {
            fast && offer.kind == first.controller
                && offer.boots(firmware)
                && offer.slots as usize >= before.disks.len()
        });
        let controller =
            same.or_else(|| self.destination.boot_controller(firmware)).or(self.destination.controllers.first());
        controller.cloned()
    }

    fn disks(&mut self, before: &Machine, firmware: Firmware, shape: &DiskShape) -> Vec<NewDisk> {
        let Some(controller) = self.controller(before, firmware) else { return Vec::new() };
        let format: Shape =
            shape.shape.parse().unwrap_or(Shape::new(reformis_disk::Format::Raw, reformis_disk::Layout::Thin));
        let mut places = controller.places();
        let mut last = (0, 0);
        let multiple = self.destination.rules.multiple();
        let disks = before.disks.iter().enumerate().map(|(index, disk)| {
            // Beyond the last place there is none: the plan tells.
            let (bus, slot) = places.next().unwrap_or((last.0, last.1 + 1));
            last = (bus, slot);
            let note = match disk.controller {
                ControllerKind::Unknown => "the destination's default".to_string(),
                kind if kind == controller.kind => "as it was".to_string(),
                kind => format!("the destination's default; it was {kind} {}:{}", disk.bus, disk.slot),
            };
            self.notes.insert(format!("disks.{index}.controller"), note);
            NewDisk {
                source: disk.id.to_string(),
                file: None,
                shape: format,
                compress: shape.wrapped.clone(),
                controller: controller.kind,
                bus,
                slot,
                boot: disk.boot,
                grow: None,
                align: (multiple > 1).then_some(Size(multiple)),
            }
        });
        let disks: Vec<NewDisk> = disks.collect();
        for index in 0..disks.len() {
            if self.choices.shape.is_none() {
                let others: Vec<String> = self
                    .destination
                    .disks
                    .iter()
                    .map(|disk| disk.shape.clone())
                    .filter(|s| *s != shape.shape)
                    .collect();
                if !others.is_empty() {
                    self.note(format!("disks.{index}.shape"), format!("or {}", others.join(", ")));
                }
            }
            if multiple > 1 {
                self.note(format!("disks.{index}.align"), "the destination's rule");
            }
        }
        disks
    }

    fn adapters(&mut self, before: &Machine) -> Vec<NewAdapter> {
        let mut adapters = Vec::new();
        for (index, adapter) in before.adapters.iter().enumerate() {
            let offered = &self.destination.adapters;
            let same = offered.contains(&adapter.model);
            let model = if same { adapter.model } else { offered.first().copied().unwrap_or(AdapterModel::Unknown) };
            if model != adapter.model && adapter.model != AdapterModel::Unknown {
                self.note(format!("adapters.{index}.model"), format!("it was {}", adapter.model));
            }
            let mac = self.choices.mac.clone().unwrap_or(if adapter.mac.is_some() { Mac::Keep } else { Mac::Fresh });
            if let (Mac::Keep, Some(address)) = (&mac, &adapter.mac) {
                self.note(format!("adapters.{index}.mac"), format!("{address}; or 'fresh', or an address"));
            }
            let network = self.network(index, adapter);
            let source = before_named(&adapter.name);
            adapters.push(NewAdapter { source, model, mac, network, connected: adapter.connected, guest_name: None });
        }
        adapters
    }

    fn network(&mut self, index: usize, adapter: &reformis_machine::Adapter) -> Option<Name> {
        let path = format!("adapters.{index}.network");
        if let Some(chosen) = &self.choices.network {
            return Some(chosen.clone());
        }
        let name = adapter.name.to_string();
        let Some(old) = adapter.network.clone() else {
            self.note(path, "the destination's default");
            return self.destination.network.clone();
        };
        if let Some(to) = self.site.network(&old) {
            self.note(path, format!("the site's name for '{old}'"));
            if to != old {
                self.findings.push(Finding::NetworkReplaced { adapter: name, network: old.to_string(), to: to.into() });
            }
            return Some(Name::cleaned(to, "network"));
        }
        let to = self.destination.network.clone();
        if to.as_ref() != Some(&old) {
            let whose = if to.is_some() { "the destination's default" } else { "not connected" };
            self.note(path, format!("{whose}; it was '{old}'"));
            let unmapped = to.clone().map(|to| Finding::NetworkUnmapped {
                adapter: name,
                network: old.to_string(),
                to: to.to_string(),
            });
            self.findings.extend(unmapped);
        }
        to
    }

    fn drives(&mut self, before: &Machine, firmware: Firmware) -> Vec<NewDrive> {
        if self.destination.lacks(Lacking::Drives) {
            return Vec::new();
        }
        let offers = |kind| self.destination.controllers.iter().any(|controller| controller.kind == kind);
        let controller = if offers(ControllerKind::Ahci) {
            ControllerKind::Ahci
        } else if firmware == Firmware::Bios && offers(ControllerKind::Ide) {
            ControllerKind::Ide
        } else if offers(ControllerKind::VmbusScsi) {
            ControllerKind::VmbusScsi
        } else {
            ControllerKind::Ahci
        };
        let discs = before.removable.iter().filter(|drive| drive.kind == RemovableKind::Cdrom);
        discs.map(|_| NewDrive { kind: RemovableKind::Cdrom, controller }).collect()
    }
}

fn before_named(name: &str) -> Option<String> {
    Some(name.to_string()).filter(|name| !name.is_empty())
}
