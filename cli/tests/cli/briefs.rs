//! Drafts and briefs: what is proposed, what a person changes, what is refused before a byte moves.

use std::fs;

use serde_json::Value;

use crate::support::{Export, Place, TIDELOG};

const VMX: &str = include_str!("../../../demo/ledger/ledger.vmx");
const LEDGER: &[u8] = include_bytes!("../../../demo/ledger/ledger.vmdk");
const ACCOUNTS: &[u8] = include_bytes!("../../../demo/ledger/ledger_1.vmdk");

/// The demo's ledger, with a machine file that a test may bend.
fn ledger(vmx: &str) -> Place {
    let place = Place::new();
    place.write("ledger/ledger.vmx", vmx.as_bytes());
    place.write("ledger/ledger.vmdk", LEDGER);
    place.write("ledger/ledger_1.vmdk", ACCOUNTS);
    place
}

fn codes(document: &Value) -> Vec<String> {
    let findings = document["findings"].as_array().or_else(|| document["draft"]["findings"].as_array()).unwrap();
    findings.iter().map(|finding| finding["code"].as_str().unwrap().to_string()).collect()
}

fn receipt(place: &Place, landing: &str) -> Value {
    serde_json::from_slice(&fs::read(place.path(landing).join("receipt.json")).unwrap()).unwrap()
}

#[test]
fn a_brief_is_read_changed_and_carried() {
    let place = ledger(VMX);
    let shown = place.run(&["draft", "ledger", "--dest", "virtio-host", "--out", "ledger.toml"]).expect(0).out;
    for part in
        ["ledger.vmx → virtio-host", "2 sockets × 2 cores", "pvscsi 0:1", "→  1 GiB qcow2/thin on virtio-scsi 0:1"]
    {
        assert!(shown.contains(part), "{part}\n{shown}");
    }
    let text = fs::read_to_string(place.path("ledger.toml")).unwrap();
    assert!(text.contains("# 02:5a:17:00:00:32; or 'fresh', or an address"), "{text}");
    // The folder is one machine: its disks are not shown a second time.
    let survey = place.run(&["survey", "ledger", "--json"]).expect(0).json();
    assert_eq!(survey["targets"].as_array().unwrap().len(), 1);
    assert_eq!(survey["targets"][0]["disks"].as_array().unwrap().len(), 2);
    // A brief that a person may have changed is not replaced.
    let again = place.run(&["draft", "ledger", "--dest", "virtio-host", "--out", "ledger.toml"]).expect(1).err;
    assert!(again.contains("'ledger.toml' exists already"), "{again}");

    let changed = text
        .replace("name = \"ledger\"", "name = \"books\"")
        .replace("memory = \"4GiB\"", "memory = \"1.5 GiB\"")
        .replace("sockets = 2", "sockets = 1")
        .replace("clock = \"utc\"", "clock = \"local\"\ntime-zone = \"Europe/Lisbon\"")
        .replace("slot = 1", "slot = 4\ngrow = \"1100MiB\"")
        .replacen("mac = \"keep\"", "mac = \"02-5A-17-00-00-99\"", 1)
        .replacen("mac = \"keep\"", "mac = \"fresh\"", 1)
        .replacen("network = \"default\"", "network = \"bridge:br-office\"", 1);
    fs::write(place.path("ledger.toml"), &changed).unwrap();
    let looked = place.run(&["draft", "ledger.toml", "--json"]).expect(0).json();
    assert_eq!(looked["draft"]["brief"]["machine"]["memory"], "1536MiB");
    place.run(&["carry", "ledger.toml", "-q"]).expect(0);
    let xml = fs::read_to_string(place.path("landing/books/books.xml")).unwrap();
    for part in ["unit=\"4\"", "bridge=\"br-office\"", "02:5a:17:00:00:99", "timezone=\"Europe/Lisbon\"", "1572864"] {
        assert!(xml.contains(part), "{part}\n{xml}");
    }
    let receipt = receipt(&place, "landing/books");
    assert_eq!(receipt["disks"][1]["after"]["virtual_size"], 1100u64 << 20);
    let fresh = receipt["machine"]["after"]["adapters"][1]["mac"].as_str().unwrap();
    assert!(fresh.starts_with("02:") && fresh != "02:5a:17:00:00:32", "{fresh}");
    place.run(&["prove", "landing/books/receipt.json", "-q"]).expect(0);
    // The same address in another landing beside it.
    let twice = place.run(&["draft", "ledger.toml", "--json"]).expect(0).json();
    assert!(!codes(&twice).contains(&"mac-twice".to_string()), "the landing itself is no other machine");
    fs::write(place.path("ledger.toml"), changed.replace("name = \"books\"", "name = \"more-books\"")).unwrap();
    let twice = place.run(&["draft", "ledger.toml", "--json"]).expect(0).json();
    assert!(codes(&twice).contains(&"mac-twice".to_string()), "{:?}", codes(&twice));
}

