//! Reading a domain.

use roxmltree::{Document, Node};

use crate::{
    device::{Adapter, AdapterModel, ControllerKind, DiskDevice, Leftover, Removable, RemovableKind, Tpm},
    error::{Error, Result},
    limits,
    model::{Clock, Cpu, Firmware, Machine, Sign},
    systems::{System, Vocabulary},
    typed::{self, Mac, Name},
    units::si_bytes_per_unit,
    xml::{self, Element},
};

/// Whether `head`, the start of a file, looks like a domain.
pub fn looks_like(head: &[u8]) -> bool {
    xml::starts_with_element(head, "domain")
}

/// Reads a domain; `file` names it in errors.
///
/// # Errors
/// [`Error::Xml`] for XML that is not sound, [`Error::Invalid`] for a domain that contradicts itself.
pub fn read(bytes: &[u8], file: &str) -> Result<Machine> {
    let text = xml::text(bytes, file)?;
    let document = xml::parse(&text, file)?;
    Reader { file }.machine(&document)
}

struct Reader<'a> {
    file: &'a str,
}

/// A drive's place by its address or its name, where a `drive` address is given.
struct Place {
    bus: u32,
    slot: u32,
}

impl Reader<'_> {
    fn invalid(&self, node: Node<'_, '_>, what: impl Into<String>) -> Error {
        let line = node.document().text_pos_at(node.range().start).row;
        Error::Invalid { file: self.file.into(), line, what: what.into() }
    }

    fn machine(&self, document: &Document<'_>) -> Result<Machine> {
        let root = document.root_element();
        if root.tag_name().name() != "domain" {
            return Err(self.invalid(root, "the outermost element is not 'domain'"));
        }
        let mut machine = Machine::new(root.value("name").unwrap_or("machine"));
        machine.uuid = root.value("uuid").and_then(typed::uuid);
        machine.description = root.value("description").or_else(|| root.value("title")).map(str::to_string);
        machine.memory = self.memory(root)?;
        machine.cpu = self.cpu(root)?;
        machine.firmware = firmware(root);
        machine.nvram = root.first("os").and_then(|os| os.value("nvram")).map(str::to_string);
        if let Some(clock) = root.first("clock") {
            match clock.attr("offset") {
                Some("localtime") => machine.clock = Clock::Local,
                Some("timezone") => {
                    machine.clock = Clock::Local;
                    machine.time_zone = clock.attr("timezone").map(str::to_string);
                }
                _ => {}
            }
        }
        machine.system = root.first("metadata").and_then(system);
        // A dump of a running domain has the number under which it runs.
        if root.attr("id").is_some_and(|id| id != "-1") {
            machine.signs.push(Sign::Running);
        }
        for devices in root.all("devices") {
            self.devices(devices, &mut machine)?;
        }
        // In the order in which the file has them: the first one boots.
        machine.settle_boot(0);
        machine.sort_disks();
        Ok(machine)
    }

    fn memory(&self, root: Node<'_, '_>) -> Result<u64> {
        let node = root.first("memory").or_else(|| root.first("currentMemory"));
        let node = node.ok_or_else(|| self.invalid(root, "the machine has no memory"))?;
        let unit = node.attr("unit").unwrap_or("KiB");
        let number = node.text().unwrap_or_default().trim();
        let bytes = number.parse::<u64>().ok().and_then(|n| n.checked_mul(si_bytes_per_unit(unit)?));
        bytes.filter(limits::is_memory).ok_or_else(|| {
            self.invalid(node, format!("memory of '{number}' in units of '{unit}', which is not a sensible size"))
        })
    }

    fn cpu(&self, root: Node<'_, '_>) -> Result<Cpu> {
        let Some(node) = root.first("vcpu") else { return Ok(Cpu { sockets: 1, cores: 1 }) };
        let text = node.text().unwrap_or_default().trim();
        let total = text.parse::<u32>().ok().filter(|total| (1..=limits::MAX_PROCESSORS).contains(total));
        let total = total.ok_or_else(|| self.invalid(node, format!("'{text}' processors")))?;
        let topology = root.first("cpu").and_then(|cpu| cpu.first("topology"));
        let number = |name| topology.and_then(|t| t.attr(name)).and_then(|text| text.parse::<u32>().ok());
        let sockets = number("sockets").unwrap_or(total).max(1);
        // Threads of a core are cores for a guest that is moved.
        Ok(if total.is_multiple_of(sockets) {
            Cpu { sockets, cores: total / sockets }
        } else {
            Cpu { sockets: total, cores: 1 }
        })
    }

    fn devices(&self, devices: Node<'_, '_>, machine: &mut Machine) -> Result<()> {
        for node in devices.children().filter(Node::is_element) {
            let detail = |words: &[Option<&str>]| {
                let words: Vec<_> = words.iter().flatten().copied().collect();
                if words.is_empty() { node.tag_name().name().to_string() } else { words.join(" ") }
            };
            let model = node.attr("model").or_else(|| node.first("model").and_then(|m| m.attr("type")));
            let leftover = match node.tag_name().name() {
                "disk" => {
                    self.disk(node, devices, machine)?;
                    None
                }
                "interface" => {
                    machine.adapters.push(adapter(node, machine.adapters.len()));
                    if node.attr("type") == Some("hostdev") {
                        Some(("passed-through adapter", detail(&[node.attr("type")])))
                    } else {
                        None
                    }
                }
                "serial" => {
                    machine.serial_ports += 1;
                    None
                }
                "tpm" => {
                    let version = node.first("backend").and_then(|backend| backend.attr("version"));
                    machine.tpm = Some(if version == Some("1.2") { Tpm::V12 } else { Tpm::V20 });
                    None
                }
                "video" => {
                    let accelerated = node.descendants().any(|n| n.attr("accel3d") == Some("yes"));
                    accelerated.then(|| ("3D acceleration", detail(&[model])))
                }
                "sound" => Some(("sound card", detail(&[model]))),
                "hostdev" => Some(("passed-through device", detail(&[node.attr("mode"), node.attr("type")]))),
                "redirdev" => None,
                "filesystem" => {
                    let target = node.first("target").and_then(|target| target.attr("dir"));
                    Some(("shared folder", detail(&[target])))
                }
                "parallel" => Some(("parallel port", detail(&[node.attr("type")]))),
                "smartcard" => Some(("smart card reader", detail(&[node.attr("mode")]))),
                "watchdog" => Some(("watchdog", detail(&[model]))),
                "shmem" | "nvram" | "memory" | "vsock" | "crypto" | "panic" | "iommu" => {
                    Some(("device", detail(&[Some(node.tag_name().name()), model])))
                }
                _ => None,
            };
            let made = leftover.map(|(what, detail)| Leftover { what: what.into(), detail });
            machine.leftovers.extend(made);
        }
        Ok(())
    }

    fn disk(&self, node: Node<'_, '_>, devices: Node<'_, '_>, machine: &mut Machine) -> Result<()> {
        let target = node.first("target");
        let name = target.and_then(|target| target.attr("dev")).unwrap_or_default();
        let bus = target.and_then(|target| target.attr("bus")).unwrap_or_else(|| bus_of_name(name));
        let place = place(node, name);
        let controller = controller(bus, place.bus, devices);
        let source = node.first("source");
        let file = source.and_then(|s| s.attr("file").or_else(|| s.attr("dev"))).map(str::to_string);
        let boot = node.first("boot").and_then(|boot| boot.attr("order")).and_then(|order| order.parse().ok());
        let kind = match node.attr("device") {
            Some("cdrom") => Some(RemovableKind::Cdrom),
            Some("floppy") => Some(RemovableKind::Floppy),
            _ => None,
        };
        if let Some(kind) = kind {
            machine.removable.push(Removable { kind, controller, media: file });
            return Ok(());
        }
        // Each disk asks all controllers.
        if machine.disks.len() >= limits::MAX_DEVICES {
            return Err(self.invalid(node, "more disks than any machine has"));
        }
        let Some(file) = file.or_else(|| elsewhere(node)) else {
            return Err(self.invalid(node, "a disk that does not say which file it is kept in"));
        };
        machine.disks.push(DiskDevice {
            id: Name::cleaned(name, &format!("disk{}", machine.disks.len())),
            files: vec![file],
            compression: None,
            format: node.first("driver").and_then(|driver| driver.attr("type")).map(str::to_string),
            capacity: None,
            controller,
            bus: place.bus,
            slot: place.slot,
            boot,
        });
        Ok(())
    }
}

