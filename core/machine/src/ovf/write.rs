//! Writing a descriptor: version 1.1, since every importer takes that.

use std::io;

use roxmltree::{Document, Node};

use super::item::resource;
use crate::{
    device::{Adapter, AdapterModel, ControllerKind, RemovableKind},
    difference::Lost,
    earlier::{Earlier, Keep, Rank},
    landed::LandedDisk,
    model::{Firmware, Machine},
    systems::Vocabulary,
    xml::{
        self, Element,
        write::{Kept, Xml, around, document, empty, text, text_with},
    },
};

const ENVELOPE: &str = "http://schemas.dmtf.org/ovf/envelope/1";
const CIM: &str = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/";
/// The namespace in which importers look for firmware, cores of a socket and boot order.
const VENDOR: &str = "http://www.vmware.com/schema/ovf";

/// Sections of an earlier descriptor that the machine says anew.
const OURS: [&str; 12] = [
    "References",
    "DiskSection",
    "NetworkSection",
    "VirtualSystem",
    "VirtualSystemCollection",
    "DeploymentOptionSection",
    "Info",
    "Name",
    "OperatingSystemSection",
    "VirtualHardwareSection",
    "AnnotationSection",
    "BootOrderSection",
];

/// Whether the importers of a hardware family are desktop hosts, which have words of their own and take firmware from
/// nowhere in a descriptor.
fn is_desktop(family: &str) -> bool {
    family.starts_with("virtualbox")
}

/// What importers of `family` do not take from a descriptor, although it says it.
pub fn ignored(machine: &Machine, family: &str) -> Vec<Lost> {
    let uefi = is_desktop(family) && machine.firmware != Firmware::Bios;
    uefi.then(|| Lost { setting: "firmware.kind".into(), value: "uefi".into() }).into_iter().collect()
}

/// The identifier of a disk format (DSP0243, section "DiskSection": a URI, whose document describes the format).
fn format_uri(format: &str, layout: &str) -> String {
    match (format, layout) {
        ("vmdk", "stream") => "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized".into(),
        ("vmdk", _) => "http://www.vmware.com/interfaces/specifications/vmdk.html#sparse".into(),
        ("vhdx", _) => "https://learn.microsoft.com/openspecs/windows_protocols/ms-vhdx".into(),
        (format, layout) => format!("urn:disk-format:{format}:{layout}"),
    }
}

/// Sections of an earlier descriptor that stay: words for people, and how a package is deployed (DSP0243, "Core metadata
/// sections").
const HARMLESS: [&str; 7] = [
    "ProductSection",
    "EulaSection",
    "StartupSection",
    "InstallSection",
    "ResourceAllocationSection",
    "IpAssignmentSection",
    "Strings",
];

