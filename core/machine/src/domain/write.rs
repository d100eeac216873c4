//! Writing a domain, as a careful administrator of a virtio host would.

use std::io;

use roxmltree::Document;

use super::served::{self, Served};
use crate::{
    device::{Adapter, AdapterModel, ControllerKind, DiskDevice, RemovableKind, Tpm},
    earlier::{Earlier, Keep, Rank},
    model::{Clock, Firmware, Machine},
    systems::Vocabulary,
    xml::{
        self, Element,
        write::{Kept, Xml, around, document, empty, text, text_with},
    },
};

const OSINFO: &str = "http://libosinfo.org/xmlns/libvirt/domain/1.0";

/// Elements of a domain that come from the machine; others of an earlier domain are kept.
const OURS: [&str; 17] = [
    "name",
    "uuid",
    "title",
    "description",
    "memory",
    "currentMemory",
    "vcpu",
    "os",
    "features",
    "cpu",
    "clock",
    "on_poweroff",
    "on_reboot",
    "on_crash",
    "devices",
    "metadata",
    "genid",
];

/// Elements of an earlier domain that stay: numbers and switches of the machine itself.
const HARMLESS: [&str; 8] =
    ["memtune", "cputune", "pm", "iothreads", "maxMemory", "keywrap", "perf", "defaultiothread"];

/// Features that stay: switches of the processor and of the hypervisor's own interface.
const HARMLESS_FEATURES: [&str; 12] =
    ["pae", "hap", "viridian", "hyperv", "kvm", "pvspinlock", "vmport", "pmu", "ioapic", "vmcoreinfo", "msrs", "hpt"];

/// Devices that stay: they are made for any guest, and need nothing of their host.
const HARMLESS_DEVICES: [&str; 2] = ["watchdog", "panic"];

/// Devices that the machine says anew, or that were told when it was read.
const OUR_DEVICES: [&str; 26] = [
    "emulator",
    "disk",
    "controller",
    "interface",
    "serial",
    "console",
    "parallel",
    "channel",
    "tpm",
    "input",
    "graphics",
    "audio",
    "sound",
    "video",
    "memballoon",
    "rng",
    "hostdev",
    "redirdev",
    "redirfilter",
    "filesystem",
    "smartcard",
    "hub",
    "shmem",
    "memory",
    "nvram",
    "iommu",
];

/// What stays of an earlier domain (libvirt, "Domain XML format").
pub(crate) fn kept(document: &Document<'_>, keep: Keep) -> Kept {
    Kept::of(document, &[], |kept| {
        let root = document.root_element();
        kept.take("domain", root, keep, |node| match node.tag_name().namespace() {
            // Elements in other namespaces speak to the emulator itself: its command line is one of them.
            Some(_) => Rank::Unknown,
            None => Rank::of(node.tag_name().name(), &OURS, &HARMLESS),
        });
        if let Some(metadata) = root.first("metadata") {
            // What programs note for themselves; the host only stores it.
            kept.take("metadata", metadata, keep, |node| match node.tag_name().namespace() {
                Some(OSINFO) => Rank::Ours,
                _ => Rank::Harmless,
            });
        }
        if let Some(devices) = root.first("devices") {
            kept.take("devices", devices, keep, |node| {
                Rank::of(node.tag_name().name(), &OUR_DEVICES, &HARMLESS_DEVICES)
            });
        }
        if let Some(features) = root.first("features") {
            kept.take("features", features, keep, |node| {
                Rank::of(node.tag_name().name(), &["acpi", "apic", "smm"], &HARMLESS_FEATURES)
            });
        }
    })
}

/// The domain for `machine`, whose controllers and adapters are those of a virtio host already. `earlier` is the domain
/// that it was read from, if it was one: what this writer has no word for, and is harmless, is kept of it.
///
/// # Errors
/// None that memory can have; the writer below knows no other kind of result.
pub fn write(machine: &Machine, earlier: Option<Earlier<'_>>) -> io::Result<String> {
    write_served(machine, &[], earlier)
}

