//! Reading a machine.

use super::entries::Entries;
use crate::{
    device::{Adapter, AdapterModel, ControllerKind, DiskDevice, Leftover, Removable, RemovableKind, Tpm},
    error::{Error, Result},
    limits,
    model::{Clock, Cpu, Firmware, Machine, Sign},
    systems::Vocabulary,
    typed::{self, Mac, Name},
};

/// Numbers of a device that hosts give: controllers 0 to 3, adapters 0 to 9, ports 0 to 3.
const CONTROLLERS: u32 = 4;
const ADAPTERS: u32 = 10;
/// Units of a controller: the most that any kind has.
const UNITS: u32 = 64;

/// Whether `head`, the start of a file, looks like such a file.
pub fn looks_like(head: &[u8]) -> bool {
    let text = String::from_utf8_lossy(head).to_ascii_lowercase();
    let has = |key: &str| text.lines().any(|line| line.split_once('=').is_some_and(|(k, _)| k.trim() == key));
    !text.trim_start().starts_with('<') && (has("config.version") || has("virtualhw.version") || has("displayname"))
}

/// Reads a machine; `file` names it in errors.
///
/// # Errors
/// [`Error::Invalid`] for a line that is none, and for numbers that no machine has.
pub fn read(bytes: &[u8], file: &str) -> Result<Machine> {
    let entries = Entries::parse(bytes, file)?;
    Reader { entries: &entries, file }.machine()
}

struct Reader<'a> {
    entries: &'a Entries,
    file: &'a str,
}