#[test]
fn a_brief_that_cannot_be_done_is_refused_and_nothing_is_written() {
    let place = ledger(VMX);
    place.run(&["draft", "ledger", "--dest", "vmx-host", "--out", "good.toml"]).expect(0);
    let good = fs::read_to_string(place.path("good.toml")).unwrap();
    let before = place.tree();
    for (from, to, code) in [
        ("name = \"ledger\"", "name = \"le dger\"", "name-not-allowed"),
        ("firmware = \"uefi\"", "firmware = \"bios\"", "firmware-mismatch"),
        ("shape = \"vmdk/stream\"", "shape = \"vmdk/thin\"", "not-offered"),
        ("controller = \"pvscsi\"", "controller = \"virtio-blk\"", "not-offered"),
        ("model = \"vmxnet3\"", "model = \"ena\"", "not-offered"),
        ("machine-file = \"ovf\"", "machine-file = \"vbox\"", "not-offered"),
        ("slot = 1", "slot = 7", "no-such-place"),
        ("slot = 1", "slot = 0", "place-taken"),
        ("slot = 1", "slot = 1\nboot = 1", "boot-order-unclear"),
        ("slot = 1", "slot = 1\ngrow = 4096", "would-shrink"),
        ("source = \"scsi0:1\"", "source = \"scsi0:5\"", "no-such-disk"),
        ("source = \"scsi0:1\"", "source = \"scsi0:0\"", "disk-twice"),
        ("slot = 1", "slot = 1\ncompress = \"zstd\"", "not-offered"),
        ("slot = 1", "slot = 1\ngrow = \"63TiB\"", "disk-too-large"),
    ] {
        assert!(good.contains(from), "{from}");
        let path = place.write("bad.toml", good.replacen(from, to, 1).as_bytes());
        let ran = place.run(&["carry", "bad.toml", "--json"]).expect(3);
        assert!(codes(&ran.json()).contains(&code.to_string()), "{to}: {:?}", codes(&ran.json()));
        fs::remove_file(path).unwrap();
        assert_eq!(place.tree(), before, "{to}");
    }
    for (from, to, message) in [
        ("memory =", "memroy =", "the key 'memroy' is not known; did you mean 'memory'?"),
        ("\"pvscsi\"", "\"pvscsy\"", "the word 'pvscsy' is not known; did you mean 'pvscsi'?"),
        ("mac = \"keep\"", "mac = \"kept\"", "'kept' is not a hardware address"),
        ("cores = 2", "cores = 5000", "sockets times cores is not from 1 to 4096"),
        ("memory = \"4GiB\"", "memory = \"4 apples\"", "is not a size"),
        ("destination = \"vmx-host\"", "destination = \"vmx\"", "there are virtio-host, vmx-host"),
        ("source = \"", "source = \"/nowhere", "No such file"),
    ] {
        let path = place.write("bad.toml", good.replacen(from, to, 1).as_bytes());
        let ran = place.run(&["carry", "bad.toml"]).expect(1);
        assert!(ran.err.contains(message), "{to}: {}", ran.err);
        fs::remove_file(path).unwrap();
    }
    // Without any disk; and from the disk that has nothing to start.
    let (start, rest) = good.split_once("[[disks]]").unwrap();
    let adapters = &rest[rest.find("[[adapters]]").unwrap()..];
    place.write("bad.toml", format!("{start}{adapters}").as_bytes());
    assert!(codes(&place.run(&["carry", "bad.toml", "--json"]).expect(3).json()).contains(&"no-disk".to_string()));
    let other = good.replace("boot = 1\n", "").replace("slot = 1\n", "slot = 1\nboot = 1\n");
    place.write("bad.toml", other.as_bytes());
    let draft = place.run(&["draft", "bad.toml", "--json"]).expect(0).json();
    assert!(codes(&draft).contains(&"no-boot-loader".to_string()), "{:?}", codes(&draft));
    let ran = place.run(&["carry", "good.toml", "--memory", "1GiB"]).expect(2);
    assert!(ran.err.contains("the brief has all of that"), "{}", ran.err);
}

