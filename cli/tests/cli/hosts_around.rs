//! One machine once around all destinations: each landing is the source of the next move, and every byte arrives.

use std::fs;

use serde_json::Value;

use crate::support::{AS_IT_IS, Place, TIDELOG};

fn receipt(place: &Place, landing: &str) -> Value {
    serde_json::from_slice(&fs::read(place.path(landing).join("receipt.json")).unwrap()).unwrap()
}

/// Content digests of all disks.
fn digests(receipt: &Value) -> Vec<String> {
    let disks = receipt["disks"].as_array().unwrap();
    disks.iter().map(|disk| disk["content_digest"].as_str().unwrap().to_string()).collect()
}

#[test]
fn from_host_to_host_and_back() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    let mut source = "tidelog.ova".to_string();
    let mut first = None;
    for (index, (destination, kind, shape, files)) in [
        ("vmx-host", "ovf", "vmdk/stream", &["tidelog.ovf", "tidelog.mf", "tidelog-0.vmdk", "tidelog-1.vmdk"][..]),
        ("vmx-host", "vmx", "vmdk/thin", &["tidelog.vmx", "tidelog-0.vmdk", "tidelog-1.vmdk"]),
        ("vdi-host", "vbox", "vdi/thin", &["tidelog.vbox", "tidelog-0.vdi", "tidelog-1.vdi"]),
        ("vmx-host", "ova", "vmdk/stream", &["tidelog.ova"]),
        ("virtio-host", "domain-xml", "qcow2/thin", &["tidelog.xml", "tidelog-0.qcow2", "tidelog-1.qcow2"]),
        ("nvme-cloud", "launch-json", "vhdx/thin", &["tidelog.launch.json", "tidelog-0.vhdx", "tidelog-1.vhdx"]),
        ("vmbus-host", "start-script", "vhd/thin", &["tidelog.ps1", "tidelog.ovf", "tidelog-0.vhd", "tidelog-1.vhd"]),
        (
            "vmx-host",
            "vmx",
            "vmdk/full",
            &["tidelog.vmx", "tidelog-0.vmdk", "tidelog-0-flat.vmdk", "tidelog-1.vmdk", "tidelog-1-flat.vmdk"],
        ),
    ]
    .into_iter()
    .enumerate()
    {
        let into = format!("landing-{index}");
        let landing = format!("{into}/tidelog");
        let args =
            ["carry", &source, "--dest", destination, "--into", &into, "--machine-file", kind, "--shape", shape, "-q"];
        // Nothing inside is changed, so that the digests can be the same all the way round.
        place.run(&[&args[..], &AS_IT_IS].concat()).expect(0);
        let mut found: Vec<_> = fs::read_dir(place.path(&landing))
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        found.sort();
        let mut expected: Vec<String> = files.iter().map(ToString::to_string).collect();
        expected.push("receipt.json".into());
        expected.sort();
        assert_eq!(found, expected, "{destination}");
        place.run(&["prove", &format!("{landing}/receipt.json"), "-q"]).expect(0);
        let receipt = receipt(&place, &landing);
        let first = first.get_or_insert_with(|| digests(&receipt));
        assert_eq!(&digests(&receipt), first, "{destination} {kind}");
        let after = &receipt["machine"]["after"];
        assert_eq!(after["memory"], 2u64 << 30);
        assert_eq!(after["adapters"][0]["mac"], "02:5a:17:00:00:21", "{destination}");
        assert_eq!(after["disks"][0]["boot"], 1);
        // A folder with one machine file is a source; a manifest's package is checked as it is read.
        source = landing;
    }
}

#[test]
fn an_archive_that_lands_is_what_strict_importers_want() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    let args = ["carry", "tidelog.ova", "--dest", "vmx-host", "--machine-file", "ova", "--into", "landing", "-q"];
    place.run(&args).expect(0);
    let bytes = fs::read(place.path("landing/tidelog/tidelog.ova")).unwrap();
    assert_eq!(bytes.len() % 512, 0);
    let name = |at: usize| String::from_utf8_lossy(&bytes[at..at + 100]).trim_end_matches('\0').to_string();
    // The descriptor first, then the manifest, then the disks in their order; plain files of the ustar kind.
    let mut at = 0;
    let mut names = Vec::new();
    while bytes[at] != 0 {
        assert_eq!(&bytes[at + 257..at + 263], b"ustar\0");
        let size = String::from_utf8_lossy(&bytes[at + 124..at + 135]).into_owned();
        let size = usize::from_str_radix(size.trim_matches(['\0', ' ']), 8).unwrap();
        names.push(name(at));
        at += 512 + size.next_multiple_of(512);
    }
    assert_eq!(names, ["tidelog.ovf", "tidelog.mf", "tidelog-0.vmdk", "tidelog-1.vmdk"]);
    assert!(bytes[at..].iter().all(|&byte| byte == 0) && bytes.len() - at == 1024);
    // Its own manifest holds: carrying it reads every member against it. A changed byte does not pass.
    place.run(&["carry", "landing/tidelog", "--dest", "virtio-host", "--into", "back", "-q"]).expect(0);
    let receipt = receipt(&place, "back/tidelog");
    let checked = receipt["sources"].as_array().unwrap().iter().filter(|s| s["digest"]["algorithm"] == "sha256");
    assert_eq!(checked.count(), 3);
    let mut bent = bytes.clone();
    let last = bent.len() - 4096;
    bent[last] ^= 1;
    place.write("bent.ova", &bent);
    let ran = place.run(&["carry", "bent.ova", "--dest", "virtio-host", "--into", "bent"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
}
