//! Inside a guest: looking, changing, making ready; on the demo's servers.

use std::{fs, process::Command};

use crate::support::{Place, TIDELOG};

/// The demo's ledger, with all its files.
const LEDGER: [(&str, &[u8]); 3] = [
    ("ledger.vmx", include_bytes!("../../../demo/ledger/ledger.vmx")),
    ("ledger.vmdk", include_bytes!("../../../demo/ledger/ledger.vmdk")),
    ("ledger_1.vmdk", include_bytes!("../../../demo/ledger/ledger_1.vmdk")),
];

/// The demo's tidelog: its system disk alone, as qcow2.
fn disk(place: &Place) {
    place.write("tidelog.ova", TIDELOG);
    place.run(&["recast", "tidelog.ova/tidelog-disk1.vmdk", "tidelog.qcow2", "-q"]).expect(0);
}

#[test]
fn files_are_listed_printed_and_taken_out() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    let listed = place.run(&["peek", "tidelog.ova", "/etc"]).expect(0).out;
    assert!(listed.contains("-rw-r--r--") && listed.contains("  fstab") && listed.contains("network/"), "{listed}");
    assert_eq!(place.run(&["peek", "tidelog.ova", "/etc/hostname"]).expect(0).out, "tidelog\n");
    // What fstab mounts is there: the second disk.
    let tides = place.run(&["peek", "tidelog.ova", "/srv/tides", "--json"]).expect(0).json();
    let names: Vec<_> =
        tides["peek"]["items"].as_array().unwrap().iter().map(|item| item["name"].as_str().unwrap()).collect();
    assert!(names.contains(&"harbour-wall-2025.csv"), "{names:?}");
    let volume = place.run(&["peek", "tidelog.ova", "/", "--volume", "disk 2"]).expect(0).out;
    assert!(volume.contains("reed-bank-2025.csv"), "{volume}");
    place.run(&["peek", "tidelog.ova", "/etc", "--tar", "etc.tar"]).expect(0);
    let output = Command::new("tar").args(["-xf", "etc.tar"]).current_dir(place.path(".")).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(fs::read(place.path("etc/hostname")).unwrap(), b"tidelog\n");
    assert!(place.run(&["peek", "tidelog.ova", "/etc", "--tar", "etc.tar"]).expect(1).err.contains("exists already"));
    let error = place.run(&["peek", "tidelog.ova", "/etc/shadow"]).expect(1).err;
    assert!(error.contains("there is no /etc/shadow in the guest"), "{error}");
    let error = place.run(&["peek", "tidelog.ova", "/", "--volume", "disk 9"]).expect(1).err;
    assert!(error.contains("there are disk 1 partition 1, disk 1 partition 2, disk 2"), "{error}");
    let error = place.run(&["peek", "tidelog.ova", "/", "--volume", "disk 1 partition 2"]).expect(1).err;
    assert!(error.contains("holds swap"), "{error}");
}

