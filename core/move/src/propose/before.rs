//! The machine as it is now.

use reformis_guest::{Family, Look};
use reformis_machine::{AdapterModel, ControllerKind, DiskDevice, Firmware, Machine, Name, System};

use crate::target::Target;

/// Memory and processors of a machine of which only a disk is known.
const GUESSED_MEMORY: u64 = 2 << 30;
const GUESSED_CORES: u32 = 2;

/// The machine of `target`: as its file describes it or, where there is only a disk, what the disk tells.
pub(crate) fn machine_before(target: &Target, boot: Option<&Look>) -> Machine {
    match &target.described {
        Some(described) => described.machine.clone(),
        None => guessed(target, boot),
    }
}

#[expect(clippy::cast_possible_truncation, reason = "a machine has at most some hundred disks")]
fn guessed(target: &Target, boot: Option<&Look>) -> Machine {
    let stem = std::path::Path::new(&target.name).file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let mut machine = Machine::new(stem);
    machine.memory = GUESSED_MEMORY;
    machine.cpu.cores = GUESSED_CORES;
    if boot.is_some_and(|look| look.boots_uefi() && !look.boots_bios()) {
        machine.firmware = Firmware::Uefi { secure_boot: false };
    }
    machine.system = boot.and_then(Look::family).map(|family| {
        let (cim_os_type, word) = match family {
            Family::Linux => (101, "Linux, 64 bits"),
            Family::Nt => (116, "NT family, 64 bits"),
            Family::Bsd => (78, "BSD family, 64 bits"),
        };
        System { cim_os_type, description: Some(word.into()) }
    });
    if machine.system.as_ref().is_some_and(System::keeps_local_time) {
        machine.clock = reformis_machine::Clock::Local;
    }
    machine.disks = target
        .disks
        .iter()
        .enumerate()
        .map(|(slot, disk)| DiskDevice {
            id: Name::cleaned(&disk.id, "disk"),
            files: Vec::new(),
            compression: None,
            format: None,
            capacity: Some(disk.size),
            controller: ControllerKind::Unknown,
            bus: 0,
            slot: slot as u32,
            boot: (slot == 0).then_some(1),
        })
        .collect();
    // A server without an adapter is of no use; one that is not wanted is soon removed.
    machine.adapters = vec![reformis_machine::Adapter {
        name: Name::cleaned("adapter", ""),
        model: AdapterModel::Unknown,
        mac: None,
        network: None,
        connected: true,
    }];
    machine
}
