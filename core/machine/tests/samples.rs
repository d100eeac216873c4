//! Machine files as hosts of different makers and years write them (made up here): what we read of each, what we write
//! for each, and that nothing goes lost but what a kind has no word for.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::{collections::BTreeSet, fs, path::Path};

use proptest::prelude::*;
use serde_json::Value;

use insta::{assert_json_snapshot, assert_snapshot};
use reformis_machine::{
    Document, Earlier, Keep, LandedDisk, Machine, MachineFile, Name, domain, launch, lost, ovf, read, script, unknown,
    vbox, vmx,
};

/// All samples: name and content, sorted.
fn samples() -> Vec<(String, Vec<u8>)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples");
    let mut samples: Vec<_> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap())
        .map(|entry| (entry.file_name().into_string().unwrap(), fs::read(entry.path()).unwrap()))
        .collect();
    samples.sort();
    samples
}

fn document(name: &str, bytes: &[u8]) -> Document {
    let kind = MachineFile::detect(&bytes[..bytes.len().min(4096)]);
    read(kind.unwrap_or_else(|| panic!("{name} is not recognised")), bytes, name).unwrap()
}

fn landed(machine: &Machine) -> Vec<LandedDisk> {
    let disk = |index: usize| LandedDisk {
        format: "vmdk".into(),
        layout: "stream".into(),
        size: 1 << 30,
        file_size: 70_000 + index as u64,
        used: 65_536,
        content_digest: "ab".repeat(32),
        ..LandedDisk::default()
    };
    (0..machine.disks.len()).map(disk).collect()
}

const KINDS: [MachineFile; 5] =
    [MachineFile::DomainXml, MachineFile::Ovf, MachineFile::Vmx, MachineFile::Vbox, MachineFile::LaunchJson];

fn write(kind: MachineFile, machine: &Machine, earlier: Option<Earlier<'_>>) -> String {
    match kind {
        MachineFile::DomainXml => domain::write(machine, earlier).unwrap(),
        MachineFile::Vmx => vmx::write(machine, earlier),
        MachineFile::Vbox => vbox::write(machine, &landed(machine), earlier).unwrap(),
        MachineFile::LaunchJson => launch::write(machine, &landed(machine), "nvme-cloud", earlier),
        _ => ovf::write(machine, &landed(machine), "vmx-14", earlier).unwrap(),
    }
}

#[test]
fn what_is_read_of_each_sample() {
    let mut counts = [0; 4];
    for (name, bytes) in samples() {
        let document = document(&name, &bytes);
        let index = KINDS.iter().position(|kind| *kind == document.kind).unwrap();
        counts[index] += 1;
        assert_json_snapshot!(format!("read {name}"), document.machines);
    }
    assert_eq!(counts, [6, 6, 4, 3]);
}

#[test]
fn what_is_written_in_each_kind_of_two_machines() {
    for name in ["gatekeeper.vmx", "weir-sata.xml"] {
        let bytes = samples().into_iter().find(|(known, _)| known == name).unwrap().1;
        let machine = document(name, &bytes).machines.remove(0);
        for kind in KINDS {
            assert_snapshot!(format!("{name} as {}", kind.word()), write(kind, &machine, None));
        }
        assert_snapshot!(format!("{name} as start-script"), script::write(&machine));
    }
}

/// The settings that a kind has no word for, for any machine: patterns of what may be lost.
fn may_be_lost(kind: MachineFile) -> &'static [&'static str] {
    match kind {
        // Beside these: a bridge, or a controller that its hosts do not have, and with it the disk's place.
        MachineFile::DomainXml => {
            &["start_with_host", "system", "nvram", "removable.", "serial_ports", "adapters.N.model", "disks.N."]
        }
        MachineFile::Ovf => &["start_with_host", "uuid", "nvram", "clock", "time_zone", "tpm", "removable."],
        MachineFile::Vmx => &[
            "start_with_host",
            "clock",
            "time_zone",
            "system.",
            "tpm",
            "removable.",
            "adapters.N.model",
            "disks.N.controller",
            "disks.N.slot",
            "disks.N.bus",
        ],
        MachineFile::Vbox => &[
            "cpu.",
            "time_zone",
            "system",
            "firmware.secure_boot",
            "disks.N.",
            "adapters.N.model",
            "adapters.N.network",
            "removable.",
        ],
        _ => &[],
    }
}