/// Where a disk is kept that is no file: the words stand for it, and lead nowhere.
fn elsewhere(node: Node<'_, '_>) -> Option<String> {
    let (kind, source) = (node.attr("type")?, node.first("source")?);
    let store = source.attr("protocol").or_else(|| source.attr("pool")).unwrap_or_default();
    let name = source.attr("name").or_else(|| source.attr("volume"))?;
    Some(format!("{kind}:{store}:{name}"))
}

fn firmware(root: Node<'_, '_>) -> Firmware {
    let Some(os) = root.first("os") else { return Firmware::Bios };
    let loader = os.first("loader");
    let pflash = loader.is_some_and(|loader| loader.attr("type") == Some("pflash"));
    let named = loader.and_then(|loader| loader.text()).is_some_and(|path| {
        let path = path.to_ascii_lowercase();
        path.contains("ovmf") || path.contains("edk2")
    });
    if os.attr("firmware") != Some("efi") && !pflash && !named {
        return Firmware::Bios;
    }
    let features = os.first("firmware");
    let feature = features
        .iter()
        .flat_map(|firmware| firmware.all("feature"))
        .find(|feature| feature.attr("name") == Some("secure-boot"));
    let secure_boot = match feature {
        Some(feature) => feature.attr("enabled") == Some("yes"),
        None => loader.is_some_and(|loader| loader.attr("secure") == Some("yes")),
    };
    Firmware::Uefi { secure_boot }
}

