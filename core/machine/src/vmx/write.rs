//! Writing a machine.

use uuid::Uuid;

use super::entries::Entries;
use crate::{
    device::{AdapterModel, ControllerKind, RemovableKind},
    earlier::{Earlier, Keep, Rank},
    model::{Firmware, Machine},
    systems::Vocabulary,
};

/// The version of virtual hardware: the first with NVMe, secure boot and a TPM, from 2018.
const HARDWARE: &str = "14";

/// Keys of an earlier file that the machine says anew, by their beginnings in lower case. What is bound to the earlier
/// place or host goes too.
const OURS: [&str; 43] = [
    ".encoding",
    "config.version",
    "virtualhw.version",
    "displayname",
    "annotation",
    "uuid.",
    "vc.uuid",
    "memsize",
    "numvcpus",
    "cpuid.corespersocket",
    "firmware",
    "uefi.secureboot.enabled",
    "nvram",
    "vtpm.",
    "guestos",
    "scsi",
    "sata",
    "nvme",
    "ide0",
    "ide1",
    "ide2",
    "ide3",
    "bios.hddorder",
    "ethernet",
    "serial",
    "floppy",
    "checkpoint.",
    "encryption.",
    "sound.",
    "parallel",
    "pcipassthru",
    "sharedfolder",
    "svga.enable3d",
    "mks.enable3d",
    "extendedconfigfile",
    "pcibridge",
    "sched.swap",
    "migrate.",
    "vmotion.",
    "hgfs.",
    "toolscripts.",
    "vmxstats.",
    "bios.bootorder",
];

/// Keys of an earlier file that stay, by their beginnings in lower case: numbers and switches of the machine itself, and what
/// its guest is told.
const HARMLESS: [&str; 27] = [
    "mem.hotadd",
    "vcpu.hotadd",
    "vhv.enable",
    "vpmc.enable",
    "vvtd.enable",
    "cpuid.",
    "featmask.",
    "hypervisor.cpuid.v0",
    "numa.",
    "sched.cpu.",
    "sched.mem.",
    "disk.enableuuid",
    "ctkenabled",
    "guestinfo.",
    "hpet0.present",
    "rtc.",
    "time.synchronize.",
    "tools.synctime",
    "tools.upgrade.policy",
    "powertype.",
    "cleanshutdown",
    "softpoweroff",
    "svga.autodetect",
    "svga.vramsize",
    "usb.present",
    "ehci.present",
    "usb_xhci.present",
];

/// What a key of an earlier file is.
fn rank(key: &str, value: &str) -> Rank {
    let key = key.to_ascii_lowercase();
    let begins = |starts: &[&str]| starts.iter().any(|start| key.starts_with(start));
    // A wall between guest and host may stay; a hole in it may not.
    let is_wall = key.starts_with("isolation.") && key.ends_with(".disable") && value.eq_ignore_ascii_case("true");
    if begins(&OURS) {
        Rank::Ours
    } else if begins(&HARMLESS) || is_wall || ["vmci0.present", "virtualhw.productcompatibility"].contains(&&*key) {
        Rank::Harmless
    } else {
        Rank::Unknown
    }
}

/// The keys in `text` that are not known to be harmless.
pub(crate) fn unknown(text: &str) -> Vec<String> {
    let entries = Entries::parse(text.as_bytes(), "").unwrap_or_default();
    let unknown = entries.iter().filter(|(key, value)| rank(key, value) == Rank::Unknown);
    unknown.map(|(key, _)| key.to_string()).collect()
}

/// The file for `machine`. `earlier` is the file that it was read from, if it was one of this kind: keys that the
/// machine does not speak of, and are harmless, are kept.
pub fn write(machine: &Machine, earlier: Option<Earlier<'_>>) -> String {
    let mut out = Entries::default();
    out.push(".encoding", "UTF-8");
    out.push("config.version", "8");
    out.push("virtualHW.version", HARDWARE);
    out.push("displayName", machine.name.as_str());
    if let Some(text) = &machine.description {
        out.push("annotation", text);
    }
    if let Some(uuid) = machine.uuid.map(spaced) {
        out.push("uuid.bios", uuid);
        out.push("uuid.action", "keep");
    }
    out.push("guestOS", machine.system.as_ref().and_then(|system| Vocabulary::Vmx.write(system)).unwrap_or("other-64"));
    out.push("memsize", (machine.memory.div_ceil(1 << 20)).to_string());
    out.push("numvcpus", machine.cpu.total().to_string());
    out.push("cpuid.coresPerSocket", machine.cpu.cores.to_string());
    if let Firmware::Uefi { secure_boot } = machine.firmware {
        out.push("firmware", "efi");
        if secure_boot {
            out.push("uefi.secureBoot.enabled", "TRUE");
        }
    }
    if let Some(file) = &machine.nvram {
        out.push("nvram", file);
    }
    if machine.tpm.is_some() {
        out.push("vtpm.present", "TRUE");
    }
    // Where devices on PCI Express are plugged in.
    out.push("pciBridge0.present", "TRUE");
    for bridge in 4..8 {
        out.push(format!("pciBridge{bridge}.present"), "TRUE");
        out.push(format!("pciBridge{bridge}.virtualDev"), "pcieRootPort");
        out.push(format!("pciBridge{bridge}.functions"), "8");
    }
    drives(machine, &mut out);
    adapters(machine, &mut out);
    for port in 0..machine.serial_ports.min(4) {
        out.push(format!("serial{port}.present"), "TRUE");
        out.push(format!("serial{port}.fileType"), "thinprint");
    }
    if let Some(earlier) = earlier {
        for (key, value) in Entries::parse(earlier.text.as_bytes(), "").unwrap_or_default().iter() {
            let rank = rank(key, value);
            let stays = rank == Rank::Harmless || rank == Rank::Unknown && earlier.keep == Keep::Everything;
            if stays && out.get(key).is_none() {
                out.push(key, value);
            }
        }
    }
    out.to_text()
}

