//! Reading a descriptor.

use std::collections::HashMap;

use roxmltree::Node;

use super::{
    hardware::{adapter_model, controller_kind},
    item::{Item, resource},
    vendor::Vendor,
};
use crate::{
    device::{Adapter, ControllerKind, DiskDevice, Leftover, Removable, RemovableKind, Tpm},
    error::{Error, Result},
    limits::{self, MAX_PROCESSORS},
    model::{Clock, Cpu, Machine, Sign},
    systems::System,
    typed::{Mac, Name},
    units::bytes_per_unit,
    xml::{self, Element},
};

/// The most machines of a package; a real one has a handful.
const MAX_MACHINES: usize = 1000;
/// The most files of a package, and pieces of files; a real one has some dozens.
const MAX_FILES: usize = 10_000;
/// The most items of one machine's hardware section: each device looks for its controller among them.
const MAX_ITEMS: usize = 8192;

/// A descriptor: the machines, and the files it refers to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Package {
    /// The machines, at least one, in the order of the descriptor.
    pub machines: Vec<Machine>,
    /// All files of the references section.
    pub files: Vec<PackageFile>,
}

/// A file of the references section.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackageFile {
    /// Its identifier in the descriptor.
    pub id: String,
    /// Its name or pieces of it, relative to the descriptor, in order.
    pub parts: Vec<String>,
    /// Its length in bytes, where stated.
    pub size: Option<u64>,
    /// How it is compressed as a whole.
    pub compression: Option<String>,
}

/// Whether `head`, the start of a file, looks like a descriptor.
pub fn looks_like(head: &[u8]) -> bool {
    xml::starts_with_element(head, "Envelope")
}

/// Reads a descriptor; `file` names it in errors.
///
/// # Errors
/// [`Error::Xml`] for XML that is not sound, [`Error::Invalid`] for a descriptor that contradicts itself.
pub fn read(bytes: &[u8], file: &str) -> Result<Package> {
    let text = xml::text(bytes, file)?;
    let document = xml::parse(&text, file)?;
    Reader { file, envelope: document.root_element() }.package()
}

struct Reader<'a, 'i> {
    file: &'a str,
    envelope: Node<'a, 'i>,
}

/// A controller of the hardware section.
struct Controller {
    kind: ControllerKind,
    /// Which of its kind.
    bus: u32,
    /// Place among all controllers.
    order: usize,
}

/// A disk of the disk section.
struct DiskEntry {
    file: Option<String>,
    capacity: Option<u64>,
}

impl<'a, 'i> Reader<'a, 'i> {
    fn invalid(&self, node: Node<'_, '_>, what: impl Into<String>) -> Error {
        self.invalid_at(node.range().start, what)
    }

    fn invalid_item(&self, item: &Item<'_>, what: impl Into<String>) -> Error {
        self.invalid_at(item.start, what)
    }

    fn invalid_at(&self, start: usize, what: impl Into<String>) -> Error {
        let line = self.envelope.document().text_pos_at(start).row;
        Error::Invalid { file: self.file.into(), line, what: what.into() }
    }

    fn package(&self) -> Result<Package> {
        if self.envelope.tag_name().name() != "Envelope" {
            return Err(self.invalid(self.envelope, "the outermost element is not 'Envelope'"));
        }
        let files = self.files()?;
        let systems: Vec<Node<'a, 'i>> =
            self.envelope.descendants().filter(|node| node.tag_name().name() == "VirtualSystem").collect();
        if systems.is_empty() {
            return Err(self.invalid(self.envelope, "no 'VirtualSystem' is in it"));
        }
        if systems.len() > MAX_MACHINES {
            return Err(self.invalid(self.envelope, format!("it describes {} machines", systems.len())));
        }
        let entries = self.disk_entries()?;
        let by_id = files.iter().map(|file| (file.id.as_str(), file)).collect();
        let machines =
            systems.into_iter().map(|system| self.machine(system, &by_id, &entries)).collect::<Result<_>>()?;
        Ok(Package { machines, files })
    }

