//! The state is tried on a model: rows of the same machines in memory, and the same words said to both.

mod model;

use std::{path::Path, time::Duration};

use tempfile::TempDir;

use super::*;
use crate::fleet::{file::Fleet, worker::Worker};

const LEASE: Duration = Duration::from_secs(600);

/// A fresh state in a file.
pub(super) fn fresh() -> (TempDir, State) {
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
    std::fs::write(&path, b"").unwrap();
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o666)).unwrap();
    assert!(refused(&path).unwrap().contains("you alone may write"));
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o600)).unwrap();
    std::fs::write(&path, b"the tide is out, and this is no database of any kind").unwrap();
    assert!(refused(&path).unwrap().contains("not a database"));
    std::fs::remove_file(&path).unwrap();
    drop(open(&path));
    assert_eq!(path.metadata().unwrap().permissions().mode() & 0o777, 0o600);
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
fn no_password_is_shown() {
    for address in ["postgres://u:sesame@h/d", "postgres://u@h/d?password=sesame", "host=h password=sesame"] {
        let error = State::open(&Place::Server(address.into()), &access(), true).err().unwrap().to_string();
        assert!(!error.contains("sesame"), "{error}");
    }
}

/// A process of this machine as a worker, which takes the machine of `state`, and is killed.
fn take_and_die(state: &State) -> Lease {
    let mut child = std::process::Command::new("sleep").arg("20").stdout(std::process::Stdio::null()).spawn().unwrap();
    let dead = Worker::of(child.id());
    let lease = taken(state.claim(&claim_by(&dead)).unwrap());
    // It lives.
    assert!(!matches!(claim(state), Claimed::Machine(other) if other.name == lease.name));
    child.kill().unwrap();
    child.wait().unwrap();
    lease
}

#[test]
fn what_a_process_of_this_machine_had_is_taken_over_once_it_has_ended() {
    let (_folder, state) = fresh();
    state.sync(&fleet(&rows(&[("a", "")])), &[], None, &worker()).unwrap();
    let first = take_and_die(&state);
    let second = taken(claim(&state));
    assert_eq!((second.fence, second.tries, second.job), (first.fence + 1, 2, first.job));
}

#[test]
fn a_row_is_taken_anew_unless_a_worker_has_its_machine() {
    let (_folder, state) = fresh();
    let plain = fleet(&("[limits]\nat-once = 1\n".to_string() + &rows(&[("a", ""), ("b", "")])));
    state.sync(&plain, &[], None, &worker()).unwrap();
    let first = take_and_die(&state);
    let held = taken(state.claim(&claim_by(&worker())).unwrap());
    assert_eq!((first.name.as_str(), held.name.as_str(), first.spec.row.shape.clone()), ("a", "a", None));
    // A worker has it now.
    let other = fleet(&rows(&[("a", "shape = \"raw/thin\""), ("b", "size = \"1MiB\"")]));
    let refused = state.sync(&other, &[], None, &worker()).unwrap_err().to_string();
    assert!(
        refused.contains("'a' is being worked on by w, and its row is another one now (shape: nothing before"),
        "{refused}"
    );
    assert!(state.machine("night", "b").unwrap().1.row.size.is_none(), "nothing was changed");
    state.end(&held, &Ended::Stopped).unwrap();
    state.sync(&other, &[], None, &worker()).unwrap();
    let again = taken(claim(&state));
    assert_eq!(again.spec.row.shape.as_deref(), Some("raw/thin"));
    assert_ne!(again.job, held.job, "what the earlier row left is none of it");
    // What says nothing of what is made keeps what was begun.
    state.end(&again, &Ended::Stopped).unwrap();
    let sized = fleet(&rows(&[("a", "shape = \"raw/thin\"\nsize = \"2MiB\""), ("b", "")]));
    state.sync(&sized, &[], None, &worker()).unwrap();
    let last = taken(claim(&state));
    assert_eq!((last.job, last.spec.row.size.map(|size| size.0)), (again.job, Some(2 << 20)));
}