fn system(metadata: Node<'_, '_>) -> Option<System> {
    let os = metadata.descendants().find(|node| node.tag_name().name() == "os" && node.attr("id").is_some())?;
    Some(Vocabulary::Osinfo.read(os.attr("id")?))
}

/// The bus that a disk without one is on: by its name.
fn bus_of_name(name: &str) -> &'static str {
    match name.get(..2) {
        Some("vd") => "virtio",
        Some("hd") => "ide",
        Some("fd") => "fdc",
        Some("xv") => "xen",
        _ => "scsi",
    }
}

fn controller(bus: &str, index: u32, devices: Node<'_, '_>) -> ControllerKind {
    match bus {
        "virtio" => ControllerKind::VirtioBlk,
        "sata" => ControllerKind::Ahci,
        "ide" | "fdc" => ControllerKind::Ide,
        "usb" => ControllerKind::Usb,
        "nvme" => ControllerKind::Nvme,
        "scsi" => {
            let of_index = |node: &Node<'_, '_>| {
                node.attr("type") == Some("scsi")
                    && node.attr("index").and_then(|text| text.parse().ok()).unwrap_or(0) == index
            };
            let model = devices.all("controller").find(of_index).and_then(|node| node.attr("model"));
            match model.unwrap_or_default() {
                "virtio-scsi" | "virtio-transitional" | "virtio-non-transitional" => ControllerKind::VirtioScsi,
                "vmpvscsi" => ControllerKind::Pvscsi,
                "lsisas1068" | "lsisas1078" => ControllerKind::LsiSas,
                "buslogic" => ControllerKind::Buslogic,
                _ => ControllerKind::Lsi,
            }
        }
        _ => ControllerKind::Unknown,
    }
}

fn place(node: Node<'_, '_>, name: &str) -> Place {
    let drive = node.first("address").filter(|address| address.attr("type") == Some("drive"));
    let number = |name: &str| drive.and_then(|d| d.attr(name)).and_then(|text| text.parse::<u32>().ok());
    match drive {
        // The two channels of IDE are the buses of its one controller.
        Some(_) if name.starts_with("hd") => {
            Place { bus: number("bus").unwrap_or(0), slot: number("unit").unwrap_or(0) }
        }
        Some(_) => {
            // SCSI hosts count by target, others by unit.
            let (target, unit) = (number("target").unwrap_or(0), number("unit").unwrap_or(0));
            Place { bus: number("controller").unwrap_or(0), slot: if target > 0 { target } else { unit } }
        }
        None => {
            let index = index_of_name(name).unwrap_or(0);
            if name.starts_with("hd") {
                Place { bus: index / 2, slot: index % 2 }
            } else {
                Place { bus: 0, slot: index }
            }
        }
    }
}

/// `sda` is 0, `sdz` 25, `sdaa` 26.
fn index_of_name(name: &str) -> Option<u32> {
    let letters = name.get(2..).filter(|letters| (1..=3).contains(&letters.len()))?;
    letters
        .bytes()
        .try_fold(0u32, |index, b| b.is_ascii_lowercase().then(|| index * 26 + u32::from(b - b'a') + 1))?
        .checked_sub(1)
}

fn adapter(node: Node<'_, '_>, index: usize) -> Adapter {
    let source = node.first("source");
    let word = |name: &'static str| source.and_then(|source| source.attr(name));
    let bridge = || word("bridge").or_else(|| word("dev")).map(|name| format!("bridge:{name}"));
    let model = node.first("model").and_then(|model| model.attr("type"));
    let alias = node.first("alias").and_then(|alias| alias.attr("name"));
    Adapter {
        name: Name::cleaned(
            alias.or_else(|| node.first("target")?.attr("dev")).unwrap_or_default(),
            &format!("net{index}"),
        ),
        model: match model.unwrap_or_default() {
            "virtio" | "virtio-transitional" | "virtio-non-transitional" => AdapterModel::VirtioNet,
            "e1000e" => AdapterModel::E1000e,
            "vmxnet3" => AdapterModel::Vmxnet3,
            "pcnet" => AdapterModel::Pcnet,
            "rtl8139" => AdapterModel::Rtl8139,
            word if word.starts_with("e1000") => AdapterModel::E1000,
            _ => AdapterModel::Unknown,
        },
        mac: node.first("mac").and_then(|node| node.attr("address")).and_then(Mac::parse),
        network: word("network").map(str::to_string).or_else(bridge).map(|name| Name::cleaned(&name, "network")),
        connected: node.first("link").and_then(|link| link.attr("state")) != Some("down"),
    }
}

#[cfg(test)]
mod tests {
    use super::index_of_name;

    #[test]
    fn names_of_targets_count() {
        for (name, index) in [("sda", Some(0)), ("vdz", Some(25)), ("sdaa", Some(26)), ("sd", None), ("sd1", None)] {
            assert_eq!(index_of_name(name), index, "{name}");
        }
    }
}
