//! Files in a guest: looked at, changed, and a proof that nothing else was.

use std::{fs, path::Path};

use reformis_disk::source::Links;
use reformis_move::{
    Error, Result,
    change::{Change, PatchOptions, patch},
    peek::{self, Peek},
    prove::{self, prove_receipt},
    recast::Recast,
    target::Unpack,
};

use crate::{
    common::{Place, run},
    recasts::options,
};

/// The demo's *ledger*: its system disk.
fn ledger() -> Place {
    let place = Place::of("x");
    let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/ledger/ledger.vmdk");
    place.write("ledger.vmdk", &fs::read(from).unwrap());
    place
}

fn patched(place: &Place, result: &str, changes: Vec<Change>) -> Result<Recast> {
    let mut recast = options(place, "ledger.vmdk", result);
    recast.receipt = Some(place.path(&format!("{result}.json")));
    run(|context| patch(&PatchOptions { recast, changes, volume: None }, context))
}

/// Names in a folder of the guest on a disk.
fn names(place: &Place, disk: &str, folder: &str) -> Vec<String> {
    let look = |peek: Peek| peek.list(folder.as_bytes()).map(|items| items.into_iter().map(|item| item.name).collect());
    run(|context| {
        let unpack = Unpack { folder: &place.path(""), context };
        look(peek::open(&place.path(disk), peek::Wanted::default(), Links::OwnFolder, unpack).unwrap())
    })
    .unwrap()
}

#[test]
fn what_is_changed_is_there_and_nothing_else_is_different() {
    let place = ledger();
    fs::create_dir(place.path("tools")).unwrap();
    place.write("tools/tide", b"#!/bin/sh\n");
    place.write("tools/tables.csv", &[b'7'; 70_000]);
    let before = names(&place, "ledger.vmdk", "/etc");
    assert!(before.iter().any(|name| name == "fstab"), "{before:?}");
    let changes = vec![
        Change::Folder("/opt/harbour".into()),
        Change::Put(place.path("tools"), "/opt/harbour/tools".into()),
        Change::Link("/etc/tide".into(), "/opt/harbour/tools/tide".into()),
        Change::Remove("/etc/hostname".into()),
    ];
    let made = patched(&place, "patched.qcow2", changes).unwrap();
    assert_eq!(made.guest.unwrap().edits[0].changes.len(), 4);
    let mut tools = names(&place, "patched.qcow2", "/opt/harbour/tools");
    tools.sort();
    assert_eq!(tools, ["tables.csv", "tide"]);
    let after = names(&place, "patched.qcow2", "/etc");
    assert!(after.iter().any(|name| name == "tide") && !after.iter().any(|name| name == "hostname"));
    let receipt = place.path("patched.qcow2.json");
    let proof = run(|context| prove_receipt(&receipt, prove::Options::default(), context)).unwrap();
    assert!(proof.holds && proof.disks[0].edited > 70_000, "{:?}", proof.disks);
}

#[test]
fn a_change_that_cannot_be_made_makes_none_of_them() {
    let place = ledger();
    place.write("letter", b"x");
    let letter = || Change::Put(place.path("letter"), "/etc/letter".into());
    for change in [
        Change::Remove("/etc/nowhere".into()),
        Change::Remove("/".into()),
        Change::Put(place.path("missing"), "/etc/missing".into()),
        Change::Put(place.path("letter"), "/etc/fstab/letter".into()),
        Change::Link("/etc/fstab".into(), "elsewhere".into()),
    ] {
        let error = patched(&place, "none.qcow2", vec![letter(), change.clone()]).unwrap_err();
        assert!(!error.to_string().is_empty(), "{change:?}");
        assert!(!place.path("none.qcow2").exists() && !place.path("none.qcow2.json").exists(), "{change:?}");
    }
    let volume = Some("disk 9".to_string());
    let recast = options(&place, "ledger.vmdk", "none.qcow2");
    let missing = run(|context| patch(&PatchOptions { recast, changes: vec![letter()], volume }, context));
    assert!(matches!(missing, Err(Error::NoSuchVolume { ref known, .. }) if known.contains("disk 1")), "{missing:?}");
}
