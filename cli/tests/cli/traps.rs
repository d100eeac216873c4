//! What another user of the same machine, or the stranger who made a file, may have laid out for an administrator.

use std::{
    fs,
    os::unix::fs::{MetadataExt, PermissionsExt, symlink},
};

use crate::support::{Export, Place, TIDELOG};

const VMX: &str = include_str!("../../../demo/ledger/ledger.vmx");
const LEDGER: &[u8] = include_bytes!("../../../demo/ledger/ledger.vmdk");
const ACCOUNTS: &[u8] = include_bytes!("../../../demo/ledger/ledger_1.vmdk");

/// A disk with something on it.
fn disk() -> Vec<u8> {
    let mut disk = vec![0; 3 << 20];
    disk[..5000].fill(7);
    disk
}

fn set_mode(place: &Place, name: &str, mode: u32) {
    fs::set_permissions(place.path(name), fs::Permissions::from_mode(mode)).unwrap();
}

fn mode(place: &Place, name: &str) -> u32 {
    fs::metadata(place.path(name)).unwrap().mode() & 0o777
}

#[test]
fn a_link_planted_under_a_temporary_name_is_not_followed() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.write("tidelog.ova", TIDELOG);
    place.write("victim", b"precious");
    fs::create_dir(place.path("shared")).unwrap();
    fs::create_dir(place.path("empty")).unwrap();
    for (name, args) in [
        ("a.qcow2", &["recast", "disk.img", "shared/a.qcow2"][..]),
        ("a.qcow2", &["recast", "disk.img", "shared/a.qcow2", "--force"]),
        ("r.json", &["recast", "disk.img", "out.qcow2", "--receipt", "shared/r.json"]),
        ("b.toml", &["draft", "tidelog.ova", "--dest", "virtio-host", "--out", "shared/b.toml"]),
        ("t.tar", &["peek", "tidelog.ova", "/etc", "--tar", "shared/t.tar"]),
        ("tidelog", &["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "shared"]),
    ] {
        let planted = place.path(&format!("shared/.{name}.reformis-partial"));
        for target in ["victim", "empty"] {
            symlink(place.path(target), &planted).unwrap();
            let ran = place.run(args).expect(1);
            assert!(ran.err.contains("is in the way"), "{args:?}: {}", ran.err);
            assert_eq!(fs::read(place.path("victim")).unwrap(), b"precious", "{args:?}");
            assert_eq!(fs::read_dir(place.path("empty")).unwrap().count(), 0, "{args:?}");
            assert!(!place.path(&format!("shared/{name}")).exists() && !place.path("out.qcow2").exists(), "{args:?}");
            fs::remove_file(&planted).unwrap();
        }
        place.run(args).expect(0);
        for made in ["out.qcow2", "shared/a.qcow2"] {
            fs::remove_file(place.path(made)).ok();
        }
    }
    symlink(place.path("victim"), place.path("log")).unwrap();
    place.run(&["survey", "disk.img", "--log", "log"]).expect(1);
    assert_eq!(fs::read(place.path("victim")).unwrap(), b"precious");
}

#[test]
fn a_result_is_open_to_nobody_who_may_not_open_its_source() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.write("tidelog.ova", TIDELOG);
    for source in ["disk.img", "tidelog.ova"] {
        set_mode(&place, source, 0o600);
    }
    for args in ["disk.qcow2", "split.vmdk --as vmdk/split", "disk.img.gz", "disk.vhd --receipt receipt.json"] {
        let args = ["recast", "disk.img"].into_iter().chain(args.split(' ')).collect::<Vec<_>>();
        place.run(&args).expect(0);
    }
    place.run(&["peek", "tidelog.ova", "/etc", "--tar", "etc.tar"]).expect(0);
    for name in ["disk.qcow2", "split.vmdk", "split-s001.vmdk", "disk.img.gz", "disk.vhd", "receipt.json", "etc.tar"] {
        assert_eq!(mode(&place, name), 0o600, "{name}");
    }
    for (how, files) in [
        ("virtio-host", &["tidelog.xml", "tidelog-0.qcow2", "tidelog-1.qcow2", "receipt.json"][..]),
        ("vmx-host", &["tidelog.ovf", "tidelog.mf", "tidelog-0.vmdk", "receipt.json"]),
    ] {
        place.run(&["carry", "tidelog.ova", "--dest", how, "--into", how]).expect(0);
        for file in files {
            assert_eq!(mode(&place, &format!("{how}/tidelog/{file}")), 0o600, "{how} {file}");
        }
    }
    // And no narrower than it need be.
    set_mode(&place, "disk.img", 0o644);
    place.run(&["recast", "disk.img", "open.qcow2"]).expect(0);
    assert_eq!(mode(&place, "open.qcow2"), 0o644);
}

