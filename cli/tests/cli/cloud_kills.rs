//! Moves into a cloud that are killed: the next run goes on, and nothing is there twice.

use std::{
    fs,
    process::Stdio,
    time::{Duration, Instant},
};

use reformis_standin::cloud::Faults;

use crate::clouds::{carry, estuary};

/// The cloud began an import, and nobody came to know it: the same request is made again, and is known again.
#[test]
fn an_import_whose_answers_are_all_lost_is_found_again() {
    let estuary = estuary(|_| ());
    estuary.cloud.go_wrong(Faults { lost: u32::MAX, ..Faults::default() });
    let mut child =
        estuary.place.command(&carry("vmbus-cloud", &[])).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let begun = Instant::now();
    while estuary.cloud.imports() == 0 {
        assert!(begun.elapsed() < Duration::from_secs(60) && child.try_wait().unwrap().is_none());
        std::thread::sleep(Duration::from_millis(5));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    estuary.cloud.go_wrong(Faults::default());
    estuary.place.run(&carry("vmbus-cloud", &["--resume"])).expect(0);
    let made = (estuary.cloud.imports(), estuary.cloud.images().len(), estuary.cloud.instances().len());
    assert_eq!(made, (1, 1, 1));
    estuary.place.run(&["prove", "landing/ledger/receipt.json"]).expect(0);
}

/// A run that was killed when all was done, but for the name of the landing, is finished by the next one: nothing is made twice.
#[test]
fn a_landing_that_lacks_its_name_alone_gets_it() {
    let estuary = estuary(|_| ());
    let place = &estuary.place;
    place.run(&carry("vmbus-cloud", &[])).expect(0);
    let hide = || fs::rename(place.path("landing/ledger"), place.path("landing/.ledger.reformis-partial")).unwrap();
    hide();
    let from = estuary.cloud.store().log().len();
    let receipt = fs::read(place.path("landing/.ledger.reformis-partial/receipt.json")).unwrap();
    place.run(&carry("vmbus-cloud", &["--resume"])).expect(0);
    assert!(fs::read(place.path("landing/ledger/receipt.json")).unwrap() == receipt);
    assert_eq!((estuary.puts(from), estuary.cloud.imports(), estuary.cloud.images().len()), (0, 1, 1));
    assert!(!place.path("landing/.ledger.reformis-partial").exists());
    place.run(&["prove", "landing/ledger/receipt.json"]).expect(0);
    // Nor is one that went to another place in the store.
    hide();
    let mut elsewhere = carry("vmbus-cloud", &["--resume", "--store", "jetty:elsewhere", "--then", "image"]);
    elsewhere.extend(["--name", "ledger"]);
    place.run(&elsewhere).expect(0);
    let receipt = fs::read_to_string(place.path("landing/ledger/receipt.json")).unwrap();
    assert!(receipt.contains("jetty:elsewhere/ledger/ledger-0.vhd"), "{receipt}");
    // That of another source is not taken for it, nor what lies in the store for its disk.
    hide();
    let mut disk = fs::read(place.path("ledger.raw")).unwrap();
    disk[100] ^= 1;
    place.write("ledger.raw", &disk);
    let other = place.run(&carry("vmbus-cloud", &["--resume"])).expect(1).err;
    assert!(other.contains("'jetty:moves/ledger/ledger-0.vhd' is there already"), "{other}");
}

/// Kills a move into a cloud at so many moments, and goes on: each time there is one image and one instance of the name, and nothing
/// is left unfinished.
fn killed(times: u32) {
    let estuary = estuary(|_| ());
    estuary.cloud.go_wrong(Faults { slow: 20, ..Faults::default() });
    let begun = Instant::now();
    estuary.place.run(&carry("vmbus-cloud", &["--name", "first"])).expect(0);
    let whole = begun.elapsed();
    for time in 0..times {
        let (name, landing) = (format!("ledger{time}"), format!("landing{time}"));
        let mut words = carry("vmbus-cloud", &["--name", &name]);
        words[5] = &landing;
        let mut child = estuary.place.command(&words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(whole * (2 * time + 1) / (2 * times));
        child.kill().unwrap();
        child.wait().unwrap();
        if !estuary.place.path(&format!("{landing}/{name}/receipt.json")).exists() {
            words.push("--resume");
            estuary.place.run(&words).expect(0);
        }
        let images = estuary.cloud.images();
        assert_eq!(images.iter().filter(|(_, image)| *image == name).count(), 1, "{time}: {images:?}");
        assert!(estuary.cloud.instances().contains(&name));
        assert!(estuary.cloud.store().uploads().is_empty(), "{time}");
        estuary.place.run(&["prove", &format!("{landing}/{name}/receipt.json")]).expect(0);
    }
    let tree = estuary.place.tree();
    assert!(!tree.iter().any(|path| path.starts_with('.') || path.contains("at-cloud")), "{tree:?}");
}

#[test]
fn a_move_into_a_cloud_goes_on_after_kills() {
    killed(6);
}

#[test]
#[ignore = "minutes: part of the slower checks"]
fn a_move_into_a_cloud_goes_on_after_fifty_kills() {
    killed(50);
}