#[test]
fn what_a_machine_file_tells_of_its_state_stops_the_move_unless_it_is_accepted() {
    let snapshot = "checkpoint.vmState = \"ledger.vmss\"\n";
    for (more, code) in [(snapshot, "suspended"), ("encryption.keySafe = \"x\"\n", "machine-encrypted")] {
        let place = ledger(&format!("{VMX}{more}"));
        let carry = |more: &[&str]| {
            let args = [&["carry", "ledger", "--dest", "vdi-host", "--into", "landing", "--json"], more].concat();
            place.run(&args)
        };
        assert!(codes(&carry(&[]).expect(3).json()).contains(&code.to_string()));
        assert!(!place.path("landing").exists());
        // Another code lets nothing pass, and there is none for all.
        carry(&["--accept", "no-room", "--accept", "all"]).expect(3);
        let landed = carry(&["--accept", code]).expect(0).json();
        let findings = landed["receipt"]["findings"].as_array().unwrap();
        assert!(findings.iter().any(|finding| finding["code"] == "accepted"), "{findings:?}");
    }
    let place = ledger(VMX);
    fs::create_dir(place.path("ledger/ledger.vmx.lck")).unwrap();
    let locked = place.run(&["draft", "ledger", "--dest", "vdi-host", "--json"]).expect(0).json();
    assert!(codes(&locked).contains(&"locked".to_string()));
    fs::remove_file(place.path("ledger/ledger_1.vmdk")).unwrap();
    let ran =
        place.run(&["carry", "ledger", "--dest", "vdi-host", "--into", "l", "--accept", "disk-missing"]).expect(1);
    assert!(ran.err.contains("'disk-missing' cannot be accepted"), "{}", ran.err);
}

#[test]
fn the_disk_tells_what_the_machine_file_got_wrong() {
    // A descriptor that does not speak of firmware means BIOS; the disk has a loader for UEFI alone.
    let place = ledger(&VMX.replace("firmware = \"efi\"\n", ""));
    let draft = place.run(&["draft", "ledger", "--dest", "vmbus-host", "--json"]).expect(0).json();
    assert!(codes(&draft).contains(&"firmware-corrected".to_string()), "{:?}", codes(&draft));
    assert_eq!(draft["draft"]["brief"]["machine"]["firmware"], "uefi");
    assert_eq!(draft["draft"]["brief"]["disks"][0]["controller"], "vmbus-scsi");
    let chosen =
        place.run(&["draft", "ledger", "--dest", "vmbus-host", "--json", "--firmware", "bios"]).expect(0).json();
    assert!(codes(&chosen).contains(&"firmware-mismatch".to_string()));
    // A TPM: a new one comes, an empty one.
    let place = ledger(&format!("{VMX}vtpm.present = \"TRUE\"\n"));
    let draft = place.run(&["draft", "ledger", "--dest", "virtio-host", "--json"]).expect(0).json();
    assert!(codes(&draft).contains(&"tpm-new".to_string()));
}

#[test]
fn a_bare_disk_becomes_a_machine_by_what_is_on_it() {
    let place = Place::new();
    place.write("ledger.vmdk", LEDGER);
    let draft = place.run(&["draft", "ledger.vmdk", "--dest", "nvme-cloud", "--json"]).expect(0).json();
    let machine = &draft["draft"]["brief"]["machine"];
    assert_eq!((&machine["firmware"], &machine["system"]), (&Value::from("uefi"), &Value::from(101)));
    assert!(codes(&draft).contains(&"machine-guessed".to_string()));
    let args =
        ["carry", "ledger.vmdk", "--dest", "nvme-cloud", "--into", "landing", "--memory", "3GiB", "--name", "books"];
    place.run(&args).expect(0);
    let launch = fs::read(place.path("landing/books/books.launch.json")).unwrap();
    let launch: Value = serde_json::from_slice(&launch).unwrap();
    assert_eq!(launch["machine"]["memory"], 3u64 << 30);
    assert_eq!(launch["machine"]["disks"][0]["boot"], 1);
    assert!(launch["machine"]["adapters"][0]["mac"].as_str().unwrap().starts_with("02:"));
    place.run(&["prove", "landing/books/receipt.json", "-q"]).expect(0);
}

#[test]
fn a_site_maps_networks_and_adds_destinations() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    let site = "[networks]\n\"gauge-net\" = \"br-tides\"\n[destinations.harbour]\nlike = \"virtio-host\"\n\
                summary = \"The harbour office\"\nadapters = [\"e1000e\"]\n";
    place.write("reformis.toml", site.as_bytes());
    let dests = place.run(&["dests"]).expect(0).out;
    assert!(dests.contains("harbour") && dests.contains("changed by reformis.toml"), "{dests}");
    let draft = place.run(&["draft", "tidelog.ova", "--dest", "harbour", "--json"]).expect(0).json();
    let adapter = &draft["draft"]["brief"]["adapters"][0];
    assert_eq!((&adapter["network"], &adapter["model"]), (&Value::from("br-tides"), &Value::from("e1000e")));
    assert!(codes(&draft).contains(&"network-replaced".to_string()));
    // One that is named counts alone; one that is wrong is told with its line.
    place.write("other.toml", b"[networks]\n");
    place.run(&["draft", "tidelog.ova", "--dest", "harbour", "--site", "other.toml"]).expect(1);
    place.write("other.toml", b"\n[network]\n");
    let wrong = place.run(&["dests", "--site", "other.toml"]).expect(1).err;
    assert!(wrong.contains("line 2: the key 'network' is not known; did you mean 'networks'?"), "{wrong}");
}

