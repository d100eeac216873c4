//! Machines of any settings, written and read back: what a kind has a word for comes back as it was.

use proptest::prelude::*;
use reformis_machine::{
    Adapter, Clock, Cpu, Destination, DiskDevice, Firmware, LandedDisk, Mac, Machine, MachineFile, Name, Removable,
    RemovableKind, Site, Tpm, Uuid, domain, launch, lost, ovf, read, vbox, vmx,
};

/// What may be lost of a machine that a plan made for the destination: less than of any machine at all.
const KINDS: [(&str, MachineFile, &[&str]); 5] = [
    ("virtio-host", MachineFile::DomainXml, &["start_with_host", "nvram"]),
    ("vmx-host", MachineFile::Ovf, &["start_with_host", "uuid", "clock", "time_zone", "tpm"]),
    ("vmx-host", MachineFile::Vmx, &["start_with_host", "clock", "time_zone", "tpm"]),
    ("vdi-host", MachineFile::Vbox, &["cpu.", "time_zone", "firmware.secure_boot", "disks.N.boot"]),
    ("nvme-cloud", MachineFile::LaunchJson, &[]),
];

/// Text that a person may write: any characters that XML has, without those at the ends that readers trim.
fn words() -> impl Strategy<Value = String> {
    "[a-zA-Z0-9<>&\"'|=#%$;äß漢😀/\\\\.,:_-]([ \ta-zA-Z0-9<>&\"'|=#%$;äß漢😀/\\\\.,:_-]{0,30}[a-zA-Z0-9<>&'|=ß漢😀)-])?"
}

fn settings() -> impl Strategy<Value = Machine> {
    let texts = (words(), prop::option::of(words()), any::<bool>(), any::<u128>());
    let numbers = (1u32..9, 1u32..9, 1u64..1 << 22, 0u32..5);
    let flags = (any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>());
    (texts, numbers, flags, prop::option::of(prop::sample::select(Tpm::ALL))).prop_map(
        |((name, description, zone, id), (sockets, cores, mib, ports), flags, tpm)| Machine {
            uuid: Some(Uuid::from_u128(id)),
            description,
            cpu: Cpu { sockets, cores },
            memory: mib << 20,
            firmware: if flags.0 { Firmware::Bios } else { Firmware::Uefi { secure_boot: flags.1 } },
            tpm,
            clock: if flags.2 { Clock::Utc } else { Clock::Local },
            time_zone: (zone && !flags.2).then(|| "Europe/Lisbon".to_string()),
            start_with_host: flags.3,
            serial_ports: ports,
            ..Machine::new(name)
        },
    )
}

/// Disks and adapters that the destination has, by random numbers. SCSI controllers of all kinds together are four at the
/// most, as a host has them.
fn furnish(
    machine: &mut Machine,
    host: &Destination,
    disks: &[(usize, usize, bool)],
    adapters: &[(usize, u64, String, bool)],
) {
    let mut boot = 0;
    for (index, (kind, place, boots)) in disks.iter().enumerate() {
        let controller = &host.controllers[kind % host.controllers.len()];
        let free: Vec<_> = controller
            .places()
            .take(if kind % host.controllers.len() == disks[0].0 % host.controllers.len() { 40 } else { 10 })
            .filter(|place| !machine.disks.iter().any(|d| d.controller == controller.kind && (d.bus, d.slot) == *place))
            .collect();
        let Some(&(bus, slot)) = free.get(place % free.len().max(1)) else { continue };
        boot += u32::from(*boots);
        machine.disks.push(DiskDevice {
            id: Name::cleaned(&format!("disk{index}"), ""),
            files: vec![format!("{index} & co.img")],
            compression: None,
            format: Some("raw".into()),
            capacity: Some(1 << 30),
            controller: controller.kind,
            bus,
            slot,
            boot: boots.then_some(boot),
        });
    }
    // Readers give the first of a file's order the first place when none has one.
    if let Some(disk) = machine.disks.first_mut().filter(|_| boot == 0) {
        disk.boot = Some(1);
    }
    let kinds: Vec<_> = machine.disks.iter().map(|disk| disk.controller).collect();
    let rank = |kind| kinds.iter().position(|&other| other == kind);
    machine.disks.sort_by_key(|disk| (rank(disk.controller), disk.bus, disk.slot));
    for (index, (model, mac, network, connected)) in adapters.iter().enumerate() {
        let [bytes @ .., _, _] = mac.to_be_bytes();
        machine.adapters.push(Adapter {
            name: Name::cleaned(&format!("net{index}"), ""),
            model: host.adapters[model % host.adapters.len()],
            mac: Some(Mac::new(bytes)),
            network: Some(Name::cleaned(network, "network")),
            connected: *connected,
        });
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn what_a_kind_has_a_word_for_comes_back(
        settings in settings(),
        disks in prop::collection::vec((any::<usize>(), any::<usize>(), any::<bool>()), 1..6),
        adapters in prop::collection::vec((any::<usize>(), any::<u64>(), words(), any::<bool>()), 0..4),
        drive in any::<bool>(),
    ) {
        for (host, kind, allowed) in KINDS {
            let host = Site::default().destination(host).unwrap();
            let mut machine = settings.clone();
            furnish(&mut machine, &host, &disks, &adapters);
            if drive {
                let controller = reformis_machine::ControllerKind::Ahci;
                machine.removable.push(Removable { kind: RemovableKind::Cdrom, controller, media: None });
            }
            let landed: Vec<LandedDisk> = machine
                .disks
                .iter()
                .map(|_| LandedDisk { format: "raw".into(), layout: "thin".into(), ..LandedDisk::default() })
                .collect();
            let text = match kind {
                MachineFile::DomainXml => domain::write(&machine, None).unwrap(),
                MachineFile::Vmx => vmx::write(&machine, None),
                MachineFile::Vbox => vbox::write(&machine, &landed, None).unwrap(),
                MachineFile::LaunchJson => launch::write(&machine, &landed, "x", None),
                _ => ovf::write(&machine, &landed, "x", None).unwrap(),
            };
            let again = read(kind, text.as_bytes(), "again").unwrap().machines.remove(0);
            for lost in lost(&machine, &again) {
                let plain: Vec<_> =
                    lost.setting.split('.').map(|part| if part.parse::<u32>().is_ok() { "N" } else { part }).collect();
                let plain = plain.join(".");
                prop_assert!(
                    allowed.iter().any(|start| plain.starts_with(start)),
                    "{}: {} = {:?} is lost\n{}", kind.word(), lost.setting, lost.value, text
                );
            }
        }
    }
}
