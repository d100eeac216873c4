//! Writing a domain, as a careful administrator of a virtio host would.

use std::io;

use quick_xml::{
    Writer,
    events::{BytesText, Event},
};

use crate::{
    model::{AdapterModel, Clock, ControllerKind, DiskDevice, Firmware, Machine, RemovableKind},
    xml::clean,
};

/// Where a disk of the machine lies now; one for each of its disks, in the same order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LandedDisk {
    /// Absolute path of the image.
    pub path: String,
    /// `qcow2` or `raw`.
    pub format: String,
}

type Xml = Writer<Vec<u8>>;

/// The domain for `machine`, whose controllers and adapters are those of a virtio host already.
///
/// # Errors
/// None that memory can have; the writer below knows no other kind of result.
pub fn write(machine: &Machine, disks: &[LandedDisk]) -> io::Result<String> {
    let mut xml = Writer::new_with_indent(Vec::new(), b' ', 2);
    xml.create_element("domain")
        .with_attribute(("type", "kvm"))
        .write_inner_content(|xml| domain(xml, machine, disks))?;
    xml.write_event(Event::Text(BytesText::new("\n")))?;
    String::from_utf8(xml.into_inner()).map_err(io::Error::other)
}

fn text(xml: &mut Xml, name: &str, value: &str) -> io::Result<()> {
    xml.create_element(name).write_text_content(BytesText::new(&clean(value)))?;
    Ok(())
}

/// An element with attributes and nothing in it.
fn empty(xml: &mut Xml, name: &str, attributes: &[(&str, &str)]) -> io::Result<()> {
    xml.create_element(name).with_attributes(attributes.iter().copied()).write_empty()?;
    Ok(())
}

/// An element with attributes and content.
fn around(
    xml: &mut Xml,
    name: &str,
    attributes: &[(&str, &str)],
    content: impl FnOnce(&mut Xml) -> io::Result<()>,
) -> io::Result<()> {
    xml.create_element(name).with_attributes(attributes.iter().copied()).write_inner_content(content)?;
    Ok(())
}

fn domain(xml: &mut Xml, machine: &Machine, disks: &[LandedDisk]) -> io::Result<()> {
    text(xml, "name", &machine.name)?;
    if let Some(uuid) = &machine.uuid {
        text(xml, "uuid", uuid)?;
    }
    if let Some(description) = &machine.description {
        text(xml, "description", description)?;
    }
    let kib = machine.memory.div_ceil(1024).to_string();
    xml.create_element("memory").with_attribute(("unit", "KiB")).write_text_content(BytesText::new(&kib))?;
    text(xml, "vcpu", &machine.cpu.total().to_string())?;
    os(xml, machine)?;
    let secure = machine.firmware == Firmware::Uefi { secure_boot: true };
    around(xml, "features", &[], |xml| {
        empty(xml, "acpi", &[])?;
        empty(xml, "apic", &[])?;
        // Secure boot is safe only when the guest cannot write its variables.
        if secure { empty(xml, "smm", &[("state", "on")]) } else { Ok(()) }
    })?;
    let (sockets, cores) = (machine.cpu.sockets.to_string(), machine.cpu.cores.to_string());
    around(xml, "cpu", &[("mode", "host-model")], |xml| {
        empty(xml, "topology", &[("sockets", &sockets), ("cores", &cores), ("threads", "1")])
    })?;
    clock(xml, machine)?;
    text(xml, "on_poweroff", "destroy")?;
    text(xml, "on_reboot", "restart")?;
    text(xml, "on_crash", "destroy")?;
    around(xml, "devices", &[], |xml| devices(xml, machine, disks))
}

/// A system that knows no PCI Express gets the chipset that has none.
fn is_old(machine: &Machine) -> bool {
    machine.firmware == Firmware::Bios && machine.system.as_ref().is_some_and(crate::System::predates_pcie)
}

fn os(xml: &mut Xml, machine: &Machine) -> io::Result<()> {
    let kind = |xml: &mut Xml| {
        let chipset = if is_old(machine) { "pc" } else { "q35" };
        let element = xml.create_element("type").with_attributes([("arch", "x86_64"), ("machine", chipset)]);
        element.write_text_content(BytesText::new("hvm")).map(drop)
    };
    match machine.firmware {
        Firmware::Bios => around(xml, "os", &[], kind),
        Firmware::Uefi { secure_boot } => around(xml, "os", &[("firmware", "efi")], |xml| {
            kind(xml)?;
            let enabled = if secure_boot { "yes" } else { "no" };
            around(xml, "firmware", &[], |xml| {
                empty(xml, "feature", &[("enabled", enabled), ("name", "enrolled-keys")])?;
                empty(xml, "feature", &[("enabled", enabled), ("name", "secure-boot")])
            })
        }),
    }
}

