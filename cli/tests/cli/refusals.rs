//! Bad input: a clear message, its exit code, and nothing left behind.

use std::{fs, os::unix::fs::symlink};

use crate::support::{Export, Place, TIDELOG, pack};

/// Carries `archive`, which must end with `code`, say all of `parts`, and leave nothing.
#[track_caller]
fn refused(archive: &[u8], code: i32, parts: &[&str]) {
    let place = Place::new();
    place.write("tidelog.ova", archive);
    let ran = place.carry(&[]).expect(code);
    // However the lines were broken.
    let err = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
    for part in parts {
        assert!(err.contains(part), "{part:?} should be in:\n{err}");
    }
    assert_eq!(place.tree(), ["tidelog.ova"]);
}

#[test]
fn an_archive_cut_short_anywhere() {
    let whole = Export::small().archive();
    let place = Place::new();
    // Up to the last member's end; what follows is the end mark.
    let last = whole.len() - 1024 - 512;
    for len in (0..last).step_by(whole.len() / 40).chain([1, 511, 512, 513, last]) {
        place.write("tidelog.ova", &whole[..len]);
        let ran = place.carry(&[]);
        assert!([1, 3].contains(&ran.code), "at {len}: {} {}", ran.code, ran.err);
        assert!(ran.err.contains("error: ") && !ran.err.contains("panicked"), "at {len}: {}", ran.err);
        assert_eq!(place.tree(), ["tidelog.ova"], "at {len}");
    }
    // Without its end mark the archive may have lost members, and these have not: that is told, and no more.
    place.write("tidelog.ova", &whole[..whole.len() - 1024]);
    assert!(place.carry(&[]).expect(0).out.contains("archive-no-end"));
}

#[test]
fn a_disk_that_is_not_what_its_manifest_says() {
    for kind in [reformis_standin::ova::ManifestKind::Sha1, reformis_standin::ova::ManifestKind::Sha512] {
        let export = Export { kind: Some(kind), ..Export::small() };
        let mut files = export.files();
        // In the descriptor's text inside the image, where nothing else would notice.
        files[3].1[600] ^= 1;
        refused(&pack(&files), 1, &["tidelog.ova/tidelog-disk2.vmdk' is not what its manifest says", "help: "]);
    }
}

#[test]
fn a_descriptor_that_is_not_what_its_manifest_says() {
    let mut files = Export::small().files();
    let changed = String::from_utf8(files[0].1.clone()).unwrap().replace(">2048<", ">4096<");
    files[0].1 = changed.into_bytes();
    refused(&pack(&files), 3, &["blocker 'tidelog.ovf' does not match the manifest", "descriptor-changed"]);
}

#[test]
fn a_manifest_that_is_none() {
    let mut files = Export::small().files();
    files[1].1 = b"SHA256(tidelog.ovf)= 1234\n".to_vec();
    refused(&pack(&files), 1, &["tidelog.mf' line 1: the digest does not have the length"]);
}

#[test]
fn a_disk_that_is_missing() {
    let mut files = Export::small().files();
    files.remove(3);
    refused(&pack(&files), 3, &["The file of disk 'tides', 'tidelog-disk2.vmdk', is missing", "1 blocker"]);
}

#[test]
fn member_names_that_leave_the_folder() {
    for name in ["../tidelog-disk3.vmdk", "/etc/passwd", "a/../../b", "a\\..\\..\\b", "C:\\x"] {
        let mut files = Export::small().files();
        files.push((name.into(), b"x".to_vec()));
        refused(&pack(&files), 1, &["tidelog.ova' names '", "which is refused: the name"]);
    }
    let mut files = Export::small().files();
    files.push(files[2].clone());
    refused(&pack(&files), 1, &["two members are called 'tidelog-disk1.vmdk'"]);
}

