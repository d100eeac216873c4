//! Proofs: they hold for what landed, and for nothing that was changed since.

use std::{
    fs,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

use reformis_disk::source::Links;
use reformis_move::prove::{self, Options, Proof};

use crate::common::{Place, run};

fn prove(receipt: &Path, options: Options) -> Proof {
    run(|context| prove::prove_receipt(receipt, options, context)).unwrap()
}

fn flip(path: &Path, offset: u64) {
    let file = fs::File::options().read(true).write(true).open(path).unwrap();
    let mut byte = [0];
    file.read_exact_at(&mut byte, offset).unwrap();
    file.write_all_at(&[!byte[0]], offset).unwrap();
}

fn landed() -> (Place, PathBuf) {
    let place = Place::berths();
    let landing = place.carry("virtio-host", &["will-not-boot"]).unwrap();
    (place, landing.folder)
}

#[test]
fn a_byte_of_a_disk_shows_where_it_is() {
    let (_place, folder) = landed();
    let receipt = folder.join("receipt.json");
    assert!(prove(&receipt, Options::default()).holds);
    let disk = folder.join("berths-0.qcow2");
    // The last cluster of data lies before the tables at the end: look for the source's own bytes there.
    let bytes = fs::read(&disk).unwrap();
    let first = bytes.windows(2).position(|pair| pair == [0xeb, 0xfe]).unwrap() as u64;
    flip(&disk, first + 1);
    let proof = prove(&receipt, Options::default());
    assert!(!proof.holds && !proof.disks[0].holds);
    assert_eq!(proof.disks[0].first_difference, Some(1));
    assert!(proof.files.iter().all(|file| file.holds));
    // That the machine's file may differ says nothing of disks.
    assert!(!prove(&receipt, Options { machine_may_differ: true, ..Options::default() }).holds);
    flip(&disk, first + 1);
    assert!(prove(&receipt, Options::default()).holds);
}

#[test]
fn a_machine_file_that_was_changed_shows_its_settings_and_may_differ() {
    let (_place, folder) = landed();
    let receipt = folder.join("receipt.json");
    let file = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path());
    let file = file.filter(|path| path.extension().is_some_and(|ending| ending == "xml")).min().unwrap();
    let text = fs::read_to_string(&file).unwrap();
    let changed = text.replace("<vcpu>2</vcpu>", "<vcpu>6</vcpu>").replace(">2</vcpu>", ">6</vcpu>");
    assert_ne!(changed, text, "{text}");
    fs::write(&file, &changed).unwrap();
    let proof = prove(&receipt, Options::default());
    let told = proof.files.iter().find(|told| !told.holds).unwrap();
    assert!(!proof.holds && proof.disks[0].holds && !told.settings.is_empty(), "{told:?}");
    assert!(prove(&receipt, Options { machine_may_differ: true, ..Options::default() }).holds);
    fs::remove_file(&file).unwrap();
    assert!(!prove(&receipt, Options::default()).holds);
    fs::write(&file, &text).unwrap();
    assert!(prove(&receipt, Options::default()).holds);
}

#[test]
fn a_source_that_changed_since_is_told_and_no_longer_the_same() {
    let (place, folder) = landed();
    let receipt = folder.join("receipt.json");
    flip(&place.path("berths.img"), 2 << 20);
    let proof = prove(&receipt, Options::default());
    let codes: Vec<&str> = proof.findings.iter().map(reformis_move::Finding::code).collect();
    assert!(!proof.holds && codes.contains(&"source-changed"), "{codes:?}");
    assert_eq!(proof.disks[0].first_difference, Some(2 << 20));
}

#[test]
fn two_disks_are_the_same_or_differ_at_a_byte_or_in_size() {
    let place = Place::berths();
    let pair = |name: &str| {
        let (one, other) = (place.path("berths.img"), place.path(name));
        run(|context| prove::prove_disks(&one, &other, None, Links::OwnFolder, context)).unwrap()
    };
    fs::copy(place.path("berths.img"), place.path("same.img")).unwrap();
    assert!(pair("same.img").holds);
    flip(&place.path("same.img"), 777_777_777);
    let proof = pair("same.img");
    assert!(!proof.holds);
    assert_eq!((proof.disks[0].first_difference, proof.disks[0].edited), (Some(777_777_777), 0));
    let file = fs::File::options().write(true).open(place.path("same.img")).unwrap();
    file.set_len(512 << 20).unwrap();
    let proof = pair("same.img");
    assert!(!proof.holds && proof.disks[0].reason.is_some());
    assert_ne!(proof.disks[0].sizes.0, proof.disks[0].sizes.1);
}