#[test]
fn nothing_is_lost_but_what_a_kind_has_no_word_for() {
    let mut wrong = Vec::new();
    for (name, bytes) in samples() {
        for mut machine in document(&name, &bytes).machines {
            // As a plan has it: hosts count memory in MiB, and every disk is one file.
            machine.memory = machine.memory.next_multiple_of(1 << 20);
            for (index, disk) in machine.disks.iter_mut().enumerate() {
                disk.files = vec![format!("disk-{index}.img")];
            }
            for kind in KINDS {
                let text = write(kind, &machine, None);
                let again =
                    read(kind, text.as_bytes(), "again").unwrap_or_else(|e| panic!("{name} {kind:?}: {e}\n{text}"));
                let [again] = &again.machines[..] else { panic!("{name}: not one machine") };
                let allowed = may_be_lost(kind);
                for lost in lost(&machine, again) {
                    let plain: Vec<_> = lost
                        .setting
                        .split('.')
                        .map(|part| if part.parse::<u32>().is_ok() { "N" } else { part })
                        .collect();
                    let plain = plain.join(".");
                    if !allowed.iter().any(|start| plain.starts_with(start)) {
                        wrong.push(format!("{name} as {}: {} = {}", kind.word(), lost.setting, lost.value));
                    }
                }
                // What was written once is written again without any further loss.
                let twice = read(kind, write(kind, again, None).as_bytes(), "twice").unwrap();
                let more = lost(again, &twice.machines[0]);
                wrong.extend(more.iter().map(|lost| format!("{name} as {} again: {lost:?}", kind.word())));
            }
        }
    }
    assert_eq!(wrong, [""; 0], "lost, and not listed as what the kind has no word for");
}

/// A file that is rewritten in its own kind keeps what the machine does not speak of.
/// What stays of a file that is rewritten in its own kind, what is dropped and named, and what goes in any case.
#[test]
fn only_what_is_harmless_stays_when_a_file_is_rewritten_in_its_own_kind() {
    for (name, kept, dropped, gone) in [
        (
            "gatekeeper.vmx",
            &["guestinfo.gauge = \"north-channel\"", "vcpu.hotadd"][..],
            &[][..],
            &["uuid.location"][..],
        ),
        (
            "ebb.vbox",
            &["USBTablet", "name=\"/tides\""],
            &[("ExtraData/ExtraDataItem", "site/gauge"), ("Hardware/Clipboard", "Clipboard")],
            &["hostPath", "lastStateChange"],
        ),
        (
            "tidelog-q35.xml",
            &["harbour-wall", "vmport", "watchdog"],
            &[("domain/memoryBacking", "<hugepages/>")],
            &["hostdev", "/dev/vg0/tides'"],
        ),
        ("buoycam-scsi-running.xml", &[], &[("domain/commandline", "-no-hpet")], &["id='7'"]),
        (
            "appliance-sections.ovf",
            &["Gauge hub", "Free for everyone &amp; all tides."],
            &[("Envelope/Stamp", "harbour office")],
            &["${size}"],
        ),
    ] {
        let bytes = samples().into_iter().find(|(known, _)| known == name).unwrap().1;
        let earlier = String::from_utf8(bytes.clone()).unwrap();
        let Document { kind, machines, .. } = document(name, &bytes);
        let named = unknown(kind, &earlier);
        let harmless = write(kind, &machines[0], Some(Earlier { text: &earlier, keep: Keep::Harmless }));
        let all = write(kind, &machines[0], Some(Earlier { text: &earlier, keep: Keep::Everything }));
        for word in kept {
            assert!(harmless.contains(word) && all.contains(word), "{name}: {word} is gone\n{harmless}");
        }
        for (setting, word) in dropped {
            assert!(named.iter().any(|known| known == setting), "{name}: {setting} is not named: {named:?}");
            assert!(!harmless.contains(word), "{name}: {word} is still there\n{harmless}");
            assert!(all.contains(word), "{name}: {word} is gone\n{all}");
        }
        for word in gone {
            assert!(!all.contains(word), "{name}: {word} is still there\n{all}");
        }
        // It is sound, says the same, and a second rewriting changes nothing.
        let again = read(kind, harmless.as_bytes(), name).unwrap();
        let twice = write(kind, &again.machines[0], Some(Earlier { text: &harmless, keep: Keep::Harmless }));
        assert_eq!(twice, harmless, "{name}");
        assert_eq!(unknown(kind, &harmless), Vec::<String>::new(), "{name}");
    }
}

