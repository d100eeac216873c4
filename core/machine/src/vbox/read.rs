//! Reading a machine.

use std::collections::HashMap;

use roxmltree::Node;

use super::NAMESPACE;
use crate::{
    device::{Adapter, AdapterModel, ControllerKind, DiskDevice, Leftover, Removable, RemovableKind, Tpm},
    error::{Error, Result},
    limits,
    model::{Clock, Cpu, Firmware, Machine, Sign},
    systems::Vocabulary,
    typed::{self, Mac, Name},
    xml::{self, Element},
};

/// Whether `head`, the start of a file, looks like such a file.
pub fn looks_like(head: &[u8]) -> bool {
    xml::starts_with_element(head, "VirtualBox") && String::from_utf8_lossy(head).contains(NAMESPACE)
}

/// A machine's settings.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// The machine.
    pub machine: Machine,
    /// The files of all disks in the registry, those below deltas too.
    pub media: Vec<String>,
}

/// Reads a machine's settings; `file` names it in errors.
///
/// # Errors
/// [`Error::Xml`] for XML that is not sound, [`Error::Invalid`] for a file that contradicts itself,
/// [`Error::Unsupported`] for one whose settings are encrypted.
pub fn read(bytes: &[u8], file: &str) -> Result<Settings> {
    let text = xml::text(bytes, file)?;
    let document = xml::parse(&text, file)?;
    let root = document.root_element();
    let reader = Reader { file };
    if root.tag_name().name() != "VirtualBox" {
        return Err(reader.invalid(root, "the outermost element is not that of a machine's settings"));
    }
    if root.first("MachineEncrypted").is_some() {
        let what = "the settings are encrypted by their host: take the encryption off there first".into();
        return Err(Error::Unsupported { file: file.into(), what });
    }
    let Some(node) = root.first("Machine") else { return Err(reader.invalid(root, "it holds no machine")) };
    let machine = reader.machine(root, node)?;
    let disks = root.descendants().filter(|node| node.tag_name().name() == "HardDisk");
    let media = disks.filter_map(|disk| disk.attr("location")).map(str::to_string).collect();
    Ok(Settings { machine, media })
}

struct Reader<'a> {
    file: &'a str,
}

/// A medium of the registry.
struct Medium<'a> {
    location: &'a str,
    encrypted: bool,
}

/// An identifier without its braces.
fn bare(id: &str) -> String {
    id.trim().trim_matches(['{', '}']).to_ascii_lowercase()
}

fn is_on(node: Option<Node<'_, '_>>, name: &str) -> bool {
    node.and_then(|node| node.attr(name)).is_some_and(|value| matches!(value, "true" | "1"))
}