#[test]
fn references_that_leave_the_folder() {
    let place = Place::new();
    place.write("secret.vmdk", &Export::small().disks[0].1);
    for (name, more) in [("../secret.vmdk", "climbs"), ("/secret.vmdk", "absolute"), ("link.vmdk", "symbolic link")] {
        let mut export = Export { kind: None, ..Export::small() };
        export.descriptor = export.descriptor.replace("href=\"tidelog-disk1.vmdk\"", &format!("href=\"{name}\""));
        for (name, bytes) in export.files() {
            place.write(&format!("export/{name}"), &bytes);
        }
        let _ = symlink(place.path("secret.vmdk"), place.path("export/link.vmdk"));
        let args = ["carry", "export/tidelog.ovf", "--dest", "virtio-host", "--into", "landing"];
        let ran = place.run(&args).expect(1);
        assert!(ran.err.contains(more) && ran.err.contains("--trust-links"), "{}", ran.err);
        if name != "/secret.vmdk" {
            place.run(&[&args[..], &["--trust-links", "--force"]].concat()).expect(0);
        }
    }
}

#[test]
fn disks_that_are_damaged_are_all_told_of_at_once() {
    let mut export = Export { kind: None, ..Export::small() };
    export.disks[0].1.truncate(100_000);
    export.disks[1].1 = b"this is no disk".to_vec();
    let parts =
        ["Disk 'system' cannot be read", "is cut short", "Disk 'tides' cannot be read", "it holds text", "2 blockers"];
    refused(&export.archive(), 3, &parts);
}

#[test]
fn a_grain_that_lies_stops_the_move_half_way() {
    let mut export = Export { kind: None, ..Export::small() };
    // The second grain of the first disk; the first starts at sector 128.
    let disk = &mut export.disks[0].1;
    let second = (129..).map(|sector| sector * 512).find(|&at| disk[at..at + 8] == 128u64.to_le_bytes()).unwrap();
    disk[second + 20] ^= 0xff;
    refused(&export.archive(), 1, &["tidelog-disk1.vmdk' is damaged at byte", "a compressed grain"]);
}

#[test]
fn what_exists_is_not_overwritten_and_what_is_no_landing_never() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.write("landing/tidelog/letters.txt", b"dear harbour office");
    assert!(place.carry(&[]).expect(1).err.contains("exists already"));
    assert!(place.carry(&["--force"]).expect(1).err.contains("is not a landing"));
    assert_eq!(fs::read(place.path("landing/tidelog/letters.txt")).unwrap(), b"dear harbour office");

    place.write("disk.img", &[1; 5000]);
    place.write("there.qcow2", b"precious");
    assert!(place.run(&["recast", "disk.img", "there.qcow2"]).expect(1).err.contains("--force"));
    assert_eq!(fs::read(place.path("there.qcow2")).unwrap(), b"precious");
    let ran = place.run(&["recast", "disk.img", "disk.img", "--force"]).expect(1);
    assert!(ran.err.contains("a source is never written"), "{}", ran.err);
    assert_eq!(fs::read(place.path("disk.img")).unwrap(), [1; 5000]);
}

#[test]
fn things_that_are_no_disks() {
    let place = Place::new();
    place.write("letter.txt", b"dear harbour office");
    place.write("nothing.vmdk", b"");
    place.write("packed.img.gz", b"\x1f\x8b\x08\0\0\0\0\0\0\0");
    place.write("random", &(0..9000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 24) as u8 | 1).collect::<Vec<_>>());
    place.write("new.vhdx", &[b"vhdxfile".to_vec(), vec![0; 400_000]].concat());
    place.write("tidelog.ova", TIDELOG);
    for (name, part) in [
        ("letter.txt", "it holds text"),
        ("nothing.vmdk", "it is empty"),
        ("packed.img.gz", "is damaged: after 0 unpacked bytes"),
        ("random", "its first bytes match no format"),
        ("new.vhdx", "neither of the two headers has a right checksum"),
        (".", "it is a folder"),
        ("absent.vmdk", "No such file"),
        ("tidelog.ova", "name the member behind its path"),
        ("tidelog.ova/none.vmdk", "holds no member 'none.vmdk'"),
        ("letter.txt/none.vmdk", "holds no member 'none.vmdk'"),
    ] {
        let ran = place.run(&["recast", name, "out.qcow2"]).expect(1);
        assert!(ran.err.contains(part), "{name}: {}", ran.err);
        assert_eq!(ran.err.matches(part).count(), 1, "said twice: {}", ran.err);
        assert!(!ran.err.contains("os error") && !place.path("out.qcow2").exists(), "{}", ran.err);
    }
    assert!(!place.tree().iter().any(|name| name.contains("partial")));
}

