//! The state is tried on a model: rows of the same machines in memory, and the same words said to both.

mod ends;
mod model;
mod rows;

use std::{path::Path, time::Duration};

use tempfile::TempDir;

use jiff::Timestamp;

use super::*;
use crate::fleet::{file::Fleet, worker::Worker};

const LEASE: Duration = Duration::from_secs(600);

/// A fresh state in a file.
pub(in crate::fleet) fn fresh() -> (TempDir, State) {
    let folder = tempfile::tempdir().unwrap();
    let state = open(&folder.path().join("night.state"));
    (folder, state)
}

fn access() -> Access {
    reformis_wire::Wires::plain().database().unwrap()
}

fn open(path: &Path) -> State {
    State::open(&Place::File(path.into()), &access(), true).unwrap()
}

fn fleet(text: &str) -> Fleet {
    let text = format!("{text}\n[defaults]\ndestination = \"virtio-host\"\ninto = \"landing\"\n");
    Fleet::parse(&text, "night.toml", "night", Path::new("/work")).unwrap()
}

/// A machine as a state gives it.
pub(in crate::fleet) fn machine_of(state: &State) -> Machine {
    state.sync(&fleet(&rows(&[("a", "")])), &[], None, &worker()).unwrap();
    state.machines("night").unwrap().remove(0)
}

fn rows(rows: &[(&str, &str)]) -> String {
    rows.iter()
        .map(|(name, more)| format!("[[machine]]\nname = \"{name}\"\nsource = \"harbour:{name}\"\n{more}\n"))
        .collect()
}

/// A worker of this machine, whose process is this one.
fn worker() -> Worker {
    Worker::here().called("w")
}

fn claim_by(worker: &Worker) -> Claim<'_> {
    Claim {
        fleet: "night",
        worker,
        lease: LEASE,
        most: None,
        takes_unknown: true,
        programs: true,
        only: None,
        moves: true,
        takes_over: true,
    }
}

fn claim_for(state: &State, lease: Duration) -> Claimed {
    state.claim(&Claim { lease, ..claim_by(&worker()) }).unwrap()
}

fn claim(state: &State) -> Claimed {
    claim_for(state, LEASE)
}

fn taken(claimed: Claimed) -> Lease {
    match claimed {
        Claimed::Machine(lease) => *lease,
        other => panic!("{other:?}"),
    }
}

fn landed() -> Ended {
    Ended::Landed { landing: "/landing/x".into(), receipt: "{}".into(), bytes: 1000, after: None }
}

fn failed(again: Option<Duration>) -> Ended {
    Ended::Failed { code: "io".into(), reason: "the tide is out".into(), remedy: None, again }
}

fn stands(state: &State) -> Vec<(String, Stand)> {
    state.machines("night").unwrap().into_iter().map(|machine| (machine.name, machine.state)).collect()
}

#[test]
fn groups_and_what_comes_after_what_are_kept() {
    let (_folder, state) = fresh();
    let text = "[[group]]\nname = \"first\"\n[[group]]\nname = \"then\"\n".to_string()
        + &rows(&[("c", "group = \"then\""), ("b", "group = \"first\"\nafter = [\"a\"]"), ("a", "group = \"first\"")]);
    state.sync(&fleet(&text), &[], None, &worker()).unwrap();
    let a = taken(claim(&state));
    assert_eq!((a.name.as_str(), a.tries, a.goes_on), ("a", 1, false));
    assert!(matches!(claim(&state), Claimed::Later(_)), "b waits for a, and c for its group");
    assert_eq!(state.end(&a, &landed()).unwrap(), Pressed::Noted);
    let b = taken(claim(&state));
    assert_eq!(b.name, "b");
    assert!(matches!(claim(&state), Claimed::Later(_)));
    state.end(&b, &landed()).unwrap();
    let c = taken(claim(&state));
    assert_eq!(c.name, "c");
    state.end(&c, &landed()).unwrap();
    assert!(matches!(claim(&state), Claimed::Over));
    assert_eq!(state.end(&c, &landed()).unwrap(), Pressed::Noted, "the answer to it may have been lost");
}

