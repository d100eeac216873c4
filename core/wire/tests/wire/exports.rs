//! The export protocol, against the stand-in.

use std::{path::Path, sync::Arc};

use reformis_disk::{Storage, budget::Budget, container::Source};
use reformis_standin::host::{Faults, Host, Options};
use reformis_wire::{Wires, hosts::Power};

use crate::common::{Pocket, content, failure, whole, wires};

const MACHINE: &str =
    ".encoding = \"UTF-8\"\nconfig.version = \"8\"\ndisplayName = \"gauge\"\nscsi0:0.fileName = \"gauge.img\"\n";

struct Place {
    data: tempfile::TempDir,
    host: Host,
    bytes: Vec<u8>,
    wires: Wires,
}

fn place(seconds: u64) -> Place {
    let data = tempfile::tempdir().unwrap();
    let bytes = content(6 << 20);
    for (name, power) in [("gauge", "off"), ("buoy", "running")] {
        let folder = data.path().join(name);
        std::fs::create_dir(&folder).unwrap();
        std::fs::write(folder.join("machine.vmx"), MACHINE).unwrap();
        std::fs::write(folder.join("gauge.img"), &bytes).unwrap();
        std::fs::write(folder.join("power"), power).unwrap();
    }
    let host = Host::start(Options { seconds, ..Options::new(data.path()) }).unwrap();
    let at = host.link();
    let text =
        format!("[host.quay]\nkind = \"export\"\nat = \"{at}\"\n[link.\"{at}\"]\ntoken = {{ env = \"TOKEN\" }}\n");
    let (wires, _) = wires(Path::new(""), &text, Pocket(&[("TOKEN", "a-token-for-tests")]));
    Place { data, host, bytes, wires }
}

fn disk(place: &Place, machine: &str) -> reformis_disk::Result<Arc<dyn Storage>> {
    let far = place.wires.machine("quay", machine, &Budget::whole())?;
    assert_eq!(far.text, MACHINE.as_bytes());
    match far.files.find("gauge.img")? {
        Some(Source::Storage(storage)) => Ok(storage),
        _ => panic!("no file"),
    }
}

#[test]
fn machines_are_listed_and_exported_and_the_export_is_given_back() {
    let place = place(600);
    let rows = place.wires.machines("quay").unwrap();
    let rows: Vec<_> = rows.iter().map(|row| (row.name.as_str(), row.power)).collect();
    assert_eq!(rows, [("buoy", Power::Running), ("gauge", Power::Off)]);
    let storage = disk(&place, "gauge").unwrap();
    assert_eq!(storage.name(), "quay:gauge/gauge.img");
    assert!(whole(storage.as_ref()).unwrap() == place.bytes);
    drop(storage);
    let log = place.host.log();
    assert!(log.last().unwrap().starts_with("DELETE /v1/exports/e-1"), "{log:?}");
    let sessions = log.iter().filter(|line| line.starts_with("POST /v1/session")).count();
    assert_eq!(sessions, 2, "once for each time the host was named");
    assert_eq!(failure(place.wires.machine("quay", "nix", &Budget::whole()).map(drop)).0, "not-there");
}

#[test]
fn sessions_and_links_that_end_are_renewed_without_a_word() {
    let place = place(60);
    let storage = disk(&place, "gauge").unwrap();
    storage.read_at(0, &mut [0; 10]).unwrap();
    for _ in 0..3 {
        place.host.move_clock(100);
        let mut bytes = vec![0; 100];
        storage.read_at(5 << 20, &mut bytes).unwrap();
        assert_eq!(bytes, place.bytes[5 << 20..][..100]);
    }
    place.host.move_clock(100);
    assert!(whole(storage.as_ref()).unwrap() == place.bytes);
    let log = place.host.log();
    assert!(log.iter().any(|line| line.starts_with("POST /v1/exports/e-1/links")), "{log:?}");
    // Once for all threads that wait for it.
    assert!(log.iter().filter(|line| line.contains("/links")).count() <= 4);
}

#[test]
fn a_machine_that_runs_is_read_only_when_that_is_wanted_and_it_is_said() {
    let place = place(600);
    let (code, sentence) = failure(disk(&place, "buoy"));
    assert!(code == "refused-there" && sentence.contains("--while-running"), "{sentence}");
    place.wires.read_running();
    let far = place.wires.machine("quay", "buoy", &Budget::whole()).unwrap();
    assert_eq!(far.files.consistency(), None, "nothing was opened yet");
    far.files.find("gauge.img").unwrap().unwrap();
    assert!(far.files.consistency().unwrap().contains("frozen"));
}

#[test]
fn a_host_that_is_busy_is_asked_again() {
    let place = place(600);
    let mut faults = Faults::default();
    faults.set("busy=3*0").unwrap();
    place.host.go_wrong(faults);
    assert_eq!(place.wires.machines("quay").unwrap().len(), 2);
    drop(place.data);
}

#[test]
fn what_answers_otherwise_is_refused() {
    for bytes in [
        &b"{}"[..],
        b"[]",
        b"{\"machines\": 3}",
        b"{\"session\": \"s\"}",
        b"\xff",
        b"{\"export\": \"e\", \"state\": \"odd\"}",
    ] {
        assert!(reformis_wire::hosts::read_answers(bytes) <= 2, "{bytes:?}");
    }
}
