//! Writing a machine.

use std::io;

use roxmltree::Document;
use uuid::Uuid;

use super::NAMESPACE;
use crate::{
    device::{Adapter, AdapterModel, ControllerKind, DiskDevice, RemovableKind, Tpm},
    earlier::{Earlier, Keep, Rank},
    landed::LandedDisk,
    model::{Clock, Firmware, Machine},
    systems::Vocabulary,
    typed::Mac,
    xml::{
        self, Element,
        write::{Kept, Xml, around, document, empty, text},
    },
};

/// The version of the settings: the first with a TPM, from 2022.
const VERSION: &str = "1.19-linux";

/// The identity of a machine that has none.
const NO_UUID: Uuid = Uuid::from_u128(0x4000_8000_0000_0000_0000);

/// Elements of an earlier file that the machine says anew, or that are bound to the earlier host.
const OURS: [&str; 9] = [
    "Description",
    "MediaRegistry",
    "Hardware",
    "StorageControllers",
    "Snapshot",
    "ExtraData",
    "Autostart",
    "RTC",
    "SharedFolders",
];
const OUR_HARDWARE: [&str; 18] = [
    "CPU",
    "Memory",
    "Firmware",
    "BIOS",
    "TrustedPlatformModule",
    "RTC",
    "Network",
    "UART",
    "Uart",
    "LPT",
    "Lpt",
    "AudioAdapter",
    "Display",
    "SharedFolders",
    "StorageControllers",
    "HostPci",
    "Boot",
    "Autostart",
];

/// Elements of the machine that stay.
const HARMLESS: [&str; 1] = ["Groups"];
/// Elements of the hardware that stay: switches of the machine itself.
const HARMLESS_HARDWARE: [&str; 7] = ["HID", "Chipset", "Paravirt", "HPET", "Hpet", "Guest", "IOCache"];

/// What stays of an earlier file.
pub(crate) fn kept(document: &Document<'_>, keep: Keep) -> Kept {
    Kept::of(document, &[("", NAMESPACE)], |kept| {
        let Some(node) = document.root_element().first("Machine") else { return };
        kept.take("Machine", node, keep, |child| Rank::of(child.tag_name().name(), &OURS, &HARMLESS));
        if let Some(data) = node.first("ExtraData") {
            // How its window looks; other keys configure devices of the host's own, down to the files that they open.
            kept.take("ExtraData", data, keep, |item| match item.attr("name") {
                Some(name) if name.starts_with("GUI/") => Rank::Harmless,
                _ => Rank::Unknown,
            });
        }
        if let Some(hardware) = node.first("Hardware") {
            kept.take("Hardware", hardware, keep, |child| match child.tag_name().name() {
                // Its filters give devices of the host to the guest.
                "USB" if !child.descendants().any(|node| node.tag_name().name() == "DeviceFilter") => Rank::Harmless,
                name => Rank::of(name, &OUR_HARDWARE, &HARMLESS_HARDWARE),
            });
        }
    })
}

/// The file for `machine`, whose disks are `landed`, in the same order. `earlier` is the file that it was read from, if it
/// was one of this kind: settings that the machine does not speak of, and are harmless, are kept.
///
/// # Errors
/// None that memory can have.
pub fn write(machine: &Machine, landed: &[LandedDisk], earlier: Option<Earlier<'_>>) -> io::Result<String> {
    let kept = earlier.and_then(|earlier| Some(kept(&xml::parse(earlier.text, "").ok()?, earlier.keep)));
    let kept = kept.unwrap_or_default();
    let media: Vec<String> =
        machine.disks.iter().enumerate().map(|(index, _)| medium_id(machine, landed.get(index), index)).collect();
    document(true, |xml| {
        around(xml, "VirtualBox", &[("xmlns", NAMESPACE), ("version", VERSION)], |xml| {
            let id = braced(&machine.uuid.unwrap_or(NO_UUID).to_string());
            let system = machine.system.as_ref().and_then(|system| Vocabulary::Vbox.write(system));
            let attributes = [
                ("uuid", id.as_str()),
                ("name", &machine.name),
                ("OSType", system.unwrap_or("Other_64")),
                ("snapshotFolder", "Snapshots"),
            ];
            around(xml, "Machine", &attributes, |xml| body(xml, machine, landed, &media, &kept))
        })
    })
}

