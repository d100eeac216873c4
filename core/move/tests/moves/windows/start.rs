//! The judge of the start, tried on mistakes; and the first start itself, run by another interpreter of its scripts.

use std::{fs, path::Path, process::Command};

use reformis_move::{brief::NewGuest, propose::Choices, receipt::Receipt};
use reformis_standin::{
    driver,
    hives::{self, Keys},
    windows::{Made, Source, judge},
};

use super::{
    guests::{CONFIG, Lying, disk, medium, ready},
    matrix::ready_for,
};
use crate::common::{Place, run};

fn made(version: (u32, u32)) -> Made {
    Made { version, is_server: true, uefi: false, source: Source::Sas }
}

/// A system made ready for virtio, and what judges it.
fn injected(version: (u32, u32)) -> (Place, Lying, Keys) {
    let place = Place::of("x");
    disk(&place, "desk.img", &made(version), |_| {});
    let drivers = [medium(&place, "drivers", |_, bytes| Some(bytes))];
    ready_for(&place, "desk.img", "ready.qcow2", "virtio-host", "virtio-scsi", &drivers).unwrap();
    let after = Lying::on(&place, "ready.qcow2");
    let system = hives::read(&after.read(&format!("{CONFIG}/SYSTEM")).unwrap());
    (place, after, system)
}

const ID: &str = "PCI\\VEN_1AF4&DEV_1048&SUBSYS_11001AF4&REV_01";

fn set(keys: &mut Keys, path: &str, name: &str, value: Option<(u32, Vec<u8>)>) {
    let values = keys.0.entry(path.to_lowercase()).or_default();
    match value {
        Some(value) => drop(values.insert(name.to_lowercase(), value)),
        None => drop(values.remove(&name.to_lowercase())),
    }
}

fn number(number: u32) -> Option<(u32, Vec<u8>)> {
    Some((4, number.to_le_bytes().to_vec()))
}

fn text(text: &str) -> Option<(u32, Vec<u8>)> {
    Some((1, text.encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect()))
}

