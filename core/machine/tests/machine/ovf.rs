//! Descriptors as hosts of different makers and years write them (made up here), and descriptors that lie.

use reformis_machine::{
    AdapterModel, Clock, ControllerKind, Cpu, Firmware, Mac, Machine, RemovableKind,
    ovf::{self, Package},
};

const BUOYCAM: &str = include_str!("samples/buoycam-efi.ovf");
const LEDGER: &str = include_str!("samples/ledger-desktop.ovf");
const TIDEGATE: &str = include_str!("samples/tidegate-pieces.ovf");

fn read(text: &str) -> Package {
    ovf::read(text.as_bytes(), "sample.ovf").unwrap()
}

/// Controller, bus, slot, boot position of each disk.
fn places(machine: &Machine) -> Vec<(&str, ControllerKind, u32, u32, Option<u32>)> {
    machine.disks.iter().map(|d| (d.id.as_str(), d.controller, d.bus, d.slot, d.boot)).collect()
}

#[test]
fn a_server_with_uefi_two_controllers_and_deployment_options() {
    // As it lies on a host that writes DOS line ends and a byte order mark.
    let dos = format!("\u{feff}{}", BUOYCAM.replace('\n', "\r\n"));
    let package = read(&dos);
    assert_eq!(package, read(BUOYCAM));
    let machine = &package.machines[0];
    assert_eq!(machine.name, "Buoy cameras & masts");
    assert_eq!(machine.cpu, Cpu { sockets: 2, cores: 3 });
    assert_eq!(machine.memory, 16 << 30);
    assert_eq!(machine.firmware, Firmware::Uefi { secure_boot: true });
    let expected = [("d-sys", ControllerKind::Pvscsi, 0, 0, Some(1)), ("d-data", ControllerKind::Pvscsi, 0, 2, None)];
    assert_eq!(places(machine), expected);
    assert_eq!(machine.disks[0].capacity, Some(20 << 30));
    assert_eq!(machine.disks[1].capacity, Some(100 << 30));
    assert_eq!(machine.disks[1].files, ["disks/buoycam data.vmdk"]);
    let adapters: Vec<_> = machine.adapters.iter().map(|a| (a.model, a.mac, a.network.as_deref())).collect();
    let expected = [
        (AdapterModel::E1000e, Mac::parse("02:5a:17:00:00:31"), Some("Buoys")),
        (AdapterModel::Vmxnet3, None, Some("Office")),
    ];
    assert_eq!(adapters, expected);
    assert_eq!(machine.system.as_ref().unwrap().cim_os_type, 101);
}

#[test]
fn a_desktop_machine_with_settings_in_its_hosts_own_element() {
    let machine = read(LEDGER).machines.remove(0);
    assert_eq!(machine.name, "ledger");
    assert_eq!((machine.cpu, machine.memory), (Cpu { sockets: 4, cores: 1 }, 4 << 30));
    assert_eq!(machine.firmware, Firmware::Uefi { secure_boot: false });
    // The kind of system alone would say local time; the host's own word counts more.
    assert_eq!(machine.clock, Clock::Utc);
    assert_eq!(read(&LEDGER.replace("localOrUTC=\"UTC\"", "")).machines[0].clock, Clock::Local);
    assert_eq!(places(&machine), [("vmdisk1", ControllerKind::Ahci, 0, 0, Some(1))]);
    let drives: Vec<_> = machine.removable.iter().map(|r| (r.kind, r.controller, r.media.as_deref())).collect();
    let expected = [
        (RemovableKind::Cdrom, ControllerKind::Ide, Some("ovf:/file/file2")),
        (RemovableKind::Floppy, ControllerKind::Unknown, None),
    ];
    assert_eq!(drives, expected);
    let leftovers: Vec<_> = machine.leftovers.iter().map(|l| (l.what.as_str(), l.detail.as_str())).collect();
    assert_eq!(leftovers, [("sound card", "ensoniq1371")]);
}

#[test]
fn a_disk_in_pieces_an_empty_disk_and_the_elements_of_version_2() {
    let wide: Vec<u8> = [0xff, 0xfe].into_iter().chain(TIDEGATE.encode_utf16().flat_map(u16::to_le_bytes)).collect();
    let package = ovf::read(&wide, "sample.ovf").unwrap();
    let machine = &package.machines[0];
    assert_eq!((machine.name.as_str(), machine.memory), ("tidegate", 512 << 20));
    let expected = [("sys", ControllerKind::Nvme, 0, 0, Some(1)), ("spare", ControllerKind::Nvme, 0, 1, None)];
    assert_eq!(places(machine), expected);
    let pieces = ["tidegate.vmdk.000000000", "tidegate.vmdk.000000001", "tidegate.vmdk.000000002"];
    assert_eq!(machine.disks[0].files, pieces);
    assert!(machine.disks[1].files.is_empty());
    assert_eq!(machine.disks[1].capacity, Some(1 << 30));
    assert_eq!(machine.adapters[0].mac, Mac::parse("02:5a:17:00:00:41"));
    assert_eq!(machine.adapters[0].model, AdapterModel::VirtioNet);
}

#[test]
fn descriptors_that_contradict_themselves_say_where() {
    for (from, to, expected) in [
        ("ovf:/disk/d-sys", "ovf:/disk/none", "line 30: disk 'System' refers to 'ovf:/disk/none', which is not there"),
        ("ovf:fileRef=\"f-sys\"", "ovf:fileRef=\"f-no\"", "refers to file 'f-no', which is not in the references"),
        ("VirtualQuantity>16<", "VirtualQuantity>999999999<", "is not a sensible size"),
        ("VirtualQuantity>16<", "VirtualQuantity>-1<", "is not a sensible size"),
        ("VirtualQuantity>6<", "VirtualQuantity>0<", "'0' processors"),
        ("ovf:capacity=\"20\"", "ovf:capacity=\"99999999999999999\"", "which is not a size"),
        ("ovf:size=\"70656\"", "ovf:size=\"x\"", "size is 'x', expected a number"),
        ("ovf:size=\"70656\"", "ovf:size=\"70656\" ovf:chunkSize=\"1\"", "a file in 70656 pieces"),
        ("<Envelope", "<Envelop", "is not valid XML"),
        ("ovf:id=\"101\"", "ovf:id=\"many\"", "kind of system 'many'"),
        ("</VirtualSystem>", "</VirtualSystem><VirtualSystem ovf:id='b'/>", "has no 'VirtualHardwareSection'"),
        ("<VirtualSystem ", "<VirtualSystems ", "is not valid XML"),
    ] {
        assert!(BUOYCAM.contains(from), "{from}");
        let error = ovf::read(BUOYCAM.replacen(from, to, 1).as_bytes(), "sample.ovf").unwrap_err().to_string();
        assert!(error.contains(expected), "{error:?} should contain {expected:?}");
    }
}

#[test]
fn a_descriptor_cut_short_anywhere_is_an_error_and_no_panic() {
    for len in (0..BUOYCAM.len() - 12).step_by(7) {
        assert!(ovf::read(&BUOYCAM.as_bytes()[..len], "sample.ovf").is_err(), "{len}");
    }
}

#[test]
fn a_descriptor_is_told_from_other_files_by_its_start() {
    for sample in [BUOYCAM, LEDGER, TIDEGATE] {
        assert!(ovf::looks_like(&sample.as_bytes()[..400]));
    }
    assert!(!ovf::looks_like(b"<domain type='kvm'>"));
    assert!(!ovf::looks_like(b"Envelope"));
}
