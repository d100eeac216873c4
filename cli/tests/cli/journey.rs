//! The whole way, as an administrator goes it.

use std::fs;

use reformis_standin::{content::Content, ova::ManifestKind, qcow2_check};

use crate::support::{Export, Place, TIDELOG, pack};

#[test]
fn survey_carry_prove() {
    let place = Place::new();
    let archive = place.write("tidelog.ova", TIDELOG);
    let before = fs::metadata(&archive).unwrap().modified().unwrap();

    let survey = place.run(&["survey", "tidelog.ova"]).expect(0).out;
    for part in ["tidelog-disk1.vmdk", "vmdk/stream", "pvscsi 0:1", "1 socket × 2 cores", "02:5a:17:00:00:21"] {
        assert!(survey.contains(part), "{survey}");
    }
    let landed = place.carry(&[]).expect(0);
    assert!(landed.err.is_empty(), "{}", landed.err);
    let names: Vec<_> = place.tree().into_iter().filter(|name| name.contains('/')).collect();
    let expected = ["receipt.json", "tidelog-0.qcow2", "tidelog-1.qcow2", "tidelog.xml"];
    assert_eq!(names[1..], expected.map(|name| format!("landing/tidelog/{name}")));
    for index in 0..2 {
        qcow2_check::check(&place.path(&format!("landing/tidelog/tidelog-{index}.qcow2"))).unwrap();
    }
    let xml = fs::read_to_string(place.path("landing/tidelog/tidelog.xml")).unwrap();
    let disk = place.path("landing/tidelog/tidelog-0.qcow2").canonicalize().unwrap();
    assert!(xml.contains(&format!("<source file=\"{}\"/>", disk.display())), "{xml}");
    assert!(xml.contains("<boot order=\"1\"/>"));

    let proof = place.run(&["prove", "landing/tidelog/receipt.json"]).expect(0).out;
    assert!(proof.contains("The proof holds"), "{proof}");
    assert_eq!(fs::metadata(&archive).unwrap().modified().unwrap(), before);
    assert_eq!(fs::read(&archive).unwrap(), TIDELOG);

    place.carry(&[]).expect(1);
    let told = place.carry(&["--force", "--verbose"]).expect(0).err;
    assert!(told.contains("carried a disk") && told.contains("result=\"tidelog-1.qcow2\""), "{told}");
    place.carry(&["--force", "--log", "log.txt"]).expect(0);
    assert!(fs::read_to_string(place.path("log.txt")).unwrap().contains("landed"));
    place.run(&["prove", "landing/tidelog/receipt.json"]).expect(0);
}

#[test]
fn the_json_documents_say_the_same() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    let survey = place.run(&["survey", "tidelog.ova", "--json"]).expect(0).json();
    assert_eq!(survey["schema"], 1);
    let target = &survey["targets"][0];
    assert_eq!(target["machine"]["memory"], 2u64 << 30);
    assert_eq!(target["machine"]["firmware"]["kind"], "bios");
    assert_eq!(target["disks"][0]["image"]["shape"], "vmdk/stream");
    assert_eq!(target["disks"][0]["image"]["unit"][1], 65536);

    let landed = place.carry(&["--json"]).expect(0).json();
    let receipt: serde_json::Value =
        serde_json::from_slice(&fs::read(place.path("landing/tidelog/receipt.json")).unwrap()).unwrap();
    assert_eq!(landed["receipt"], receipt);
    assert_eq!(receipt["schema"], 1);
    assert_eq!(receipt["machine"]["before"]["disks"][0]["controller"], "pvscsi");
    assert_eq!(receipt["machine"]["after"]["disks"][0]["controller"], "virtio-scsi");
    assert_eq!(receipt["machine"]["after"]["disks"][0]["boot"], 1);
    assert_eq!(receipt["machine"]["after"]["adapters"][0]["mac"], "02:5a:17:00:00:21");
    let sources: Vec<_> =
        receipt["sources"].as_array().unwrap().iter().map(|s| s["digest"]["algorithm"].as_str()).collect();
    assert_eq!(sources, [None, None, Some("sha256"), Some("sha256"), Some("sha256")]);
    let codes: Vec<_> = receipt["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect();
    assert_eq!(codes, ["network-unmapped", "mac-kept"]);

    let proof = place.run(&["prove", "landing/tidelog/receipt.json", "--json"]).expect(0).json();
    assert_eq!(proof["proof"]["holds"], true);
    assert_eq!(proof["proof"]["disks"][0]["content_digest"], receipt["disks"][0]["content_digest"]);

    let dests = place.run(&["dests", "--json"]).expect(0).json();
    let lands: Vec<_> = dests["destinations"].as_array().unwrap().iter().map(|d| d["lands"].as_bool()).collect();
    assert_eq!(lands.iter().filter(|lands| **lands == Some(true)).count(), 7);
    assert_eq!(lands.len(), 7);
}

