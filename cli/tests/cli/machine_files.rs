//! Machine files as they lie on a host: chains over folders, names that lead elsewhere, what stays in their own kind.

use std::fs;

use reformis_standin::{
    content::Content,
    deltas::{Delta, vdi},
};
use serde_json::Value;

use crate::support::Place;

const VMX: &str = include_str!("../../../demo/ledger/ledger.vmx");
const LEDGER: &[u8] = include_bytes!("../../../demo/ledger/ledger.vmdk");
const ACCOUNTS: &[u8] = include_bytes!("../../../demo/ledger/ledger_1.vmdk");

fn codes(document: &Value) -> Vec<String> {
    let findings = document["draft"]["findings"].as_array().unwrap();
    findings.iter().map(|finding| finding["code"].as_str().unwrap().to_string()).collect()
}

#[test]
fn a_delta_in_the_folder_of_snapshots_finds_its_parent_by_the_registry() {
    let place = Place::new();
    let (base, whole) = (
        Content::empty(3 << 20).with(0, 9000, 1).with(1 << 20, 70_000, 2),
        Content::empty(3 << 20).with(0, 9000, 1).with(1 << 20, 70_000, 2).with(2 << 20, 5000, 3),
    );
    let bytes = |content: &Content| {
        let mut bytes = vec![0; content.size as usize];
        content.read_at(0, &mut bytes);
        bytes
    };
    place.write("base.img", &bytes(&base));
    place.write("whole.img", &bytes(&whole));
    fs::create_dir(place.path("flood")).unwrap();
    place.run(&["recast", "base.img", "flood/flood.vdi"]).expect(0);
    let header = fs::read(place.path("flood/flood.vdi")).unwrap();
    let id = |at: usize| header[at..at + 16].try_into().unwrap();
    let ids = vdi::Ids { own: [7; 16], state: [8; 16], parent: id(392), parent_state: id(408) };
    let written = [2 << 20..(2 << 20) + 65_536];
    place.write("flood/Snapshots/{x}.vdi", &vdi::image(&Delta { whole: &whole, written: &written }, &ids, None));
    let settings = r#"<VirtualBox xmlns="http://www.virtualbox.org/" version="1.12-linux"><Machine uuid="{5a170000-0000-4000-8000-000000000071}" name="flood">
      <MediaRegistry><HardDisks><HardDisk uuid="{a}" location="flood.vdi"><HardDisk uuid="{b}" location="Snapshots/{x}.vdi"/></HardDisk></HardDisks></MediaRegistry>
      <Snapshot uuid="{c}" name="before the storm"/>
      <Hardware><Memory RAMSize="512"/></Hardware>
      <StorageControllers><StorageController type="AHCI"><AttachedDevice type="HardDisk" port="0" device="0"><Image uuid="{b}"/></AttachedDevice></StorageController></StorageControllers>
    </Machine></VirtualBox>"#;
    place.write("flood/flood.vbox", settings.as_bytes());
    let draft = place.run(&["draft", "flood", "--dest", "virtio-host", "--json"]);
    // The folder holds one machine file, and disks that belong to it.
    let codes = codes(&draft.expect(0).json());
    for code in ["deltas-flattened", "snapshots-left"] {
        assert!(codes.contains(&code.to_string()), "{codes:?}");
    }
    place.run(&["carry", "flood/flood.vbox", "--dest", "virtio-host", "--into", "landing", "-q"]).expect(0);
    place.run(&["prove", "landing/flood/receipt.json", "-q"]).expect(0);
    place.run(&["prove", "whole.img", "landing/flood/flood-0.qcow2"]).expect(0);
}

#[test]
fn names_that_lead_out_of_the_folder_are_not_followed() {
    let place = Place::new();
    place.write("secret.vmdk", LEDGER);
    for (name, code) in [
        ("../secret.vmdk", "disk-unreadable"),
        ("/etc/hostname", "disk-unreadable"),
        ("sub/../../secret.vmdk", "disk-unreadable"),
        ("C:\\\\vm\\\\secret.vmdk", "disk-unreadable"),
    ] {
        let vmx = VMX.replace("\"ledger.vmdk\"", &format!("\"{name}\""));
        place.write("in/ledger.vmx", vmx.as_bytes());
        place.write("in/ledger_1.vmdk", ACCOUNTS);
        let draft = place.run(&["draft", "in/ledger.vmx", "--dest", "vdi-host", "--json"]).expect(0).json();
        assert!(codes(&draft).contains(&code.to_string()), "{name}: {:?}", codes(&draft));
        place.run(&["carry", "in/ledger.vmx", "--dest", "vdi-host", "--into", "landing"]).expect(3);
        assert!(!place.path("landing").exists());
    }
    // The person may say so; and what is named by its whole path is looked for beside the file.
    place.write("in/ledger.vmx", VMX.replace("\"ledger.vmdk\"", "\"../secret.vmdk\"").as_bytes());
    place.run(&["carry", "in/ledger.vmx", "--dest", "vdi-host", "--into", "a", "--trust-links", "-q"]).expect(0);
    place.write("in/ledger.vmdk", LEDGER);
    place.write("in/ledger.vmx", VMX.replace("\"ledger.vmdk\"", "\"/vmfs/volumes/x/ledger.vmdk\"").as_bytes());
    place.run(&["carry", "in/ledger.vmx", "--dest", "vdi-host", "--into", "b", "-q"]).expect(0);
    // Text from a stranger's file does not reach the terminal as it stands.
    place.write("in/ledger.vmx", VMX.replace("\"ledger\"", "\"led|1B[2Jger\"").as_bytes());
    let shown = place.run(&["draft", "in/ledger.vmx", "--dest", "vdi-host"]).expect(0).out;
    assert!(!shown.contains('\u{1b}') && shown.contains("led-2Jger"), "{shown}");
}

