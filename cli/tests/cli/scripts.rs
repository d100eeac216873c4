//! What a script relies on: one JSON document for everything, errors included; completions; a name that says what a file is.

use std::fs;

use serde_json::Value;

use crate::support::{Place, TIDELOG};

fn disk() -> Vec<u8> {
    let mut disk = vec![0; 2 << 20];
    disk[..5000].fill(7);
    disk
}

/// The error document of `args`, which must end with `code`; stderr holds nothing else.
#[track_caller]
fn error(place: &Place, args: &[&str], code: i32) -> Value {
    let ran = place.run(&[args, &["--json"]].concat()).expect(code);
    let document: Value = serde_json::from_str(&ran.err).unwrap_or_else(|error| panic!("{error}: {}", ran.err));
    assert_eq!(document["schema"], 1);
    assert!(document["error"]["sentence"].as_str().is_some_and(|sentence| !sentence.is_empty()), "{document}");
    document["error"].clone()
}

#[test]
fn errors_are_one_document_with_a_stable_code() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.write("tidelog.ova", TIDELOG);
    place.write("there.qcow2", b"precious");
    place.write("letter.txt", b"dear harbour office");
    place.write("bad.toml", b"[move]\nsuorce = 1\n");
    for (args, exit, code) in [
        (&["recast", "disk.img", "there.qcow2"][..], 1, "exists"),
        (&["recast", "letter.txt", "out.qcow2"], 1, "not-an-image"),
        (&["recast", "absent.img", "out.qcow2"], 1, "io"),
        (&["recast", "disk.img", "disk.img", "--force"], 1, "source-is-result"),
        (&["survey", "letter.txt"], 1, "not-an-image"),
        (&["dests", "nowhere"], 1, "no-such-destination"),
        (&["draft", "tidelog.ova", "--dest", "nowhere"], 1, "no-such-destination"),
        (&["carry", "bad.toml"], 1, "bad-brief"),
        (&["prove", "disk.img"], 1, "bad-receipt"),
        (&["peek", "disk.img"], 1, "no-system"),
        (&["peek", "tidelog.ova", "/nowhere"], 1, "no-such-path"),
        (&["refit", "disk.img", "--dest", "vmx-host", "--out", "x.vmdk"], 1, "no-system"),
        (&["patch", "tidelog.ova/tidelog-disk1.vmdk", "--remove", "/nowhere", "--out", "x.vmdk"], 1, "no-such-path"),
        (&["carry", "disk.img"], 2, "usage"),
        (&["recast", "disk.img", "out", "--as", "tape"], 2, "usage"),
        (&["unknown"], 2, "usage"),
    ] {
        assert_eq!(error(&place, args, exit)["code"], code, "{args:?}");
    }
    let refused = error(&place, &["carry", "letter.txt", "--dest", "vmx-host", "--into", "x"], 1);
    assert_eq!(refused["code"], "not-an-image");
    let with_remedy = error(&place, &["recast", "disk.img", "there.qcow2"], 1);
    assert!(with_remedy["remedy"].as_str().unwrap().contains("--force"));
}

#[test]
fn a_refusal_has_its_findings_in_the_document() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    let args = ["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "x", "--leave-out", "drivers"];
    let refused = error(&place, &args, 3);
    assert_eq!(refused["code"], "refused");
    let codes: Vec<_> = refused["findings"].as_array().unwrap().iter().map(|finding| finding["code"].clone()).collect();
    assert!(codes.contains(&"will-not-boot".into()), "{codes:?}");
}

