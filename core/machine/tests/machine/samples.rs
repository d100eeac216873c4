//! Machine files as hosts of different makers and years write them (made up here): what we read of each, what we write
//! for each, and that nothing goes lost but what a kind has no word for.

use insta::{assert_json_snapshot, assert_snapshot};
use reformis_machine::{Document, Earlier, Keep, Machine, MachineFile, lost, read, script, unknown};

use crate::common::{KINDS, document, samples, write};

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