    fn files(&self) -> Result<Vec<PackageFile>> {
        let mut files = Vec::new();
        let mut pieces = 0u64;
        let references = self.envelope.first("References");
        for node in references.iter().flat_map(|references| references.all("File")) {
            let (Some(id), Some(href)) = (node.attr("id"), node.attr("href")) else {
                return Err(self.invalid(node, "a file without 'id' or 'href'"));
            };
            let number = |name: &str| -> Result<Option<u64>> {
                let Some(text) = node.attr(name) else { return Ok(None) };
                text.trim()
                    .parse()
                    .map(Some)
                    .map_err(|_| self.invalid(node, format!("{name} is '{text}', expected a number")))
            };
            if files.len() >= MAX_FILES {
                return Err(self.invalid(node, format!("more than {MAX_FILES} files")));
            }
            let size = number("size")?;
            let parts = match number("chunkSize")?.filter(|&chunk| chunk > 0) {
                None => vec![href.to_string()],
                // DSP0243, section "References": the pieces are called after the file, with a number of nine digits.
                Some(chunk) => {
                    let Some(size) = size else {
                        return Err(self.invalid(node, "a file in pieces without its whole size"));
                    };
                    let count = size.div_ceil(chunk);
                    pieces = count.saturating_add(pieces);
                    if pieces > MAX_FILES as u64 {
                        return Err(self.invalid(node, format!("a file in {count} pieces, and {pieces} in all")));
                    }
                    (0..count).map(|index| format!("{href}.{index:09}")).collect()
                }
            };
            let compression = node.attr("compression").filter(|kind| *kind != "identity").map(str::to_string);
            files.push(PackageFile { id: id.into(), parts, size, compression });
        }
        Ok(files)
    }

    fn disk_entries(&self) -> Result<HashMap<String, DiskEntry>> {
        let mut disks = HashMap::new();
        let section = self.envelope.first("DiskSection");
        for node in section.iter().flat_map(|section| section.all("Disk")) {
            let Some(id) = node.attr("diskId") else {
                return Err(self.invalid(node, "a disk without 'diskId'"));
            };
            let units = node.attr("capacityAllocationUnits").unwrap_or_default();
            let capacity = match node.attr("capacity") {
                None => None,
                // A property that is filled in when the package is deployed.
                Some(text) if text.starts_with("${") => None,
                Some(text) => Some(self.quantity(text, units).ok_or_else(|| {
                    self.invalid(
                        node,
                        format!("disk '{id}' has capacity '{text}' in units of '{units}', which is not a size"),
                    )
                })?),
            };
            let file = node.attr("fileRef").filter(|file| !file.is_empty()).map(str::to_string);
            disks.insert(id.to_string(), DiskEntry { file, capacity });
        }
        Ok(disks)
    }

    fn quantity(&self, number: &str, units: &str) -> Option<u64> {
        number.trim().parse::<u64>().ok()?.checked_mul(bytes_per_unit(units)?)
    }