/// Each mistake is found, and without one nothing is.
#[test]
fn the_judge_of_the_start_finds_every_mistake() {
    if !ready() {
        return;
    }
    let (_place, after, sound) = injected((10, 0));
    let file = |path: &str| after.read(path);
    let faults = |keys: &Keys| judge(keys, "ControlSet001", (10, 0), &[ID.into()], &file);
    assert_eq!(faults(&sound), Vec::<String>::new());
    let service = "ControlSet001\\Services\\tidescsi";
    let package = sound.text("DriverDatabase\\DriverInfFiles\\oem1.inf", "Active").unwrap();
    let package = format!("DriverDatabase\\DriverPackages\\{package}");
    let section = sound.text(&format!("{package}\\Descriptors\\{ID}"), "Configuration").unwrap();
    let ids = format!("DriverDatabase\\DeviceIds\\{ID}");
    let disks = "ControlSet001\\Control\\Class\\{4d36e967-e325-11ce-bfc1-08002be10318}";
    type Mistake<'a> = (&'a str, Box<dyn Fn(&mut Keys) + 'a>);
    let mistakes: Vec<Mistake<'_>> = vec![
        ("starts by hand", Box::new(|k| set(k, service, "Start", number(3)))),
        ("never starts", Box::new(|k| set(k, service, "Start", number(4)))),
        ("no start", Box::new(|k| set(k, service, "Start", None))),
        ("no driver", Box::new(|k| set(k, service, "Type", number(16)))),
        ("an override", Box::new(|k| set(k, &format!("{service}\\StartOverride"), "0", number(3)))),
        ("no service", Box::new(|k| drop(k.0.remove(&service.to_lowercase())))),
        ("an unknown group", Box::new(|k| set(k, service, "Group", text("Tide miniport")))),
        ("no group", Box::new(|k| set(k, service, "Group", None))),
        ("another file", Box::new(|k| set(k, service, "ImagePath", text("System32\\drivers\\tidescsj.sys")))),
        ("a file elsewhere", Box::new(|k| set(k, service, "ImagePath", text("C:\\tide.sys")))),
        ("no program", Box::new(|k| set(k, service, "ImagePath", text("INF\\oem0.inf")))),
        ("no error control", Box::new(|k| set(k, service, "ErrorControl", None))),
        ("not bound", Box::new(|k| drop(k.0.remove(&ids.to_lowercase())))),
        ("bound by a text", Box::new(|k| set(k, &ids, "oem1.inf", text("x")))),
        ("bound as nothing", Box::new(|k| set(k, &ids, "oem1.inf", Some((3, vec![7, 0xff, 0, 0]))))),
        ("no package", Box::new(|k| set(k, "DriverDatabase\\DriverInfFiles\\oem1.inf", "Active", None))),
        ("another package", Box::new(|k| set(k, "DriverDatabase\\DriverInfFiles\\oem1.inf", "Active", text("tide")))),
        ("not listed", Box::new(|k| set(k, "DriverDatabase\\DriverInfFiles\\oem1.inf", "", None))),
        ("no version", Box::new(|k| set(k, &package, "Version", None))),
        ("another processor", Box::new(|k| set(k, &package, "Version", Some((3, vec![0; 48]))))),
        ("another name", Box::new(|k| set(k, &package, "", text("oem9.inf")))),
        (
            "no configuration",
            Box::new(|k| set(k, &format!("{package}\\Descriptors\\{ID}"), "Configuration", text("x"))),
        ),
        (
            "no such service",
            Box::new(|k| set(k, &format!("{package}\\Configurations\\{section}"), "Service", text("tideblk2"))),
        ),
        ("not in the map", Box::new(|k| set(k, "DriverDatabase", "OemInfMap", Some((3, vec![0x80]))))),
        ("a filter that is off", Box::new(|k| set(k, "ControlSet001\\Services\\partmgr", "Start", number(4)))),
        ("a filter that is gone", Box::new(|k| set(k, disks, "LowerFilters", text("tidefilter")))),
    ];
    assert!(mistakes.len() >= 20);
    for (name, mistake) in mistakes {
        let mut keys = sound.clone();
        mistake(&mut keys);
        assert_ne!(faults(&keys), Vec::<String>::new(), "{name}");
    }
    let gone = |path: &str| after.read(path).filter(|_| !path.to_lowercase().contains("/oem1.inf"));
    assert_ne!(judge(&sound, "ControlSet001", (10, 0), &[ID.into()], &gone), Vec::<String>::new());
    let other = |path: &str| after.read(path).map(|_| driver::program(0x014c, true));
    assert_ne!(judge(&sound, "ControlSet001", (10, 0), &[ID.into()], &other), Vec::<String>::new());

    let (_place, after, sound) = injected((6, 1));
    let file = |path: &str| after.read(path);
    let faults = |keys: &Keys| judge(keys, "ControlSet002", (6, 1), &[ID.into()], &file);
    assert_eq!(faults(&sound), Vec::<String>::new());
    let critical = format!("ControlSet002\\Control\\CriticalDeviceDatabase\\{}", ID.replace('\\', "#"));
    for (name, value) in [("Service", None), ("Service", text("tide")), ("ClassGUID", text("x"))] {
        let mut keys = sound.clone();
        set(&mut keys, &critical, name, value);
        assert_ne!(faults(&keys), Vec::<String>::new());
    }
}

/// A domain with three adapters, in the order of their places.
fn domain(disk: &str) -> String {
    let adapters: String = (1..=3)
        .map(|n| {
            format!(
                "<interface type='network'><mac address='02:5a:17:00:00:{n:02}'/><source network='quay'/><model type='e1000e'/></interface>\n"
            )
        })
        .collect();
    format!(
        "<domain type='kvm'><name>desk</name><memory unit='MiB'>1024</memory><vcpu>1</vcpu>\
         <os><type arch='x86_64' machine='q35'>hvm</type></os><clock offset='utc'/><devices>\
         <disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='{disk}'/><target dev='sda' bus='sata'/></disk>\
         <disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='data.img'/><target dev='sdb' bus='sata'/></disk>\
         {adapters}</devices></domain>"
    )
}