/// Prefixes that are ours in what is written, and the namespaces they stand for.
fn namespaces() -> [(&'static str, String); 4] {
    let cim = |class: &str| format!("{CIM}CIM_{class}SettingData");
    [
        ("ovf", ENVELOPE.into()),
        ("rasd", cim("ResourceAllocation")),
        ("vssd", cim("VirtualSystem")),
        ("vmw", VENDOR.into()),
    ]
}

/// What stays of an earlier descriptor.
pub(crate) fn kept(document: &Document<'_>, keep: Keep) -> Kept {
    let ours = namespaces();
    let ours: Vec<(&str, &str)> = ours.iter().map(|(prefix, uri)| (*prefix, uri.as_str())).collect();
    Kept::of(document, &ours, |kept| {
        let root = document.root_element();
        let rank = |child: &Node<'_, '_>| Rank::of(child.tag_name().name(), &OURS, &HARMLESS);
        kept.take("Envelope", root, keep, rank);
        if let Some(system) = root.first("VirtualSystem") {
            kept.take("VirtualSystem", system, keep, rank);
        }
    })
}

/// The descriptor for `machine`, whose disks are `landed`, in the same order; `family` is the hardware family that the
/// importer asks for. `earlier` is the descriptor that it was read from, if it was one: sections that the machine does
/// not speak of, and are harmless, are kept.
///
/// # Errors
/// None that memory can have.
pub fn write(
    machine: &Machine,
    landed: &[LandedDisk],
    family: &str,
    earlier: Option<Earlier<'_>>,
) -> io::Result<String> {
    let kept = earlier.and_then(|earlier| Some(kept(&xml::parse(earlier.text, "").ok()?, earlier.keep)));
    let kept = kept.unwrap_or_default();
    let ours = namespaces();
    let ours = ours.iter().map(|(prefix, uri)| (*prefix, uri.as_str()));
    let more = kept.namespaces.iter().map(|(prefix, uri)| (prefix.as_str(), uri.as_str()));
    let attributes: Vec<(String, &str)> = ours
        .chain(more)
        .map(|(prefix, uri)| (if prefix.is_empty() { "xmlns".into() } else { format!("xmlns:{prefix}") }, uri))
        .collect();
    let attributes: Vec<(&str, &str)> = attributes.iter().map(|(name, uri)| (name.as_str(), *uri)).collect();
    document(true, |xml| {
        around(xml, "ovf:Envelope", &attributes, |xml| {
            references(xml, machine, landed)?;
            disks(xml, machine, landed)?;
            networks(xml, machine)?;
            kept.put(xml, "Envelope")?;
            around(xml, "ovf:VirtualSystem", &[("ovf:id", &machine.name)], |xml| {
                system(xml, machine, family)?;
                kept.put(xml, "VirtualSystem")
            })
        })
    })
}

fn file_id(index: usize) -> String {
    format!("file{}", index + 1)
}

fn references(xml: &mut Xml, machine: &Machine, landed: &[LandedDisk]) -> io::Result<()> {
    around(xml, "ovf:References", &[], |xml| {
        for (index, (disk, landed)) in machine.disks.iter().zip(landed).enumerate() {
            let (id, size) = (file_id(index), landed.file_size.to_string());
            let href = disk.files.first().map_or("", String::as_str);
            let mut attributes = vec![("ovf:id", id.as_str()), ("ovf:href", href), ("ovf:size", &size)];
            attributes.extend(landed.compression.as_deref().map(|kind| ("ovf:compression", kind)));
            empty(xml, "ovf:File", &attributes)?;
        }
        Ok(())
    })
}

fn disks(xml: &mut Xml, machine: &Machine, landed: &[LandedDisk]) -> io::Result<()> {
    around(xml, "ovf:DiskSection", &[], |xml| {
        text(xml, "ovf:Info", "The disks of the machine")?;
        for (index, (disk, landed)) in machine.disks.iter().zip(landed).enumerate() {
            let (file, size, used) = (file_id(index), landed.size.to_string(), landed.used.to_string());
            let format = format_uri(&landed.format, &landed.layout);
            let attributes = [
                ("ovf:diskId", &*disk.id),
                ("ovf:fileRef", &file),
                ("ovf:capacity", &size),
                ("ovf:capacityAllocationUnits", "byte"),
                ("ovf:populatedSize", &used),
                ("ovf:format", &format),
            ];
            empty(xml, "ovf:Disk", &attributes)?;
        }
        Ok(())
    })
}

fn networks(xml: &mut Xml, machine: &Machine) -> io::Result<()> {
    let mut names: Vec<&str> = machine.adapters.iter().filter_map(|adapter| adapter.network.as_deref()).collect();
    names.sort_unstable();
    names.dedup();
    if names.is_empty() {
        return Ok(());
    }
    around(xml, "ovf:NetworkSection", &[], |xml| {
        text(xml, "ovf:Info", "The networks that the machine is connected to")?;
        names.into_iter().try_for_each(|name| {
            around(xml, "ovf:Network", &[("ovf:name", name)], |xml| text(xml, "ovf:Description", name))
        })
    })
}

fn system(xml: &mut Xml, machine: &Machine, family: &str) -> io::Result<()> {
    text(xml, "ovf:Info", "A machine")?;
    text(xml, "ovf:Name", &machine.name)?;
    if let Some(words) = &machine.description {
        around(xml, "ovf:AnnotationSection", &[], |xml| {
            text(xml, "ovf:Info", "A person's words")?;
            text(xml, "ovf:Annotation", words)
        })?;
    }
    let number = machine.system.as_ref().map_or(0, |system| system.cim_os_type).to_string();
    let word = machine.system.as_ref().and_then(|system| Vocabulary::Vmx.write(system)).map(|word| {
        let plain = word.replace('-', "_");
        format!("{plain}Guest")
    });
    let mut attributes = vec![("ovf:id", number.as_str())];
    attributes.extend(word.as_deref().map(|word| ("vmw:osType", word)));
    around(xml, "ovf:OperatingSystemSection", &attributes, |xml| {
        text(xml, "ovf:Info", "The kind of system inside")?;
        match machine.system.as_ref().and_then(|system| system.description.as_ref()) {
            Some(description) => text(xml, "ovf:Description", description),
            None => Ok(()),
        }
    })?;
    let mut boots: Vec<(u32, u32)> = Vec::new();
    around(xml, "ovf:VirtualHardwareSection", &[], |xml| {
        text(xml, "ovf:Info", "The hardware of the machine")?;
        around(xml, "ovf:System", &[], |xml| {
            text(xml, "vssd:ElementName", "Virtual Hardware Family")?;
            text(xml, "vssd:InstanceID", "0")?;
            text(xml, "vssd:VirtualSystemIdentifier", &machine.name)?;
            text(xml, "vssd:VirtualSystemType", family)
        })?;
        boots = Hardware { xml, instance: 0, is_desktop: is_desktop(family) }.items(machine)?;
        if let Firmware::Uefi { secure_boot } = machine.firmware {
            config(xml, "firmware", "efi")?;
            if secure_boot {
                config(xml, "bootOptions.efiSecureBootEnabled", "true")?;
            }
        }
        Ok(())
    })?;
    boots.sort_unstable();
    let order: Vec<String> = boots.iter().map(|(_, instance)| instance.to_string()).collect();
    if order.is_empty() {
        return Ok(());
    }
    let attributes = [("ovf:required", "false"), ("vmw:instanceId", &order.join(" ")), ("vmw:type", "disk")];
    around(xml, "vmw:BootOrderSection", &attributes, |xml| text(xml, "ovf:Info", "The disks in the order of booting"))
}

fn config(xml: &mut Xml, key: &str, value: &str) -> io::Result<()> {
    empty(xml, "vmw:Config", &[("ovf:required", "false"), ("vmw:key", key), ("vmw:value", value)])
}

/// Writes items, and numbers them.
struct Hardware<'x> {
    xml: &'x mut Xml,
    instance: u32,
    is_desktop: bool,
}

