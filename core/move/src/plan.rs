//! The machine in its new shape: what a destination makes of it.

use reformis_disk::{ByteSize, Shape};
use reformis_machine::{AdapterModel, Destination, DiskDevice, Machine, RemovableKind};

use crate::{finding::Finding, target::Target};

/// The machine as it will land.
pub(crate) struct Plan {
    /// The machine as its file describes it.
    pub(crate) before: Machine,
    pub(crate) machine: Machine,
    pub(crate) disks: Vec<PlannedDisk>,
}

/// A disk as it will land, in the target's order.
pub(crate) struct PlannedDisk {
    /// File name in the landing.
    pub(crate) file: String,
    pub(crate) shape: Shape,
    /// Guest-visible size in bytes.
    pub(crate) size: u64,
}

/// Proposes how the machine of `target` lands on `destination`, and what there is to say about it. No plan when there
/// is no machine, or no way to land it.
pub(crate) fn propose(target: &Target, destination: &Destination) -> (Option<Plan>, Vec<Finding>) {
    let mut findings = Vec::new();
    let Some(package) = &target.package else {
        return (None, vec![Finding::NoMachine]);
    };
    let before = &package.machine;
    let shape = destination.disks.iter().find_map(|disk| {
        let shape: Shape = disk.shape.parse().ok()?;
        disk.wrapped.is_none().then_some(shape)
    });
    let (Some(shape), Some(_)) = (shape, destination.written_machine_file()) else {
        return (None, vec![Finding::CannotLand { destination: destination.name.clone() }]);
    };
    let name = landing_name(&before.name);
    if name != before.name {
        findings.push(Finding::NameChanged { name: before.name.clone(), to: name.clone() });
    }
    if !destination.firmware.iter().any(|offered| offered == before.firmware.name()) {
        findings.push(Finding::FirmwareNotOffered {
            firmware: before.firmware.to_string(),
            destination: destination.name.clone(),
            offered: destination.firmware.join(", "),
        });
    }
    let disks = disks(target, destination, shape, &name, &mut findings);
    let mut machine = Machine { name, uuid: Some(uuid::Uuid::new_v4().to_string()), ..before.clone() };
    attach(&mut machine, destination, &mut findings);
    connect(&mut machine, destination, &mut findings);
    machine.removable.retain(|drive| {
        if drive.kind == RemovableKind::Floppy {
            findings.push(Finding::DeviceDropped { what: "floppy drive".into(), detail: drive.controller.to_string() });
        }
        drive.kind == RemovableKind::Cdrom
    });
    for drive in &mut machine.removable {
        drive.controller = reformis_machine::ControllerKind::Ahci;
        findings.extend(drive.media.take().map(|media| Finding::MediaDropped { media }));
    }
    for leftover in std::mem::take(&mut machine.leftovers) {
        findings.push(Finding::DeviceDropped { what: leftover.what, detail: leftover.detail });
    }
    (Some(Plan { before: before.clone(), machine, disks }), findings)
}

fn disks(
    target: &Target,
    destination: &Destination,
    shape: Shape,
    name: &str,
    findings: &mut Vec<Finding>,
) -> Vec<PlannedDisk> {
    let bytes = |text: &Option<String>| text.as_ref().and_then(|text| text.parse::<ByteSize>().ok()).map(|size| size.0);
    let multiple = bytes(&destination.rules.size_multiple).unwrap_or(1);
    let most = bytes(&destination.rules.largest_disk);
    let planned = target.disks.iter().enumerate().map(|(index, disk)| {
        let size = reformis_disk::formats::stored_size(shape.format, disk.size).next_multiple_of(multiple);
        if size != disk.size {
            findings.push(Finding::SizeRounded { disk: disk.id.clone(), size: disk.size, rounded: size });
        }
        if let Some(most) = most.filter(|&most| size > most) {
            findings.push(Finding::DiskTooLarge { disk: disk.id.clone(), size, most });
        }
        PlannedDisk { file: format!("{name}-{index}.{}", shape.format), shape, size }
    });
    planned.collect()
}

/// Puts all disks on the controller that the destination proposes, in their order, and the boot disk first.
fn attach(machine: &mut Machine, destination: &Destination, findings: &mut Vec<Finding>) {
    let Some(controller) = destination.boot_controller(machine.firmware) else { return };
    if machine.disks.len() > controller.slots as usize {
        findings.push(Finding::TooManyDisks {
            disks: machine.disks.len(),
            controller: controller.kind,
            slots: controller.slots,
        });
    }
    let boots = |disk: &DiskDevice| disk.boot == Some(1);
    let boot = machine.disks.iter().position(boots).or_else(|| (!machine.disks.is_empty()).then_some(0));
    if let Some(disk) = boot.and_then(|index| machine.disks.get(index)).filter(|d| d.controller != controller.kind) {
        findings.push(Finding::DriverUnchecked { from: disk.controller, to: controller.kind });
    }
    for (index, disk) in machine.disks.iter_mut().enumerate() {
        disk.controller = controller.kind;
        disk.bus = 0;
        disk.slot = index as u32;
        disk.boot = (Some(index) == boot).then_some(1);
    }
}

/// Gives every adapter the model and the network of the destination; its address stays.
fn connect(machine: &mut Machine, destination: &Destination, findings: &mut Vec<Finding>) {
    let model = destination.adapters.first().copied().unwrap_or(AdapterModel::Unknown);
    for adapter in &mut machine.adapters {
        adapter.model = model;
        let before = std::mem::replace(&mut adapter.network, destination.network.clone());
        if let (Some(network), Some(to)) = (before, &destination.network)
            && &network != to
        {
            findings.push(Finding::NetworkReplaced { adapter: adapter.name.clone(), network, to: to.clone() });
        }
        if let Some(mac) = &adapter.mac {
            findings.push(Finding::MacKept { adapter: adapter.name.clone(), mac: mac.clone() });
        }
    }
}

/// A name that every host and file system takes: letters, digits, `.`, `_` and `-`, starting with a letter or digit.
fn landing_name(name: &str) -> String {
    let mut plain = String::new();
    for c in name.chars() {
        let c = if c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-') { c } else { '-' };
        if !(c == '-' && plain.ends_with('-')) {
            plain.push(c);
        }
    }
    let plain = plain.trim_matches(['-', '.', '_']);
    let end = plain.len().min(60);
    if plain.is_empty() { "machine".into() } else { plain[..end].to_string() }
}

#[cfg(test)]
mod tests {
    use super::landing_name;

    #[test]
    fn names_become_plain_and_stay_inside_the_folder() {
        for (name, plain) in [
            ("tidelog", "tidelog"),
            ("Tide Log (old)", "Tide-Log-old"),
            ("../../etc/passwd", "etc-passwd"),
            (".hidden", "hidden"),
            ("-rf", "rf"),
            ("潮位", "machine"),
            ("", "machine"),
            ("a\n\u{1b}[2Jb", "a-2Jb"),
        ] {
            assert_eq!(landing_name(name), plain, "{name:?}");
        }
        assert_eq!(landing_name(&"x".repeat(500)).len(), 60);
    }
}
