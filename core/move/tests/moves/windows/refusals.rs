//! What is refused, with a remedy and nothing half-made; and the registry of what is made, key by key.

use std::fs;

use reformis_move::{Error, Finding};
use reformis_standin::{
    driver, hives,
    windows::{Made, Source},
};

use super::{
    guests::{CONFIG, Lying, disk, medium, ready},
    matrix::ready_for,
};
use crate::common::Place;

const SERVER: Made = Made { version: (10, 0), is_server: true, uefi: false, source: Source::Sas };

type Change = dyn Fn(&mut Vec<(String, Vec<u8>)>);

/// Findings of a refit to virtio that is refused; nothing of it is left.
fn refused(change: &Change, keep: impl Fn(&str, Vec<u8>) -> Option<Vec<u8>>) -> Vec<Finding> {
    let place = Place::of("x");
    disk(&place, "desk.img", &SERVER, change);
    let drivers = [medium(&place, "drivers", keep)];
    let before = fs::read(place.path("desk.img")).unwrap();
    let findings = match ready_for(&place, "desk.img", "ready.qcow2", "virtio-host", "virtio-scsi", &drivers) {
        Err(Error::Refused { findings }) => findings,
        other => panic!("{:?}", other.map(|recast| recast.findings)),
    };
    let left = crate::common::files(&place.path(""));
    assert_eq!(left.into_iter().collect::<Vec<_>>(), ["desk.img", "drivers"]);
    assert!(fs::read(place.path("desk.img")).unwrap() == before);
    assert!(findings.iter().all(|finding| !finding.remedy().is_empty()));
    findings
}

fn told(findings: &[Finding], code: &str) -> String {
    let found = findings.iter().find(|finding| finding.code() == code);
    found.unwrap_or_else(|| panic!("no {code} in {findings:?}")).sentence()
}

#[test]
fn what_cannot_be_made_ready_is_refused() {
    if !ready() {
        return;
    }
    let all = |_: &str, bytes: Vec<u8>| Some(bytes);
    let put = |path: &'static str, bytes: Vec<u8>| {
        move |files: &mut Vec<(String, Vec<u8>)>| files.push((path.to_string(), bytes.clone()))
    };
    let asleep = refused(&put("/hiberfil.sys", [b"HIBR".to_vec(), vec![0; 8192]].concat()), all);
    assert!(told(&asleep, "hibernated").contains("partition 1"), "{asleep:?}");

    let torn = refused(
        &|files| {
            let (_, hive) = files.iter_mut().find(|(path, _)| path.ends_with("/SYSTEM")).unwrap();
            hive[4] += 1;
            *hive = hives::with_checksum(hive);
        },
        all,
    );
    let why = told(&torn, "edit-failed");
    assert!(why.contains("a write of it was cut short, and no log beside it mends that"), "{why}");

    // All that is left free holds the scripts of the first start, but not the drivers.
    let full = refused(&put("/filled.bin", vec![7; 13_200 << 10]), |path, bytes| {
        Some(if path.ends_with(".cat") { [bytes, vec![7; 900 << 10]].concat() } else { bytes })
    });
    assert!(told(&full, "edit-failed").contains("has no room"), "{full:?}");

    let unsigned = refused(&|_| {}, |path, bytes| match path.rsplit('.').next() {
        Some("cat") => None,
        Some("sys") => Some(driver::program(0x8664, false)),
        _ => Some(bytes),
    });
    assert!(told(&unsigned, "no-driver").contains("neither a certificate nor a catalogue"), "{unsigned:?}");
    assert!(told(&unsigned, "will-not-boot").contains("no driver for PCI"), "{unsigned:?}");

    let newer = refused(&|_| {}, |path, bytes| {
        if path.contains("2k22") {
            return None;
        }
        if !path.ends_with("tidescsi.inf") {
            return Some(bytes);
        }
        // It is in UTF-16 there, the byte that counts first.
        let units: Vec<u16> = bytes.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect();
        let text = String::from_utf16(&units).unwrap().replace("NTamd64.6.1", "NTamd64.11.0");
        Some(text.encode_utf16().flat_map(u16::to_be_bytes).collect())
    });
    assert!(told(&newer, "no-driver").contains("it is for version 11.0 and later"), "{newer:?}");
}

