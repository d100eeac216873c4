//! A proof says what it compared with what, and holds only where that is so: over shapes that are read at any place and those that can only
//! be read forwards.

use std::{
    fs::{self, File},
    os::unix::fs::FileExt,
    process::Command,
};

use proptest::{prelude::*, test_runner::TestRunner};
use reformis_standin::content::Content;

use crate::support::{Place, TIDELOG};

const SIZE: u64 = 5 << 20;

fn gauge(place: &Place) {
    let mut bytes = vec![0; SIZE as usize];
    Content::empty(SIZE).with(0, 1 << 20, 1).with(3 << 20, 700_000, 2).read_at(0, &mut bytes);
    place.write("gauge.raw", &bytes);
}

/// Whatever one byte of the source is changed afterwards, the proof sees it, whichever shape the result has; and says so where it read nothing.
#[test]
fn every_byte_of_the_source_counts_in_every_shape() {
    for result in ["gauge.raw.gz", "gauge.raw.zst", "gauge.qcow2", "gauge-stream.vmdk"] {
        let place = Place::new();
        gauge(&place);
        let stream = ["--as", "vmdk/stream"];
        let more = if result.contains("stream") { &stream[..] } else { &[] };
        place.run(&[&["recast", "gauge.raw", result, "--receipt", "r.json"], more].concat()).expect(0);
        let proof = place.run(&["prove", "r.json", "--json"]).expect(0).json();
        let disk = &proof["proof"]["disks"][0];
        assert_eq!(
            (&disk["against"], &disk["edits"], &disk["edited"]),
            (&"source".into(), &0.into(), &0.into()),
            "{result}"
        );
        let source = File::options().read(true).write(true).open(place.path("gauge.raw")).unwrap();
        let mut runner =
            TestRunner::new(ProptestConfig { cases: 6, failure_persistence: None, ..ProptestConfig::default() });
        runner
            .run(&(0..SIZE, 1u8..), |(at, flip)| {
                let mut byte = [0];
                source.read_exact_at(&mut byte, at).unwrap();
                source.write_all_at(&[byte[0] ^ flip], at).unwrap();
                let proof = place.run(&["prove", "r.json", "--json"]).expect(4).json();
                prop_assert_eq!(&proof["proof"]["disks"][0]["first_difference"], at, "{}", result);
                source.write_all_at(&byte, at).unwrap();
                Ok(())
            })
            .unwrap();
        place.run(&["prove", "r.json"]).expect(0);
        // Without its source nothing is proved, unless that is asked for; then it is said.
        fs::rename(place.path("gauge.raw"), place.path("elsewhere")).unwrap();
        place.run(&["prove", "r.json"]).expect(1);
        let alone = place.run(&["prove", "r.json", "--without-sources"]).expect(0).out;
        assert!(alone.contains("its source was not read") && !alone.contains("accounted for"), "{alone}");
        assert!(!alone.contains("must equal its source"), "{alone}");
        // What the receipt records still counts.
        let text = fs::read_to_string(place.path("r.json")).unwrap();
        let digest = text.split("\"content_digest\": \"").nth(1).unwrap()[..64].to_string();
        place.write("r.json", text.replace(&digest, &"0".repeat(64)).as_bytes());
        place.run(&["prove", "r.json", "--without-sources"]).expect(4);
    }
}

/// What comes out longer or shorter than the receipt says is none of it.
#[test]
fn a_compressed_result_of_another_length_does_not_hold() {
    let place = Place::new();
    gauge(&place);
    place.run(&["recast", "gauge.raw", "gauge.raw.gz", "--receipt", "r.json"]).expect(0);
    for more in [1u64, 4096, 3 << 20] {
        let mut bytes = fs::read(place.path("gauge.raw")).unwrap();
        bytes.resize((SIZE + more) as usize, 0);
        place.write("longer.raw", &bytes);
        place.run(&["recast", "longer.raw", "longer.raw.gz", "--force", "-q"]).expect(0);
        fs::rename(place.path("longer.raw.gz"), place.path("gauge.raw.gz")).unwrap();
        let told = place.run(&["prove", "r.json"]).expect(4).out;
        assert!(told.contains("but the receipt records"), "{told}");
    }
}

/// The edits of a landing are those of its receipt, in words and in JSON, also where no source is read.
#[test]
fn edits_are_those_of_the_receipt() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.run(&["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "landing"]).expect(0);
    let receipt: serde_json::Value =
        serde_json::from_slice(&fs::read(place.path("landing/tidelog/receipt.json")).unwrap()).unwrap();
    let listed = receipt["disks"][0]["edits"].as_array().unwrap().len();
    assert!(listed > 1);
    for more in [&[][..], &["--without-sources"]] {
        let words = [&["prove", "landing/tidelog/receipt.json", "--json"], more].concat();
        let disk = place.run(&words).expect(0).json()["proof"]["disks"][0].clone();
        assert_eq!(disk["edits"], listed);
        assert!(
            disk["edited"].as_u64() > Some(0) && (more.len() == 1 || disk["differing"].as_u64() > Some(0)),
            "{disk}"
        );
    }
}

/// A machine of libvirt is the one of its name, whatever numbers and UUIDs other machines have: its own test driver says which that is.
#[test]
fn a_machine_of_libvirt_is_the_one_of_its_name() {
    if Command::new("virsh").arg("--version").output().is_err() {
        let line = "SKIPPED a_machine_of_libvirt_is_the_one_of_its_name: there is no virsh\n";
        return std::io::Write::write_all(&mut std::io::stderr(), line.as_bytes()).unwrap();
    }
    let place = Place::new();
    let id = |last: u8| format!("5a170000-0000-4000-8000-0000000000{last:02x}");
    let domain = |name: &str, last: u8, mib: u32, is_off: bool| {
        let state = if is_off { "<test:runstate>5</test:runstate>" } else { "" };
        format!(
            "<domain type='test' xmlns:test='http://libvirt.org/schemas/domain/test/1.0'><name>{name}</name><uuid>{}</uuid>\
             <memory unit='MiB'>{mib}</memory><os><type>hvm</type></os>{state}</domain>\n",
            id(last)
        )
    };
    // The first one runs, as number 1; the others are called as that, as its UUID, and in two words.
    let machines = [
        ("berths".to_string(), 1, 101, false),
        ("1".to_string(), 2, 102, true),
        (id(1), 3, 103, true),
        ("two words".to_string(), 4, 104, true),
    ];
    let node: String = machines.iter().map(|(name, last, mib, is_off)| domain(name, *last, *mib, *is_off)).collect();
    let node = place.write("node.xml", format!("<node>{node}</node>").as_bytes());
    place.write(
        "reformis.toml",
        format!("[host.quay]\nkind = \"libvirt\"\nuri = \"test://{}\"\n", node.display()).as_bytes(),
    );
    let listed = place.run(&["survey", "quay:", "--json"]).expect(0).json();
    let listed = listed["hosts"][0]["machines"].as_array().unwrap().clone();
    for (name, _, mib, is_off) in &machines {
        let row =
            listed.iter().find(|row| row["name"] == name.as_str()).unwrap_or_else(|| panic!("{name}: {listed:?}"));
        assert_eq!(row["power"], if *is_off { "off" } else { "running" }, "{name}");
        let seen = place.run(&["survey", &format!("quay:{name}"), "--json"]).expect(0);
        assert!(seen.out.contains(&format!("{}", mib << 20)), "{name}: {}", seen.out);
    }
}