    fn default_option(&self) -> Option<&'a str> {
        let section = self.envelope.first("DeploymentOptionSection")?;
        let options = || section.all("Configuration");
        let default = options().find(|node| matches!(node.attr("default"), Some("true" | "1")));
        default.or_else(|| options().next())?.attr("id")
    }

    #[expect(clippy::cast_possible_truncation, reason = "items of a file that is at most some MiB long")]
    fn machine(
        &self,
        system: Node<'a, 'i>,
        files: &HashMap<&str, &PackageFile>,
        entries: &HashMap<String, DiskEntry>,
    ) -> Result<Machine> {
        let Some(hardware) = system.first("VirtualHardwareSection") else {
            return Err(self.invalid(system, "the machine has no 'VirtualHardwareSection'"));
        };
        let option = self.default_option();
        let items: Vec<Item<'_>> = hardware
            .children()
            .filter(|node| matches!(node.tag_name().name(), "Item" | "StorageItem" | "EthernetPortItem"))
            .filter(|node| Item::applies(*node, option))
            .map(Item::read)
            .take(MAX_ITEMS + 1)
            .collect();
        if items.len() > MAX_ITEMS {
            return Err(self.invalid(hardware, format!("more than {MAX_ITEMS} devices")));
        }
        let named = system.value("Name").or_else(|| system.attr("id")).unwrap_or("machine");
        let kind = self.kind_of_system(system)?;
        let vendor = Vendor::read(system, hardware);
        let clock = match (vendor.local_time, &kind) {
            (Some(true), _) => Clock::Local,
            (None, Some(kind)) if kind.keeps_local_time() => Clock::Local,
            _ => Clock::Utc,
        };
        let tpm = items.iter().any(|item| item.kind == resource::OTHER && item.subtype.contains("tpm"));
        let mut machine = Machine::new(named);
        machine.description = system.first("AnnotationSection").and_then(|s| s.value("Annotation")).map(str::to_string);
        machine.cpu = self.cpu(&items)?;
        machine.memory = self.memory(&items)?;
        machine.firmware = vendor.firmware;
        // Named by the descriptor's own identifier of the file, or by the file's name.
        machine.nvram = vendor.nvram.map(|name| {
            let file = name.rsplit_once('/').and_then(|(_, id)| files.get(id));
            file.and_then(|file| file.parts.first()).map_or_else(|| name.to_string(), Clone::clone)
        });
        machine.tpm = tpm.then_some(Tpm::V20);
        machine.clock = clock;
        machine.system = kind;
        machine.disks = self.disks(&items, files, entries, &vendor.boot)?;
        machine.removable = removable(&items);
        machine.adapters = adapters(&items);
        machine.serial_ports = items.iter().filter(|item| item.kind == resource::SERIAL).count() as u32;
        machine.leftovers = leftovers(&items);
        if system.all("EncryptionSection").next().is_some() || self.envelope.all("EncryptionSection").next().is_some() {
            machine.signs.push(Sign::Encrypted);
        }
        Ok(machine)
    }

    fn kind_of_system(&self, system: Node<'a, 'i>) -> Result<Option<System>> {
        let Some(section) = system.first("OperatingSystemSection") else { return Ok(None) };
        let Some(id) = section.attr("id") else { return Ok(None) };
        let cim_os_type = id
            .trim()
            .parse()
            .map_err(|_| self.invalid(section, format!("kind of system '{id}', expected a number")))?;
        // Zero is "unknown".
        if cim_os_type == 0 {
            return Ok(None);
        }
        Ok(Some(System { cim_os_type, description: section.value("Description").map(str::to_string) }))
    }

    fn cpu(&self, items: &[Item<'_>]) -> Result<Cpu> {
        let Some(item) = items.iter().find(|item| item.kind == resource::PROCESSOR) else {
            return Ok(Cpu { sockets: 1, cores: 1 });
        };
        let number = |text: Option<&str>| text.and_then(|text| text.parse::<u32>().ok());
        let total = number(item.quantity)
            .filter(|total| (1..=MAX_PROCESSORS).contains(total))
            .ok_or_else(|| self.invalid_item(item, format!("'{}' processors", item.quantity.unwrap_or_default())))?;
        // A number of cores that does not divide the whole cannot be built.
        let cores =
            number(item.cores_per_socket).filter(|&cores| cores > 0 && total.is_multiple_of(cores)).unwrap_or(1);
        Ok(Cpu { sockets: total / cores, cores })
    }

    fn memory(&self, items: &[Item<'_>]) -> Result<u64> {
        let Some(item) = items.iter().find(|item| item.kind == resource::MEMORY) else {
            return Err(self.invalid(self.envelope, "the machine has no memory"));
        };
        // A bare number of memory always meant MiB.
        let units = if item.units.is_empty() { "MegaBytes" } else { item.units };
        let quantity = item.quantity.unwrap_or_default();
        self.quantity(quantity, units).filter(limits::is_memory).ok_or_else(|| {
            self.invalid_item(
                item,
                format!("memory of '{quantity}' in units of '{units}', which is not a sensible size"),
            )
        })
    }

    #[expect(clippy::cast_possible_truncation, reason = "items of a file that is at most some MiB long")]
    fn disks(
        &self,
        items: &[Item<'_>],
        files: &HashMap<&str, &PackageFile>,
        entries: &HashMap<String, DiskEntry>,
        boot: &[&str],
    ) -> Result<Vec<DiskDevice>> {
        let controllers = controllers(items);
        let mut disks: Vec<(usize, &str, DiskDevice)> = Vec::new();
        for item in items.iter().filter(|item| item.kind == resource::DISK) {
            let target = item
                .host_resource
                .ok_or_else(|| self.invalid_item(item, format!("disk '{}' does not say what it holds", item.name)))?;
            // `ovf:/disk/ID`, `ovf:/file/ID`, and the same without the scheme or with two slashes.
            let path = target.strip_prefix("ovf:").unwrap_or(target).trim_start_matches('/');
            let (kind, id) = path.split_once('/').unwrap_or(("", path));
            let entry = match kind {
                "disk" => entries.get(id),
                "file" => Some(&DiskEntry { file: Some(id.into()), capacity: None }),
                _ => None,
            };
            let Some(entry) = entry else {
                return Err(
                    self.invalid_item(item, format!("disk '{}' refers to '{target}', which is not there", item.name))
                );
            };
            let file = match &entry.file {
                None => None,
                Some(id) => Some(files.get(id.as_str()).ok_or_else(|| {
                    self.invalid_item(
                        item,
                        format!("disk '{}' refers to file '{id}', which is not in the references", item.name),
                    )
                })?),
            };
            let controller = item.parent.and_then(|parent| controllers.get(parent));
            let slot = item.address_on_parent.and_then(|text| text.parse().ok());
            let device = DiskDevice {
                id: Name::cleaned(id, "disk"),
                files: file.map(|file| file.parts.clone()).unwrap_or_default(),
                compression: file.and_then(|file| file.compression.clone()),
                format: None,
                capacity: entry.capacity,
                controller: controller.map_or(ControllerKind::Unknown, |c| c.kind),
                bus: controller.map_or(0, |c| c.bus),
                slot: slot.unwrap_or(disks.len() as u32),
                boot: None,
            };
            disks.push((controller.map_or(usize::MAX, |c| c.order), item.instance, device));
        }
        disks.sort_by_key(|(order, _, disk)| (*order, disk.slot));
        let mut next = 1;
        for id in boot.iter().take(limits::MAX_DEVICES) {
            if let Some((.., disk)) = disks.iter_mut().find(|(_, instance, disk)| instance == id && disk.boot.is_none())
            {
                disk.boot = Some(next);
                next += 1;
            }
        }
        if let (1, Some((.., disk))) = (next, disks.first_mut()) {
            disk.boot = Some(1);
        }
        Ok(disks.into_iter().map(|(.., disk)| disk).collect())
    }
}

/// The disk controllers by their instance.
fn controllers<'a>(items: &[Item<'a>]) -> HashMap<&'a str, Controller> {
    let mut of_kind: HashMap<ControllerKind, u32> = HashMap::new();
    let mut controllers = HashMap::new();
    for (order, item) in items.iter().enumerate() {
        let Some(kind) = controller_kind(item) else { continue };
        let count = of_kind.entry(kind).or_default();
        // Bus numbers of some hosts count over all kinds of SCSI; ours count within a kind.
        controllers.insert(item.instance, Controller { kind, bus: *count, order });
        *count += 1;
    }
    controllers
}