impl Reader<'_> {
    fn invalid(&self, node: Node<'_, '_>, what: impl Into<String>) -> Error {
        let line = node.document().text_pos_at(node.range().start).row;
        Error::Invalid { file: self.file.into(), line, what: what.into() }
    }

    #[expect(clippy::cast_possible_truncation, reason = "elements of a file that is at most some MiB long")]
    fn machine(&self, root: Node<'_, '_>, node: Node<'_, '_>) -> Result<Machine> {
        let mut machine = Machine::new(node.attr("name").unwrap_or("machine"));
        machine.uuid = node.attr("uuid").and_then(typed::uuid);
        machine.description = node.value("Description").map(str::to_string);
        machine.system = node.attr("OSType").map(|word| Vocabulary::Vbox.read(word));
        let Some(hardware) = node.first("Hardware") else {
            return Err(self.invalid(node, "the machine has no 'Hardware'"));
        };
        machine.memory = self.memory(hardware)?;
        machine.cpu = Cpu { sockets: 1, cores: self.processors(hardware)? };
        let efi = hardware.first("Firmware").and_then(|f| f.attr("type")).is_some_and(|kind| kind.starts_with("EFI"));
        machine.firmware = if efi { Firmware::Uefi { secure_boot: false } } else { Firmware::Bios };
        let bios = hardware.first("BIOS");
        let nvram = bios.and_then(|bios| bios.first("NVRAM")).and_then(|nvram| nvram.attr("path"));
        machine.nvram = nvram.filter(|path| !path.is_empty()).map(str::to_string);
        machine.tpm = match hardware.first("TrustedPlatformModule").and_then(|tpm| tpm.attr("type")) {
            Some("v1_2") => Some(Tpm::V12),
            None | Some("None") => None,
            Some(_) => Some(Tpm::V20),
        };
        let clock = node.first("Hardware").and_then(|h| h.first("RTC")).or_else(|| node.first("RTC"));
        // A file that does not say keeps the machine's clock in the host's local time.
        let utc = clock.and_then(|rtc| rtc.attr("localOrUTC")) == Some("UTC");
        machine.clock = if utc { Clock::Utc } else { Clock::Local };
        machine.start_with_host = is_on(node.first("Autostart").or_else(|| hardware.first("Autostart")), "enabled");
        Self::state(node, &mut machine);
        self.storage(root, node, hardware, &mut machine)?;
        if let Some(network) = hardware.first("Network") {
            machine.adapters.extend(network.all("Adapter").filter_map(adapter));
        }
        let uart = hardware.first("UART").or_else(|| hardware.first("Uart"));
        let ports = uart.iter().flat_map(|uart| uart.all("Port"));
        machine.serial_ports = ports.filter(|port| is_on(Some(*port), "enabled")).count() as u32;
        leftovers(node, hardware, &mut machine);
        // The file only orders kinds of drives; of the disks, the first of the first controller starts.
        machine.settle_boot(0);
        machine.sort_disks();
        Ok(machine)
    }

    fn memory(&self, hardware: Node<'_, '_>) -> Result<u64> {
        let Some(node) = hardware.first("Memory") else {
            return Err(self.invalid(hardware, "the machine has no memory"));
        };
        let mib = node.attr("RAMSize").unwrap_or_default();
        let bytes = mib.parse::<u64>().ok().and_then(|mib| mib.checked_mul(1 << 20)).filter(limits::is_memory);
        bytes.ok_or_else(|| self.invalid(node, format!("memory of '{mib}' MiB, which is not a sensible size")))
    }

    fn processors(&self, hardware: Node<'_, '_>) -> Result<u32> {
        let Some(text) = hardware.first("CPU").and_then(|cpu| cpu.attr("count")) else { return Ok(1) };
        let count = text.parse().ok().filter(|count| (1..=limits::MAX_PROCESSORS).contains(count));
        count.ok_or_else(|| self.invalid(hardware, format!("'{text}' processors")))
    }

    #[expect(clippy::cast_possible_truncation, reason = "elements of a file that is at most some MiB long")]
    fn state(node: Node<'_, '_>, machine: &mut Machine) {
        if let Some(file) = node.attr("stateFile").filter(|file| !file.is_empty()) {
            machine.signs.push(Sign::Suspended { file: Some(file.into()) });
        }
        let count = node.descendants().filter(|n| n.tag_name().name() == "Snapshot").count() as u32;
        if count > 0 {
            machine.signs.push(Sign::Snapshots { count });
        }
    }

    fn storage(
        &self,
        root: Node<'_, '_>,
        node: Node<'_, '_>,
        hardware: Node<'_, '_>,
        machine: &mut Machine,
    ) -> Result<()> {
        let registries = [node.first("MediaRegistry"), root.first("Global").and_then(|g| g.first("MediaRegistry"))];
        let mut media: HashMap<String, Medium<'_>> = HashMap::new();
        for registry in registries.into_iter().flatten() {
            let kinds = ["HardDisk", "Image"];
            for medium in registry.descendants().filter(|node| kinds.contains(&node.tag_name().name())) {
                let (Some(id), Some(location)) = (medium.attr("uuid"), medium.attr("location")) else { continue };
                let encrypted =
                    medium.all("Property").any(|p| p.attr("name").is_some_and(|name| name.starts_with("CRYPT/")));
                media.insert(bare(id), Medium { location, encrypted });
            }
        }
        // Until version 1.14 the controllers stood beside the hardware.
        let controllers = hardware.first("StorageControllers").or_else(|| node.first("StorageControllers"));
        let mut of_kind: HashMap<ControllerKind, u32> = HashMap::new();
        for controller in controllers.iter().flat_map(|list| list.all("StorageController")) {
            let kind = controller_kind(controller.attr("type").unwrap_or_default());
            let count = of_kind.entry(kind).or_default();
            let index = *count;
            *count += 1;
            for device in controller.all("AttachedDevice") {
                self.device(device, kind, index, &media, machine)?;
            }
        }
        Ok(())
    }

    fn device(
        &self,
        device: Node<'_, '_>,
        kind: ControllerKind,
        index: u32,
        media: &HashMap<String, Medium<'_>>,
        machine: &mut Machine,
    ) -> Result<()> {
        let image = device.first("Image").and_then(|image| image.attr("uuid"));
        let medium = image.and_then(|id| media.get(&bare(id)));
        let removable = |kind_of| Removable {
            kind: kind_of,
            controller: kind,
            media: medium.map(|medium| medium.location.to_string()),
        };
        match device.attr("type") {
            Some("DVD") => machine.removable.push(removable(RemovableKind::Cdrom)),
            Some("Floppy") => machine.removable.push(removable(RemovableKind::Floppy)),
            Some("HardDisk") => {
                let Some(id) = image else {
                    return Err(self.invalid(device, "a disk that does not say which medium it is"));
                };
                let Some(medium) = medium else {
                    return Err(self.invalid(device, format!("the disk {id} is not in the registry of media")));
                };
                if medium.encrypted && !machine.signs.contains(&Sign::Encrypted) {
                    machine.signs.push(Sign::Encrypted);
                }
                let number = |name: &str| device.attr(name).and_then(|text| text.parse::<u32>().ok()).unwrap_or(0);
                let (port, unit) = (number("port"), number("device"));
                let (bus, slot) = if kind == ControllerKind::Ide { (port, unit) } else { (index, port) };
                machine.disks.push(DiskDevice {
                    id: Name::cleaned(&format!("{kind}-{bus}-{slot}"), "disk"),
                    files: vec![medium.location.to_string()],
                    compression: None,
                    format: None,
                    capacity: None,
                    controller: kind,
                    bus,
                    slot,
                    boot: None,
                });
            }
            _ => {}
        }
        Ok(())
    }
}