#[test]
fn what_a_person_has_to_know_is_told() {
    if !ready() {
        return;
    }
    let place = Place::of("x");
    disk(&place, "desk.img", &SERVER, |files| {
        let (_, hive) = files.iter_mut().find(|(path, _)| path.ends_with("/SYSTEM")).unwrap();
        let units = |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
        let (from, to) = (units("ServerNT"), units("LanmanNT"));
        for at in 0..hive.len() - from.len() {
            if hive[at..].starts_with(&from) {
                hive[at..at + to.len()].copy_from_slice(&to);
            }
        }
    });
    let drivers = [medium(&place, "drivers", |path, bytes| {
        Some(if path.contains("tideballoon/2k8R2/x86") && path.ends_with(".inf") { b"MZ".to_vec() } else { bytes })
    })];
    let recast = ready_for(&place, "desk.img", "ready.qcow2", "virtio-host", "virtio-scsi", &drivers).unwrap();
    assert!(told(&recast.findings, "domain-controller").contains("others trust its clock"));
    assert!(told(&recast.findings, "activation").contains("activation"));
    assert!(told(&recast.findings, "driver-unread").contains("tideballoon/2k8R2/x86/tideballoon.inf"));
    let empty = place.path("empty");
    fs::create_dir(&empty).unwrap();
    let none = [empty.to_string_lossy().into_owned()];
    let error = ready_for(&place, "desk.img", "x.img", "virtio-host", "virtio-scsi", &none).map(drop).unwrap_err();
    assert!(matches!(error, Error::NoDrivers { .. }) && error.to_string().contains("no file of it ends in .inf"));
}

