//! What a vendor packed as a whole is carried by one command: unpacked into a file that nobody sees.

use std::{
    fs,
    io::{Cursor, Write},
    os::unix::fs::MetadataExt,
};

use reformis_standin::ova;
use serde_json::Value;

use crate::support::{AS_IT_IS, Export, Place, TIDELOG};

const LEDGER: &str = include_str!("../../../demo/ledger/ledger.vmx");

fn disk() -> Vec<u8> {
    let mut disk = vec![0; 6 << 20];
    disk[..700_000].fill(9);
    disk[4 << 20..(4 << 20) + 5000].fill(3);
    disk
}

/// `bytes` packed as the ending says.
fn packed(ending: &str, bytes: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    match ending {
        "gz" => {
            let mut to = flate2::write::GzEncoder::new(&mut out, flate2::Compression::fast());
            to.write_all(bytes).unwrap();
            to.finish().unwrap();
        }
        "xz" => {
            let mut to = liblzma::write::XzEncoder::new(&mut out, 1);
            to.write_all(bytes).unwrap();
            to.finish().unwrap();
        }
        "bz2" => {
            let mut to = bzip2::write::BzEncoder::new(&mut out, bzip2::Compression::fast());
            to.write_all(bytes).unwrap();
            to.finish().unwrap();
        }
        _ => out = zstd::encode_all(bytes, 1).unwrap(),
    }
    out
}

/// A zip archive whose members are all deflated.
fn zip(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in files {
        writer.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        writer.write_all(bytes).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

fn codes(findings: &Value) -> Vec<&str> {
    findings.as_array().unwrap().iter().map(|finding| finding["code"].as_str().unwrap()).collect()
}

/// Carries `target`, proves the landing, and compares its first disk with `disk.img`.
#[track_caller]
fn carried(place: &Place, target: &str, more: &[&str]) -> Value {
    let args = ["carry", target, "--dest", "virtio-host", "--into", "landing", "--name", "gateway", "--json"];
    let ran = place.run(&[&args[..], more].concat()).expect(0);
    let receipt = ran.json()["receipt"].clone();
    assert!(codes(&receipt["findings"]).contains(&"spooled"), "{receipt}");
    place.run(&["prove", "landing/gateway/receipt.json"]).expect(0);
    place.run(&["prove", "disk.img", "landing/gateway/gateway-0.qcow2"]).expect(0);
    assert!(!place.tree().iter().any(|name| name.contains("partial")), "{:?}", place.tree());
    fs::remove_dir_all(place.path("landing")).unwrap();
    receipt
}

#[test]
fn a_disk_in_a_zip_or_a_stream_is_carried_by_one_command() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.run(&["recast", "disk.img", "disk.qcow2"]).expect(0);
    let qcow2 = fs::read(place.path("disk.qcow2")).unwrap();
    let readme: (&str, &[u8]) = ("README.txt", b"Put it on a host.");
    place.write("appliance.zip", &zip(&[readme, ("appliance/gateway.qcow2", &qcow2)]));
    place.write("raw.zip", &zip(&[("gateway.img", &disk()), readme]));
    for ending in ["gz", "xz", "zst", "bz2"] {
        place.write(&format!("gateway.img.{ending}"), &packed(ending, &disk()));
        place.write(&format!("gateway.qcow2.{ending}"), &packed(ending, &qcow2));
    }
    place.write("alone/gateway.img.gz", &packed("gz", &disk()));
    for target in [
        "appliance.zip",
        "raw.zip",
        "gateway.img.gz",
        "gateway.img.xz",
        "gateway.img.zst",
        "gateway.img.bz2",
        "gateway.qcow2.gz",
        "gateway.qcow2.zst",
        "alone",
    ] {
        let receipt = carried(&place, target, &[]);
        // The digest is that of the packed file, whatever order it was read in.
        let file = if target == "alone" { "alone/gateway.img.gz" } else { target };
        let source =
            receipt["sources"].as_array().unwrap().iter().find(|s| s["digest"]["algorithm"] == "blake3").unwrap();
        let digest = blake3::hash(&fs::read(place.path(file)).unwrap()).to_string();
        assert_eq!(
            (source["digest"]["value"].as_str(), source["size"].as_u64()),
            (Some(&*digest), Some(fs::metadata(place.path(file)).unwrap().len()))
        );
    }
    // It is said before it is done.
    let ran = place.run(&["carry", "gateway.img.gz", "--dest", "virtio-host", "--into", "landing"]).expect(0);
    assert!(ran.err.contains("is unpacked first"), "{}", ran.err);
    // What changed since is told, and does not pass for the same.
    let mut other = disk();
    other[5 << 20] = 1;
    place.write("gateway.img.gz", &packed("gz", &other));
    place.run(&["prove", "landing/gateway.img/receipt.json"]).expect(4);
}

#[test]
fn a_packed_package_is_a_package() {
    let place = Place::new();
    let export = Export::small();
    let files = export.files();
    let files: Vec<(&str, &[u8])> = files.iter().map(|(name, bytes)| (name.as_str(), &bytes[..])).collect();
    place.run(&["survey", "."]).expect(0);
    place.write("tidelog.ova", &export.archive());
    place.run(&["recast", "tidelog.ova/tidelog-disk1.vmdk", "disk.img"]).expect(0);
    place.write("export.zip", &zip(&files));
    place.write("export.tar.gz", &packed("gz", &export.archive()));
    place.write("export.tar.zst", &packed("zst", &export.archive()));
    for target in ["export.zip", "export.tar.gz", "export.tar.zst"] {
        let receipt = carried(&place, target, &[]);
        assert_eq!(receipt["machine"]["after"]["memory"], 2u64 << 30, "{target}");
    }
    // A disk that is packed by itself inside, as the descriptor says: the manifest covers it as it lies there.
    let mut bent = Export::small();
    let gz = packed("gz", &bent.disks[0].1);
    let from = "ovf:href=\"tidelog-disk1.vmdk\"";
    bent.descriptor = bent.descriptor.replace(from, &format!("{from} ovf:compression=\"gzip\""));
    bent.descriptor = bent.descriptor.replace(&format!("\"{}\"", bent.disks[0].1.len()), &format!("\"{}\"", gz.len()));
    bent.disks[0].1 = gz;
    place.write("inside.ova", &bent.archive());
    let receipt = carried(&place, "inside.ova", &[]);
    assert!(!codes(&receipt["findings"]).contains(&"length-differs"), "{receipt}");
    let middle = bent.disks[0].1.len() / 2;
    let mut files = bent.files();
    files[2].1[middle] ^= 1;
    place.write("inside.ova", &crate::support::pack(&files));
    let ran = place.run(&["carry", "inside.ova", "--dest", "virtio-host", "--into", "landing"]).expect(1);
    assert!(ran.err.contains("is not what its manifest says") || ran.err.contains("is damaged"), "{}", ran.err);
    assert!(!place.path("landing").exists());
}

#[test]
fn what_we_land_for_a_cloud_is_carried_on() {
    let place = Place::new();
    place.write("tidelog.ova", &Export::small().archive());
    let to_cloud = ["carry", "tidelog.ova", "--dest", "virtio-cloud", "--into", "cloud"];
    place.run(&[&to_cloud[..], &AS_IT_IS].concat()).expect(0);
    assert!(place.path("cloud/tidelog/tidelog-0.raw.gz").exists());
    place.run(&["recast", "cloud/tidelog/tidelog-0.raw.gz", "disk.img"]).expect(0);
    let receipt = carried(&place, "cloud/tidelog", &AS_IT_IS);
    assert_eq!(receipt["disks"][0]["packed"], "gzip");
    // A disk beside a machine file that does not say that it is packed.
    place.write("disk2.img", &disk());
    let vmx = LEDGER.replace("ledger.vmdk", "ledger.img.gz").replace("ledger_1.vmdk", "disk2.img");
    place.write("ledger/ledger.vmx", vmx.as_bytes());
    fs::copy(place.path("cloud/tidelog/tidelog-0.raw.gz"), place.path("ledger/ledger.img.gz")).unwrap();
    fs::copy(place.path("disk2.img"), place.path("ledger/disk2.img")).unwrap();
    carried(&place, "ledger", &AS_IT_IS);
}

#[test]
fn a_survey_looks_inside_when_it_is_told_to() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.run(&["recast", "tidelog.ova/tidelog-disk2.vmdk", "disk.img"]).expect(0);
    place.run(&["recast", "disk.img", "gateway.img.gz"]).expect(0);
    let outside = place.run(&["survey", "gateway.img.gz"]).expect(0).out;
    assert!(outside.contains("read-forwards") && outside.contains("--unpack"), "{outside}");
    let json = place.run(&["survey", "gateway.img.gz", "--unpack", "--json"]).expect(0).json();
    let target = &json["targets"][0];
    assert_eq!(target["disks"][0]["size"], fs::metadata(place.path("disk.img")).unwrap().len());
    assert!(!target["guest"]["volumes"].as_array().unwrap().is_empty(), "{json}");
    place.run(&["peek", "gateway.img.gz", "/", "--volume", "disk 1"]).expect(0);
    place.run(&["prove", "gateway.img.gz", "disk.img"]).expect(0);
}