fn braced(id: &str) -> String {
    format!("{{{}}}", id.trim_matches(['{', '}']))
}

/// The identifier of a disk's medium: its image's own, which the host compares. An image without one takes any; it must
/// be the same one each time.
fn medium_id(machine: &Machine, landed: Option<&LandedDisk>, index: usize) -> String {
    let own = landed.and_then(|disk| disk.image_id.clone());
    let made = || {
        let mut bytes = machine.uuid.unwrap_or(NO_UUID).into_bytes();
        let [.., high, low] = &mut bytes;
        [*high, *low] = u16::try_from(index + 1).unwrap_or(u16::MAX).to_be_bytes();
        Uuid::from_bytes(bytes).to_string()
    };
    braced(&own.unwrap_or_else(made))
}

fn body(xml: &mut Xml, machine: &Machine, landed: &[LandedDisk], media: &[String], kept: &Kept) -> io::Result<()> {
    if let Some(description) = &machine.description {
        text(xml, "Description", description)?;
    }
    around(xml, "MediaRegistry", &[], |xml| {
        around(xml, "HardDisks", &[], |xml| {
            for ((disk, id), landed) in machine.disks.iter().zip(media).zip(landed) {
                let file = disk.files.first().map_or("", String::as_str);
                let format = landed.format.to_ascii_uppercase();
                let attributes = [("uuid", id.as_str()), ("location", file), ("format", &format), ("type", "Normal")];
                empty(xml, "HardDisk", &attributes)?;
            }
            Ok(())
        })?;
        around(xml, "DVDImages", &[], |xml| {
            for (index, media) in discs(machine).filter_map(|drive| drive.media.as_ref()).enumerate() {
                let id = disc_id(index);
                empty(xml, "Image", &[("uuid", &id), ("location", media)])?;
            }
            Ok(())
        })
    })?;
    around(xml, "ExtraData", &[], |xml| kept.put(xml, "ExtraData"))?;
    around(xml, "Hardware", &[], |xml| hardware(xml, machine, media, kept))?;
    if machine.start_with_host {
        empty(xml, "Autostart", &[("enabled", "true"), ("delay", "0"), ("autostop", "Disabled")])?;
    }
    kept.put(xml, "Machine")
}

fn discs(machine: &Machine) -> impl Iterator<Item = &crate::Removable> {
    machine.removable.iter().filter(|drive| drive.kind == RemovableKind::Cdrom)
}

fn disc_id(index: usize) -> String {
    braced(&format!("00000000-0000-4000-8000-0000000d{index:04x}"))
}