#[test]
fn a_difference_is_found_named_and_coded() {
    let place = Place::new();
    place.write("tidelog.ova", &Export::small().archive());
    place.carry(&[]).expect(0);
    let disk = place.path("landing/tidelog/tidelog-1.qcow2");
    place.run(&["recast", "landing/tidelog/tidelog-1.qcow2", "copy.img"]).expect(0);
    let mut copy = fs::read(place.path("copy.img")).unwrap();
    let proof = place.run(&["prove", "tidelog.ova/tidelog-disk2.vmdk", "copy.img"]).expect(0).out;
    assert!(proof.contains("holds"), "{proof}");

    copy[6_000_001] ^= 1;
    fs::write(place.path("copy.img"), &copy).unwrap();
    let proof = place.run(&["prove", "tidelog.ova/tidelog-disk2.vmdk", "copy.img"]).expect(4).out;
    assert!(proof.contains("The first byte that differs is byte 6000001"), "{proof}");

    place.run(&["recast", "copy.img", &disk.to_string_lossy(), "--force"]).expect(0);
    fs::write(place.path("landing/tidelog/tidelog.xml"), "<domain/>").unwrap();
    let proof = place.run(&["prove", "landing/tidelog/receipt.json", "--json"]).expect(4).json();
    assert_eq!(proof["proof"]["disks"][0]["holds"], true);
    assert_eq!(proof["proof"]["disks"][1]["first_difference"], 6_000_001);
    assert_eq!(proof["proof"]["files"][0]["holds"], false);

    fs::write(place.path("longer.img"), [&copy[..], &[0; 512]].concat()).unwrap();
    let proof = place.run(&["prove", "copy.img", "longer.img"]).expect(4).out;
    assert!(proof.contains("sizes differ: 8388608 and 8389120 bytes"), "{proof}");
}

#[test]
fn manifests_of_all_years_none_at_all_and_a_descriptor_in_a_folder() {
    for kind in [Some(ManifestKind::Sha1), Some(ManifestKind::Sha256), Some(ManifestKind::Sha512), None] {
        let place = Place::new();
        let export = Export { kind, ..Export::small() };
        for (name, bytes) in export.files() {
            place.write(&format!("export/{name}"), &bytes);
        }
        let args = ["carry", "export/tidelog.ovf", "--dest", "virtio-host", "--into", "landing", "--json"];
        let receipt = place.run(&args).expect(0).json()["receipt"].clone();
        let algorithm = receipt["sources"].as_array().unwrap().last().unwrap()["digest"]["algorithm"].clone();
        let expected = match kind {
            Some(ManifestKind::Sha1) => "sha1",
            Some(ManifestKind::Sha256) => "sha256",
            Some(ManifestKind::Sha512) => "sha512",
            None => "content",
        };
        assert_eq!(algorithm, expected);
        assert_eq!(receipt["findings"].to_string().contains("no-manifest"), kind.is_none());
        place.run(&["prove", "landing/tidelog/receipt.json"]).expect(0);
    }
}

#[test]
fn a_disk_in_pieces_and_a_disk_that_starts_empty() {
    let place = Place::new();
    let mut export = Export { kind: None, ..Export::small() };
    let whole = export.disks.remove(0).1;
    for (index, piece) in whole.chunks(100_000).enumerate() {
        export.disks.push((format!("tidelog-disk1.vmdk.{index:09}"), piece.to_vec()));
    }
    export.descriptor = export
        .descriptor
        .replace("ovf:href=\"tidelog-disk1.vmdk\"", "ovf:href=\"tidelog-disk1.vmdk\" ovf:chunkSize=\"100000\"")
        .replace(" ovf:fileRef=\"file2\"", "");
    place.write("tidelog.ova", &export.archive());
    place.carry(&[]).expect(0);
    place.run(&["prove", "landing/tidelog/receipt.json"]).expect(0);
    place.write("whole.vmdk", &whole);
    place.run(&["prove", "whole.vmdk", "landing/tidelog/tidelog-0.qcow2"]).expect(0);
    let receipt = fs::read_to_string(place.path("landing/tidelog/receipt.json")).unwrap();
    assert!(receipt.contains("tidelog-disk1.vmdk.000000001"), "{receipt}");
    let counts = qcow2_check::check(&place.path("landing/tidelog/tidelog-1.qcow2")).unwrap();
    assert_eq!(counts.data_clusters, 0);
}