#[test]
fn every_command_prints_one_document() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.write("note", b"x");
    let disk = "tidelog.ova/tidelog-disk1.vmdk";
    for (args, field) in [
        (&["survey", "tidelog.ova"][..], "targets"),
        (&["dests"], "destinations"),
        (&["draft", "tidelog.ova", "--dest", "virtio-host"], "draft"),
        (&["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "landing"], "receipt"),
        (&["prove", "landing/tidelog/receipt.json"], "proof"),
        (&["recast", disk, "disk.qcow2"], "recast"),
        (&["refit", "disk.qcow2", "--dest", "vmx-host", "--out", "ready.vmdk"], "recast"),
        (&["patch", "disk.qcow2", "--put", "note:/etc/note", "--out", "patched.qcow2"], "recast"),
        (&["peek", "disk.qcow2", "/etc"], "peek"),
        (&["demo", "demo"], "demo"),
    ] {
        let ran = place.run(&[args, &["--json"]].concat()).expect(0);
        assert!(!ran.json()[field].is_null(), "{args:?}: {}", ran.out);
        assert_eq!(ran.err, "", "{args:?}");
    }
}

#[test]
fn the_verdict_stands_above_the_chain() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.write("disk.img", &disk());
    place.run(&["recast", "tidelog.ova/tidelog-disk1.vmdk", "disk.qcow2"]).expect(0);
    for (args, line) in [
        (&["survey", "tidelog.ova"][..], "Boots on the hardware that it has now: yes"),
        (&["draft", "tidelog.ova", "--dest", "virtio-host"], "Boots on virtio-host: yes, with "),
        (&["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "landing"], "Boots on virtio-host: yes, with "),
        // What is mounted from the machine's other disk is not known of one by itself.
        (
            &["refit", "disk.qcow2", "--dest", "vmbus-host", "--out", "ready.vhdx"],
            "Boots on vmbus-host: not known: root of /srv/tides in fstab: /etc/fstab says /dev/sdb",
        ),
        (
            &["draft", "tidelog.ova", "--dest", "virtio-host", "--leave-out", "drivers"],
            "Boots on virtio-host: no: driver of virtio-scsi",
        ),
        (&["draft", "disk.img", "--dest", "virtio-host"], "Boots on virtio-host: not known: no system was found"),
    ] {
        let out = place.run(args).expect(0).out;
        let at = out.find(line).unwrap_or_else(|| panic!("{line}: {out}"));
        assert!(out.find("Boot evidence").is_none_or(|chain| at < chain), "{out}");
    }
    let receipt = fs::read_to_string(place.path("landing/tidelog/receipt.json")).unwrap();
    let receipt: Value = serde_json::from_str(&receipt).unwrap();
    assert_eq!((&receipt["verdict"]["boots"], &receipt["verdict"]["on"]), (&"yes".into(), &"virtio-host".into()));
}

#[test]
fn a_name_that_says_another_format_is_told() {
    let place = Place::new();
    place.write("a.img", &disk());
    let out = place.run(&["recast", "a.img", "b.vhd", "--as", "vhdx"]).expect(0).out;
    assert!(out.contains("misleading-name") && out.contains("holds a vhdx image"), "{out}");
    for args in [
        &["recast", "a.img", "b.vhdx"][..],
        &["recast", "a.img", "disk", "--as", "vhdx"],
        &["recast", "a.img", "c.img.gz"],
    ] {
        assert!(!place.run(args).expect(0).out.contains("misleading-name"), "{args:?}");
    }
}

#[test]
fn a_small_disk_makes_a_small_vhdx() {
    let place = Place::new();
    fs::File::create(place.path("a.img")).unwrap().set_len(2 << 30).unwrap();
    let mut bytes = vec![0; 130 << 20];
    for at in (0..bytes.len()).step_by(65 << 20) {
        bytes[at..at + (1 << 20)].fill(9);
    }
    let file = fs::File::options().write(true).open(place.path("a.img")).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, &bytes, 0).unwrap();
    place.run(&["recast", "a.img", "a.vhdx"]).expect(0);
    let len = fs::metadata(place.path("a.vhdx")).unwrap().len();
    assert!(len <= 8 << 20, "{len}");
    place.run(&["prove", "a.img", "a.vhdx"]).expect(0);
}

#[test]
fn completions_know_the_commands() {
    let place = Place::new();
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let script = place.run(&["completions", shell]).expect(0).out;
        assert!(script.contains("recast") && script.contains("trust-links"), "{shell}");
    }
    assert!(place.run(&["completions", "abacus"]).expect(2).err.contains("bash"));
}

#[test]
fn an_interrupt_ends_looking_too() {
    use rustix::process::{Pid, Signal, kill_process};
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    // Held in the middle of unpacking by a pipe that nobody fills further.
    let mut packed = vec![];
    let mut encoder = flate2::write::GzEncoder::new(&mut packed, flate2::Compression::fast());
    let mut noise: Vec<u8> = (0..40_000_000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    noise[510] = 0x55;
    std::io::Write::write_all(&mut encoder, &noise).unwrap();
    encoder.finish().unwrap();
    place.write("disk.img.gz", &packed);
    for args in [
        &["survey", "disk.img.gz", "--unpack"][..],
        &["peek", "disk.img.gz"],
        &["draft", "disk.img.gz", "--dest", "virtio-host"],
    ] {
        let child = place
            .command(args)
            .stdout(std::process::Stdio::piped())
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(150));
        kill_process(Pid::from_child(&child), Signal::INT).unwrap();
        let ran = crate::support::Ran::from(child.wait_with_output().unwrap());
        // A fast machine may have been done before.
        assert!([130, 0, 1].contains(&ran.code), "{args:?}: {} {}", ran.code, ran.err);
        assert!(ran.code != 130 || ran.err.contains("interrupted"), "{}", ran.err);
    }
}