fn controller_kind(word: &str) -> ControllerKind {
    match word {
        "AHCI" => ControllerKind::Ahci,
        "PIIX3" | "PIIX4" | "ICH6" => ControllerKind::Ide,
        "LsiLogic" => ControllerKind::Lsi,
        "LsiLogicSas" => ControllerKind::LsiSas,
        "BusLogic" => ControllerKind::Buslogic,
        "NVMe" => ControllerKind::Nvme,
        "VirtioSCSI" => ControllerKind::VirtioScsi,
        "USB" => ControllerKind::Usb,
        _ => ControllerKind::Unknown,
    }
}

fn adapter(node: Node<'_, '_>) -> Option<Adapter> {
    if !is_on(Some(node), "enabled") {
        return None;
    }
    let named = |element: &'static str| node.first(element).map(|mode| mode.attr("name").unwrap_or_default());
    let network = if node.first("NAT").is_some() {
        Some("nat".to_string())
    } else {
        let modes = [
            ("BridgedInterface", "bridge:"),
            ("InternalNetwork", ""),
            ("NATNetwork", ""),
            ("HostOnlyInterface", "host-only:"),
            ("HostOnlyNetwork", "host-only:"),
            ("GenericInterface", "generic:"),
        ];
        let found =
            modes.into_iter().find_map(|(element, prefix)| named(element).map(|name| format!("{prefix}{name}")));
        found.filter(|name| !name.is_empty())
    };
    Some(Adapter {
        name: Name::cleaned(&format!("adapter {}", node.attr("slot").unwrap_or("0")), "adapter"),
        model: match node.attr("type").unwrap_or_default() {
            "virtio" => AdapterModel::VirtioNet,
            "82540EM" | "82543GC" | "82545EM" => AdapterModel::E1000,
            "82583V" => AdapterModel::E1000e,
            "" | "Am79C970A" | "Am79C973" | "Am79C960" => AdapterModel::Pcnet,
            _ => AdapterModel::Unknown,
        },
        mac: node.attr("MACAddress").and_then(Mac::parse),
        network: network.map(|name| Name::cleaned(&name, "network")),
        connected: node.attr("cable").is_none_or(|cable| cable == "true"),
    })
}

fn leftovers(node: Node<'_, '_>, hardware: Node<'_, '_>, machine: &mut Machine) {
    let mut add = |what: &str, detail: &str| {
        machine.leftovers.push(Leftover { what: what.into(), detail: detail.into() });
    };
    let audio = hardware.first("AudioAdapter");
    if is_on(audio, "enabled") {
        add("sound card", audio.and_then(|audio| audio.attr("controller")).unwrap_or("AC97"));
    }
    if is_on(hardware.first("Display"), "accelerate3D") {
        add("3D acceleration", "display");
    }
    let folders = hardware.first("SharedFolders").or_else(|| node.first("SharedFolders"));
    for folder in folders.iter().flat_map(|list| list.all("SharedFolder")) {
        add("shared folder", folder.attr("name").unwrap_or("folder"));
    }
    let ports = hardware.first("LPT").or_else(|| hardware.first("Lpt"));
    for port in ports.iter().flat_map(|list| list.all("Port")).filter(|port| is_on(Some(*port), "enabled")) {
        add("parallel port", port.attr("slot").unwrap_or("0"));
    }
    let devices = hardware.first("HostPci");
    for device in devices.iter().flat_map(|list| list.all("Devices")) {
        add("passed-through device", device.attr("host").unwrap_or("device"));
    }
}
