//! What lands where: every destination, with nothing beside what the receipt lists.

use std::{collections::BTreeSet, fs, sync::Arc};

use reformis_disk::{
    budget::Budget,
    container,
    copy::{Watch, pipeline},
    format,
};
use reformis_move::{Error, prove};

use crate::{
    common::{Place, SIZE, files, run},
    proposals::destinations,
};

/// What stands in the way of *berths*, in which there is no system that is read.
const ACCEPTED: [&str; 2] = ["will-not-boot", "does-not-boot"];

#[test]
fn every_destination_gets_what_its_receipt_lists_and_it_is_the_sources_disk() {
    let place = Place::berths();
    let watch = Watch { cancel: &|| false, progress: &|_| {}, workers: Some(1) };
    let digest = |path: &std::path::Path| {
        let opened = format::open(container::open(path, &Budget::whole()).unwrap(), None).unwrap();
        (opened.disk.size(), pipeline::scan(opened.disk.as_ref(), &watch).unwrap().to_string())
    };
    let (size, source) = digest(&place.path("berths.img"));
    assert_eq!(size, SIZE);
    for destination in destinations() {
        let landing = place.carry(&destination, &ACCEPTED).unwrap_or_else(|error| panic!("{destination}: {error}"));
        let receipt = &landing.receipt;
        let disk = &receipt.disks[0];
        assert_eq!(receipt.destination, destination);
        assert_eq!(disk.content_digest, source, "{destination}");
        let machine = receipt.machine.as_ref().unwrap();
        let also = machine.also.iter().map(|landed| landed.file.clone());
        let listed: BTreeSet<String> =
            [machine.file.clone(), disk.result.clone(), "receipt.json".into()].into_iter().chain(also).collect();
        let mut there = files(&landing.folder);
        // A disk in pieces: the descriptor names the others.
        there.retain(|name| listed.contains(name) || !name.ends_with("-flat.vmdk"));
        assert_eq!(there, listed, "{destination}");
        if disk.packed.is_none() && !disk.result.ends_with(".gz") {
            assert_eq!(digest(&landing.folder.join(&disk.result)), (SIZE, source.clone()), "{destination}");
        }
        let proof = run(|context| {
            prove::prove_receipt(&landing.folder.join("receipt.json"), prove::Options::default(), context)
        });
        assert!(proof.unwrap().holds, "{destination}");
        // Once more, into the same place: refused, and what is there stays.
        let before = fs::read(landing.folder.join("receipt.json")).unwrap();
        assert!(place.carry(&destination, &ACCEPTED).is_err());
        assert_eq!(fs::read(landing.folder.join("receipt.json")).unwrap(), before);
        assert_eq!(files(&place.path("landing")).len(), 1, "nothing half-made beside it");
        fs::remove_dir_all(place.path("landing")).unwrap();
    }
}

#[test]
fn a_blocker_stops_before_anything_is_written_and_what_is_accepted_is_recorded() {
    let mut place = Place::berths();
    place.site =
        reformis_machine::Site::parse("reformis.toml", "[destinations.virtio-host]\nfirmware = [\"uefi\"]\n").unwrap();
    let refused = place.carry("virtio-host", &[]);
    let Err(Error::Refused { findings }) = refused else { panic!("it was not refused") };
    let codes: Vec<&str> = findings.iter().map(reformis_move::Finding::code).collect();
    let blockers = ["firmware-not-offered", "firmware-mismatch"];
    let stands = blockers.into_iter().find(|code| codes.contains(code)).expect("one of them");
    assert!(!place.path("landing").exists());
    let landing = place.carry("virtio-host", &[stands]).unwrap();
    let recorded = &landing.receipt.findings;
    assert!(recorded.iter().any(|finding| finding.code == "accepted" && finding.sentence.contains(stands)));
}

#[test]
fn an_interrupt_leaves_no_landing() {
    let place = Place::berths();
    let options = reformis_move::carry::Options {
        order: place.order("virtio-host", &reformis_move::propose::Choices::default()),
        site: place.site.clone(),
        accept: ACCEPTED.map(String::from).to_vec(),
        force: false,
        links: reformis_disk::source::Links::OwnFolder,
        resume: false,
        with: None,
        job: None,
        is_second: false,
        bitmap: None,
        off_since: None,
    };
    let stopped = run(|context| {
        let cancel = Arc::new(std::sync::atomic::AtomicBool::new(true));
        reformis_move::carry::carry(&options, &reformis_move::Context { cancel: &cancel, ..*context })
    });
    let said = stopped.unwrap_err().to_string();
    assert_eq!(said, reformis_disk::Error::Interrupted.to_string());
    assert!(!place.path("landing").exists() || files(&place.path("landing")).is_empty());
}