#[test]
fn workers_of_a_host_are_counted_once_each() {
    let (_folder, state) = fresh();
    let text = "[limits]\nrate = { harbour = \"1MiB/s\" }\n".to_string()
        + &rows(&[("a", ""), ("b", ""), ("c", "")])
        + "[[machine]]\nname = \"d\"\nsource = \"quay:d\"\n";
    state.sync(&fleet(&text), &[], None, &worker()).unwrap();
    let take = |worker: &str| taken(state.claim(&claim_by(&super::tests::worker().called(worker))).unwrap());
    let counted = || state.workers_by_host("night").unwrap().into_iter().collect::<Vec<_>>();
    assert_eq!(counted(), []);
    let held = ["one", "one", "other", "other"].map(take);
    assert_eq!(counted(), [("harbour".to_string(), 2)], "who has two machines is one, and the quay has no rate");
    state.end(&held[2], &landed()).unwrap();
    assert_eq!(counted(), [("harbour".to_string(), 1)]);
}

#[test]
fn limits_hold_for_all_of_a_host_and_for_all() {
    let (_folder, state) = fresh();
    let text = "[limits]\nat-once = 3\nhost = { harbour = 2 }\nstore = { jetty = 1 }\n".to_string()
        + &rows(&[("a", ""), ("b", ""), ("c", "")])
        + "[[machine]]\nname = \"d\"\nsource = \"./d.ova\"\nstore = \"jetty:x\"\n[[machine]]\nname = \"e\"\nsource = \"./e.ova\"\nstore = \"jetty:x\"\n";
    state.sync(&fleet(&text), &[], None, &worker()).unwrap();
    let names: Vec<_> = (0..3).map(|_| taken(claim(&state))).collect();
    assert_eq!(names.iter().map(|lease| lease.name.as_str()).collect::<Vec<_>>(), ["a", "b", "d"]);
    assert!(matches!(claim(&state), Claimed::Later(_)), "three are all");
    state.end(&names[0], &landed()).unwrap();
    assert_eq!(taken(claim(&state)).name, "c");
    assert!(matches!(claim(&state), Claimed::Later(_)));
    state.end(&names[1], &landed()).unwrap();
    assert!(matches!(claim(&state), Claimed::Later(_)), "the store takes one at a time");
    state.end(&names[2], &landed()).unwrap();
    assert_eq!(taken(claim(&state)).name, "e");
}

#[test]
fn a_lease_that_ran_out_is_taken_over_and_its_holder_has_nothing_to_say() {
    let (_folder, state) = fresh();
    state.sync(&fleet(&rows(&[("a", "")])), &[], None, &worker()).unwrap();
    let first = taken(claim_for(&state, Duration::ZERO));
    std::thread::sleep(Duration::from_millis(5));
    let second = taken(claim_for(&state, LEASE));
    assert_eq!((second.job, second.fence, second.tries, second.goes_on), (first.job, first.fence + 1, 2, true));
    let beat = |lease: &Lease| Beat { name: lease.name.clone(), fence: lease.fence, ..Beat::default() };
    assert_eq!(state.renew("night", &[beat(&first)], LEASE).unwrap(), ["a"]);
    assert!(state.renew("night", &[beat(&second)], LEASE).unwrap().is_empty());
    assert!(!state.may_land(&first, LEASE).unwrap());
    assert!(state.may_land(&second, LEASE).unwrap());
    for ended in [landed(), failed(None), Ended::Stopped] {
        assert_eq!(state.end(&first, &ended).unwrap(), Pressed::Lost);
    }
    assert_eq!(stands(&state), [("a".to_string(), Stand::Running)]);
    state.end(&second, &landed()).unwrap();
    assert_eq!(state.end(&first, &landed()).unwrap(), Pressed::Lost);
    assert_eq!(state.receipt("night", "a").unwrap().as_deref(), Some("{}"));
}