/// As [`write()`], with disks that are served over the network: the first of `served` is the machine's first disk.
///
/// # Errors
/// As [`write()`].
pub fn write_served(machine: &Machine, served: &[Served], earlier: Option<Earlier<'_>>) -> io::Result<String> {
    let kept = earlier.and_then(|earlier| Some(kept(&xml::parse(earlier.text, "").ok()?, earlier.keep)));
    let kept = kept.unwrap_or_default();
    let names: Vec<String> = kept.namespaces.iter().map(|(prefix, _)| xmlns(prefix)).collect();
    let mut attributes = vec![("type", "kvm")];
    attributes.extend(names.iter().map(String::as_str).zip(kept.namespaces.iter().map(|(_, uri)| uri.as_str())));
    document(false, |xml| around(xml, "domain", &attributes, |xml| domain(xml, machine, served, &kept)))
}

fn xmlns(prefix: &str) -> String {
    if prefix.is_empty() { "xmlns".into() } else { format!("xmlns:{prefix}") }
}

fn domain(xml: &mut Xml, machine: &Machine, served: &[Served], kept: &Kept) -> io::Result<()> {
    text(xml, "name", &machine.name)?;
    if let Some(uuid) = &machine.uuid {
        text(xml, "uuid", &uuid.to_string())?;
    }
    if let Some(description) = &machine.description {
        text(xml, "description", description)?;
    }
    around(xml, "metadata", &[], |xml| {
        if let Some(id) = machine.system.as_ref().and_then(|system| Vocabulary::Osinfo.write(system)) {
            around(xml, "libosinfo:libosinfo", &[("xmlns:libosinfo", OSINFO)], |xml| {
                empty(xml, "libosinfo:os", &[("id", id)])
            })?;
        }
        kept.put(xml, "metadata")
    })?;
    let kib = machine.memory.div_ceil(1024).to_string();
    text_with(xml, "memory", &[("unit", "KiB")], &kib)?;
    text(xml, "vcpu", &machine.cpu.total().to_string())?;
    os(xml, machine)?;
    let secure = machine.firmware == Firmware::Uefi { secure_boot: true };
    around(xml, "features", &[], |xml| {
        empty(xml, "acpi", &[])?;
        empty(xml, "apic", &[])?;
        // Secure boot is safe only when the guest cannot write its variables.
        if secure {
            empty(xml, "smm", &[("state", "on")])?;
        }
        if knows_hypervisors(machine) && !kept.has("features", "hyperv") {
            hyperv(xml)?;
        }
        kept.put(xml, "features")
    })?;
    let (sockets, cores) = (machine.cpu.sockets.to_string(), machine.cpu.cores.to_string());
    around(xml, "cpu", &[("mode", "host-model")], |xml| {
        empty(xml, "topology", &[("sockets", &sockets), ("cores", &cores), ("threads", "1")])
    })?;
    clock(xml, machine)?;
    text(xml, "on_poweroff", "destroy")?;
    text(xml, "on_reboot", "restart")?;
    text(xml, "on_crash", "destroy")?;
    kept.put(xml, "domain")?;
    around(xml, "devices", &[], |xml| devices(xml, machine, served, kept))
}

fn knows_hypervisors(machine: &Machine) -> bool {
    machine.system.as_ref().is_some_and(crate::System::knows_hypervisors)
}

/// The interface of a hypervisor that Windows systems ask for: without it their timers and locks cost the host dearly (elements of
/// libvirt's domain schema, `hyperv`).
fn hyperv(xml: &mut Xml) -> io::Result<()> {
    around(xml, "hyperv", &[("mode", "custom")], |xml| {
        for name in ["relaxed", "vapic"] {
            empty(xml, name, &[("state", "on")])?;
        }
        empty(xml, "spinlocks", &[("state", "on"), ("retries", "8191")])?;
        ["vpindex", "runtime", "synic", "stimer"].into_iter().try_for_each(|name| empty(xml, name, &[("state", "on")]))
    })
}

/// A system that knows no PCI Express gets the chipset that has none.
fn is_old(machine: &Machine) -> bool {
    machine.firmware == Firmware::Bios && machine.system.as_ref().is_some_and(crate::System::predates_pcie)
}

fn os(xml: &mut Xml, machine: &Machine) -> io::Result<()> {
    let kind = |xml: &mut Xml| {
        let chipset = if is_old(machine) { "pc" } else { "q35" };
        text_with(xml, "type", &[("arch", "x86_64"), ("machine", chipset)], "hvm")
    };
    match machine.firmware {
        Firmware::Bios => around(xml, "os", &[], kind),
        Firmware::Uefi { secure_boot } => around(xml, "os", &[("firmware", "efi")], |xml| {
            kind(xml)?;
            let enabled = if secure_boot { "yes" } else { "no" };
            around(xml, "firmware", &[], |xml| {
                empty(xml, "feature", &[("enabled", enabled), ("name", "enrolled-keys")])?;
                empty(xml, "feature", &[("enabled", enabled), ("name", "secure-boot")])
            })?;
            machine.nvram.iter().try_for_each(|file| text(xml, "nvram", file))
        }),
    }
}