#[test]
fn what_is_replaced_keeps_owner_mode_and_attributes() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.write("tidelog.ova", TIDELOG);
    place.run(&["recast", "tidelog.ova/tidelog-disk1.vmdk", "guest.qcow2"]).expect(0);
    place.write("there.qcow2", b"old");
    place.write("note", b"x");
    let root = rustix::process::geteuid().is_root();
    let note = |name: &str| {
        let mut value = [0; 64];
        let len = rustix::fs::getxattr(place.path(name), "user.note", &mut value[..]).ok()?;
        Some(value[..len].to_vec())
    };
    for name in ["there.qcow2", "guest.qcow2"] {
        set_mode(&place, name, 0o640);
        let _ = rustix::fs::setxattr(place.path(name), "user.note", b"tides", rustix::fs::XattrFlags::empty());
        if root {
            std::os::unix::fs::chown(place.path(name), Some(4321), Some(1234)).unwrap();
        }
    }
    let attributed = note("there.qcow2").is_some();
    place.run(&["recast", "disk.img", "there.qcow2", "--force"]).expect(0);
    place.run(&["patch", "guest.qcow2", "--put", "note:/etc/tide-note", "--in-place"]).expect(0);
    for name in ["there.qcow2", "guest.qcow2"] {
        let metadata = fs::metadata(place.path(name)).unwrap();
        assert_eq!(metadata.mode() & 0o777, 0o640, "{name}");
        if root {
            assert_eq!((metadata.uid(), metadata.gid()), (4321, 1234), "{name}");
        }
        if attributed {
            assert_eq!(note(name).as_deref(), Some(&b"tides"[..]), "{name}");
        }
    }
    assert_eq!(place.run(&["peek", "guest.qcow2", "/etc/tide-note"]).expect(0).out, "x");
}

#[test]
fn settings_that_may_act_on_the_new_host_are_dropped_and_named() {
    let place = Place::new();
    let domain = "<domain type='kvm' xmlns:qemu='http://libvirt.org/schemas/domain/qemu/1.0'><name>gauge</name>\
        <memory unit='GiB'>1</memory><pm><suspend-to-mem enabled='no'/></pm><devices>\
        <disk type='file' device='disk'><driver type='raw'/><source file='gauge.img'/><target dev='vda'/></disk></devices>\
        <qemu:commandline><qemu:arg value='-incoming'/><qemu:arg value='exec:touch /tmp/x'/></qemu:commandline></domain>";
    place.write("gauge.xml", domain.as_bytes());
    place.write("gauge.img", &disk());
    let carry = ["carry", "gauge.xml", "--dest", "virtio-host", "--into", "landing", "--json"];
    let receipt = place.run(&carry).expect(0).json()["receipt"].clone();
    let landed = fs::read_to_string(place.path("landing/gauge/gauge.xml")).unwrap();
    assert!(!landed.contains("exec:") && landed.contains("suspend-to-mem"), "{landed}");
    let found = |receipt: &serde_json::Value, code: &str| {
        let findings = receipt["findings"].as_array().unwrap();
        findings.iter().find(|finding| finding["code"] == code).map(|finding| finding["sentence"].to_string())
    };
    assert!(found(&receipt, "leftovers-dropped").unwrap().contains("'domain/commandline'"));
    let kept = [&carry[..], &["--keep-unknown", "--force"]].concat();
    let receipt = place.run(&kept).expect(0).json()["receipt"].clone();
    assert!(fs::read_to_string(place.path("landing/gauge/gauge.xml")).unwrap().contains("exec:"));
    assert!(found(&receipt, "leftovers-kept").unwrap().contains("'domain/commandline'"));
    assert_eq!(found(&receipt, "leftovers-dropped"), None);

    let vmx = format!("{VMX}RemoteDisplay.vnc.enabled = \"TRUE\"\nguestinfo.gauge = \"1\"\n");
    place.write("ledger/ledger.vmx", vmx.as_bytes());
    place.write("ledger/ledger.vmdk", LEDGER);
    place.write("ledger/ledger_1.vmdk", ACCOUNTS);
    let shown = place.run(&["draft", "ledger", "--dest", "vmx-host", "--machine-file", "vmx"]).expect(0).out;
    assert!(shown.contains("leftovers-dropped") && shown.contains("'RemoteDisplay.vnc.enabled'"), "{shown}");
}

#[test]
fn a_hardware_address_is_an_address_or_the_file_is_refused() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.run(&["carry", "disk.img", "--dest", "nvme-cloud", "--into", "cloud", "--name", "gauge"]).expect(0);
    let file = "cloud/gauge/gauge.launch.json";
    let launch = fs::read_to_string(place.path(file)).unwrap();
    let mut value: serde_json::Value = serde_json::from_str(&launch).unwrap();
    value["machine"]["adapters"][0]["mac"] = "00'; Start-Process calc; '".into();
    place.write(file, value.to_string().as_bytes());
    let ran = place.run(&["carry", file, "--dest", "vmbus-host", "--into", "landing"]).expect(1);
    assert!(ran.err.contains("is not a hardware address"), "{}", ran.err);
    assert!(!place.path("landing").exists());
}