/// What a stranger's file may have its next host do: run a program, open files, devices and sockets, take down walls.
#[test]
fn nothing_that_acts_on_the_host_comes_along() {
    let domain = |inside: &str, devices: &str| {
        format!(
            "<domain type='kvm' xmlns:qemu='http://libvirt.org/schemas/domain/qemu/1.0'><name>a</name>\
             <memory>1048576</memory>{inside}<devices>{devices}</devices></domain>"
        )
    };
    let vbox = |data: &str, hardware: &str| {
        format!(
            "<VirtualBox xmlns=\"http://www.virtualbox.org/\"><Machine name=\"a\"><ExtraData>{data}</ExtraData>\
             <Hardware><Memory RAMSize=\"512\"/>{hardware}</Hardware></Machine></VirtualBox>"
        )
    };
    let vmx = |line: &str| format!("config.version = \"8\"\nmemsize = \"512\"\n{line}\n");
    for (name, text, word) in [
        ("a.xml", domain("<qemu:commandline><qemu:arg value='-evil'/></qemu:commandline>", ""), "evil"),
        (
            "a.xml",
            domain(
                "<commandline xmlns='http://libvirt.org/schemas/domain/qemu/1.0'><arg value='-evil'/></commandline>",
                "",
            ),
            "evil",
        ),
        ("a.xml", domain("<seclabel type='none' model='evil'/>", ""), "seclabel"),
        ("a.xml", domain("<bootloader>/tmp/evil</bootloader>", ""), "evil"),
        ("a.xml", domain("<sysinfo type='fwcfg'><entry name='opt/x' file='/etc/evil'/></sysinfo>", ""), "evil"),
        ("a.xml", domain("<memoryBacking><source type='evil'/></memoryBacking>", ""), "evil"),
        ("a.xml", domain("", "<emulator>/tmp/evil</emulator>"), "evil"),
        ("a.xml", domain("", "<vsock model='virtio'><cid auto='yes'/></vsock>"), "vsock"),
        ("a.xml", domain("", "<filesystem type='mount'><source dir='/evil'/><target dir='x'/></filesystem>"), "evil"),
        ("a.xml", domain("", "<serial type='file'><source path='/evil'/></serial>"), "evil"),
        (
            "a.xml",
            domain("", "<rng model='virtio'><backend model='egd' type='tcp'><source host='evil'/></backend></rng>"),
            "evil",
        ),
        (
            "a.vbox",
            vbox("<ExtraDataItem name=\"VBoxInternal/Devices/evil/0/Config/File\" value=\"/etc/x\"/>", ""),
            "evil",
        ),
        ("a.vbox", vbox("", "<RemoteDisplay enabled=\"true\"><VRDEProperties evil=\"1\"/></RemoteDisplay>"), "evil"),
        ("a.vbox", vbox("", "<USB><DeviceFilters><DeviceFilter name=\"evil\"/></DeviceFilters></USB>"), "evil"),
        ("a.vbox", vbox("", "<VideoCapture file=\"/evil\"/>"), "evil"),
        ("a.vmx", vmx("RemoteDisplay.vnc.enabled = \"TRUE\""), "RemoteDisplay"),
        ("a.vmx", vmx("debugStub.listen.guest64.remote = \"TRUE\""), "debugStub"),
        ("a.vmx", vmx("log.fileName = \"/root/evil\""), "evil"),
        ("a.vmx", vmx("isolation.tools.copy.disable = \"FALSE\""), "isolation"),
        ("a.vmx", vmx("usb.autoConnect.device0 = \"evil\""), "evil"),
        ("a.vmx", vmx("workingDir = \"/evil\""), "evil"),
        ("a.vmx", vmx("serial0.present = \"TRUE\"\nserial0.fileName = \"/evil\""), "evil"),
        (
            "a.json",
            r#"{"schema":1,"kind":"machine-launch","architecture":"x86_64","evil":"x","machine":{"name":"a",
               "cpu":{"sockets":1,"cores":1},"memory":1073741824,"firmware":{"kind":"bios"},"clock":"utc","disks":[],
               "removable":[],"adapters":[],"serial_ports":0,"leftovers":[]}}"#
                .into(),
            "evil",
        ),
    ] {
        let Document { kind, machines, .. } = document(name, text.as_bytes());
        let written = write(kind, &machines[0], Some(Earlier { text: &text, keep: Keep::Harmless }));
        assert!(!written.contains(word), "{text}\n{written}");
        assert!(read(kind, written.as_bytes(), name).is_ok(), "{written}");
    }
    let walls = vmx("isolation.tools.copy.disable = \"TRUE\"");
    let kept = write(MachineFile::Vmx, &Machine::new("a"), Some(Earlier { text: &walls, keep: Keep::Harmless }));
    assert!(kept.contains("isolation.tools.copy.disable"), "a wall stays");
    // The settings that nothing else tells of are named.
    let text = domain("<qemu:commandline/><seclabel/>", "<vsock/>");
    assert_eq!(unknown(MachineFile::DomainXml, &text), ["domain/commandline", "domain/seclabel", "devices/vsock"]);
}