#[test]
fn files_are_put_in_removed_and_linked_or_nothing_is() {
    let place = Place::new();
    disk(&place);
    place.write("site.yaml", b"network: {}\n");
    fs::create_dir_all(place.path("more/deep")).unwrap();
    place.write("more/deep/gauge", b"reed bank\n");
    let before = fs::read(place.path("tidelog.qcow2")).unwrap();
    let args = [
        "patch",
        "tidelog.qcow2",
        "--put",
        "site.yaml:/etc/netplan/50-site.yaml",
        "--put",
        "more:/srv/more",
        "--folder",
        "/etc/netplan",
        "--remove",
        "/etc/tidelog",
        "--link",
        "/etc/gauges:/srv/more",
        "--out",
        "patched.vdi",
        "--receipt",
        "patch.json",
        "-q",
    ];
    place.run(&args).expect(0);
    assert_eq!(fs::read(place.path("tidelog.qcow2")).unwrap(), before, "the source is not written");
    assert_eq!(place.run(&["peek", "patched.vdi", "/etc/gauges/deep/gauge"]).expect(0).out, "reed bank\n");
    assert_eq!(place.run(&["peek", "patched.vdi", "/etc/netplan/50-site.yaml"]).expect(0).out, "network: {}\n");
    place.run(&["peek", "patched.vdi", "/etc/tidelog"]).expect(1);
    place.run(&["prove", "patch.json", "-q"]).expect(0);
    // One change that cannot be made: none is, and nothing is left.
    let args =
        ["patch", "tidelog.qcow2", "--remove", "/etc/hosts", "--put", "site.yaml:/no/such/folder", "--in-place", "-q"];
    let error = place.run(&args).expect(1).err;
    assert!(error.contains("no/such"), "{error}");
    assert_eq!(fs::read(place.path("tidelog.qcow2")).unwrap(), before);
    place.run(&["patch", "tidelog.qcow2", "--put", "site.yaml:/etc/hostname", "--in-place", "-q"]).expect(0);
    assert_eq!(place.run(&["peek", "tidelog.qcow2", "/etc/hostname"]).expect(0).out, "network: {}\n");
    let survey = place.run(&["survey", "tidelog.qcow2", "--json"]).expect(0).json();
    assert_eq!(survey["targets"][0]["disks"][0]["image"]["shape"], "qcow2/thin");
    assert!(
        place.run(&["patch", "tidelog.qcow2", "--out", "x.qcow2"]).expect(2).err.contains("there is nothing to do")
    );
    let error = place.run(&["patch", "tidelog.ova/tidelog-disk1.vmdk", "--folder", "/x", "--in-place"]).expect(1).err;
    assert!(error.contains("cannot be changed in place"), "{error}");
}