#[test]
fn an_identity_of_letters_that_take_several_bytes_is_not_a_panic() {
    let place = Place::new();
    let settings = "<VirtualBox xmlns=\"http://www.virtualbox.org/\" version=\"1.12-linux\"><Machine \
        uuid=\"{ééééééééééééééééé1}\" name=\"flood\"><MediaRegistry><HardDisks><HardDisk uuid=\"{a}\" location=\"flood.vdi\"/>\
        </HardDisks></MediaRegistry><Hardware><Memory RAMSize=\"512\"/></Hardware><StorageControllers><StorageController \
        type=\"AHCI\"><AttachedDevice type=\"HardDisk\" port=\"0\" device=\"0\"><Image uuid=\"{a}\"/></AttachedDevice>\
        </StorageController></StorageControllers></Machine></VirtualBox>";
    place.write("flood.vbox", settings.as_bytes());
    place.write("disk.img", &disk());
    place.run(&["recast", "disk.img", "flood.vdi"]).expect(0);
    place.run(&["carry", "flood.vbox", "--dest", "vdi-host", "--into", "landing"]).expect(0);
}

#[test]
fn a_proof_covers_every_file_of_the_landing() {
    let place = Place::new();
    let vmx = format!("{VMX}nvram = \"ledger.nvram\"\n");
    place.write("ledger/ledger.vmx", vmx.as_bytes());
    place.write("ledger/ledger.vmdk", LEDGER);
    place.write("ledger/ledger_1.vmdk", ACCOUNTS);
    place.write("ledger/ledger.nvram", b"variables");
    place.write("tidelog.ova", TIDELOG);
    place.run(&["carry", "ledger", "--dest", "vmx-host", "--machine-file", "vmx", "--into", "landing"]).expect(0);
    place.run(&["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "landing"]).expect(0);
    place.run(&["carry", "tidelog.ova", "--dest", "vmx-host", "--into", "ovf"]).expect(0);
    for (receipt, file, from, to, shown) in [
        ("landing/ledger", "ledger.vmx", "numvcpus = \"4\"", "numvcpus = \"64\"", "cpu.sockets"),
        ("landing/ledger", "ledger.nvram", "variables", "variable!", "was changed after the landing"),
        ("landing/tidelog", "tidelog.xml", "<vcpu>2</vcpu>", "<vcpu>64</vcpu>", "cpu."),
        ("ovf/tidelog", "tidelog.mf", "SHA256(", "SHA256( ", "was changed after the landing"),
        ("ovf/tidelog", "tidelog.ovf", "</ovf:Envelope>", "", "cannot be read any more"),
    ] {
        let path = place.path(receipt).join(file);
        let before = fs::read_to_string(&path).unwrap();
        assert!(before.contains(from), "{file}: {before}");
        let prove = ["prove", &format!("{receipt}/receipt.json")[..]].map(str::to_string);
        let prove: Vec<&str> = prove.iter().map(String::as_str).collect();
        assert!(place.run(&prove).expect(0).out.contains("every byte that a guest sees is accounted for"));
        fs::write(&path, before.replacen(from, to, 1)).unwrap();
        let ran = place.run(&prove).expect(4);
        let words = ran.out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(words.contains(shown) && words.contains(file) && words.contains("does not hold"), "{}", ran.out);
        let ran = place.run(&[&prove[..], &["--machine-may-differ"]].concat()).expect(0);
        assert!(ran.out.contains("machine-file-changed") && !ran.out.contains("every byte"), "{}", ran.out);
        let json = place.run(&[&prove[..], &["--json"]].concat()).expect(4).json();
        let files = json["proof"]["files"].as_array().unwrap();
        assert_eq!(files.iter().filter(|file| file["holds"] == false).count(), 1, "{json}");
        fs::remove_file(&path).unwrap();
        assert!(place.run(&prove).expect(4).out.contains("it is missing"));
        fs::write(&path, before).unwrap();
    }
    // The settings that changed are shown as they were and as they are.
    let path = place.path("landing/ledger/ledger.vmx");
    let text = fs::read_to_string(&path).unwrap().replace("numvcpus = \"4\"", "numvcpus = \"64\"");
    fs::write(&path, text).unwrap();
    let json = place.run(&["prove", "landing/ledger/receipt.json", "--json"]).expect(4).json();
    assert_eq!(json["proof"]["files"][0]["settings"][0]["after"], "32", "{json}");
}

#[test]
fn a_receipt_that_cannot_be_is_refused() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.carry(&[]).expect(0);
    let path = place.path("landing/tidelog/receipt.json");
    let receipt = fs::read_to_string(&path).unwrap();
    let edited = |start: &str, end: &str| {
        let edits = format!(
            "\"edits\": [{{\"name\":\"x\",\"reason\":\"y\",\"ranges\":[{{\"start\":{start},\"end\":{end}}}]}}]"
        );
        let at = receipt.find("\"edits\": [").unwrap();
        let close = at + receipt[at..].find("\n      ]").unwrap() + "\n      ]".len();
        format!("{}{edits}{}", &receipt[..at], &receipt[close..])
    };
    for (text, part) in [
        (edited("10", "5"), "covers bytes 10 to 5 of"),
        (edited("0", "18446744073709551615"), "covers bytes 0 to 18446744073709551615 of"),
        (format!("{{\"schema\": 1, \"x\": {}", "[".repeat(500_000)), "cannot be read"),
        (receipt.replacen("\"findings\": [", &format!("\"findings\": [{}", "[".repeat(500_000)), 1), "cannot be read"),
        (receipt.replace("\"schema\": 1", "\"schema\": \"1\""), "cannot be read"),
    ] {
        fs::write(&path, text).unwrap();
        let ran = place.run(&["prove", "landing/tidelog/receipt.json"]).expect(1);
        assert!(ran.err.contains(part), "{part}: {}", ran.err);
    }
    // A long one is not taken into memory, and a pipe not waited for; nor where it lies beside a landing.
    fs::File::create(&path).unwrap().set_len(200 << 30).unwrap();
    assert!(place.run(&["prove", "landing/tidelog/receipt.json"]).expect(1).err.contains("a receipt has at most"));
    fs::create_dir(place.path("landing/other")).unwrap();
    let pipe = place.path("landing/other/receipt.json");
    rustix::fs::mknodat(rustix::fs::CWD, &pipe, rustix::fs::FileType::Fifo, 0o600.into(), 0).unwrap();
    assert!(
        place.run(&["prove", "landing/other/receipt.json"]).expect(1).err.contains("neither a file nor a block device")
    );
    place.write("disk.img", &disk());
    place.run(&["carry", "disk.img", "--dest", "virtio-host", "--into", "landing"]).expect(0);
}

#[test]
fn numbers_of_a_brief_are_bounded() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.run(&["draft", "tidelog.ova", "--dest", "vmx-host", "--out", "b.toml"]).expect(0);
    let brief = fs::read_to_string(place.path("b.toml")).unwrap();
    for (bus, more, code, part) in [
        ("4000000000", &[][..], 1, "bus and slot are from 0 to 255"),
        ("200", &[], 3, "no-such-place"),
        ("200", &["--accept", "no-such-place"], 1, "cannot be accepted"),
    ] {
        fs::write(place.path("b.toml"), brief.replacen("bus = 0", &format!("bus = {bus}"), 1)).unwrap();
        let ran = place.run(&[&["carry", "b.toml"], more].concat()).expect(code);
        assert!(ran.err.contains(part), "{bus}: {}", ran.err);
    }
}