#[test]
fn a_file_cut_short_anywhere_is_no_panic() {
    for (name, bytes) in samples() {
        let kind = document(&name, &bytes).kind;
        let whole = read(kind, &bytes, &name).unwrap();
        for len in (0..bytes.len().saturating_sub(12)).step_by(13) {
            // A file of lines may be sound when it is cut; one of elements never is.
            let cut = read(kind, &bytes[..len], &name);
            assert!(kind == MachineFile::Vmx || cut.is_err(), "{name} at {len}");
        }
        assert!(!whole.machines.is_empty());
    }
}

#[test]
fn numbers_that_no_machine_has_are_errors_that_say_where() {
    for (name, from, to, expected) in [
        ("gatekeeper.vmx", "memSize = \"4096\"", "memSize = \"999999999999\"", "line 11: memory of '999999999999' MiB"),
        ("gatekeeper.vmx", "numvcpus = \"4\"", "numvcpus = \"many\"", "numvcpus is 'many', expected a number"),
        ("gatekeeper.vmx", "numvcpus = \"4\"", "numvcpus = \"0\"", "a number of processors that no host has"),
        ("gatekeeper.vmx", "scsi0:0.fileName = \"gatekeeper.vmdk\"\n", "", "disk scsi0:0 does not say which file"),
        ("ebb.vbox", "RAMSize=\"2048\"", "RAMSize=\"-1\"", "line 21: memory of '-1' MiB"),
        ("ebb.vbox", "count=\"2\"", "count=\"100000\"", "'100000' processors"),
        ("ebb.vbox", "d001}\" location", "d009}\" location", "is not in the registry of media"),
        ("weir-sata.xml", "unit='MiB'>6144", "unit='parsecs'>6144", "memory of '6144' in units of 'parsecs'"),
        ("weir-sata.xml", "<vcpu>3", "<vcpu>x", "'x' processors"),
        ("weir-sata.xml", "<source file='weir.qcow2'/>", "", "a disk that does not say which file it is kept in"),
        ("weir-sata.xml", "<domain", "<!DOCTYPE d [<!ENTITY a 'b'>]><domain", "is not valid XML"),
    ] {
        let bytes = samples().into_iter().find(|(known, _)| known == name).unwrap().1;
        let text = String::from_utf8(bytes).unwrap();
        assert!(text.contains(from), "{name}: {from}");
        let kind = document(name, text.as_bytes()).kind;
        let error = read(kind, text.replacen(from, to, 1).as_bytes(), name).unwrap_err().to_string();
        assert!(error.contains(expected), "{error:?} should contain {expected:?}");
    }
}