#[test]
fn a_machine_that_takes_its_workers_along_is_given_up() {
    let (_folder, state) = fresh();
    state.sync(&fleet(&rows(&[("a", ""), ("b", "after = [\"a\"]")])), &[], None, &worker()).unwrap();
    for tries in 1..=3 {
        assert_eq!(taken(claim_for(&state, Duration::ZERO)).tries, tries);
        std::thread::sleep(Duration::from_millis(5));
    }
    assert!(matches!(claim(&state), Claimed::Over));
    let machines = state.machines("night").unwrap();
    assert_eq!((machines[0].state, machines[0].code.as_deref()), (Stand::Failed, Some("worker-lost")));
    assert_eq!((machines[1].state, machines[1].code.as_deref()), (Stand::Skipped, Some("needs-other")));
}

#[test]
fn what_failed_is_tried_again_later_and_not_too_often() {
    let (_folder, state) = fresh();
    state.sync(&fleet(&("[failure]\ntries = 2\n".to_string() + &rows(&[("a", "")]))), &[], None, &worker()).unwrap();
    let lease = taken(claim(&state));
    assert_eq!(state.end(&lease, &failed(Some(Duration::from_millis(30)))).unwrap(), Pressed::Again);
    assert!(matches!(claim(&state), Claimed::Later(_)));
    std::thread::sleep(Duration::from_millis(40));
    let lease = taken(claim(&state));
    assert_eq!(lease.tries, 2);
    assert_eq!(state.end(&lease, &failed(Some(Duration::ZERO))).unwrap(), Pressed::Noted);
    assert!(matches!(claim(&state), Claimed::Over));
    // The next night tries it again.
    assert_eq!(state.sync(&fleet(&rows(&[("a", "")])), &[], None, &worker()).unwrap().again, 1);
    assert_eq!(taken(claim(&state)).tries, 1);
}

#[test]
fn that_a_person_stopped_it_is_no_try() {
    let (_folder, state) = fresh();
    state.sync(&fleet(&rows(&[("a", "")])), &[], None, &worker()).unwrap();
    for _ in 0..5 {
        let lease = taken(claim(&state));
        assert_eq!(lease.tries, 1);
        state.end(&lease, &Ended::Stopped).unwrap();
    }
}

#[test]
fn a_failure_stops_what_the_file_says() {
    let machines = rows(&[("a", "group = \"x\""), ("b", "group = \"x\""), ("c", "group = \"y\"")]);
    for (then, expected) in [
        ("go-on", [Stand::Failed, Stand::Waiting, Stand::Waiting]),
        ("stop-group", [Stand::Failed, Stand::Skipped, Stand::Waiting]),
        ("stop-all", [Stand::Failed, Stand::Skipped, Stand::Skipped]),
    ] {
        let (_folder, state) = fresh();
        state.sync(&fleet(&format!("[failure]\nthen = \"{then}\"\n{machines}")), &[], None, &worker()).unwrap();
        let lease = taken(claim(&state));
        state.end(&lease, &failed(None)).unwrap();
        assert_eq!(stands(&state).into_iter().map(|(_, stand)| stand).collect::<Vec<_>>(), expected, "{then}");
    }
}

#[test]
fn a_changed_file_changes_what_waits_and_nothing_that_landed() {
    let (_folder, state) = fresh();
    state.sync(&fleet(&rows(&[("a", ""), ("b", ""), ("c", "")])), &[], None, &worker()).unwrap();
    let a = taken(claim(&state));
    state.end(&a, &landed()).unwrap();
    assert!(state.hold_back("night", "b").unwrap());
    assert!(!state.hold_back("night", "a").unwrap(), "it has landed");
    let synced = state
        .sync(&fleet(&rows(&[("d", ""), ("a", "memory = \"1GiB\""), ("b", "memory = \"2GiB\"")])), &[], None, &worker())
        .unwrap();
    assert_eq!((synced.new, synced.again, synced.gone), (1, 1, vec!["c".to_string()]));
    let expected = [("d", Stand::Waiting), ("a", Stand::Landed), ("b", Stand::Waiting), ("c", Stand::Gone)];
    assert_eq!(stands(&state), expected.map(|(name, stand)| (name.to_string(), stand)));
    assert_eq!(state.machine("night", "b").unwrap().1.row.memory.unwrap().0, 2 << 30);
    // What was undone stays so, until a person says otherwise; then it is another job.
    state.undone("night", "a").unwrap();
    let before = state.machine("night", "a").unwrap().0.job;
    state.sync(&fleet(&rows(&[("a", "")])), &[], None, &worker()).unwrap();
    assert_eq!(state.machine("night", "a").unwrap().0.state, Stand::Undone);
    state.sync(&fleet(&rows(&[("a", "")])), &["a".to_string()], None, &worker()).unwrap();
    let after = state.machine("night", "a").unwrap().0;
    assert_eq!(after.state, Stand::Waiting);
    assert_ne!(after.job, before);
}

