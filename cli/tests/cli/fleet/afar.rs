//! A night into a cloud and its store: every machine is made there once, whatever happens to the workers, and is taken back.

use std::{fs, time::Duration};

use reformis_standin::cloud::{Cloud, Faults, Options};

use super::harbour::{Harbour, harbour, row, secret, stand};
use crate::clouds::{KEY, TOKEN, site_of};

const DEFAULTS: &str = "[failure]\ntries = 20\n[defaults]\ndestination = \"nvme-cloud\"\nshape = \"raw/thin\"\ninto = \"landing\"\naccept = [\"will-not-boot\"]\nnetwork = \"default\"\n";

/// A harbour whose site knows a cloud, too, and a fleet file of `count` machines with `more` in each row.
fn estuary(count: usize, more: &str) -> (Harbour, Cloud) {
    let harbour = harbour(count, 6);
    let place = &harbour.place;
    let mut options = Options { token: TOKEN.into(), ..Options::new(place.path("cloud")) };
    options.store.key = KEY.into();
    let cloud = Cloud::start(options).unwrap();
    let site = fs::read_to_string(place.path("reformis.toml")).unwrap() + &site_of(&cloud);
    place.write("reformis.toml", site.as_bytes());
    secret(place, "key", KEY);
    let rows: String = (0..count).map(|number| row(&format!("m{number}"), more)).collect();
    place.write("night.toml", format!("{DEFAULTS}{rows}").as_bytes());
    (harbour, cloud)
}

fn names(count: usize) -> Vec<String> {
    (0..count).map(|number| format!("m{number}")).collect()
}

fn objects(cloud: &Cloud, of: &str) -> Vec<String> {
    let all = cloud.store().objects().into_iter().map(|(key, _)| key);
    all.filter(|key| key.split('/').any(|part| part.starts_with(of))).collect()
}

#[test]
fn a_night_into_a_cloud_makes_every_instance_once() {
    let (harbour, cloud) = estuary(4, "cloud = \"estuary\"\nthen = \"stopped\"\n");
    let goes = harbour.place.run(&["fleet", "check", "night.toml"]).expect(0).out;
    assert!(goes.contains("4 machines"), "{goes}");
    cloud.go_wrong(Faults { fail: 1, slow: 20, ..Faults::default() });
    for moment in [300u64, 700, 1100] {
        let mut child = harbour.spawn(&["fleet", "run", "night.toml", "--lease", "1", "--at-once", "2"]);
        harbour.wait("something runs", |status| status["counts"]["running"].as_u64() > Some(0));
        std::thread::sleep(Duration::from_millis(moment));
        child.kill().unwrap();
        child.wait().unwrap();
    }
    harbour.run(&["--lease", "1", "--at-once", "2", "--back-off", "0"]).expect(0);
    let (mut instances, mut images) =
        (cloud.instances(), cloud.images().into_iter().map(|(_, name)| name).collect::<Vec<_>>());
    instances.sort();
    images.sort();
    assert_eq!((instances, images), (names(4), names(4)));
    harbour.has_landed(4);

    // Taken back: what lies in the store goes, what the cloud made is told, and the others stay.
    let undone = harbour.place.run(&["fleet", "undo", "night.toml", "m1"]).expect(0).out;
    assert!(undone.contains("the instance m1 in estuary") && undone.contains("start the old machine"), "{undone}");
    assert_eq!(objects(&cloud, "m1"), Vec::<String>::new());
    assert!(!objects(&cloud, "m2").is_empty() && !harbour.place.path("landing/m1").exists());
    harbour.place.run(&["prove", "landing/m2/receipt.json"]).expect(0);
    assert_eq!(stand(&harbour.status(&[]), "m1")["state"], "undone");
}

#[test]
fn a_night_into_a_store_outlives_a_store_that_is_away() {
    let (harbour, cloud) = estuary(3, "store = \"jetty:moves\"\n");
    harbour.slow(30);
    let mut child = harbour.spawn(&["fleet", "run", "night.toml", "--lease", "1", "--back-off", "0"]);
    harbour.wait("something runs", |status| status["counts"]["running"].as_u64() > Some(0));
    cloud.store().go_wrong(reformis_standin::store::Faults { busy: 6, ..Default::default() });
    child.wait().unwrap();
    harbour.slow(0);
    harbour.run(&["--lease", "1", "--back-off", "0"]).expect(0);
    harbour.has_landed(3);
    for name in names(3) {
        let receipt = fs::read(harbour.place.path(&format!("landing/{name}/receipt.json"))).unwrap();
        let key = cloud.store().objects().into_iter().find(|(key, _)| key.ends_with(&format!("{name}/receipt.json")));
        assert_eq!(key.map(|(_, len)| len), Some(receipt.len() as u64), "{name}");
    }
    harbour.place.run(&["fleet", "undo", "night.toml", "m0"]).expect(0);
    assert_eq!(objects(&cloud, "m0"), Vec::<String>::new());
    assert!(!objects(&cloud, "m1").is_empty());
    // What is still there is not in the way of another try.
    harbour.run(&["--again", "m0"]).expect(0);
    harbour.has_landed(3);
}