fn clock(xml: &mut Xml, machine: &Machine) -> io::Result<()> {
    let attributes = match (machine.clock, &machine.time_zone) {
        (Clock::Local, Some(zone)) => vec![("offset", "timezone"), ("timezone", zone.as_str())],
        (Clock::Local, None) => vec![("offset", "localtime")],
        (Clock::Utc, _) => vec![("offset", "utc")],
    };
    around(xml, "clock", &attributes, |xml| {
        empty(xml, "timer", &[("name", "rtc"), ("tickpolicy", "catchup")])?;
        empty(xml, "timer", &[("name", "pit"), ("tickpolicy", "delay")])?;
        empty(xml, "timer", &[("name", "hpet"), ("present", "no")])?;
        match knows_hypervisors(machine) {
            true => empty(xml, "timer", &[("name", "hypervclock"), ("present", "yes")]),
            false => Ok(()),
        }
    })
}

fn devices(xml: &mut Xml, machine: &Machine, served: &[Served], kept: &Kept) -> io::Result<()> {
    let mut scsi: Vec<(u32, &str)> = Vec::new();
    for disk in &machine.disks {
        let model = match disk.controller {
            ControllerKind::VirtioScsi => "virtio-scsi",
            ControllerKind::Pvscsi => "vmpvscsi",
            ControllerKind::LsiSas => "lsisas1068",
            ControllerKind::Buslogic => "buslogic",
            ControllerKind::Lsi => "lsilogic",
            _ => continue,
        };
        if !scsi.iter().any(|(bus, _)| *bus == disk.bus) {
            scsi.push((disk.bus, model));
        }
    }
    scsi.sort_unstable();
    for (index, model) in scsi {
        empty(xml, "controller", &[("type", "scsi"), ("index", &index.to_string()), ("model", model)])?;
    }
    let mut names = TargetNames::default();
    for (index, disk) in machine.disks.iter().enumerate() {
        write_disk(xml, disk, served.get(index), &mut names)?;
    }
    for drive in machine.removable.iter().filter(|drive| drive.kind == RemovableKind::Cdrom) {
        around(xml, "disk", &[("type", "file"), ("device", "cdrom")], |xml| {
            empty(xml, "driver", &[("name", "qemu"), ("type", "raw")])?;
            if let Some(media) = &drive.media {
                empty(xml, "source", &[("file", media)])?;
            }
            empty(xml, "target", &[("dev", &names.next("sd")), ("bus", "sata")])?;
            empty(xml, "readonly", &[])
        })?;
    }
    for adapter in &machine.adapters {
        write_adapter(xml, adapter)?;
    }
    // One more than the guest had where it had none: the way in when the network is dead.
    for port in 0..machine.serial_ports.clamp(1, 4) {
        around(xml, "serial", &[("type", "pty")], |xml| empty(xml, "target", &[("port", &port.to_string())]))?;
    }
    around(xml, "console", &[("type", "pty")], |xml| empty(xml, "target", &[("type", "serial"), ("port", "0")]))?;
    // Where an agent in the guest listens, if there is one.
    around(xml, "channel", &[("type", "unix")], |xml| {
        empty(xml, "target", &[("type", "virtio"), ("name", "org.qemu.guest_agent.0")])
    })?;
    if let Some(version) = machine.tpm {
        let model = if version == Tpm::V12 { "tpm-tis" } else { "tpm-crb" };
        around(xml, "tpm", &[("model", model)], |xml| {
            empty(xml, "backend", &[("type", "emulator"), ("version", version.name())])
        })?;
    }
    empty(xml, "input", &[("type", "tablet"), ("bus", "usb")])?;
    empty(xml, "graphics", &[("type", "vnc"), ("port", "-1"), ("autoport", "yes"), ("listen", "127.0.0.1")])?;
    around(xml, "video", &[], |xml| empty(xml, "model", &[("type", "vga")]))?;
    empty(xml, "memballoon", &[("model", "virtio")])?;
    around(xml, "rng", &[("model", "virtio")], |xml| {
        text_with(xml, "backend", &[("model", "random")], "/dev/urandom")
    })?;
    kept.put(xml, "devices")
}

