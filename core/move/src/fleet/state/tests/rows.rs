//! Rows that change, workers that end, programs and names: what an earlier night left, and what the next one makes of it.

use super::*;

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
    state.note_landing(&lease, "/landing/a", "[]").unwrap();
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
