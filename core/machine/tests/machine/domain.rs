//! Domains for every firmware, controller and adapter that a virtio host has, judged by libvirt itself.

use std::{io::Write, process::Command};

use reformis_standin::emulator::Emulator;
use serde_json::json;

use reformis_machine::{
    Adapter, AdapterModel, Clock, ControllerKind, Cpu, DiskDevice, Firmware, Mac, Machine, Name, Removable,
    RemovableKind, Site, System, Tpm, domain,
};

fn machine(firmware: Firmware, controller: ControllerKind, model: AdapterModel, cim: u16) -> Machine {
    let disk = |index: u32| DiskDevice {
        id: Name::cleaned(&format!("disk{index}"), ""),
        files: vec![format!("/landing/a & 'b'-{index}.qcow2")],
        compression: None,
        format: Some("qcow2".into()),
        capacity: None,
        controller,
        bus: 0,
        slot: index,
        boot: (index == 0).then_some(1),
    };
    let adapter = |mac: Option<&str>| Adapter {
        name: Name::cleaned("Adapter", ""),
        model,
        mac: mac.and_then(Mac::parse),
        network: Some(Name::cleaned("default", "")),
        connected: mac.is_some(),
    };
    Machine {
        description: Some("<Ask & wait> for\tthe \"harbour\" office\u{1}".into()),
        cpu: Cpu { sockets: 2, cores: 3 },
        firmware,
        tpm: (firmware != Firmware::Bios).then_some(Tpm::V20),
        clock: Clock::Local,
        time_zone: (cim == 96).then(|| "Europe/Lisbon".into()),
        system: Some(System { cim_os_type: cim, description: None }),
        disks: vec![disk(0), disk(1)],
        removable: vec![Removable { kind: RemovableKind::Cdrom, controller: ControllerKind::Ahci, media: None }],
        adapters: vec![adapter(Some("02:5a:17:00:00:21")), adapter(None)],
        serial_ports: 2,
        ..Machine::new("tidelog")
    }
}

/// One of each firmware, controller and adapter, and a system from before PCI Express.
fn all() -> Vec<String> {
    let host = Site::default().destination("virtio-host").unwrap();
    let firmware = [Firmware::Bios, Firmware::Uefi { secure_boot: false }, Firmware::Uefi { secure_boot: true }];
    let mut texts = Vec::new();
    for firmware in firmware {
        for controller in &host.controllers {
            for &model in &host.adapters {
                for cim in [96, 67] {
                    let machine = machine(firmware, controller.kind, model, cim);
                    texts.push(domain::write(&machine, None).unwrap());
                }
            }
        }
    }
    texts
}

#[test]
fn a_domain_says_what_the_machine_is() {
    let machine =
        machine(Firmware::Uefi { secure_boot: false }, ControllerKind::VirtioScsi, AdapterModel::VirtioNet, 96);
    let text = domain::write(&machine, None).unwrap();
    let document = roxmltree::Document::parse(&text).unwrap();
    let find = |name: &str| document.descendants().filter(|n| n.has_tag_name(name)).collect::<Vec<_>>();
    assert_eq!(find("memory")[0].text(), Some("1048576"));
    assert_eq!(find("vcpu")[0].text(), Some("6"));
    assert_eq!(find("description")[0].text(), Some("<Ask & wait> for\tthe \"harbour\" office"));
    assert_eq!(find("os").iter().find_map(|n| n.attribute("firmware")), Some("efi"));
    assert_eq!(find("type")[0].attribute("machine"), Some("q35"));
    assert_eq!(find("clock")[0].attribute("offset"), Some("timezone"));
    let sources: Vec<_> = find("source").iter().filter_map(|n| n.attribute("file")).collect();
    assert_eq!(sources, ["/landing/a & 'b'-0.qcow2", "/landing/a & 'b'-1.qcow2"]);
    let boots: Vec<_> = find("boot").iter().map(|n| n.parent().unwrap().first_element_child().is_some()).collect();
    assert_eq!(boots.len(), 1);
    assert_eq!(find("mac")[0].attribute("address"), Some("02:5a:17:00:00:21"));
    assert_eq!((find("serial").len(), find("interface").len()), (2, 2));

    let old = machine_text(Firmware::Bios, 67);
    assert!(old.contains("machine=\"pc\"") && machine_text(Firmware::Bios, 96).contains("machine=\"q35\""));
}