/// Moves a system with three adapters, and puts its scripts of the first start into a folder. Gives the receipt too.
fn carried(version: (u32, u32), scripts: &Path) -> (Place, Receipt) {
    let place = Place::of("desk.xml");
    disk(&place, "desk.img", &made(version), |_| {});
    place.write("desk.xml", domain("desk.img").as_bytes());
    place.write("data.img", &[0; 1 << 20]);
    place.write("tide.cmd", b"@echo off\r\necho the tide script runs\r\n");
    let drivers = vec![medium(&place, "drivers", |_, bytes| Some(bytes))];
    let first_boot = vec![place.path("tide.cmd").to_string_lossy().into_owned()];
    let guest = NewGuest { drivers, first_boot, host_name: Some("quay-7".into()), ..NewGuest::default() };
    let choices = Choices { guest, ..Choices::default() };
    let mut site = String::from("[destinations.quay]\nlike = \"virtio-host\"\nagents = [\"tide-agent-x64.msi\"]\n");
    site.push_str("adapters = [\"virtio-net\"]\n");
    let site = reformis_machine::Site::parse("site.toml", &site).unwrap();
    let options = reformis_move::carry::Options {
        order: place.order("quay", &choices),
        site,
        accept: Vec::new(),
        force: false,
        links: reformis_disk::source::Links::OwnFolder,
        resume: false,
        with: None,
        job: None,
        is_second: false,
        bitmap: None,
        off_since: None,
    };
    let landed = run(|context| reformis_move::carry::carry(&options, context)).unwrap();
    let disk = fs::read_dir(&landed.folder).unwrap().map(|entry| entry.unwrap().path());
    let disk = disk.into_iter().find(|path| path.to_string_lossy().ends_with("-0.qcow2")).unwrap();
    fs::copy(disk, place.path("landed.qcow2")).unwrap();
    let after = Lying::on(&place, "landed.qcow2");
    for (path, bytes) in after.files() {
        if let Some(below) = path.strip_prefix("/Windows/Reformis/") {
            let whole = scripts.join(below);
            fs::create_dir_all(whole.parent().unwrap()).unwrap();
            fs::write(whole, bytes).unwrap();
        }
    }
    let receipt = fs::read(landed.folder.join("receipt.json")).unwrap();
    (place, serde_json::from_slice(&receipt).unwrap())
}

/// What a script of the command interpreter has to be, as far as its text tells.
fn lint(name: &str, text: &str) {
    let labels: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix(':')).collect();
    assert!(text.ends_with("\r\n") && text.matches('\n').count() == text.matches("\r\n").count(), "{name}");
    for line in text.lines() {
        assert!(line.len() < 8191 && line.matches('"').count() % 2 == 0, "{name}: {line}");
        let outside: String = line.split('"').step_by(2).collect();
        assert!(outside.is_ascii(), "{name}: {line}");
        let is_script = !line.starts_with("rem ") && !line.starts_with("powershell ");
        if is_script {
            assert_eq!(outside.matches('(').count(), outside.matches(')').count(), "{name}: {line}");
        }
        for word in ["goto ", "call :"] {
            for (at, _) in outside.match_indices(word) {
                let target = &outside[at + word.len()..];
                let target = target.split([' ', ')', '&']).next().unwrap();
                assert!(labels.contains(&target), "{name}: nothing is called {target}");
            }
        }
    }
}

#[test]
fn a_machine_with_more_than_a_disk_gets_all_that_it_needs() {
    if !ready() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let (place, receipt) = carried((10, 0), folder.path());
    let mut count = 0;
    for entry in fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().path()) {
        if entry.extension().is_some_and(|ending| ending == "cmd") {
            lint(&entry.to_string_lossy(), &fs::read_to_string(&entry).unwrap());
            count += 1;
        }
    }
    assert_eq!(count, 6);
    let after = Lying::on(&place, "landed.qcow2");
    let system = hives::read(&after.read(&format!("{CONFIG}/SYSTEM")).unwrap());
    for set in ["ControlSet001", "ControlSet002"] {
        assert_eq!(system.number(&format!("{set}\\Services\\partmgr\\Parameters"), "SanPolicy"), Some(1));
        assert_eq!(system.number(&format!("{set}\\Control\\TimeZoneInformation"), "RealTimeIsUniversal"), Some(1));
        let service = format!("{set}\\Services\\ReformisFirstStart");
        assert_eq!((system.number(&service, "Type"), system.number(&service, "Start")), (Some(0x10), Some(2)));
        assert!(system.text(&service, "ImagePath").unwrap().ends_with("%SystemRoot%\\Reformis\\first-start.cmd"));
    }
    let software = hives::read(&after.read(&format!("{CONFIG}/SOFTWARE")).unwrap());
    let run = software.get("Microsoft\\Windows\\CurrentVersion\\Run").unwrap();
    assert_eq!(run.keys().collect::<Vec<_>>(), ["gauge"], "the old host's tray program is gone, and nothing else");
    let names: Vec<String> = receipt.guest.unwrap().edits.into_iter().map(|edit| edit.name).collect();
    assert_eq!(names, ["drivers", "helpers", "disks", "clock", "adapters", "identity", "first-boot"]);
}