#[test]
fn a_disk_is_made_ready_and_can_be_proved() {
    let place = Place::new();
    disk(&place);
    let args = [
        "refit",
        "tidelog.qcow2",
        "--dest",
        "nvme-cloud",
        "--mac",
        "02:5a:17:00:00:21",
        "--out",
        "ready.vhdx",
        "--receipt",
        "ready.json",
        "--json",
        "-q",
    ];
    let made = place.run(&args).expect(0).json();
    let names: Vec<_> = made["recast"]["guest"]["edits"]
        .as_array()
        .unwrap()
        .iter()
        .map(|edit| edit["name"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["drivers", "device-names", "console", "adapter-names", "helpers"]);
    place.run(&["prove", "ready.json", "-q"]).expect(0);
    let fstab = place.run(&["peek", "ready.vhdx", "/etc/fstab"]).expect(0).out;
    assert!(fstab.contains("UUID=5a170000-0000-4000-8000-000000000001        /  "), "{fstab}");
    // What is ready stays as it is; and in place is the same as into a copy.
    let args = ["refit", "ready.vhdx", "--dest", "nvme-cloud", "--mac", "02:5a:17:00:00:21", "--in-place"];
    let again = place.run(&args).expect(0).out;
    assert!(again.contains("Nothing had to be changed"), "{again}");
    // Without the drivers it would not boot: nothing is made, unless that is accepted.
    let args =
        ["refit", "tidelog.qcow2", "--dest", "nvme-cloud", "--leave-out", "drivers", "--out", "bare.qcow2", "-q"];
    let refused = place.run(&args).expect(3).err;
    assert!(refused.contains("will not boot") && refused.contains("lacks nvme"), "{refused}");
    assert!(!place.path("bare.qcow2").exists());
    place.run(&[&args[..], &["--accept", "will-not-boot"]].concat()).expect(0);
    let args = ["refit", "tidelog.qcow2", "--dest", "nvme-cloud", "--leave-out", "driver", "--out", "x.qcow2", "-q"];
    assert!(place.run(&args).expect(1).err.contains("there is no edit called 'driver'"));
    let args = ["refit", "tidelog.qcow2", "--dest", "nvme-cloud", "--controller", "ide", "--out", "x.qcow2", "-q"];
    assert!(place.run(&args).expect(1).err.contains("it offers nvme"));
    let args = ["refit", "tidelog.ova/tidelog-disk2.vmdk", "--dest", "nvme-cloud", "--out", "x.qcow2", "-q"];
    assert!(place.run(&args).expect(1).err.contains("no system was found"));
}

#[test]
fn a_move_makes_the_guest_ready_and_its_receipt_says_how() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.write("greet", b"#!/bin/sh\necho hello\n");
    let args = [
        "draft",
        "tidelog.ova",
        "--dest",
        "virtio-host",
        "--into",
        "landing",
        "--first-boot",
        "greet",
        "--host-name",
        "tidelog2",
        "--leave-out",
        "helpers",
        "--out",
        "tidelog.toml",
        "--json",
    ];
    let draft = place.run(&args).expect(0).json();
    let edits = |of: &serde_json::Value| -> Vec<String> {
        of.as_array().unwrap().iter().map(|edit| edit["name"].as_str().unwrap().to_string()).collect()
    };
    let all = ["drivers", "device-names", "adapter-names", "identity", "first-boot"];
    assert_eq!(edits(&draft["draft"]["guest"]["edits"]), all);
    let brief = fs::read_to_string(place.path("tidelog.toml")).unwrap();
    assert!(
        brief.contains("[guest]\nleave-out = [\"helpers\"]") && brief.contains("host-name = \"tidelog2\""),
        "{brief}"
    );
    place.run(&["carry", "tidelog.toml", "-q"]).expect(0);
    let receipt: serde_json::Value =
        serde_json::from_slice(&fs::read(place.path("landing/tidelog/receipt.json")).unwrap()).unwrap();
    assert_eq!(edits(&receipt["guest"]["edits"]), all);
    assert_eq!(edits(&receipt["disks"][0]["edits"]), all);
    assert_eq!(receipt["disks"][1]["edits"].as_array().unwrap().len(), 0);
    let links = receipt["guest"]["evidence"][0]["links"].as_array().unwrap();
    assert!(links.iter().any(|link| link["link"] == "driver" && link["state"] == "mended"), "{links:?}");
    let proof = place.run(&["prove", "landing/tidelog/receipt.json", "--json", "-q"]).expect(0).json();
    let walked = proof["proof"]["evidence"][0]["links"].as_array().unwrap();
    assert!(walked.iter().all(|link| link["state"] == "holds"), "{walked:?}");
    let landed = "landing/tidelog/tidelog-0.qcow2";
    assert_eq!(place.run(&["peek", landed, "/etc/hostname"]).expect(0).out, "tidelog2\n");
    let script = place.run(&["peek", landed, "/usr/local/lib/reformis/first-boot/10-greet"]).expect(0).out;
    assert_eq!(script, "#!/bin/sh\necho hello\n");
    place.run(&["peek", landed, "/etc/systemd/system/vgauth.service", "--stat"]).expect(1);
}

#[test]
fn the_survey_tells_what_is_inside() {
    let place = Place::new();
    for (name, bytes) in LEDGER {
        place.write(name, bytes);
    }
    let survey = place.run(&["survey", "ledger.vmx", "--json"]).expect(0).json();
    let guest = &survey["targets"][0]["guest"];
    let volumes: Vec<_> = guest["volumes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|volume| (volume["name"].as_str().unwrap(), volume["kind"].as_str()))
        .collect();
    let wanted = [("disk 1 partition 1", Some("fat")), ("disk 1 partition 2", Some("ext")), ("disk 2", Some("ext"))];
    assert_eq!(volumes, wanted);
    assert_eq!(guest["systems"][0]["name"], "Saltmarsh server 12");
    assert_eq!(guest["systems"][0]["network"][1]["name"], "ens161");
    let links = guest["evidence"][0]["links"].as_array().unwrap();
    assert!(links.iter().all(|link| link["state"] == "holds"), "on its own hardware everything holds: {links:?}");
}