#[test]
fn another_files_fleet_is_not_taken_for_this_one() {
    let (_folder, mut state) = fresh();
    let here = fleet(&rows(&[("a", ""), ("b", "")]));
    let mut there = Fleet { origin: "quay:/srv/night.toml".into(), ..fleet(&rows(&[("b", ""), ("c", "")])) };
    state.sync(&here, &[], None, &worker()).unwrap();
    // In a file beside the fleet file, it was moved with it.
    state.sync(&there, &[], None, &worker()).unwrap();
    state.sync(&here, &[], None, &worker()).unwrap();
    state.is_shared = true;
    let refused = state.sync(&there, &[], None, &worker()).unwrap_err().to_string();
    assert!(refused.starts_with("a fleet called 'night' is there already, from "), "{refused}");
    assert_eq!(state.machine("night", "a").unwrap().0.state, Stand::Waiting);
    there.is_named = true;
    assert_eq!(state.sync(&there, &[], None, &worker()).unwrap().gone, ["a"]);
}

#[test]
fn a_worker_without_programs_takes_no_machine_that_has_some() {
    let (_folder, state) = fresh();
    let text = rows(&[("a", "hooks = { before = [\"./quiet\"] }"), ("b", "confirm = { program = [\"./look\"] }")]);
    state.sync(&fleet(&text), &[], None, &worker()).unwrap();
    assert_eq!(state.programs("night").unwrap(), ["./quiet"]);
    let careful = worker();
    let careful = Claim { programs: false, ..claim_by(&careful) };
    let b = taken(state.claim(&careful).unwrap());
    assert_eq!(b.name, "b");
    state.end(&b, &landed()).unwrap();
    assert!(matches!(state.claim(&careful).unwrap(), Claimed::Over));
    assert_eq!(taken(claim(&state)).name, "a");
}

#[test]
fn that_another_run_is_in_the_way_is_no_try() {
    let (_folder, state) = fresh();
    state.sync(&fleet(&rows(&[("a", "")])), &[], None, &worker()).unwrap();
    for _ in 0..9 {
        let lease = taken(claim(&state));
        assert_eq!(lease.tries, 1);
        let busy = Ended::Busy { reason: "another run is writing".into(), again: Duration::ZERO };
        assert_eq!(state.end(&lease, &busy).unwrap(), Pressed::Again);
    }
    assert_eq!(state.machine("night", "a").unwrap().0.code.as_deref(), Some("busy"));
}

#[test]
fn nothing_is_taken_over_by_a_lease_where_the_database_was_away() {
    let (_folder, state) = fresh();
    state.sync(&fleet(&rows(&[("a", "")])), &[], None, &worker()).unwrap();
    let lease = taken(claim_for(&state, Duration::ZERO));
    std::thread::sleep(Duration::from_millis(5));
    let own = worker();
    let careful = Claim { takes_over: false, ..claim_by(&own) };
    assert!(matches!(state.claim(&careful).unwrap(), Claimed::Later(_)));
    let beat = Beat { name: lease.name.clone(), fence: lease.fence, ..Beat::default() };
    assert!(state.renew("night", &[beat], LEASE).unwrap().is_empty(), "it is still there");
}