/// Programs of the system that record what they were asked: each is a script that is found before the real one.
fn recorders(folder: &Path) {
    fs::create_dir_all(folder).unwrap();
    for name in ["netsh", "pnputil", "sc", "msiexec", "powershell", "route", "ping"] {
        let shows =
            if name == "netsh" { "if \"%3\"==\"show\" type \"%REFORMIS_TEST%\\addresses.txt\"\r\n" } else { "" };
        let script = format!("@echo off\r\n>>\"%REFORMIS_TEST%\\asked.txt\" echo {name} %*\r\n{shows}exit /b 0\r\n");
        fs::write(folder.join(format!("{name}.cmd")), script).unwrap();
    }
    let list = "\"Local & 1\",\"Tide Ethernet\",\"02-5A-17-00-00-01\",\"\\Device\\Tcpip_{1}\"\r\n\
                \"Ethernet 2\",\"Tide Ethernet\",\"02-5A-17-00-00-02\",\"\\Device\\Tcpip_{2}\"\r\n\
                \"Ethernet 3\",\"Tide Ethernet\",\"02-5A-17-00-00-03\",\"Media disconnected\"\r\n";
    fs::write(folder.join("list.txt"), list).unwrap();
    fs::write(folder.join("getmac.cmd"), "@echo off\r\ntype \"%REFORMIS_TEST%\\list.txt\"\r\n").unwrap();
    fs::write(folder.join("addresses.txt"), "IP: 192.0.2.7\r\nIP: 198.51.100.7\r\n").unwrap();
}