#[test]
fn what_is_unpacked_takes_no_room_for_zeros_and_gives_it_back() {
    let place = Place::new();
    let mut large = vec![0; 60 << 20];
    large[40 << 20] = 1;
    place.write("large.img.gz", &packed("gz", &large));
    place.run(&["carry", "large.img.gz", "--dest", "virtio-host", "--into", "landing", "--name", "a"]).expect(0);
    let used: u64 = place.tree().iter().map(|name| fs::metadata(place.path(name)).unwrap().blocks() * 512).sum();
    assert!(used < 4 << 20, "{used}");
    // A delta that is packed has no parent: the folder that we run in is not where it came from.
    place.write("base.img", &large[..1 << 20]);
    let mut delta = fs::read(place.path("landing/a/a-0.qcow2")).unwrap();
    delta[8..16].copy_from_slice(&512u64.to_be_bytes());
    delta[16..20].copy_from_slice(&8u32.to_be_bytes());
    delta[512..520].copy_from_slice(b"base.img");
    place.write("delta.qcow2.gz", &packed("gz", &delta));
    let ran =
        place.run(&["carry", "delta.qcow2.gz", "--dest", "virtio-host", "--into", "landing", "--name", "b"]).expect(1);
    assert!(ran.err.contains("holds no member 'base.img'"), "{}", ran.err);
}

#[test]
fn a_member_without_end_is_not_taken_into_memory() {
    let place = Place::new();
    let bomb = vec![b' '; 40 << 20];
    place.write("bomb.zip", &zip(&[("tidelog.ovf", &bomb)]));
    let ran = place.run(&["carry", "bomb.zip", "--dest", "virtio-host", "--into", "landing"]).expect(1);
    assert!(ran.err.contains("no machine file is that large"), "{}", ran.err);
    let mut tar = Vec::new();
    ova::archive(&mut tar, &[("a.img", &disk()[..])]).unwrap();
    place.write("short.tar.gz", &packed("gz", &tar)[..2000]);
    place.run(&["carry", "short.tar.gz", "--dest", "virtio-host", "--into", "landing"]).expect(1);
    assert!(!place.path("landing").exists());
}