impl<'a> Reader<'a> {
    fn get(&self, key: &str) -> Option<&'a str> {
        self.entries.get(key)
    }

    fn number(&self, key: &str) -> Result<Option<u64>> {
        let Some(text) = self.get(key) else { return Ok(None) };
        let number = text.trim().parse().map_err(|_| Error::Invalid {
            file: self.file.into(),
            line: self.entries.line(key),
            what: format!("{key} is '{text}', expected a number"),
        })?;
        Ok(Some(number))
    }

    fn invalid(&self, key: &str, what: String) -> Error {
        Error::Invalid { file: self.file.into(), line: self.entries.line(key), what }
    }

    #[expect(clippy::cast_possible_truncation, reason = "devices of a file that is at most some MiB long")]
    fn machine(&self) -> Result<Machine> {
        let stem = self.file.rsplit('/').next().unwrap_or_default();
        let named = stem.rsplit_once('.').map_or(stem, |(stem, _)| stem);
        let mut machine = Machine::new(self.get("displayName").unwrap_or(named));
        machine.description = self.get("annotation").map(str::to_string);
        machine.uuid = self.get("uuid.bios").and_then(typed::uuid);
        machine.memory = self.memory()?;
        machine.cpu = self.cpu()?;
        let efi = self.get("firmware").is_some_and(|word| word.eq_ignore_ascii_case("efi"));
        let secure_boot = self.entries.is_on("uefi.secureBoot.enabled");
        machine.firmware = if efi { Firmware::Uefi { secure_boot } } else { Firmware::Bios };
        machine.nvram = self.get("nvram").map(str::to_string);
        machine.tpm = self.entries.is_on("vtpm.present").then_some(Tpm::V20);
        machine.system = self.get("guestOS").map(|word| Vocabulary::Vmx.read(word));
        if machine.system.as_ref().is_some_and(crate::System::keeps_local_time) {
            machine.clock = Clock::Local;
        }
        self.drives(&mut machine)?;
        self.boot_order(&mut machine);
        machine.adapters = self.adapters();
        machine.serial_ports =
            (0..4).filter(|port| self.entries.is_on(&format!("serial{port}.present"))).count() as u32;
        machine.leftovers = self.leftovers();
        if let Some(file) = self.get("checkpoint.vmState") {
            machine.signs.push(Sign::Suspended { file: Some(file.into()) });
        }
        if self.get("encryption.keySafe").is_some() || self.get("encryption.data").is_some() {
            machine.signs.push(Sign::Encrypted);
        }
        machine.sort_disks();
        Ok(machine)
    }

    fn memory(&self) -> Result<u64> {
        let mib = self.number("memsize")?.unwrap_or(32);
        mib.checked_mul(1 << 20)
            .filter(limits::is_memory)
            .ok_or_else(|| self.invalid("memsize", format!("memory of '{mib}' MiB, which is not a sensible size")))
    }

    fn cpu(&self) -> Result<Cpu> {
        let total = self.number("numvcpus")?.unwrap_or(1);
        let total = u32::try_from(total).ok().filter(|total| (1..=limits::MAX_PROCESSORS).contains(total));
        let total = total.ok_or_else(|| self.invalid("numvcpus", "a number of processors that no host has".into()))?;
        let cores = self.number("cpuid.coresPerSocket")?.and_then(|cores| u32::try_from(cores).ok());
        // A number of cores that does not divide the whole cannot be built.
        let cores = cores.filter(|&cores| cores > 0 && total.is_multiple_of(cores)).unwrap_or(1);
        Ok(Cpu { sockets: total / cores, cores })
    }

    fn scsi_kind(&self, bus: u32) -> ControllerKind {
        match self.get(&format!("scsi{bus}.virtualDev")).map(str::to_ascii_lowercase).as_deref() {
            Some("pvscsi") => ControllerKind::Pvscsi,
            Some("lsilogic") => ControllerKind::Lsi,
            Some("lsisas1068") => ControllerKind::LsiSas,
            // What a file without the word means.
            Some("buslogic") | None => ControllerKind::Buslogic,
            Some(_) => ControllerKind::Unknown,
        }
    }

    #[expect(clippy::cast_possible_truncation, reason = "devices of a file that is at most some MiB long")]
    fn drives(&self, machine: &mut Machine) -> Result<()> {
        let mut of_kind: Vec<(ControllerKind, u32)> = Vec::new();
        for family in ["scsi", "sata", "nvme", "ide"] {
            for bus in 0..CONTROLLERS {
                let kind = match family {
                    "scsi" => self.scsi_kind(bus),
                    "sata" => ControllerKind::Ahci,
                    "nvme" => ControllerKind::Nvme,
                    _ => ControllerKind::Ide,
                };
                let units: Vec<u32> =
                    (0..UNITS).filter(|unit| self.entries.is_on(&format!("{family}{bus}:{unit}.present"))).collect();
                let is_there = self.entries.is_on(&format!("{family}{bus}.present")) || !units.is_empty();
                if !is_there {
                    continue;
                }
                // Numbers of SCSI controllers count over all their kinds; ours count within a kind.
                let own = match family {
                    "ide" => bus,
                    _ => of_kind.iter().filter(|(known, _)| *known == kind).count() as u32,
                };
                of_kind.push((kind, own));
                for unit in units {
                    self.drive(&format!("{family}{bus}:{unit}"), kind, own, unit, machine)?;
                }
            }
        }
        if self.entries.is_on("floppy0.present") {
            let media = self.get("floppy0.fileName").map(str::to_string);
            machine.removable.push(Removable {
                kind: RemovableKind::Floppy,
                controller: ControllerKind::Unknown,
                media,
            });
        }
        Ok(())
    }

    fn drive(&self, key: &str, kind: ControllerKind, bus: u32, slot: u32, machine: &mut Machine) -> Result<()> {
        let file = self.get(&format!("{key}.fileName")).map(str::to_string);
        let device = self.get(&format!("{key}.deviceType")).unwrap_or_default().to_ascii_lowercase();
        if device.contains("cdrom") {
            // Where the drive is the host's own, its word is no file.
            let media = file.filter(|name| device.ends_with("image") && !name.is_empty());
            machine.removable.push(Removable { kind: RemovableKind::Cdrom, controller: kind, media });
            return Ok(());
        }
        if device == "rawdisk" || device.contains("passthru") || device.contains("passthrough") {
            let detail = format!("{key} {}", file.unwrap_or_default());
            machine.leftovers.push(Leftover { what: "disk of the host itself".into(), detail: detail.trim().into() });
            return Ok(());
        }
        let Some(file) = file else {
            return Err(
                self.invalid(&format!("{key}.present"), format!("disk {key} does not say which file it is kept in"))
            );
        };
        machine.disks.push(DiskDevice {
            id: Name::cleaned(key, "disk"),
            files: vec![file],
            compression: None,
            format: None,
            capacity: None,
            controller: kind,
            bus,
            slot,
            boot: None,
        });
        Ok(())
    }

    fn boot_order(&self, machine: &mut Machine) {
        let order = self.get("bios.hddOrder").unwrap_or_default();
        let mut next = 1;
        for key in order.split(',').map(str::trim) {
            let disk = machine.disks.iter_mut().find(|disk| disk.id.eq_ignore_ascii_case(key) && disk.boot.is_none());
            if let Some(disk) = disk {
                disk.boot = Some(next);
                next += 1;
            }
        }
        machine.settle_boot(0);
    }

    fn adapters(&self) -> Vec<Adapter> {
        let adapter = |index: u32| {
            let key = |name: &str| self.get(&format!("ethernet{index}.{name}"));
            if !self.entries.is_on(&format!("ethernet{index}.present")) {
                return None;
            }
            let model = match key("virtualDev").map(str::to_ascii_lowercase).as_deref() {
                Some("vmxnet3") => AdapterModel::Vmxnet3,
                Some("vmxnet" | "vmxnet2") => AdapterModel::Vmxnet2,
                Some("e1000") => AdapterModel::E1000,
                Some("e1000e") => AdapterModel::E1000e,
                Some("vlance") | None => AdapterModel::Pcnet,
                Some(_) => AdapterModel::Unknown,
            };
            let connection = key("connectionType").map(str::to_ascii_lowercase);
            let of_kind = match connection.as_deref() {
                Some("custom") => key("vnet").map(str::to_string),
                Some("bridged") => Some("bridged".into()),
                Some(other) => Some(other.to_string()),
                None => None,
            };
            Some(Adapter {
                name: Name::cleaned(&format!("ethernet{index}"), "adapter"),
                model,
                mac: key("address").or_else(|| key("generatedAddress")).and_then(Mac::parse),
                network: key("networkName")
                    .or_else(|| key("dvs.portgroupId"))
                    .map(str::to_string)
                    .or(of_kind)
                    .map(|name| Name::cleaned(&name, "network")),
                connected: key("startConnected").is_none_or(|value| !value.eq_ignore_ascii_case("false")),
            })
        };
        (0..ADAPTERS).filter_map(adapter).collect()
    }

    fn leftovers(&self) -> Vec<Leftover> {
        let on = |key: &str| self.entries.is_on(key);
        let mut leftovers = Vec::new();
        let mut add = |what: &str, detail: String| leftovers.push(Leftover { what: what.into(), detail });
        if on("sound.present") {
            add("sound card", self.get("sound.virtualDev").unwrap_or("sound").into());
        }
        if on("mks.enable3d") || on("svga.enable3d") {
            add("3D acceleration", "svga".into());
        }
        for index in 0..16 {
            let key = format!("pciPassthru{index}");
            if on(&format!("{key}.present")) {
                add("passed-through device", self.get(&format!("{key}.id")).map_or(key, str::to_string));
            }
        }
        for index in 0..16 {
            let key = format!("sharedFolder{index}");
            if on(&format!("{key}.present")) {
                add("shared folder", self.get(&format!("{key}.guestName")).unwrap_or(&key).into());
            }
        }
        for index in 0..3 {
            if on(&format!("parallel{index}.present")) {
                add("parallel port", format!("parallel{index}"));
            }
        }
        leftovers
    }
}