#[test]
fn a_brief_says_where_a_disk_is_when_the_machine_file_does_not() {
    let place = Place::new();
    let domain = "<domain type='kvm'><name>ledger</name><memory unit='GiB'>1</memory><devices>\
        <disk type='block' device='disk'><driver type='raw'/><source dev='/dev/vg0/ledger'/><target dev='vda'/></disk>\
        </devices></domain>";
    place.write("ledger.xml", domain.as_bytes());
    place.write("elsewhere/copy.img", &[7; 65_536]);
    let draft = ["draft", "ledger.xml", "--dest", "vmbus-cloud", "--out", "b.toml"];
    let shown = place.run(&draft).expect(0).out;
    assert!(shown.contains("disk-missing") || shown.contains("disk-unreadable"), "{shown}");
    let brief = fs::read_to_string(place.path("b.toml")).unwrap();
    let named = brief.replacen("source = \"vda\"", "source = \"vda\"\nfile = \"elsewhere/copy.img\"", 1);
    fs::write(place.path("b.toml"), named).unwrap();
    place.run(&["carry", "b.toml", "-q"]).expect(0);
    // The rule of the destination was kept: a whole MiB, all of it present.
    assert_eq!(fs::metadata(place.path("landing/ledger/ledger-0.vhd")).unwrap().len(), (1 << 20) + 512);
    place.run(&["prove", "landing/ledger/receipt.json", "-q"]).expect(0);
}

#[test]
fn a_machine_file_of_the_same_kind_keeps_what_we_do_not_speak_of() {
    let place = Place::new();
    let more = "nvram = \"ledger.nvram\"\nguestinfo.gauge = \"all\"\nuuid.location = \"56 4d\"\n";
    place.write("ledger/ledger.vmx", format!("{VMX}{more}").as_bytes());
    place.write("ledger/ledger.vmdk", LEDGER);
    place.write("ledger/ledger_1.vmdk", ACCOUNTS);
    place.write("ledger/ledger.nvram", b"variables");
    let args = ["carry", "ledger", "--dest", "vmx-host", "--machine-file", "vmx", "--into", "landing", "--json"];
    let receipt = place.run(&args).expect(0).json()["receipt"].clone();
    let vmx = fs::read_to_string(place.path("landing/ledger/ledger.vmx")).unwrap();
    assert!(vmx.contains("guestinfo.gauge = \"all\"") && vmx.contains("nvram = \"ledger.nvram\""), "{vmx}");
    assert!(!vmx.contains("uuid.location") && vmx.contains("scsi0:1.fileName = \"ledger-1.vmdk\""), "{vmx}");
    assert_eq!(fs::read(place.path("landing/ledger/ledger.nvram")).unwrap(), b"variables");
    assert_eq!(receipt["machine"]["also"][0]["file"], "ledger.nvram");
    // Into another kind, neither comes along, and what its file cannot say is listed.
    let args = ["carry", "ledger", "--dest", "vdi-host", "--into", "other", "--json"];
    let receipt = place.run(&args).expect(0).json()["receipt"].clone();
    assert!(!place.path("other/ledger/ledger.nvram").exists());
    // The host compares the registry with what the image says of itself.
    let header = fs::read(place.path("other/ledger/ledger-0.vdi")).unwrap();
    let b: Vec<String> = header[392..408].iter().map(|byte| format!("{byte:02x}")).collect();
    let own = format!(
        "{}{}{}{}-{}{}-{}{}-{}-{}",
        b[3],
        b[2],
        b[1],
        b[0],
        b[5],
        b[4],
        b[7],
        b[6],
        b[8..10].concat(),
        b[10..].concat()
    );
    let vbox = fs::read_to_string(place.path("other/ledger/ledger.vbox")).unwrap();
    assert_eq!(vbox.matches(&format!("{{{own}}}")).count(), 2, "{own} {vbox}");
    let lost = receipt["machine"]["lost"].as_array().unwrap();
    assert!(lost.iter().any(|lost| lost["setting"] == "cpu.sockets" && lost["value"] == "2"), "{lost:?}");
}

#[test]
fn more_disks_than_slots_and_rules_of_a_site() {
    let place = Place::new();
    place.write("ledger/ledger.vmx", VMX.as_bytes());
    place.write("ledger/ledger.vmdk", LEDGER);
    place.write("ledger/ledger_1.vmdk", ACCOUNTS);
    let site = "[destinations.small]\nlike = \"virtio-host\"\nsummary = \"One disk each\"\n\
                controllers = [{ kind = \"virtio-blk\", slots = 1, boots = [\"uefi\", \"bios\"] }]\n\
                rules = { largest-disk = \"1GiB\", size-multiple = \"3MiB\" }\n";
    place.write("reformis.toml", site.as_bytes());
    let draft = place.run(&["draft", "ledger", "--dest", "small", "--json"]).expect(0).json();
    let codes = codes(&draft);
    for code in ["too-many-disks", "disk-too-large", "size-rounded"] {
        assert!(codes.contains(&code.to_string()), "{code}: {codes:?}");
    }
    let brief = &draft["draft"]["brief"];
    assert_eq!(brief["disks"][0]["align"], "3MiB");
}
