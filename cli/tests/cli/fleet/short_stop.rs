//! The short stop: a machine is brought near while it runs, goes on writing, and only what changed is moved once it is off.

use std::{
    fs::{self, File},
    os::unix::fs::{FileExt, PermissionsExt},
    path::Path,
};

use reformis_standin::servers::{NbdServer, is_installed};
use serde_json::Value;

use super::harbour::{Harbour, harbour, row, stand};
use crate::support::{Place, Ran, TIDELOG};

/// What a running guest writes: new data where there was none, other data, and zeros.
fn writes(disk: &Path, seed: u8) {
    let file = File::options().write(true).open(disk).unwrap();
    file.write_all_at(&[seed; 70_000], 3 << 20).unwrap();
    file.write_all_at(&[seed ^ 0x55; 5000], 1 << 19).unwrap();
    file.write_all_at(&[0; 200_000], 2 << 20).unwrap();
}

impl Harbour {
    fn power(&self, name: &str, word: &str) {
        self.place.write(&format!("host/{name}/power"), word.as_bytes());
    }

    fn carry(&self, more: &[&str]) -> Ran {
        let mut words =
            vec!["carry", "harbour:m0", "--dest", "virtio-host", "--into", "landing", "--network", "default"];
        words.extend(["--accept", "will-not-boot"]);
        words.extend(more);
        self.place.run(&words)
    }

    fn receipt(&self, name: &str) -> Value {
        serde_json::from_slice(&fs::read(self.place.path(&format!("landing/{name}/receipt.json"))).unwrap()).unwrap()
    }
}