/// The scripts run in Wine's interpreter, with stand-ins for the system's own tools that record what they were asked.
#[test]
#[ignore = "needs Wine; CI runs it"]
fn the_first_start_does_what_it_says() {
    for version in [(10, 0), (6, 1)] {
        let folder = tempfile::tempdir().unwrap();
        let scripts = folder.path().join("Reformis");
        let (_place, receipt) = carried(version, &scripts);
        let told = serde_json::to_string(&receipt).unwrap();
        let how = if version == (10, 0) { "by its hardware address" } else { "by its place on PCI" };
        assert!(told.contains(how), "{told}");
        let tools = folder.path().join("tools");
        recorders(&tools);
        let windows = |path: &Path| format!("Z:{}", path.to_string_lossy().replace('/', "\\"));
        let log = folder.path().join("first-start.log");
        // `call` is needed for tools that are scripts here: another program would come back by itself.
        let replaced = ["netsh", "pnputil", "sc", "msiexec", "powershell", "route", "ping", "getmac"];
        for entry in fs::read_dir(&scripts).unwrap().map(|entry| entry.unwrap().path()) {
            if entry.extension().is_none_or(|ending| ending != "cmd") {
                continue;
            }
            let text = fs::read_to_string(&entry).unwrap();
            let with_call = |line: &str| match replaced.iter().find(|tool| line.starts_with(&format!("{tool} "))) {
                Some(_) => format!("call {line}\r\n"),
                None => format!("{line}\r\n"),
            };
            fs::write(&entry, text.lines().map(with_call).collect::<String>()).unwrap();
        }
        let start = |log: &Path| {
            let wine = Command::new("wine")
                .args(["cmd", "/d", "/c", &windows(&scripts.join("first-start.cmd"))])
                .env("WINEPREFIX", folder.path().join("prefix"))
                .env("WINEDEBUG", "-all")
                .env("WINEPATH", windows(&tools))
                .env("REFORMIS_FOLDER", windows(&scripts))
                .env("REFORMIS_LOG", windows(log))
                .env("REFORMIS_TEST", windows(&tools))
                .output()
                .unwrap();
            fs::read_to_string(log).unwrap_or_else(|error| panic!("{error}: {wine:?}"))
        };
        let kept: Vec<(std::path::PathBuf, Vec<u8>)> = fs::read_dir(&scripts)
            .unwrap()
            .map(|entry| entry.unwrap().path())
            .filter(|path| path.is_file())
            .map(|path| (path.clone(), fs::read(&path).unwrap()))
            .collect();
        let again = |markers: &[&str]| {
            fs::create_dir_all(&scripts).unwrap();
            kept.iter().for_each(|(path, bytes)| fs::write(path, bytes).unwrap());
            markers.iter().for_each(|name| fs::write(scripts.join(name), "x").unwrap());
        };
        let log = start(&log);
        let asked = fs::read_to_string(tools.join("asked.txt")).unwrap_or_default();
        assert!(!log.contains("FAILED: a") && log.contains("the tide script runs"), "{log}");
        for line in [
            "netsh interface set interface name=\"Local & 1\" newname=\"Ethernet0\"",
            "netsh interface ipv4 set address name=\"Ethernet0\" source=static address=192.0.2.7 mask=255.255.255.0 gateway=192.0.2.1 gwmetric=7",
            "netsh interface ipv4 set dnsservers name=\"Ethernet0\" source=static address=192.0.2.2 register=primary validate=no",
            "netsh interface ipv4 add dnsservers name=\"Ethernet0\" address=192.0.2.3 index=2 validate=no",
            "netsh interface ipv4 set interface \"Ethernet0\" metric=15",
            "netsh interface set interface name=\"Ethernet 2\" newname=\"Backup & night\"",
            "netsh interface ipv4 set address name=\"Backup & night\" source=static address=198.51.100.7 mask=255.255.255.128",
            "netsh interface ipv4 add address name=\"Backup & night\" address=198.51.100.8 mask=255.255.255.128",
            "route -p add 203.0.113.0 mask 255.255.255.0 192.0.2.254 metric 5",
            "sc delete ReformisFirstStart",
            "msiexec /i",
            "Rename",
        ] {
            assert!(asked.contains(line), "{line}\n--\n{asked}\n--\n{log}");
        }
        let install = if version == (10, 0) { "pnputil /add-driver" } else { "pnputil -i -a" };
        assert!(asked.matches(install).count() >= 3, "{asked}");
        // The third adapter asks a server, and is left alone.
        assert!(!asked.contains("Ethernet 3") && !asked.contains("Guest"), "{asked}");
        assert!(
            log.contains("FAILED: 198.51.100.8 is not on it") && log.contains("holds: 192.0.2.7 is on it"),
            "{log}"
        );
        // This interpreter holds the script open that it runs; all else is gone.
        let left = crate::common::files(&scripts);
        assert!(left.iter().all(|name| name == "first-start.cmd"), "{left:?}");
        // No adapter comes up: it waits for all of them together, says so, and ends.
        again(&[]);
        fs::write(tools.join("list.txt"), "").unwrap();
        fs::remove_file(tools.join("asked.txt")).unwrap();
        let lost = start(&folder.path().join("lost.log"));
        assert!(lost.contains("FAILED: no adapter has the address 02-5A-17-00-00-01"), "{lost}");
        assert!(lost.contains("FAILED: no adapter has the address 02-5A-17-00-00-02"), "{lost}");
        assert!(lost.contains("done: the service is removed"), "{lost}");
        let asked = fs::read_to_string(tools.join("asked.txt")).unwrap();
        assert!(asked.matches("ping ").count() < 26 && !asked.contains("netsh"), "{asked}");
        // After three starts that were cut short, nothing is tried again.
        again(&["start-1", "start-2", "start-3"]);
        fs::remove_file(tools.join("asked.txt")).unwrap();
        let given = start(&folder.path().join("given.log"));
        assert!(given.contains("three starts did not finish") && given.contains("the service is removed"), "{given}");
        assert_eq!(fs::read_to_string(tools.join("asked.txt")).unwrap().trim(), "sc delete ReformisFirstStart");
        // One that was cut short goes on with what is left.
        again(&["start-1"]);
        fs::remove_file(scripts.join("10-drivers.cmd")).unwrap();
        let on = start(&folder.path().join("on.log"));
        assert!(!on.contains("10-drivers.cmd") && on.contains("50-10.cmd"), "{on}");
    }
}