/// Family and number of a controller: SCSI controllers of all kinds count together.
fn controller_keys(machine: &Machine) -> Vec<((ControllerKind, u32), String)> {
    let mut keys: Vec<((ControllerKind, u32), String)> = Vec::new();
    let mut scsi = 0;
    let drives = machine.removable.iter().filter(|drive| drive.kind == RemovableKind::Cdrom);
    let kinds = machine.disks.iter().map(|disk| (disk.controller, disk.bus));
    for (kind, last) in kinds.chain(drives.map(|drive| (drive.controller.for_discs(), 0))) {
        for bus in 0..=last {
            if keys.iter().any(|(known, _)| *known == (kind, bus)) {
                continue;
            }
            let key = match kind {
                ControllerKind::Ahci => format!("sata{bus}"),
                ControllerKind::Nvme => format!("nvme{bus}"),
                ControllerKind::Ide => format!("ide{bus}"),
                _ => {
                    scsi += 1;
                    format!("scsi{}", scsi - 1)
                }
            };
            keys.push(((kind, bus), key));
        }
    }
    keys
}

fn drives(machine: &Machine, out: &mut Entries) {
    let keys = controller_keys(machine);
    let key_of = |place: (ControllerKind, u32)| keys.iter().find(|(known, _)| *known == place).map(|(_, key)| key);
    for ((kind, _), key) in &keys {
        out.push(format!("{key}.present"), "TRUE");
        let model = match kind {
            ControllerKind::Ahci | ControllerKind::Nvme | ControllerKind::Ide => continue,
            ControllerKind::Pvscsi => "pvscsi",
            ControllerKind::LsiSas => "lsisas1068",
            ControllerKind::Buslogic => "buslogic",
            _ => "lsilogic",
        };
        out.push(format!("{key}.virtualDev"), model);
    }
    let mut taken: Vec<String> = Vec::new();
    let mut order: Vec<(u32, String)> = Vec::new();
    for disk in &machine.disks {
        let Some(key) = key_of((disk.controller, disk.bus)) else { continue };
        let key = format!("{key}:{}", disk.slot);
        out.push(format!("{key}.present"), "TRUE");
        let device = if key.starts_with("scsi") { "scsi-hardDisk" } else { "disk" };
        out.push(format!("{key}.deviceType"), device);
        out.push(format!("{key}.fileName"), disk.files.first().map_or("", String::as_str));
        order.extend(disk.boot.map(|boot| (boot, key.clone())));
        taken.push(key);
    }
    order.sort();
    let order: Vec<String> = order.into_iter().map(|(_, key)| key).collect();
    if !order.is_empty() {
        out.push("bios.bootOrder", "hdd,cdrom");
        out.push("bios.hddOrder", order.join(","));
    }
    for drive in machine.removable.iter().filter(|drive| drive.kind == RemovableKind::Cdrom) {
        let Some(controller) = key_of((drive.controller.for_discs(), 0)) else { continue };
        let free = (0..30).map(|unit| format!("{controller}:{unit}")).find(|key| !taken.contains(key));
        let Some(key) = free else { continue };
        out.push(format!("{key}.present"), "TRUE");
        // An image that is not there is an empty drive.
        out.push(format!("{key}.deviceType"), if drive.media.is_some() { "cdrom-image" } else { "atapi-cdrom" });
        if let Some(media) = &drive.media {
            out.push(format!("{key}.fileName"), media);
        } else {
            out.push(format!("{key}.autodetect"), "TRUE");
        }
        out.push(format!("{key}.startConnected"), if drive.media.is_some() { "TRUE" } else { "FALSE" });
        taken.push(key);
    }
    if machine.removable.iter().any(|drive| drive.kind == RemovableKind::Floppy) {
        out.push("floppy0.present", "TRUE");
        out.push("floppy0.startConnected", "FALSE");
    } else {
        // A file that does not speak of it has one.
        out.push("floppy0.present", "FALSE");
    }
}

fn adapters(machine: &Machine, out: &mut Entries) {
    for (index, adapter) in machine.adapters.iter().enumerate() {
        let mut push = |name: &str, value: &str| out.push(format!("ethernet{index}.{name}"), value);
        push("present", "TRUE");
        let model = match adapter.model {
            AdapterModel::Vmxnet2 => "vmxnet",
            AdapterModel::E1000 => "e1000",
            AdapterModel::E1000e => "e1000e",
            AdapterModel::Pcnet => "vlance",
            _ => "vmxnet3",
        };
        push("virtualDev", model);
        match adapter.network.as_deref() {
            Some(kind @ ("nat" | "hostonly" | "bridged")) => push("connectionType", kind),
            Some(network) => push("networkName", network),
            None => {}
        }
        match &adapter.mac {
            Some(mac) => {
                push("addressType", "static");
                push("address", &mac.to_string());
                // Addresses that another kind of host gave out are outside of this kind's own range.
                push("checkMACAddress", "FALSE");
            }
            None => push("addressType", "generated"),
        }
        push("startConnected", if adapter.connected { "TRUE" } else { "FALSE" });
    }
}

/// A UUID as these files spell it: `56 4d 00 … 00-00 …`.
fn spaced(uuid: Uuid) -> String {
    let pairs = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join(" ");
    let (first, second) = uuid.as_bytes().split_at(8);
    format!("{}-{}", pairs(first), pairs(second))
}