#[test]
fn a_landing_is_made_once_more_only_where_it_is_gone() {
    let (folder, state) = fresh();
    let plain = fleet(&rows(&[("a", "")]));
    state.sync(&plain, &[], None, &worker()).unwrap();
    let lease = taken(claim(&state));
    let landing = folder.path().join("a");
    std::fs::create_dir(&landing).unwrap();
    let there = landing.to_string_lossy().into_owned();
    state.end(&lease, &Ended::Landed { landing: there, receipt: "{}".into(), bytes: 1, after: None }).unwrap();
    let again = ["a".to_string()];
    let refused = state.sync(&plain, &again, None, &worker()).unwrap_err().to_string();
    assert!(refused.contains("the landing of 'a' is there"), "{refused}");
    // How it is asked is learnt all the same; what would be another landing is not.
    let asked = fleet(&rows(&[("a", "confirm = { tcp = \"h:22\" }")]));
    state.sync(&asked, &[], None, &worker()).unwrap();
    assert!(state.machine("night", "a").unwrap().1.row.confirm.is_some());
    state.sync(&fleet(&rows(&[("a", "shape = \"raw/thin\"")])), &[], None, &worker()).unwrap();
    assert!(state.machine("night", "a").unwrap().1.row.shape.is_none());
    std::fs::remove_dir(&landing).unwrap();
    assert_eq!(state.sync(&plain, &again, None, &worker()).unwrap().again, 1);
    let anew = taken(claim(&state));
    assert_ne!(anew.job, lease.job);
}

#[test]
fn a_program_behind_the_landing_is_asked_again_and_only_where_it_landed() {
    let (_folder, state) = fresh();
    let plain = fleet(&rows(&[("a", "hooks = { after = [\"./tell\"] }")]));
    state.sync(&plain, &[], None, &worker()).unwrap();
    let lease = taken(claim(&state));
    state.note_landing(&lease, "/landing/a").unwrap();
    state.note_hook(&lease, Hook::After, HookState::Begun).unwrap();
    assert_eq!(state.machine("night", "a").unwrap().0.after.as_deref(), Some("begun"));
    let stopped = Ended::Landed {
        landing: "/landing/a".into(),
        receipt: "{}".into(),
        bytes: 1,
        after: Some("the program 'after' was stopped".into()),
    };
    state.end(&lease, &stopped).unwrap();
    assert_eq!(state.sync(&plain, &[], None, &worker()).unwrap().after, ["a"]);
    let mut elsewhere = worker();
    elsewhere.host = "quay/00000000".into();
    assert!(!matches!(state.claim(&claim_by(&elsewhere)).unwrap(), Claimed::Machine(_)), "the landing is not there");
    let once_more = taken(claim(&state));
    assert_eq!((once_more.job, once_more.after, once_more.goes_on), (lease.job, None, true));
    state.note_hook(&once_more, Hook::After, HookState::Done(Some(0))).unwrap();
    // Killed before it could say that it has landed.
    state.change(|session| session.execute("UPDATE reformis_machine SET lease_until = 1", &[])).unwrap();
    assert_eq!(taken(claim(&state)).after, Some(HookState::Done(Some(0))));
}

#[test]
fn only_those_that_are_named_begin_whatever_the_group() {
    let (_folder, state) = fresh();
    let text = rows(&[
        ("a", "group = \"first\""),
        ("b", "group = \"then\""),
        ("c", "group = \"then\"\nafter = [\"b\"]"),
        ("d", "group = \"last\""),
    ]);
    state.sync(&fleet(&text), &[], None, &worker()).unwrap();
    let own = worker();
    let only: std::collections::BTreeSet<String> = ["b", "c"].map(String::from).into();
    let asked = Claim { only: Some(&only), ..claim_by(&own) };
    let b = taken(state.claim(&asked).unwrap());
    assert_eq!(b.name, "b");
    assert!(matches!(state.claim(&asked).unwrap(), Claimed::Later(_)), "c comes after it");
    state.end(&b, &failed(None)).unwrap();
    assert!(matches!(state.claim(&asked).unwrap(), Claimed::Over));
    assert_eq!(stands(&state).iter().filter(|(_, stand)| *stand == Stand::Waiting).count(), 2, "a and d still wait");
    // Of those that failed or were left out, it is the named ones that wait again.
    let one: std::collections::BTreeSet<String> = ["b".to_string()].into();
    assert_eq!(state.sync(&fleet(&text), &[], Some(&one), &worker()).unwrap().again, 1);
    assert_eq!(state.machine("night", "c").unwrap().0.state, Stand::Skipped);
}