/// The keys and values that differ, all of them.
#[test]
fn the_registry_holds_what_is_expected_and_nothing_else() {
    if !ready() {
        return;
    }
    let place = Place::of("x");
    let differs = |made: &Made, to: &str, on: &str, drivers: &[String]| -> Vec<String> {
        disk(&place, "desk.img", made, |_| {});
        ready_for(&place, "desk.img", "ready.qcow2", to, on, drivers).unwrap();
        let read = |disk: &str| hives::read(&Lying::on(&place, disk).read(&format!("{CONFIG}/SYSTEM")).unwrap());
        let lines = read("ready.qcow2").changes(&read("desk.img"));
        for name in ["ready.qcow2", "ready.qcow2.json"] {
            fs::remove_file(place.path(name)).unwrap();
        }
        // What is expected of every move, in both control sets.
        let mut both: Vec<String> = Vec::new();
        for line in lines {
            match line.contains("controlset002") {
                true => assert!(both.contains(&line.replace("controlset002", "controlset001")), "{line}"),
                false => both.push(line),
            }
        }
        both
    };
    let disks = "~ controlset001\\control\\class\\{4d36e967-e325-11ce-bfc1-08002be10318}: lowerfilters";
    let mut helpers = vec![
        format!("- {}", disks.trim_start_matches("~ ")),
        "~ controlset001\\services\\vmtools: start".into(),
        "~ controlset001\\services\\vsepflt: start".into(),
    ];
    let adapter = "{5a170000-0000-4000-8000-0000000000a1}";
    let class = "{4d36e972-e325-11ce-bfc1-08002be10318}";
    helpers.push(format!("~ controlset001\\control\\network\\{class}\\{adapter}\\connection: name"));
    let interface = format!("controlset001\\services\\tcpip\\parameters\\interfaces\\{adapter}");
    helpers.push(format!("~ {interface}: enabledhcp"));
    for name in
        ["defaultgateway", "defaultgatewaymetric", "domain", "interfacemetric", "ipaddress", "nameserver", "subnetmask"]
    {
        helpers.push(format!("- {interface}: {name}"));
    }
    let service = "controlset001\\services\\reformisfirststart";
    helpers.push(format!("+ {service}"));
    for name in ["displayname", "errorcontrol", "imagepath", "objectname", "start", "type"] {
        helpers.push(format!("+ {service}: {name}"));
    }
    let expect = |more: &[&str], found: Vec<String>| {
        let (mut expected, mut found) = (helpers.clone(), found);
        expected.extend(more.iter().map(ToString::to_string));
        expected.sort();
        found.sort();
        assert_eq!(found, expected);
    };
    // A cloud gives the adapter its address: the first start has nothing to set.
    let of_address = |line: &&String| !line.contains("connection") && !line.contains("reformisfirststart");
    let mut expected: Vec<String> = helpers.iter().filter(of_address).cloned().collect();
    expected.push("~ controlset001\\services\\stornvme: start".into());
    let mut found = differs(&SERVER, "nvme-cloud", "nvme", &[]);
    expected.sort();
    found.sort();
    assert_eq!(found, expected);

    let drivers = [medium(&place, "drivers", |path, bytes| Some(bytes).filter(|_| path.contains("tidescsi")))];
    let old = Made { version: (6, 1), uefi: false, ..SERVER };
    let mut expected: Vec<String> = Vec::new();
    let driver = "controlset001\\services\\tidescsi";
    for name in ["displayname", "errorcontrol", "group", "imagepath", "start", "type"] {
        expected.push(format!("+ {driver}: {name}"));
    }
    expected.push(format!("+ {driver}"));
    for (key, values) in [("parameters", &["bustype"][..]), ("parameters\\pnpinterface", &["5"])] {
        expected.push(format!("+ {driver}\\{key}"));
        expected.extend(values.iter().map(|name| format!("+ {driver}\\{key}: {name}")));
    }
    let table = "controlset001\\control\\criticaldevicedatabase";
    let devices = [
        "pci#ven_1af4&dev_1004&subsys_00081af4&rev_00",
        "pci#ven_1af4&dev_1048",
        "pci#ven_1af4&dev_1048&subsys_11001af4&rev_01",
        "pci#ven_8086&dev_2922",
        "pci#cc_0106",
    ];
    for device in devices {
        expected.push(format!("+ {table}\\{device}"));
        expected.extend(["service", "classguid"].map(|name| format!("+ {table}\\{device}: {name}")));
    }
    // The other controller of that host that the system has a driver for.
    expected.push("~ controlset001\\services\\msahci: start".into());
    let found = differs(&old, "virtio-host", "virtio-scsi", &drivers);
    expect(&expected.iter().map(String::as_str).collect::<Vec<_>>(), found);
}

/// Two media whose files are called alike: both drivers are put in, and laid ready apart.
#[test]
fn drivers_of_one_name_on_two_media_are_two() {
    if !ready() {
        return;
    }
    let place = Place::of("x");
    disk(&place, "desk.img", &SERVER, |_| {});
    let flat = |name: &str| {
        let folder = place.path(name);
        fs::create_dir(&folder).unwrap();
        let start = format!("{name}/2k22/amd64/");
        for (path, bytes) in driver::medium() {
            let Some(file) = path.strip_prefix(&start) else { continue };
            let file = if file.ends_with(".inf") { "driver.inf" } else { file };
            fs::write(folder.join(file), bytes).unwrap();
        }
        folder.to_string_lossy().into_owned()
    };
    let drivers = [flat("tidescsi"), flat("tideblk")];
    ready_for(&place, "desk.img", "ready.qcow2", "virtio-host", "virtio-blk", &drivers).unwrap();
    let after = Lying::on(&place, "ready.qcow2");
    for path in ["drivers/driver/driver.inf", "drivers/driver-2/driver.inf"] {
        assert!(after.read(&format!("/Windows/Reformis/{path}")).is_some(), "{path}");
    }
    let system = hives::read(&after.read(&format!("{CONFIG}/SYSTEM")).unwrap());
    for service in ["tidescsi", "tideblk"] {
        assert_eq!(system.number(&format!("ControlSet001\\Services\\{service}"), "Start"), Some(0), "{service}");
    }
}