fn hardware(xml: &mut Xml, machine: &Machine, media: &[String], kept: &Kept) -> io::Result<()> {
    around(xml, "CPU", &[("count", &machine.cpu.total().to_string())], |xml| {
        empty(xml, "PAE", &[("enabled", "true")])?;
        empty(xml, "LongMode", &[("enabled", "true")])
    })?;
    empty(xml, "Memory", &[("RAMSize", &machine.memory.div_ceil(1 << 20).to_string())])?;
    let efi = machine.firmware != Firmware::Bios;
    if efi {
        empty(xml, "Firmware", &[("type", "EFI")])?;
    }
    around(xml, "Boot", &[], |xml| {
        empty(xml, "Order", &[("position", "1"), ("device", "HardDisk")])?;
        empty(xml, "Order", &[("position", "2"), ("device", "DVD")])?;
        empty(xml, "Order", &[("position", "3"), ("device", "None")])?;
        empty(xml, "Order", &[("position", "4"), ("device", "None")])
    })?;
    empty(xml, "Display", &[("controller", if efi { "VMSVGA" } else { "VBoxVGA" }), ("VRAMSize", "16")])?;
    around(xml, "BIOS", &[], |xml| {
        empty(xml, "IOAPIC", &[("enabled", "true")])?;
        match &machine.nvram {
            Some(path) => empty(xml, "NVRAM", &[("path", path)]),
            None => Ok(()),
        }
    })?;
    if let Some(version) = machine.tpm {
        let kind = if version == Tpm::V12 { "v1_2" } else { "v2_0" };
        empty(xml, "TrustedPlatformModule", &[("type", kind), ("location", "")])?;
    }
    around(xml, "Network", &[], |xml| {
        machine.adapters.iter().enumerate().try_for_each(|(slot, adapter)| write_adapter(xml, slot, adapter))
    })?;
    if machine.serial_ports > 0 {
        around(xml, "UART", &[], |xml| {
            let ports = [("0x3f8", "4"), ("0x2f8", "3"), ("0x3e8", "4"), ("0x2e8", "3")];
            for (slot, (io_base, irq)) in (0..machine.serial_ports).zip(ports) {
                let slot = slot.to_string();
                let attributes = [
                    ("slot", slot.as_str()),
                    ("enabled", "true"),
                    ("IOBase", io_base),
                    ("IRQ", irq),
                    ("hostMode", "Disconnected"),
                ];
                empty(xml, "Port", &attributes)?;
            }
            Ok(())
        })?;
    }
    empty(xml, "RTC", &[("localOrUTC", if machine.clock == Clock::Local { "local" } else { "UTC" })])?;
    around(xml, "StorageControllers", &[], |xml| controllers(xml, machine, media))?;
    kept.put(xml, "Hardware")
}

fn write_adapter(xml: &mut Xml, slot: usize, adapter: &Adapter) -> io::Result<()> {
    let kind = match adapter.model {
        AdapterModel::VirtioNet => "virtio",
        AdapterModel::E1000e => "82583V",
        AdapterModel::Pcnet => "Am79C973",
        _ => "82540EM",
    };
    let slot = slot.to_string();
    let mac = adapter.mac.map(Mac::digits);
    let mut attributes = vec![("slot", slot.as_str()), ("enabled", "true")];
    attributes.extend(mac.as_deref().map(|mac| ("MACAddress", mac)));
    attributes.push(("cable", if adapter.connected { "true" } else { "false" }));
    attributes.push(("type", kind));
    around(xml, "Adapter", &attributes, |xml| {
        let network = adapter.network.as_deref().unwrap_or("nat");
        let modes =
            [("bridge:", "BridgedInterface"), ("host-only:", "HostOnlyInterface"), ("generic:", "GenericInterface")];
        match modes.into_iter().find_map(|(prefix, element)| network.strip_prefix(prefix).map(|name| (element, name))) {
            Some((element, name)) => empty(xml, element, &[("name", name)]),
            None if network == "nat" => empty(xml, "NAT", &[]),
            None => empty(xml, "InternalNetwork", &[("name", network)]),
        }
    })
}

/// The places of one controller: disks and drives.
struct Attached<'a> {
    kind: ControllerKind,
    index: u32,
    disks: Vec<(&'a DiskDevice, &'a str)>,
    discs: Vec<Option<String>>,
}