#[test]
fn wrong_usage_is_code_2_and_says_what_there_is() {
    let place = Place::new();
    place.write("disk.img", &[1; 5000]);
    for (args, part) in [
        (&["recast", "disk.img", "out", "--as", "vdi/stream"][..], "vdi knows vdi/thin, vdi/full"),
        (&["recast", "disk.img", "out", "--as", "tape"], "is not a shape"),
        (&["recast", "disk.img", "out", "--from", "tape"], "is not a shape"),
        (&["carry", "disk.img", "--into", "x"], "--dest"),
        (&["survey"], "TARGET"),
        (&["unknown"], "unrecognized subcommand"),
        (&["carry", "disk.img", "--into", "x"], "a target needs --dest NAME"),
        (&["carry", "disk.img", "--dest", "vmx-host"], "a target needs --into FOLDER"),
        (
            &["carry", "disk.img", "--dest", "vmx-host", "--into", "x", "--machine-file", "y"],
            "choose one of domain-xml, ovf",
        ),
    ] {
        assert!(place.run(args).expect(2).err.contains(part), "{args:?}");
    }
    for (args, part) in [
        (&["recast", "disk.img", "out"][..], "Name the shape that you want (--as SHAPE)"),
        (&["recast", "disk.img", "out.vhd", "--squeeze", "zstd"], "no choice of compression and cluster size"),
        (&["recast", "disk.img", "out.qcow2.gz"], "only raw bytes are compressed as a whole, not qcow2/thin"),
        (&["recast", "disk.img", "out.raw.xz"], "xz is only read; gzip and zstd are written"),
        (&["recast", "disk.img", "-", "--as", "vhdx"], "a pipe takes raw/thin, vmdk/stream"),
        (&["recast", "disk.img", "out.qcow2", "--cluster", "1000"], "expected a power of two from 4 KiB to 2 MiB"),
        (&["recast", "disk.img", "out.qcow2", "--as", "qcow2/full", "--squeeze", "zstd"], "choose qcow2/thin"),
        (&["recast", "disk.img", "out.vhd", "--snapshot", "x"], "raw keeps no snapshots inside"),
        (&["carry", "disk.img", "--dest", "virtio", "--into", "x"], "there are virtio-host, vmx-host"),
        (
            &["carry", "disk.img", "--dest", "vmx-host", "--into", "x", "--shape", "qcow2"],
            "it offers vmdk/stream, vmdk/thin",
        ),
        (&["draft", ".", "--dest", "vmx-host", "--site", "none.toml"], "opening 'none.toml': No such file"),
        (&["prove", "disk.img"], "the receipt 'disk.img' cannot be read"),
    ] {
        let ran = place.run(args);
        assert!([1, 3].contains(&ran.code) && ran.err.contains(part), "{args:?}: {} {}", ran.code, ran.err);
    }
}

#[test]
fn a_receipt_cannot_lead_a_proof_elsewhere() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.carry(&[]).expect(0);
    let path = place.path("landing/tidelog/receipt.json");
    let receipt = fs::read_to_string(&path).unwrap();
    fs::write(&path, receipt.replace("\"result\": \"tidelog-0.qcow2\"", "\"result\": \"../../tidelog.ova\"")).unwrap();
    let ran = place.run(&["prove", "landing/tidelog/receipt.json"]).expect(1);
    assert!(ran.err.contains("climbs out of its folder"), "{}", ran.err);
    fs::write(&path, receipt.replace("\"schema\": 1", "\"schema\": 99")).unwrap();
    let ran = place.run(&["prove", "landing/tidelog/receipt.json"]).expect(1);
    assert!(ran.err.contains("its schema is 99, and this version reads up to 1"), "{}", ran.err);
}