#[test]
fn what_would_not_be_done_in_time_does_not_begin() {
    let (_folder, state) = fresh();
    state
        .sync(
            &fleet(&rows(&[("large", "size = \"10GiB\""), ("unknown", ""), ("small", "size = \"1GiB\"")])),
            &[],
            None,
            &worker(),
        )
        .unwrap();
    let claim = |most, takes_unknown| state.claim(&Claim { most, takes_unknown, ..claim_by(&worker()) }).unwrap();
    let lease = taken(claim(Some(2 << 30), false));
    assert_eq!(lease.name, "small");
    assert!(matches!(claim(Some(2 << 30), false), Claimed::Later(_)), "it may fail and be tried again");
    state.end(&lease, &landed()).unwrap();
    assert!(matches!(claim(Some(2 << 30), false), Claimed::NoTime));
    assert_eq!(taken(claim(Some(2 << 30), true)).name, "unknown");
}

#[test]
fn a_pause_holds_for_everybody() {
    let (folder, state) = fresh();
    state.sync(&fleet(&rows(&[("a", "")])), &[], None, &worker()).unwrap();
    open(&folder.path().join("night.state")).pause("night", true).unwrap();
    assert!(matches!(claim(&state), Claimed::Paused));
    state.pause("night", false).unwrap();
    assert_eq!(taken(claim(&state)).name, "a");
}

#[test]
fn a_file_that_others_could_have_put_there_is_refused() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("night.state");
    let refused =
        |path: &Path| State::open(&Place::File(path.into()), &access(), true).err().map(|error| error.to_string());
    symlink(folder.path().join("elsewhere"), &path).unwrap();
    assert!(refused(&path).is_some() && !folder.path().join("elsewhere").exists());
    std::fs::remove_file(&path).unwrap();
    std::fs::create_dir(&path).unwrap();
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o777)).unwrap();
    assert!(refused(&path).unwrap().contains("others may write"));
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o700)).unwrap();
    std::fs::write(path.join("fleet.db"), b"the tide is out, and this is no database of any kind").unwrap();
    assert!(refused(&path).unwrap().contains("not a database"));
}

#[test]
fn a_newer_version_is_left_alone() {
    let (folder, state) = fresh();
    state.change(|session| session.execute("UPDATE reformis_version SET version = 99", &[])).unwrap();
    for make in [true, false] {
        let error = State::open(&Place::File(folder.path().join("night.state")), &access(), make).err().unwrap();
        assert!(error.to_string().contains("use a newer one"), "{error}");
    }
}

#[test]
fn no_password_goes_over_a_network_in_the_clear() {
    let with = |address: &str| {
        let mut access = access();
        access.password = Some(reformis_wire::Secret::new("sesame"));
        let error = State::open(&Place::Server(address.into()), &access, true).err().unwrap().to_string();
        assert!(!error.contains("sesame"), "{error}");
        error
    };
    for address in [
        "postgres://u@quay.example/d?sslmode=disable",
        "postgres://u@localhost/d?hostaddr=192.0.2.1&sslmode=disable",
        "postgres://u@192.0.2.1/d?sslmode=disable",
    ] {
        assert!(with(address).contains("in the clear"), "{address}");
    }
    // Near, whatever it is called: nobody listens there.
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let near = format!("postgres://u@quay.example:{port}/d?hostaddr=127.0.0.1&sslmode=disable&connect_timeout=1");
    assert!(!with(&near).contains("in the clear"));
}

#[test]
fn no_password_is_shown() {
    for address in ["postgres://u:sesame@h/d", "postgres://u@h/d?password=sesame", "host=h password=sesame"] {
        let error = State::open(&Place::Server(address.into()), &access(), true).err().unwrap().to_string();
        assert!(!error.contains("sesame"), "{error}");
    }
}