#[test]
fn what_changed_while_it_ran_lands_and_nothing_else_is_moved() {
    let harbour = harbour(1, 8);
    let disk = harbour.place.path("host/m0/m0.raw");
    harbour.power("m0", "running");
    // Without a word about it, a machine that runs is not read.
    assert!(harbour.carry(&["--ahead"]).expect(3).err.contains("--while-running"));
    let ahead = harbour.carry(&["--ahead", "--while-running"]).expect(0).out;
    assert!(ahead.starts_with("Ahead m0") && ahead.contains("--finish"), "{ahead}");
    assert!(!harbour.place.path("landing/m0").exists(), "it has not landed");
    // It goes on, and a pass that begins while it still runs does no harm.
    writes(&disk, 1);
    harbour.carry(&["--finish"]).expect(3);
    writes(&disk, 2);
    harbour.power("m0", "off");
    let landed = harbour.carry(&["--finish"]).expect(0).out;
    assert!(landed.contains("off for") && landed.contains("changed"), "{landed}");
    let record = harbour.receipt("m0")["ahead"].clone();
    assert!(record["off"].as_f64().unwrap() > 0.0, "{record}");
    let changed = record["changed"].as_u64().unwrap();
    assert!((1 << 20..=3 << 20).contains(&changed), "three blocks of a MiB at the most: {record}");
    harbour.place.run(&["prove", "landing/m0/receipt.json"]).expect(0);
    harbour.place.run(&["prove", "host/m0/m0.raw", "landing/m0/m0-0.qcow2"]).expect(0);
    // What was kept is gone.
    let names: Vec<_> =
        fs::read_dir(harbour.place.path("landing/m0")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(names.len(), 3, "{names:?}");
    assert_eq!(fs::read_dir(harbour.place.path("landing")).unwrap().count(), 1);
    let page = harbour.place.run(&["report", "landing", "--out", "-"]).expect(0).out;
    assert!(page.contains("Off for "), "{page}");
}

/// Every thin shape, with a guest inside that is made ready: edits are those of the second pass, and each byte is proved.
#[test]
fn a_guest_is_made_ready_in_the_second_pass() {
    let harbour = harbour(1, 4);
    let place = &harbour.place;
    for (dest, shape) in [
        ("virtio-host", "qcow2/thin"),
        ("virtio-host", "raw/thin"),
        ("vmbus-host", "vhdx/thin"),
        ("vdi-host", "vdi/thin"),
        ("vmx-host", "vmdk/thin"),
    ] {
        place.write("tidelog.ova", TIDELOG);
        let into = format!("landing-{}", shape.replace('/', "-"));
        let mut words = vec!["carry", "tidelog.ova", "--dest", dest, "--into", &into, "--shape", shape];
        if dest == "vmx-host" {
            words.extend(["--machine-file", "vmx"]);
        }
        place.run(&[&words[..], &["--ahead"]].concat()).expect(0);
        place.run(&[&words[..], &["--finish"]].concat()).expect(0);
        let receipt = format!("{into}/tidelog/receipt.json");
        place.run(&["prove", &receipt]).expect(0);
        let receipt: Value = serde_json::from_slice(&fs::read(place.path(&receipt)).unwrap()).unwrap();
        assert_eq!(receipt["verdict"]["boots"], "yes", "{shape}");
        let edited: u64 = receipt["disks"]
            .as_array()
            .unwrap()
            .iter()
            .map(|disk| disk["edits"].as_array().unwrap().len() as u64)
            .sum();
        let (carried, changed) = (&receipt["ahead"]["carried"], &receipt["ahead"]["changed"]);
        assert!(
            edited > 0 && changed.as_u64() > Some(0) && changed.as_u64() < Some(carried.as_u64().unwrap() * 4),
            "{shape}: {receipt}"
        );
        // The same as in one pass.
        let straight = format!("straight-{}", shape.replace('/', "-"));
        let mut whole = words.clone();
        whole[5] = &straight;
        place.run(&whole).expect(0);
        let other: Value =
            serde_json::from_slice(&fs::read(place.path(&format!("{straight}/tidelog/receipt.json"))).unwrap())
                .unwrap();
        assert!(other["ahead"].is_null());
    }
}

#[test]
fn a_second_pass_without_its_first_one_is_refused() {
    let harbour = harbour(1, 4);
    let none = harbour.carry(&["--finish"]).expect(1).err;
    assert!(none.contains("no first pass to finish") && none.contains("there is none"), "{none}");
    harbour.carry(&["--ahead"]).expect(0);
    let other = harbour.carry(&["--finish", "--shape", "raw/thin"]).expect(1).err;
    assert!(other.contains("of another machine, destination or shape"), "{other}");
    // Another's first pass is in the way of nothing: a move in one pass clears it away.
    harbour.carry(&["--shape", "raw/thin"]).expect(0);
    assert!(harbour.receipt("m0")["ahead"].is_null());
    // What is written in one order cannot be changed later.
    let stream = harbour.place.run(&[
        "carry",
        "harbour:m0",
        "--dest",
        "vmx-host",
        "--into",
        "other",
        "--ahead",
        "--accept",
        "will-not-boot",
    ]);
    assert!(stream.expect(1).err.contains("written in one order"));
}

#[test]
fn a_second_pass_that_is_killed_is_made_again_whatever_happened_in_between() {
    let harbour = harbour(1, 24);
    let disk = harbour.place.path("host/m0/m0.raw");
    let first = fs::read(&disk).unwrap();
    harbour.carry(&["--ahead"]).expect(0);
    for round in 0..4u8 {
        writes(&disk, round);
        harbour.slow(15);
        let words = [
            "carry",
            "harbour:m0",
            "--dest",
            "virtio-host",
            "--into",
            "landing",
            "--network",
            "default",
            "--accept",
            "will-not-boot",
            "--finish",
        ];
        let mut child = harbour.spawn(&words);
        std::thread::sleep(std::time::Duration::from_millis(60 + 70 * u64::from(round)));
        child.kill().unwrap();
        child.wait().unwrap();
        if harbour.place.path("landing/m0").exists() {
            return;
        }
    }
    // As it was at the beginning: what the passes wrote meanwhile is gone all the same.
    fs::write(&disk, &first).unwrap();
    harbour.slow(0);
    harbour.carry(&["--finish"]).expect(0);
    harbour.place.run(&["prove", "host/m0/m0.raw", "landing/m0/m0-0.qcow2"]).expect(0);
    harbour.place.run(&["prove", "landing/m0/receipt.json"]).expect(0);
}

/// In a fleet the program `before` shuts the machine down, between the two passes.
#[test]
fn a_fleet_stops_each_machine_for_the_second_pass_alone() {
    let harbour = harbour(2, 8);
    let stop = "#!/bin/sh\nname=$(sed 's/.*\"machine\":\"\\([a-z0-9]*\\)\".*/\\1/')\nprintf x | dd of=host/$name/$name.raw bs=1 seek=3000000 conv=notrunc 2>/dev/null\necho off >host/$name/power\n";
    harbour.place.write("stop", stop.as_bytes());
    fs::set_permissions(harbour.place.path("stop"), fs::Permissions::from_mode(0o755)).unwrap();
    harbour.power("m0", "running");
    harbour.power("m1", "running");
    let ahead = "ahead = true\nhooks = { before = [\"./stop\"] }";
    harbour.file("", &(row("m0", ahead) + &row("m1", ahead)));
    harbour.run(&["--allow-programs", "--at-once", "2"]).expect(0);
    for name in ["m0", "m1"] {
        let record = harbour.receipt(name)["ahead"].clone();
        assert_eq!(record["changed"], 1 << 20, "{record}");
        harbour
            .place
            .run(&["prove", &format!("host/{name}/{name}.raw"), &format!("landing/{name}/{name}-0.qcow2")])
            .expect(0);
    }
    harbour.has_landed(2);
    assert_eq!(stand(&harbour.status(&[]), "m0")["tries"], 1);
    let log = fs::read_to_string(harbour.place.path("night.logs/m0.log")).unwrap();
    assert!(log.contains("carried ahead"), "{log}");
}

/// The emulator's disk is written to while the first pass reads it; its own map tells the second one where.
#[test]
fn a_disk_that_is_written_to_all_the_while_ends_bit_exact_by_its_map() {
    if !is_installed("qemu-system-x86_64") {
        let line = "SKIPPED a_disk_that_is_written_to_all_the_while_ends_bit_exact_by_its_map: there is no emulator\n";
        return std::io::Write::write_all(&mut std::io::stderr(), line.as_bytes()).unwrap();
    }
    let place = Place::new();
    let file = place.write("other.raw", &[0; 1 << 20]);
    let mut server = NbdServer::start(&place.path(""), &file, None).unwrap();
    let link = format!("nbd://127.0.0.1:{}/thin", server.port);
    server.write(7, 0, 40 << 20).unwrap();
    let mut words = vec!["carry", &link, "--dest", "virtio-host", "--into", "landing", "--name", "buoycam"];
    words.extend(["--memory", "512MiB", "--network", "default", "--accept", "will-not-boot", "--accept", "no-system"]);
    // What it writes is read in part, or torn: the second pass mends that.
    let mut first = place.command(&[&words[..], &["--ahead", "--limit", "30MiB"]].concat()).spawn().unwrap();
    let mut writes = 0u8;
    while first.try_wait().unwrap().is_none() {
        writes += 1;
        let at = u64::from(writes) * 7919 % 50;
        server.write(writes, (at << 20) + 12_288, 65_536).unwrap();
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    assert!(first.wait().unwrap().success() && writes > 5, "{writes}");
    server.write(99, 60 << 20, 4096).unwrap();
    let none = place.run(&[&words[..], &["--finish", "--bitmap", "b9"]].concat()).expect(1).err;
    assert!(none.contains("b9"), "{none}");
    let named = place.run(&[&words[..], &["--finish", "--bitmap", "b0&x=y"]].concat()).expect(1).err;
    assert!(named.contains("has no map of what was written"), "{named}");
    place.run(&[&words[..], &["--finish", "--bitmap", "b0"]].concat()).expect(0);
    place.run(&["prove", &link, "landing/buoycam/buoycam-0.qcow2"]).expect(0);
    let receipt: Value =
        serde_json::from_slice(&fs::read(place.path("landing/buoycam/receipt.json")).unwrap()).unwrap();
    assert!(receipt["ahead"]["changed"].as_u64() >= Some(1 << 20), "{receipt}");
    // Other sources have no such map.
    place.write("ledger.raw", &vec![7; 1 << 20]);
    let mut words: Vec<&str> = words.clone();
    words[1] = "ledger.raw";
    words[7] = "ledger";
    place.run(&[&words[..], &["--ahead"]].concat()).expect(0);
    let none = place.run(&[&words[..], &["--finish", "--bitmap", "b0"]].concat()).expect(1).err;
    assert!(none.contains("nbd link"), "{none}");
    place.run(&[&words[..], &["--finish"]].concat()).expect(0);
}