#[test]
fn variables_of_a_firmware_are_copied_whole_or_not_at_all() {
    let place = Place::new();
    place.write("ledger/ledger.vmx", format!("{VMX}nvram = \"ledger.nvram\"\n").as_bytes());
    place.write("ledger/ledger.vmdk", LEDGER);
    place.write("ledger/ledger_1.vmdk", ACCOUNTS);
    fs::File::create(place.path("ledger/ledger.nvram")).unwrap().set_len((64 << 20) + 1).unwrap();
    let carry = ["carry", "ledger", "--dest", "vmx-host", "--machine-file", "vmx", "--into", "landing"];
    let ran = place.run(&carry).expect(1);
    assert!(ran.err.contains("the firmware's variables take"), "{}", ran.err);
    assert!(!place.path("landing").exists());
    // One that cannot be read is left behind, and that is told.
    fs::remove_file(place.path("ledger/ledger.nvram")).unwrap();
    symlink("/dev/zero", place.path("ledger/ledger.nvram")).unwrap();
    let ran = place.run(&carry).expect(0);
    assert!(ran.out.contains("variables-left"), "{}", ran.out);
}

#[test]
fn what_was_exported_before_is_still_read() {
    // A manifest with an entry for the archive's own members, and links that lead elsewhere in the folder.
    let place = Place::new();
    for (name, bytes) in Export::small().files() {
        place.write(&format!("export/{name}"), &bytes);
    }
    fs::rename(place.path("export/tidelog-disk1.vmdk"), place.path("export/real.vmdk")).unwrap();
    symlink(place.path("export/real.vmdk"), place.path("export/tidelog-disk1.vmdk")).unwrap();
    place.run(&["carry", "export/tidelog.ovf", "--dest", "virtio-host", "--into", "landing"]).expect(0);
}