fn clock(xml: &mut Xml, machine: &Machine) -> io::Result<()> {
    let offset = if machine.clock == Clock::Local { "localtime" } else { "utc" };
    around(xml, "clock", &[("offset", offset)], |xml| {
        empty(xml, "timer", &[("name", "rtc"), ("tickpolicy", "catchup")])?;
        empty(xml, "timer", &[("name", "pit"), ("tickpolicy", "delay")])?;
        empty(xml, "timer", &[("name", "hpet"), ("present", "no")])
    })
}

fn devices(xml: &mut Xml, machine: &Machine, disks: &[LandedDisk]) -> io::Result<()> {
    let scsi = machine.disks.iter().filter(|disk| disk.controller == ControllerKind::VirtioScsi);
    for index in 0..scsi.map(|disk| disk.bus + 1).max().unwrap_or(0) {
        empty(xml, "controller", &[("type", "scsi"), ("index", &index.to_string()), ("model", "virtio-scsi")])?;
    }
    let mut names = TargetNames::default();
    for (disk, landed) in machine.disks.iter().zip(disks) {
        write_disk(xml, disk, landed, &mut names)?;
    }
    for drive in machine.removable.iter().filter(|drive| drive.kind == RemovableKind::Cdrom) {
        around(xml, "disk", &[("type", "file"), ("device", "cdrom")], |xml| {
            empty(xml, "driver", &[("name", "qemu"), ("type", "raw")])?;
            if let Some(media) = &drive.media {
                empty(xml, "source", &[("file", &clean(media))])?;
            }
            empty(xml, "target", &[("dev", &names.next("sd")), ("bus", "sata")])?;
            empty(xml, "readonly", &[])
        })?;
    }
    for adapter in &machine.adapters {
        around(xml, "interface", &[("type", "network")], |xml| {
            if let Some(mac) = &adapter.mac {
                empty(xml, "mac", &[("address", mac)])?;
            }
            let network = adapter.network.as_deref().unwrap_or("default");
            empty(xml, "source", &[("network", &clean(network))])?;
            let model = if adapter.model == AdapterModel::VirtioNet { "virtio" } else { adapter.model.name() };
            empty(xml, "model", &[("type", model)])
        })?;
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
    empty(xml, "input", &[("type", "tablet"), ("bus", "usb")])?;
    empty(xml, "graphics", &[("type", "vnc"), ("port", "-1"), ("autoport", "yes"), ("listen", "127.0.0.1")])?;
    around(xml, "video", &[], |xml| empty(xml, "model", &[("type", "vga")]))?;
    empty(xml, "memballoon", &[("model", "virtio")])?;
    around(xml, "rng", &[("model", "virtio")], |xml| {
        xml.create_element("backend")
            .with_attribute(("model", "random"))
            .write_text_content(BytesText::new("/dev/urandom"))?;
        Ok(())
    })
}

fn write_disk(xml: &mut Xml, disk: &DiskDevice, landed: &LandedDisk, names: &mut TargetNames) -> io::Result<()> {
    let (prefix, bus) = match disk.controller {
        ControllerKind::VirtioBlk => ("vd", "virtio"),
        ControllerKind::Ahci => ("sd", "sata"),
        ControllerKind::Ide => ("hd", "ide"),
        _ => ("sd", "scsi"),
    };
    let name = names.next(prefix);
    around(xml, "disk", &[("type", "file"), ("device", "disk")], |xml| {
        empty(xml, "driver", &[("name", "qemu"), ("type", &landed.format), ("discard", "unmap")])?;
        empty(xml, "source", &[("file", &clean(&landed.path))])?;
        empty(xml, "target", &[("dev", &name), ("bus", bus)])?;
        if let Some(boot) = disk.boot {
            empty(xml, "boot", &[("order", &boot.to_string())])?;
        }
        if disk.controller == ControllerKind::VirtioBlk {
            return Ok(());
        }
        let (controller, unit) = (disk.bus.to_string(), disk.slot.to_string());
        empty(
            xml,
            "address",
            &[("type", "drive"), ("controller", &controller), ("bus", "0"), ("target", "0"), ("unit", &unit)],
        )
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
        let mut index = *count;
        *count += 1;
        let mut letters = String::new();
        loop {
            letters.insert(0, (b'a' + (index % 26) as u8) as char);
            match index / 26 {
                0 => return format!("{prefix}{letters}"),
                rest => index = rest - 1,
            }
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
