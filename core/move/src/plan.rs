//! What a brief comes to: the machine as it lands, its disks, and all that there is to say before a byte moves.

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
    sync::Arc,
};

use reformis_disk::{ByteSize, Format, Layout, Shape, Storage, formats, source::wrapped::Wrapping};
use reformis_guest::{Look, Volume};
use reformis_machine::{
    Adapter, ControllerKind, Destination, DiskDevice, Firmware, LandedDisk, Lost, Machine, MachineFile, Removable,
    RemovableKind, System, destination::Lacking,
};

use crate::{
    brief::{Brief, Mac, NewDisk, propose},
    carry,
    error::Result,
    finding::{self, Finding},
    landing,
    receipt::Receipt,
    target::{Target, TargetDisk},
};

/// The machine as it will land.
pub(crate) struct Plan {
    /// The machine as its file describes it.
    pub(crate) before: Machine,
    pub(crate) machine: Machine,
    pub(crate) disks: Vec<PlannedDisk>,
    pub(crate) machine_file: MachineFile,
    pub(crate) folder: PathBuf,
    /// The firmware's variables, where the new machine file is of the same kind, and the name of their file.
    pub(crate) nvram: Option<(String, Arc<dyn Storage>)>,
    /// What the machine file has no word for.
    pub(crate) lost: Vec<Lost>,
}

impl Plan {
    /// The source's machine file, where it is of the same kind and describes this machine alone.
    pub(crate) fn earlier<'t>(&self, target: &'t Target) -> Option<&'t str> {
        let kind = if self.machine_file == MachineFile::Ova { MachineFile::Ovf } else { self.machine_file };
        let described = target.described.as_ref().filter(|d| d.kind == kind && d.names.len() == 1);
        described.map(|described| described.text.as_str())
    }
}

/// A disk as it will land, in the brief's order.
pub(crate) struct PlannedDisk {
    /// Its place among the target's disks.
    pub(crate) source: usize,
    /// File name in the landing.
    pub(crate) file: String,
    pub(crate) shape: Shape,
    pub(crate) wrapping: Option<Wrapping>,
    /// Guest-visible size in bytes.
    pub(crate) size: u64,
}

/// Settles how `target` lands as `brief` says, and what there is to say about it. No plan when there is no way to do it;
/// a blocker is among the findings then.
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
        // What the machine file cannot say is known before it is written: by writing it, and reading it back.
        let machine = landing::with_files(plan);
        let landed: Vec<LandedDisk> = plan.disks.iter().map(carry::empty).collect();
        let files = landing::machine_files(&machine, plan.machine_file, &landed, destination, plan.earlier(target))?;
        plan.lost = landing::lost(&machine, plan.machine_file, &files)?;
        // An identity that was made for it here is no loss.
        plan.lost.retain(|lost| lost.setting != "uuid" || plan.before.uuid.is_some());
        let told = plan.lost.iter().filter(|lost| finding::matters(&lost.setting));
        settler.findings.extend(told.map(|lost| Finding::SettingLost {
            setting: lost.setting.clone(),
            value: lost.value.clone(),
            file: plan.machine_file.name(),
        }));
    }
    Ok((plan, settler.findings))
}

struct Settler<'a> {
    target: &'a Target,
    brief: &'a Brief,
    destination: &'a Destination,
    boot: Option<&'a Look>,
    findings: Vec<Finding>,
}