fn machine_text(firmware: Firmware, cim: u16) -> String {
    let machine = machine(firmware, ControllerKind::Ahci, AdapterModel::E1000e, cim);
    domain::write(&machine, None).unwrap()
}

#[test]
#[ignore = "needs libvirt's schema (Debian's libvirt-clients, libxml2-utils)"]
fn every_domain_is_valid_by_libvirts_own_schema() {
    for text in all() {
        let mut file = tempfile::NamedTempFile::new().unwrap();
        file.write_all(text.as_bytes()).unwrap();
        let output = Command::new("virt-xml-validate").arg(file.path()).arg("domain").output().unwrap();
        assert!(output.status.success(), "{}\n{text}", String::from_utf8_lossy(&output.stderr));
    }
}

#[test]
#[ignore = "needs a libvirt daemon (tools/libvirt-up)"]
fn a_real_daemon_defines_every_domain() {
    for (index, text) in all().into_iter().enumerate() {
        // The TPM needs a program of its own, which the schema alone judges.
        let text = match (text.find("<tpm"), text.find("</tpm>")) {
            (Some(start), Some(end)) => format!("{}{}", &text[..start], &text[end + 6..]),
            _ => text,
        };
        let name = format!("reformis-test-{index}");
        let mut file = tempfile::NamedTempFile::new().unwrap();
        file.write_all(text.replace("<name>tidelog<", &format!("<name>{name}<")).as_bytes()).unwrap();
        let virsh =
            |args: &[&str]| Command::new("virsh").args(["-q", "-c", "qemu:///system"]).args(args).output().unwrap();
        let output = virsh(&["define", "--validate", &file.path().to_string_lossy()]);
        virsh(&["undefine", "--nvram", &name]);
        assert!(output.status.success(), "{}\n{text}", String::from_utf8_lossy(&output.stderr));
    }
}

/// The emulator has the machine as the domain says: every disk at its place, every adapter with its address.
#[test]
#[ignore = "needs the machine emulator and ovmf"]
fn the_emulator_starts_from_every_domain() {
    let folder = tempfile::tempdir().unwrap();
    for index in 0..2 {
        let file = std::fs::File::create(folder.path().join(format!("a & 'b'-{index}.qcow2"))).unwrap();
        file.set_len(1 << 20).unwrap();
    }
    for text in all() {
        let text = text
            .replace("/landing/", &format!("{}/", folder.path().display()))
            .replace("type=\"qcow2\"", "type=\"raw\"");
        let mut emulator = Emulator::start_domain(&text).unwrap_or_else(|error| panic!("{error:#}\n{text}"));
        let status = emulator.command("query-status", &json!({})).unwrap();
        assert_eq!(status["status"], "prelaunch");
        let blocks = emulator.command("query-block", &json!({})).unwrap();
        let nodes: Vec<_> =
            blocks.as_array().unwrap().iter().filter_map(|b| b["inserted"]["node-name"].as_str()).collect();
        assert!(nodes.contains(&"disk0") && nodes.contains(&"disk1"), "{nodes:?}\n{text}");
        let processors = emulator.command("query-cpus-fast", &json!({})).unwrap();
        assert_eq!(processors.as_array().unwrap().len(), 6);
        // It runs: the firmware begins.
        emulator.command("cont", &json!({})).unwrap();
        assert_eq!(emulator.command("query-status", &json!({})).unwrap()["status"], "running");
    }
}