fn write_adapter(xml: &mut Xml, adapter: &Adapter) -> io::Result<()> {
    let network = adapter.network.as_deref().unwrap_or("default");
    let (kind, name) = match network.strip_prefix("bridge:") {
        Some(bridge) => ("bridge", bridge),
        None => ("network", network),
    };
    around(xml, "interface", &[("type", kind)], |xml| {
        if let Some(mac) = &adapter.mac {
            empty(xml, "mac", &[("address", &mac.to_string())])?;
        }
        empty(xml, "source", &[(kind, name)])?;
        let model = match adapter.model {
            AdapterModel::E1000
            | AdapterModel::E1000e
            | AdapterModel::Vmxnet3
            | AdapterModel::Pcnet
            | AdapterModel::Rtl8139 => adapter.model.name(),
            _ => "virtio",
        };
        empty(xml, "model", &[("type", model)])?;
        if adapter.connected { Ok(()) } else { empty(xml, "link", &[("state", "down")]) }
    })
}

fn write_disk(xml: &mut Xml, disk: &DiskDevice, served: Option<&Served>, names: &mut TargetNames) -> io::Result<()> {
    let (prefix, bus) = match disk.controller {
        ControllerKind::VirtioBlk => ("vd", "virtio"),
        ControllerKind::Ahci => ("sd", "sata"),
        ControllerKind::Ide => ("hd", "ide"),
        _ => ("sd", "scsi"),
    };
    // A virtio block device has no address but its own; the name's order is that of its kind.
    let name =
        if disk.controller == ControllerKind::VirtioBlk { target_name(prefix, disk.slot) } else { names.next(prefix) };
    let format = disk.format.as_deref().unwrap_or("raw");
    let kind = if served.is_some() { "network" } else { "file" };
    around(xml, "disk", &[("type", kind), ("device", "disk")], |xml| {
        empty(xml, "driver", &[("name", "qemu"), ("type", format), ("discard", "unmap")])?;
        match served {
            Some(served) => served::source(xml, served)?,
            None => empty(xml, "source", &[("file", disk.files.first().map_or("", String::as_str))])?,
        }
        empty(xml, "target", &[("dev", &name), ("bus", bus)])?;
        if let Some(boot) = disk.boot {
            empty(xml, "boot", &[("order", &boot.to_string())])?;
        }
        if disk.controller == ControllerKind::VirtioBlk {
            return Ok(());
        }
        let (bus, slot) = (disk.bus.to_string(), disk.slot.to_string());
        // The two channels of IDE are the buses of its one controller; virtio-scsi counts by unit, other SCSI by target.
        let [controller, bus, target, unit] = match disk.controller {
            ControllerKind::Ide => ["0", &bus, "0", &slot],
            ControllerKind::VirtioScsi | ControllerKind::Ahci => [&bus, "0", "0", &slot],
            _ => [&bus, "0", &slot, "0"],
        };
        let address = [("type", "drive"), ("controller", controller), ("bus", bus), ("target", target), ("unit", unit)];
        empty(xml, "address", &address)
    })
}

/// Gives out `sda`, `sdb`, …, `sdaa`: only a name inside the file, the guest sees its own.
#[derive(Default)]
struct TargetNames {
    used: std::collections::HashMap<String, u32>,
}

impl TargetNames {
    fn next(&mut self, prefix: &str) -> String {
        let count = self.used.entry(prefix.to_string()).or_default();
        *count += 1;
        target_name(prefix, *count - 1)
    }
}

/// `sda` for 0, `sdz` for 25, `sdaa` for 26.
fn target_name(prefix: &str, mut index: u32) -> String {
    let mut letters = String::new();
    loop {
        letters.insert(0, (b'a' + (index % 26) as u8) as char);
        match index / 26 {
            0 => return format!("{prefix}{letters}"),
            rest => index = rest - 1,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn target_names_go_on_after_z() {
        let mut names = TargetNames::default();
        let all: Vec<String> = (0..800).map(|_| names.next("sd")).collect();
        assert_eq!(
            (&all[0][..], &all[25][..], &all[26][..], &all[701][..], &all[702][..]),
            ("sda", "sdz", "sdaa", "sdzz", "sdaaa")
        );
        assert_eq!(names.next("vd"), "vda");
    }
}