#[test]
fn recast_goes_by_name_or_by_word_and_rounds_what_is_no_sector() {
    let place = Place::new();
    let mut bytes = vec![0; 100_001];
    Content::empty(100_001).with(510, 2, 1).with(90_000, 10_001, 3).read_at(0, &mut bytes);
    place.write("odd.img", &bytes);
    let made = place.run(&["recast", "odd.img", "odd.qcow2"]).expect(0).out;
    assert!(made.contains("grows from 100001 to 100352 bytes"), "{made}");
    place.run(&["prove", "odd.img", "odd.qcow2"]).expect(0);
    qcow2_check::check(&place.path("odd.qcow2")).unwrap();
    place.run(&["recast", "odd.qcow2", "odd.back", "--as", "raw/thin"]).expect(0);
    let back = fs::read(place.path("odd.back")).unwrap();
    assert_eq!((&back[..100_001], &back[100_001..]), (&bytes[..], &[0; 351][..]));
}

#[test]
fn what_is_declared_raw_is_raw_whatever_a_guest_wrote_into_it() {
    let place = Place::new();
    let qcow2 = {
        place.write("small.img", &[7; 70_000]);
        place.run(&["recast", "small.img", "small.qcow2"]).expect(0);
        fs::read(place.path("small.qcow2")).unwrap()
    };
    place.write("guest.img", &qcow2);
    place.run(&["recast", "guest.img", "copy.disk", "--from", "raw", "--as", "raw"]).expect(0);
    assert_eq!(fs::read(place.path("copy.disk")).unwrap(), qcow2);
}

#[test]
fn a_folder_is_surveyed_file_by_file_and_names_cannot_steer_a_terminal() {
    let place = Place::new();
    place.write("exports/tidelog.ova", TIDELOG);
    place.write("exports/notes.txt", b"call the harbour office");
    place.write("exports/evil\u{1b}[2J.img", &[0; 4096]);
    let survey = place.run(&["survey", "exports"]).expect(0).out;
    assert!(survey.contains("tidelog.ova") && survey.contains("evil\\u{1b}[2J.img"), "{survey}");
    assert!(!survey.contains('\u{1b}') && !survey.contains("notes"), "{survey}");
    let mut export = Export::small();
    export.descriptor = export.descriptor.replace("Saltmarsh server 12", "\u{202e}Salt\u{9b}2J");
    place.write("steer.ova", &export.archive());
    let survey = place.run(&["survey", "steer.ova", "--color", "always"]).expect(0).out;
    assert!(survey.contains("\\u{202e}Salt\\u{9b}2J"), "{survey}");
    let renamed = export.descriptor.replace("<ovf:Name>tidelog<", "<ovf:Name>../../Tide &#x9; log<");
    let export = Export { descriptor: renamed, ..export };
    place.write("tidelog.ova", &export.archive());
    let landed = place.carry(&[]).expect(0).out;
    assert!(landed.contains("name-changed") && place.path("landing/Tide-log/Tide-log.xml").exists(), "{landed}");
}

#[test]
fn the_demo_tells_its_story_twice_and_leaves_other_files_alone() {
    let place = Place::new();
    for _ in 0..2 {
        let story = place.run(&["demo", "salt marsh"]).expect(0).out;
        for part in ["$ reformis survey", "$ reformis carry", "$ reformis prove", "The proof holds"] {
            assert!(story.contains(part), "{story}");
        }
    }
    assert!(place.path("salt marsh/landing/tidelog/tidelog.xml").exists());
    let page = fs::read_to_string(place.path("salt marsh/report.html")).unwrap();
    assert!(page.contains("href=\"./landing/tidelog/receipt.json\"") && page.contains("id=\"m6\""), "seven moves");
    place.write("mine/tidelog.ova", b"mine");
    place.run(&["demo", "mine"]).expect(1);
    assert_eq!(fs::read(place.path("mine/tidelog.ova")).unwrap(), b"mine");
}

#[test]
fn a_reader_that_has_seen_enough_ends_it_quietly() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    let mut child = place
        .command(&["survey", "tidelog.ova"])
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success() && output.stderr.is_empty(), "{output:?}");
}

#[test]
fn an_archive_in_the_order_of_another_host_and_with_a_dot_before_its_names() {
    let place = Place::new();
    let mut files = Export::small().files();
    files.reverse();
    for (name, _) in &mut files {
        name.insert_str(0, "./");
    }
    place.write("tidelog.ova", &pack(&files));
    place.carry(&[]).expect(0);
    place.run(&["prove", "landing/tidelog/receipt.json"]).expect(0);
}