fn controllers(xml: &mut Xml, machine: &Machine, media: &[String]) -> io::Result<()> {
    let mut all: Vec<Attached<'_>> = Vec::new();
    for (disk, id) in machine.disks.iter().zip(media) {
        // Both channels of IDE are ports of its one controller.
        let last = if disk.controller == ControllerKind::Ide { 0 } else { disk.bus };
        for index in 0..=last {
            if !all.iter().any(|at| at.kind == disk.controller && at.index == index) {
                all.push(Attached { kind: disk.controller, index, disks: Vec::new(), discs: Vec::new() });
            }
        }
        let at = all.iter_mut().find(|at| at.kind == disk.controller && at.index == last);
        at.into_iter().for_each(|at| at.disks.push((disk, id)));
    }
    let mut discs_with_media = 0;
    for drive in discs(machine) {
        let kind = drive.controller.for_discs();
        if !all.iter().any(|at| at.kind == kind) {
            all.push(Attached { kind, index: 0, disks: Vec::new(), discs: Vec::new() });
        }
        let medium = drive.media.as_ref().map(|_| {
            discs_with_media += 1;
            disc_id(discs_with_media - 1)
        });
        all.iter_mut().find(|at| at.kind == kind).into_iter().for_each(|at| at.discs.push(medium.clone()));
    }
    let floppies = machine.removable.iter().filter(|drive| drive.kind == RemovableKind::Floppy).count();
    all.iter().try_for_each(|at| controller(xml, at))?;
    if floppies == 0 {
        return Ok(());
    }
    let attributes = [("name", "Floppy"), ("type", "I82078"), ("PortCount", "1"), ("Bootable", "true")];
    around(xml, "StorageController", &attributes, |xml| {
        empty(xml, "AttachedDevice", &[("type", "Floppy"), ("port", "0"), ("device", "0")])
    })
}

fn controller(xml: &mut Xml, at: &Attached<'_>) -> io::Result<()> {
    let (name, kind, least) = match at.kind {
        ControllerKind::Ide => ("IDE", "PIIX4", 2),
        ControllerKind::Lsi => ("SCSI", "LsiLogic", 16),
        ControllerKind::LsiSas => ("SAS", "LsiLogicSas", 8),
        ControllerKind::Buslogic => ("BusLogic", "BusLogic", 16),
        ControllerKind::Nvme => ("NVMe", "NVMe", 1),
        ControllerKind::VirtioScsi => ("VirtIO", "VirtioSCSI", 1),
        ControllerKind::Usb => ("USB", "USB", 8),
        _ => ("SATA", "AHCI", 1),
    };
    let name = if at.index == 0 { name.to_string() } else { format!("{name} {}", at.index + 1) };
    let is_ide = at.kind == ControllerKind::Ide;
    let place = |disk: &DiskDevice| if is_ide { (disk.bus, disk.slot) } else { (disk.slot, 0) };
    let taken: Vec<(u32, u32)> = at.disks.iter().map(|(disk, _)| place(disk)).collect();
    let free = (0..64).map(|n| if is_ide { (n / 2, n % 2) } else { (n, 0) }).filter(|place| !taken.contains(place));
    let drives: Vec<_> = free.zip(&at.discs).collect();
    let used = taken.iter().chain(drives.iter().map(|(place, _)| place)).map(|(port, _)| port + 1).max().unwrap_or(1);
    let ports = used.max(least).to_string();
    let attributes = [("name", name.as_str()), ("type", kind), ("PortCount", &ports), ("Bootable", "true")];
    around(xml, "StorageController", &attributes, |xml| {
        for (disk, id) in &at.disks {
            let (port, unit) = place(disk);
            attached(xml, "HardDisk", port, unit, Some(id))?;
        }
        drives.iter().try_for_each(|((port, unit), medium)| attached(xml, "DVD", *port, *unit, medium.as_deref()))
    })
}

fn attached(xml: &mut Xml, kind: &str, port: u32, unit: u32, medium: Option<&str>) -> io::Result<()> {
    let (port, unit) = (port.to_string(), unit.to_string());
    let attributes = [("type", kind), ("port", port.as_str()), ("device", unit.as_str())];
    match medium {
        Some(id) => around(xml, "AttachedDevice", &attributes, |xml| empty(xml, "Image", &[("uuid", id)])),
        None => empty(xml, "AttachedDevice", &attributes),
    }
}