#[test]
fn one_machine_of_several_is_named() {
    let export = Export::small();
    let place = Place::new();
    // The machine twice, the second with another name and the second disk alone.
    let start = export.descriptor.find("<ovf:VirtualSystem ").unwrap();
    let end = export.descriptor.find("</ovf:Envelope>").unwrap();
    let system = &export.descriptor[start..end];
    let second = system.replace("<ovf:Name>tidelog<", "<ovf:Name>tides<");
    let both = format!(
        "{}<ovf:VirtualSystemCollection ovf:id=\"all\"><ovf:Info/>{system}{second}</ovf:VirtualSystemCollection></ovf:Envelope>",
        &export.descriptor[..start]
    );
    place.write("two.ovf", both.as_bytes());
    for (name, bytes) in &export.disks {
        place.write(name, bytes);
    }
    let survey = place.run(&["survey", "two.ovf", "--json"]).expect(0).json();
    let names: Vec<_> = survey["targets"].as_array().unwrap().iter().map(|t| t["machine"]["name"].clone()).collect();
    assert_eq!(names, ["tidelog", "tides"]);
    let ran = place.run(&["carry", "two.ovf", "--dest", "virtio-host", "--into", "l"]).expect(1);
    assert!(
        ran.err.contains("describes 2 machines: tidelog, tides") && ran.err.contains("--machine NAME"),
        "{}",
        ran.err
    );
    let ran = place.run(&["draft", "two.ovf", "--dest", "virtio-host", "--machine", "ebb"]).expect(1);
    assert!(ran.err.contains("does not describe a machine called 'ebb'"), "{}", ran.err);
    place.run(&["draft", "two.ovf", "--dest", "virtio-host", "--machine", "tides", "--out", "b.toml", "-q"]).expect(0);
    place.run(&["carry", "b.toml", "-q"]).expect(0);
    assert!(place.path("landing/tides/tides.xml").exists());
}

#[test]
fn the_source_is_never_where_the_landing_is_to_be_and_room_is_counted_first() {
    let place = ledger(VMX);
    // The landing would replace the folder that the source lies in.
    place.run(&["carry", "ledger", "--dest", "virtio-host", "--into", "."]).expect(3);
    let ran = place.run(&["carry", "ledger", "--dest", "virtio-host", "--into", ".", "--force", "--json"]).expect(3);
    assert!(codes(&ran.json()).contains(&"source-in-landing".to_string()));
    assert_eq!(fs::read(place.path("ledger/ledger.vmdk")).unwrap(), LEDGER);
    let args = ["draft", "ledger", "--dest", "vmbus-host", "--out", "b.toml", "--shape", "vhdx/full", "-q"];
    place.run(&args).expect(0);
    let text = fs::read_to_string(place.path("b.toml")).unwrap();
    fs::write(place.path("b.toml"), text.replacen("slot = 0", "slot = 0\ngrow = \"60TiB\"", 1)).unwrap();
    let ran = place.run(&["carry", "b.toml", "--json"]).expect(3);
    assert!(codes(&ran.json()).contains(&"no-room".to_string()), "{:?}", codes(&ran.json()));
    assert!(!place.path("landing").exists());
}

/// Hosts of this kind have four SCSI controllers together, whatever the kinds: the fifth would be lost, and its disk.
#[test]
fn a_place_that_the_machine_file_cannot_say_is_a_blocker() {
    let place = ledger(VMX);
    place.run(&["draft", "ledger", "--dest", "vmx-host", "--machine-file", "vmx", "--out", "b.toml", "-q"]).expect(0);
    let brief = fs::read_to_string(place.path("b.toml")).unwrap();
    let (first, second) = brief.split_once("source = \"scsi0:1\"").unwrap();
    let second = second.replacen("\"pvscsi\"", "\"lsi\"", 1).replacen("bus = 0", "bus = 3", 1);
    fs::write(place.path("b.toml"), format!("{first}source = \"scsi0:1\"{second}")).unwrap();
    let ran = place.run(&["carry", "b.toml", "--json"]).expect(3).json();
    assert!(codes(&ran).contains(&"place-lost".to_string()), "{:?}", codes(&ran));
}