impl Settler<'_> {
    fn not_offered(&mut self, what: &'static str, asked: impl ToString, offered: Vec<String>) {
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
        let disks = self.disks();
        self.places();
        // What follows makes no sense without a name, a machine file and all disks.
        if self.findings.len() > known && disks.is_none() || !propose::is_allowed(&new.name, self.destination) {
            return None;
        }
        let disks = disks?;
        self.firmware();
        let mut machine = Machine::new(new.name.clone());
        machine.uuid = Some(new.uuid.clone().unwrap_or_else(|| uuid::Uuid::new_v4().to_string()));
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
        machine.adapters = self.adapters(&before);
        machine.removable = self
            .brief
            .drives
            .iter()
            .map(|drive| Removable { kind: drive.kind, controller: drive.controller, media: None })
            .collect();
        self.dropped(&before);
        self.security(&before);
        let folder = Path::new(&self.brief.journey.into).join(&new.name);
        let folder = std::path::absolute(&folder).unwrap_or(folder);
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
        let plan = Plan { before, machine, disks, machine_file, folder, nvram, lost: Vec::new() };
        self.landing(&plan);
        Some(plan)
    }

    /// The disks in the brief's order; `None` when one cannot be had.
    fn disks(&mut self) -> Option<Vec<PlannedDisk>> {
        let mut disks = Vec::new();
        let mut whole = true;
        for (index, new) in self.brief.disks.iter().enumerate() {
            let found = self.target.disks.iter().position(|disk| disk.id == new.source);
            let Some(source) = found else {
                let known = self.target.disks.iter().map(|disk| disk.id.as_str()).collect::<Vec<_>>().join(", ");
                self.findings.push(Finding::NoSuchDisk { disk: new.source.clone(), known });
                whole = false;
                continue;
            };
            let twice = self.brief.disks[..index].iter().any(|other| other.source == new.source);
            if twice {
                self.findings.push(Finding::DiskTwice { disk: new.source.clone() });
                whole = false;
            }
            let disk = &self.target.disks[source];
            whole &= disk.is_readable();
            // What is compressed inside a package was told when the package was opened.
            if let Some(stream) = disk.stream.as_ref().filter(|_| self.target.described.is_none()) {
                let (file, kind) = (disk.id.clone(), stream.compression.clone());
                self.findings.push(Finding::Compressed { file, kind });
            }
            match self.disk(source, index, new) {
                Some(disk) => disks.push(disk),
                None => whole = false,
            }
        }
        for disk in &self.target.disks {
            if !self.brief.disks.iter().any(|new| new.source == disk.id) {
                self.findings.push(Finding::DiskLeft { disk: disk.id.clone() });
            }
        }
        // What cannot be read was told when the target was opened.
        (whole && !disks.is_empty()).then_some(disks)
    }

    fn disk(&mut self, source: usize, index: usize, new: &NewDisk) -> Option<PlannedDisk> {
        let disk: &TargetDisk = &self.target.disks[source];
        let kind = self.brief.journey.machine_file;
        let offered: Vec<_> = self.destination.disks.iter().filter(|offer| offer.goes_with(kind)).collect();
        let shape = new.shape.to_string();
        if !offered.iter().any(|offer| offer.shape == shape) {
            let words = offered.iter().map(|offer| offer.shape.clone()).collect();
            self.not_offered("disk shape", shape, words);
            return None;
        }
        let wrapping = match new.compress.as_deref() {
            None => None,
            Some(word) => {
                match Wrapping::by_name(word).filter(|_| new.shape == Shape::new(Format::Raw, Layout::Thin)) {
                    Some(wrapping) => Some(wrapping),
                    None => {
                        self.not_offered(
                            "compression",
                            format!("{word} of {}", new.shape),
                            vec!["gzip or zstd of raw/thin".into()],
                        );
                        return None;
                    }
                }
            }
        };
        let rules = &self.destination.rules;
        let grown = new.grow.map_or(disk.size, |size| size.0);
        if grown < disk.size {
            self.findings.push(Finding::WouldShrink { disk: disk.id.clone(), size: disk.size, asked: grown });
            return None;
        }
        let multiple = new.align.map_or(1, |size| size.0).max(1);
        let aligned = formats::stored_size(new.shape.format, grown).checked_next_multiple_of(multiple);
        let Some(size) = aligned else {
            self.findings.push(Finding::DiskTooLarge { disk: disk.id.clone(), size: disk.size, most: u64::MAX });
            return None;
        };
        if !size.is_multiple_of(rules.multiple()) {
            let multiple = rules.multiple();
            self.findings.push(Finding::SizeUneven { disk: disk.id.clone(), size, multiple });
        }
        if size != disk.size {
            self.findings.push(Finding::SizeRounded { disk: disk.id.clone(), size: disk.size, rounded: size });
        }
        let most = rules.largest().unwrap_or(u64::MAX);
        if size > most {
            self.findings.push(Finding::DiskTooLarge { disk: disk.id.clone(), size, most });
        }
        if let Err(error) = formats::check_size(&disk.id, new.shape.format, size) {
            self.findings.push(Finding::DiskUnreadable { disk: disk.id.clone(), why: error.to_string() });
            return None;
        }
        let ending = match wrapping {
            Some(wrapping) => format!("{}.{}", new.shape.format, wrapping.extension()),
            None => new.shape.format.to_string(),
        };
        Some(PlannedDisk {
            source,
            file: format!("{}-{index}.{ending}", self.brief.machine.name),
            shape: new.shape,
            wrapping,
            size,
        })
    }

    /// Whether each disk has a place of its own that the destination has, and one that boots.
    fn places(&mut self) {
        let firmware = self.brief.machine.starts_with();
        let mut per_kind: BTreeMap<&str, usize> = BTreeMap::new();
        for (index, disk) in self.brief.disks.iter().enumerate() {
            let place = format!("{} {}:{}", disk.controller, disk.bus, disk.slot);
            let Some(controller) = self.destination.controllers.iter().find(|offer| offer.kind == disk.controller)
            else {
                let words = self.destination.controllers.iter().map(|offer| offer.kind.to_string()).collect();
                self.not_offered("controller", disk.controller, words);
                continue;
            };
            let count = per_kind.entry(disk.controller.name()).or_default();
            *count += 1;
            if *count == controller.slots as usize + 1 {
                let disks = self.brief.disks.iter().filter(|other| other.controller == disk.controller).count();
                self.findings.push(Finding::TooManyDisks {
                    disks,
                    controller: controller.kind,
                    slots: controller.slots,
                });
            } else if *count <= controller.slots as usize
                && !controller.places().any(|known| known == (disk.bus, disk.slot))
            {
                self.findings.push(Finding::NoSuchPlace { disk: disk.source.clone(), place: place.clone() });
            }
            let same =
                |other: &NewDisk| (other.controller, other.bus, other.slot) == (disk.controller, disk.bus, disk.slot);
            if let Some(other) = self.brief.disks[..index].iter().find(|other| same(other)) {
                let disks = (other.source.clone(), disk.source.clone());
                self.findings.push(Finding::PlaceTaken { first: disks.0, second: disks.1, place });
            }
            if disk.boot.is_some() && !controller.boots(firmware) {
                let firmware = firmware.to_string();
                self.findings.push(Finding::DoesNotBoot {
                    disk: disk.source.clone(),
                    controller: controller.kind,
                    firmware,
                });
            }
        }
        let mut boots: Vec<u32> = self.brief.disks.iter().filter_map(|disk| disk.boot).collect();
        boots.sort_unstable();
        if boots.windows(2).any(|pair| pair[0] == pair[1]) || boots.contains(&0) {
            self.findings.push(Finding::BootOrderUnclear);
        }
        if boots.is_empty() && !self.brief.disks.is_empty() {
            self.findings.push(Finding::NothingBoots);
        }
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

    fn adapters(&mut self, before: &Machine) -> Vec<Adapter> {
        let mut adapters = Vec::new();
        for (index, new) in self.brief.adapters.iter().enumerate() {
            if !self.destination.adapters.contains(&new.model) {
                let words = self.destination.adapters.iter().map(ToString::to_string).collect();
                self.not_offered("adapter model", new.model, words);
            }
            let named = |adapter: &&Adapter| new.source.as_ref() == Some(&adapter.name);
            let old = before.adapters.iter().find(named);
            if let (Some(source), None) = (&new.source, old) {
                self.findings.push(Finding::NoSuchAdapter { adapter: source.clone() });
            }
            let name = new.source.clone().unwrap_or_else(|| format!("adapter {}", index + 1));
            if new.network.is_none() && new.connected {
                let network = old.and_then(|old| old.network.clone());
                self.findings.push(Finding::Unconnected { adapter: name.clone(), network });
            }
            let mac = match &new.mac {
                Mac::Keep => old.and_then(|old| old.mac.clone()),
                Mac::Fresh => Some(fresh_mac()),
                Mac::Given(mac) => Some(mac.clone()),
            };
            if let (Mac::Keep, Some(mac)) = (&new.mac, &mac) {
                self.findings.push(Finding::MacKept { adapter: name.clone(), mac: mac.clone() });
            }
            let twice = adapters.iter().any(|other: &Adapter| mac.is_some() && other.mac == mac);
            if let (true, Some(mac)) = (twice, &mac) {
                self.findings.push(Finding::MacTwice { mac: mac.clone(), other: self.brief.machine.name.clone() });
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
            let kept = self.brief.adapters.iter().any(|new| new.source.as_ref() == Some(&adapter.name));
            if !kept && !adapter.name.is_empty() {
                drop("adapter", adapter.name.clone());
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

    /// What lies where the landing is to be.
    fn landing(&mut self, plan: &Plan) {
        let real = |path: &Path| path.canonicalize().ok();
        if let Some(folder) = real(&plan.folder) {
            let files = self.target.disks.iter().flat_map(|disk| disk.parts.iter().map(|part| part.storage.name()));
            let files = files.chain(self.target.files.iter().map(|file| file.path.as_str()));
            let inside = |file: &str| {
                // A member of an archive lies where the archive does.
                let existing = Path::new(file).ancestors().find(|path| path.exists());
                existing.and_then(real).is_some_and(|path| path.starts_with(&folder))
            };
            if files.into_iter().any(inside) {
                self.findings.push(Finding::SourceInLanding { folder: plan.folder.to_string_lossy().into() });
            }
        }
        for (name, macs) in neighbours(&plan.folder) {
            for mac in plan.machine.adapters.iter().filter_map(|adapter| adapter.mac.as_ref()) {
                if macs.contains(mac) {
                    self.findings.push(Finding::MacTwice { mac: mac.clone(), other: name.clone() });
                }
            }
        }
        self.room(plan);
    }

    /// Whether what is to be written fits: a full disk with all its size, a thin one with what it holds; what is
    /// compressed may come out smaller.
    fn room(&mut self, plan: &Plan) {
        let parent = plan.folder.ancestors().find(|path| path.is_dir());
        let Some(free) = parent.and_then(|folder| rustix::fs::statvfs(folder).ok()) else { return };
        let free = free.f_bavail.saturating_mul(free.f_frsize);
        let (mut sure, mut most) = (0u64, 0u64);
        for disk in &plan.disks {
            let source = &self.target.disks[disk.source];
            let used = match source.image.as_ref().map(|image| reformis_disk::disk::data_bytes(image.disk.as_ref())) {
                Some(Ok(used)) => used,
                _ => 0,
            };
            let squeezed = disk.wrapping.is_some() || disk.shape.layout == Layout::Stream;
            let full = disk.shape.layout == Layout::Full;
            let wanted = if full { disk.size } else { used };
            most = most.saturating_add(wanted);
            sure = sure.saturating_add(if squeezed || !full { 0 } else { wanted });
        }
        if sure > free {
            self.findings.push(Finding::NoRoom { needed: sure, free });
        } else if most > free {
            self.findings.push(Finding::LittleRoom { needed: most, free });
        }
    }
}

fn device(new: &NewDisk) -> DiskDevice {
    DiskDevice {
        id: new.source.clone(),
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

/// An address that no maker gave out: locally administered, of one adapter (IEEE 802, section 8.4).
fn fresh_mac() -> String {
    let random = uuid::Uuid::new_v4().into_bytes();
    let bytes = [0x02, random[0], random[1], random[2], random[3], random[4]];
    bytes.map(|byte| format!("{byte:02x}")).join(":")
}

/// Name and addresses of the machines that have landed beside `folder`.
fn neighbours(folder: &Path) -> Vec<(String, Vec<String>)> {
    let Some(entries) = folder.parent().and_then(|parent| std::fs::read_dir(parent).ok()) else { return Vec::new() };
    let others = entries.flatten().map(|entry| entry.path()).filter(|path| path != folder && path.is_dir());
    let receipts = others.take(1000).filter_map(|path| Receipt::read(&path.join(crate::receipt::FILE_NAME)).ok());
    let machines = receipts.filter_map(|receipt| receipt.machine).map(|machine| machine.after);
    machines.map(|m| (m.name, m.adapters.into_iter().filter_map(|adapter| adapter.mac).collect())).collect()
}

/// What was seen on the disk that boots, where it can be read.
pub(crate) fn look_at_boot(target: &Target) -> Option<Look> {
    let order = target.described.as_ref().map(|described| &described.machine.disks);
    let first = order.and_then(|disks| (0..disks.len()).min_by_key(|&index| disks[index].boot.unwrap_or(u32::MAX)));
    let disk = target.disks.get(first.unwrap_or(0))?;
    let image = disk.image.as_ref().filter(|image| image.facts.troubles.is_empty())?;
    // What cannot be read is told when it is carried.
    reformis_guest::look(&image.disk).ok()
}

/// Bytes as a person reads them.
pub(crate) fn shown(bytes: u64) -> String {
    ByteSize(bytes).to_string()
}