fn removable(items: &[Item<'_>]) -> Vec<Removable> {
    let controllers = controllers(items);
    let drive = |item: &Item<'_>| {
        let kind = match item.kind {
            resource::CD | resource::DVD => RemovableKind::Cdrom,
            resource::FLOPPY => RemovableKind::Floppy,
            _ => return None,
        };
        let controller = item.parent.and_then(|parent| controllers.get(parent));
        let media = item.host_resource.filter(|media| !media.is_empty()).map(str::to_string);
        Some(Removable { kind, controller: controller.map_or(ControllerKind::Unknown, |c| c.kind), media })
    };
    items.iter().filter_map(drive).collect()
}

fn adapters(items: &[Item<'_>]) -> Vec<Adapter> {
    let adapter = |item: &Item<'_>| Adapter {
        name: Name::cleaned(item.name, "adapter"),
        model: adapter_model(&item.subtype),
        mac: item.address.and_then(Mac::parse),
        network: item.connection.map(|name| Name::cleaned(name, "network")),
        connected: item.automatic,
    };
    items.iter().filter(|item| item.kind == resource::ETHERNET).map(adapter).collect()
}

/// Devices that are neither carried over nor given by every host.
fn leftovers(items: &[Item<'_>]) -> Vec<Leftover> {
    let leftover = |item: &Item<'_>| {
        let what = match item.kind {
            resource::PROCESSOR
            | resource::MEMORY
            | resource::IDE
            | resource::SCSI
            | resource::ETHERNET
            | resource::FLOPPY
            | resource::CD
            | resource::DVD
            | resource::DISK
            | resource::OTHER_STORAGE
            | resource::SERIAL
            | resource::USB
            | resource::GRAPHICS => return None,
            resource::OTHER if item.subtype.contains("tpm") => return None,
            resource::PARALLEL => "parallel port",
            resource::SOUND => "sound card",
            _ => "device",
        };
        let detail = if item.subtype.is_empty() { item.name } else { &item.subtype };
        Some(Leftover { what: what.into(), detail: detail.to_string() })
    };
    items.iter().filter_map(leftover).collect()
}