impl Hardware<'_> {
    /// Writes an item: its fields stand in the order of their names, as the schema has them. Returns its number.
    fn item(&mut self, kind: u16, name: &str, fields: &[(&str, &str)], extra: &[(&str, &str)]) -> io::Result<u32> {
        self.instance += 1;
        let (instance, kind) = (self.instance.to_string(), kind.to_string());
        let mut all = vec![("ElementName", name), ("InstanceID", &instance), ("ResourceType", &kind)];
        all.extend_from_slice(fields);
        all.sort_unstable();
        around(self.xml, "ovf:Item", &[], |xml| {
            all.iter().try_for_each(|(field, value)| text(xml, &format!("rasd:{field}"), value))?;
            extra.iter().try_for_each(|(field, value)| {
                text_with(xml, &format!("vmw:{field}"), &[("ovf:required", "false")], value)
            })
        })?;
        Ok(self.instance)
    }

    /// Writes all items; returns boot position and number of each disk that boots.
    fn items(&mut self, machine: &Machine) -> io::Result<Vec<(u32, u32)>> {
        let (total, cores) = (machine.cpu.total().to_string(), machine.cpu.cores.to_string());
        let fields = [("AllocationUnits", "hertz * 10^6"), ("VirtualQuantity", &total)];
        self.item(resource::PROCESSOR, &format!("{total} processors"), &fields, &[("CoresPerSocket", &cores)])?;
        let mib = machine.memory.div_ceil(1 << 20).to_string();
        let fields = [("AllocationUnits", "byte * 2^20"), ("VirtualQuantity", mib.as_str())];
        self.item(resource::MEMORY, &format!("{mib} MiB of memory"), &fields, &[])?;
        let boots = self.storage(machine)?;
        for (index, adapter) in machine.adapters.iter().enumerate() {
            self.adapter(index, adapter)?;
        }
        for port in 0..machine.serial_ports.min(4) {
            self.item(resource::SERIAL, &format!("Serial port {}", port + 1), &[], &[])?;
        }
        if machine.tpm.is_some() {
            let fields = [("OtherResourceType", "TPM"), ("ResourceSubType", "vmware.vtpm")];
            self.item(resource::OTHER, "Trusted platform module", &fields, &[])?;
        }
        Ok(boots)
    }

    fn storage(&mut self, machine: &Machine) -> io::Result<Vec<(u32, u32)>> {
        // Kind and number of each controller, with its item.
        let mut controllers: Vec<((ControllerKind, u32), u32)> = Vec::new();
        let drives = machine.removable.iter().filter(|drive| drive.kind == RemovableKind::Cdrom);
        let kinds = machine.disks.iter().map(|disk| (disk.controller, disk.bus));
        for (kind, last) in kinds.chain(drives.clone().map(|drive| (drive.controller.for_discs(), 0))) {
            for bus in 0..=last {
                if !controllers.iter().any(|(place, _)| *place == (kind, bus)) {
                    let item = self.controller(kind, bus)?;
                    controllers.push(((kind, bus), item));
                }
            }
        }
        let parent = |place| controllers.iter().find(|(known, _)| *known == place).map_or(0, |(_, item)| *item);
        let mut boots = Vec::new();
        for (index, disk) in machine.disks.iter().enumerate() {
            let parent = parent((disk.controller, disk.bus)).to_string();
            let (slot, host) = (disk.slot.to_string(), format!("ovf:/disk/{}", disk.id));
            let fields = [("AddressOnParent", slot.as_str()), ("HostResource", &host), ("Parent", &parent)];
            let item = self.item(resource::DISK, &format!("Disk {}", index + 1), &fields, &[])?;
            boots.extend(disk.boot.map(|boot| (boot, item)));
        }
        for (index, drive) in drives.enumerate() {
            let kind = drive.controller.for_discs();
            let taken = |slot: &u32| {
                machine.disks.iter().any(|disk| (disk.controller, disk.bus, disk.slot) == (kind, 0, *slot))
            };
            let slot = (0..).filter(|slot| !taken(slot)).nth(index).unwrap_or(0).to_string();
            let parent = parent((kind, 0)).to_string();
            let fields = [("AddressOnParent", slot.as_str()), ("AutomaticAllocation", "false"), ("Parent", &parent)];
            self.item(resource::CD, &format!("CD drive {}", index + 1), &fields, &[])?;
        }
        for _ in machine.removable.iter().filter(|drive| drive.kind == RemovableKind::Floppy) {
            self.item(resource::FLOPPY, "Floppy drive", &[("AutomaticAllocation", "false")], &[])?;
        }
        Ok(boots)
    }

    fn controller(&mut self, kind: ControllerKind, bus: u32) -> io::Result<u32> {
        let (resource, subtype) = match kind {
            ControllerKind::Ide => (resource::IDE, ""),
            ControllerKind::Pvscsi => (resource::SCSI, "VirtualSCSI"),
            ControllerKind::Lsi => (resource::SCSI, "lsilogic"),
            ControllerKind::LsiSas => (resource::SCSI, "lsilogicsas"),
            ControllerKind::Buslogic => (resource::SCSI, "buslogic"),
            ControllerKind::VirtioScsi => (resource::SCSI, "virtio-scsi"),
            ControllerKind::VmbusScsi => (resource::SCSI, "vmbus-scsi"),
            ControllerKind::Unknown => (resource::SCSI, ""),
            ControllerKind::Ahci if self.is_desktop => (resource::OTHER_STORAGE, "AHCI"),
            ControllerKind::Ahci => (resource::OTHER_STORAGE, "vmware.sata.ahci"),
            ControllerKind::Nvme => (resource::OTHER_STORAGE, "vmware.nvme.controller"),
            ControllerKind::VirtioBlk => (resource::OTHER_STORAGE, "virtio-blk"),
            ControllerKind::Usb => (resource::OTHER_STORAGE, "usb-storage"),
        };
        let address = bus.to_string();
        let mut fields = vec![("Address", address.as_str())];
        if !subtype.is_empty() {
            fields.push(("ResourceSubType", subtype));
        }
        self.item(resource, &format!("Controller {kind} {bus}"), &fields, &[])
    }

    fn adapter(&mut self, index: usize, adapter: &Adapter) -> io::Result<()> {
        let subtype = match adapter.model {
            AdapterModel::Vmxnet3 => "VmxNet3",
            AdapterModel::Vmxnet2 => "VmxNet2",
            AdapterModel::E1000 => "E1000",
            AdapterModel::E1000e => "E1000e",
            AdapterModel::Pcnet => "PCNet32",
            AdapterModel::VirtioNet => "virtio",
            AdapterModel::Rtl8139 => "rtl8139",
            AdapterModel::VmbusNet => "vmbus-net",
            AdapterModel::Ena => "ena",
            AdapterModel::Unknown => "",
        };
        let automatic = if adapter.connected { "true" } else { "false" };
        let place = index.to_string();
        let mut fields = vec![("AddressOnParent", place.as_str()), ("AutomaticAllocation", automatic)];
        let mac = adapter.mac.map(|mac| mac.to_string());
        fields.extend(mac.as_deref().map(|mac| ("Address", mac)));
        fields.extend(adapter.network.as_deref().map(|network| ("Connection", network)));
        if !subtype.is_empty() {
            fields.push(("ResourceSubType", subtype));
        }
        self.item(resource::ETHERNET, &format!("Network adapter {}", index + 1), &fields, &[])?;
        Ok(())
    }
}