/// The kinds of token that our scripts are made of, and what may be called.
#[test]
fn start_scripts_keep_to_their_subset() {
    let cmdlets: BTreeSet<&str> = BTreeSet::from([
        "Add-VMDvdDrive",
        "Add-VMHardDiskDrive",
        "Add-VMNetworkAdapter",
        "Add-VMScsiController",
        "Connect-VMNetworkAdapter",
        "Enable-VMTPM",
        "Get-VM",
        "Get-VMDvdDrive",
        "Get-VMHardDiskDrive",
        "Get-VMNetworkAdapter",
        "Get-VMSwitch",
        "Join-Path",
        "New-VM",
        "Remove-VM",
        "Remove-VMDvdDrive",
        "Remove-VMNetworkAdapter",
        "Set-StrictMode",
        "Set-VM",
        "Set-VMBios",
        "Set-VMComPort",
        "Set-VMFirmware",
        "Set-VMKeyProtector",
        "Set-VMMemory",
        "Set-VMNetworkAdapter",
        "Set-VMProcessor",
        "Test-Path",
        "Write-Output",
        "Write-Warning",
    ]);
    let nasty = "a'b\u{2019}c \"$(Remove-Item x)\" `n\n; rm";
    let mut machines: Vec<Machine> = samples().iter().flat_map(|(n, b)| document(n, b).machines).collect();
    for machine in &mut machines {
        machine.name = Name::cleaned(nasty, "");
        machine.description = Some(nasty.into());
    }
    for machine in &machines {
        let text = script::write(machine);
        assert!(text.starts_with('\u{feff}') && text.lines().all(|line| !line.contains('\r')));
        assert_eq!(text.matches("\r\n").count(), text.matches('\n').count());
        let code = strip_strings(&text);
        let mut depth: Vec<char> = Vec::new();
        for c in code.chars() {
            match c {
                '(' | '{' | '[' => depth.push(c),
                ')' => assert_eq!(depth.pop(), Some('('), "{code}"),
                '}' => assert_eq!(depth.pop(), Some('{'), "{code}"),
                ']' => assert_eq!(depth.pop(), Some('['), "{code}"),
                _ => {}
            }
        }
        assert!(depth.is_empty(), "{code}");
        for word in code.split(|c: char| !(c.is_alphanumeric() || c == '-')).filter(|word| word.contains('-')) {
            let is_cmdlet = !word.starts_with('-') && word.starts_with(char::is_uppercase);
            assert!(!is_cmdlet || cmdlets.contains(word), "{word}");
        }
        let words = || code.split(|c: char| !(c.is_alphanumeric() || c == '-'));
        assert!(words().all(|word| word != "Remove-Item" && word != "rm"), "a string got out: {code}");
    }
}

/// A machine with the same strange text wherever a file can say one.
fn hostile(text: &str) -> Machine {
    let name = || Name::cleaned(text, "x");
    let mut machine =
        document("gatekeeper.vmx", &samples().into_iter().find(|(n, _)| n == "gatekeeper.vmx").unwrap().1)
            .machines
            .remove(0);
    machine.name = name();
    machine.description = Some(text.into());
    machine.time_zone = Some(text.into());
    machine.nvram = Some(text.into());
    machine.system = Some(reformis_machine::System { cim_os_type: 101, description: Some(text.into()) });
    for disk in &mut machine.disks {
        disk.id = name();
        disk.files = vec![format!("disk {text}")];
        disk.format = Some(text.into());
        disk.compression = Some(text.into());
    }
    for drive in &mut machine.removable {
        drive.media = Some(text.into());
    }
    for adapter in &mut machine.adapters {
        adapter.name = name();
        adapter.network = Some(name());
    }
    machine
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]
    /// Whatever a stranger's file says, the script's code is the same: all of it stays inside strings.
    #[test]
    fn no_text_becomes_code_of_a_script(text in prop_oneof![any::<String>(), "['\"$`;(){}\n\r#\u{2018}-\u{201e} a]{0,40}"]) {
        prop_assert_eq!(strip_strings(&script::write(&hostile(&text))), strip_strings(&script::write(&hostile("plain"))));
    }

    /// And every machine file that is written of it can be read, with its text in its place.
    #[test]
    fn no_text_breaks_a_machine_file(text in any::<String>()) {
        let machine = hostile(&text);
        for kind in [MachineFile::DomainXml, MachineFile::Vmx, MachineFile::Vbox, MachineFile::LaunchJson, MachineFile::Ovf] {
            let written = write(kind, &machine, None);
            let again = read(kind, written.as_bytes(), "again");
            prop_assert!(again.is_ok(), "{}: {:?}\n{}", kind.word(), again.err(), written);
            let again = again.unwrap().machines.remove(0);
            prop_assert_eq!(again.disks.len(), machine.disks.len());
            prop_assert_eq!(again.adapters.len(), machine.adapters.len());
        }
    }
}

/// The script without comments and what is inside its strings; fails when a string does not end on its line.
fn strip_strings(text: &str) -> String {
    let mut code = String::new();
    for line in text.trim_start_matches('\u{feff}').lines() {
        let mut quote = None;
        let mut chars = line.chars().peekable();
        while let Some(c) = chars.next() {
            let same = |q: char| {
                matches!(c, '\'' | '\u{2018}' | '\u{2019}' | '\u{201a}' | '\u{201b}') == (q == '\'')
                    && (c == '"') == (q == '"')
            };
            match quote {
                Some(q) if same(q) && chars.peek() == Some(&c) => drop(chars.next()),
                Some(q) if same(q) => quote = None,
                Some('"') if c == '$' => assert!(chars.peek().is_some_and(|c| c.is_alphabetic()), "{line}"),
                Some(_) => {}
                None if c == '#' => break,
                None if c == '\'' || c == '"' => quote = Some(c),
                None => code.push(c),
            }
        }
        assert_eq!(quote, None, "a string is open: {line}");
        code.push('\n');
    }
    code
}

/// The rules of DMTF's schemas (DSP8023 and the CIM classes): order of elements, unique instances, sound references.
#[test]
fn descriptors_keep_to_the_rules_of_the_schema() {
    for (name, bytes) in samples() {
        for mut machine in document(&name, &bytes).machines {
            for (index, disk) in machine.disks.iter_mut().enumerate() {
                disk.files = vec![format!("disk-{index}.vmdk")];
            }
            let text = write(MachineFile::Ovf, &machine, None);
            let document = roxmltree::Document::parse(&text).unwrap();
            let names = |node: roxmltree::Node<'_, '_>| -> Vec<String> {
                node.children().filter(roxmltree::Node::is_element).map(|c| c.tag_name().name().to_string()).collect()
            };
            let top = names(document.root_element());
            let order = ["References", "DiskSection", "NetworkSection", "VirtualSystem"];
            assert_eq!(top, order.into_iter().filter(|n| top.contains(&n.to_string())).collect::<Vec<_>>());
            let all = |name: &'static str| document.descendants().filter(move |n| n.tag_name().name() == name);
            for section in document.descendants().filter(|n| n.tag_name().name().ends_with("Section")) {
                assert_eq!(names(section)[0], "Info", "{name}");
            }
            assert_eq!(names(all("VirtualSystem").next().unwrap())[..2], ["Info", "Name"]);
            let mut instances = BTreeSet::new();
            for item in all("Item") {
                let fields = item.children().filter(|n| {
                    n.tag_name().namespace().is_some_and(|ns| ns.contains("RASD") || ns.contains("ResourceAllocation"))
                });
                let fields: Vec<_> = fields.map(|n| n.tag_name().name()).collect();
                assert!(fields.is_sorted(), "{name}: {fields:?}");
                assert!(["ElementName", "InstanceID", "ResourceType"].iter().all(|n| fields.contains(n)), "{fields:?}");
                let value = |field: &str| item.children().find(|n| n.tag_name().name() == field).and_then(|n| n.text());
                assert!(value("Parent").is_none_or(|parent| instances.contains(parent)), "{name}: parents come first");
                assert!(instances.insert(value("InstanceID").unwrap()), "{name}: an instance twice");
                if let Some(host) = value("HostResource") {
                    let id = host.strip_prefix("ovf:/disk/").unwrap();
                    let disk =
                        all("Disk").find(|n| n.attributes().any(|a| a.name() == "diskId" && a.value() == id)).unwrap();
                    let file = disk.attributes().find(|a| a.name() == "fileRef").unwrap().value();
                    assert!(all("File").any(|n| n.attributes().any(|a| a.name() == "id" && a.value() == file)));
                }
                if let Some(network) = value("Connection") {
                    assert!(all("Network").any(|n| n.attributes().any(|a| a.value() == network)), "{name}: {network}");
                }
            }
        }
    }
}

/// Launch JSON against the schema in `docs/`, as far as the schema's own words go.
#[test]
fn launch_json_keeps_to_its_published_schema() {
    let schema: Value = serde_json::from_str(include_str!("../../../docs/launch.schema.json")).unwrap();
    let mut wrong = Vec::new();
    for (name, bytes) in samples() {
        for machine in document(&name, &bytes).machines {
            let value: Value = serde_json::from_str(&write(MachineFile::LaunchJson, &machine, None)).unwrap();
            check(&schema, &schema, &value, &name, &mut wrong);
        }
    }
    assert_eq!(wrong, [""; 0]);
    // The checker itself notices what is wrong.
    check(&schema, &schema, &serde_json::json!({ "schema": 2, "machine": { "memory": "x" } }), "bad", &mut wrong);
    assert!(wrong.len() > 8, "{wrong:?}");
}

fn check(root: &Value, schema: &Value, value: &Value, at: &str, wrong: &mut Vec<String>) {
    if let Some(name) = schema["$ref"].as_str().and_then(|path| path.strip_prefix("#/$defs/")) {
        return check(root, &root["$defs"][name], value, at, wrong);
    }
    let mut note = |what: String| wrong.push(format!("{at}: {what}"));
    let fits = match schema["type"].as_str() {
        Some("object") => value.is_object(),
        Some("array") => value.is_array(),
        Some("string") => value.is_string(),
        Some("integer") => value.is_u64(),
        Some("boolean") => value.is_boolean(),
        _ => true,
    };
    if !fits {
        note(format!("{value} is no {}", schema["type"]));
    }
    let constant = schema.get("const").is_none_or(|constant| constant == value);
    if !constant || schema["enum"].as_array().is_some_and(|words| !words.contains(value)) {
        note(format!("{value} is not one of what is allowed"));
    }
    if value.as_u64() < schema["minimum"].as_u64() && value.is_u64() {
        note(format!("{value} is too small"));
    }
    if let Some(items) = value.as_array() {
        items.iter().enumerate().for_each(|(i, item)| check(root, &schema["items"], item, &format!("{at}.{i}"), wrong));
    }
    let Some(object) = value.as_object() else { return };
    for name in schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        if !object.contains_key(name) {
            wrong.push(format!("{at}: {name} is missing"));
        }
    }
    for (name, value) in object {
        match schema["properties"].get(name) {
            Some(inner) => check(root, inner, value, &format!("{at}.{name}"), wrong),
            None if schema["additionalProperties"] == false => wrong.push(format!("{at}: {name} is not known")),
            None => {}
        }
    }
}
