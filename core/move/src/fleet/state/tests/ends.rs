//! What programs are told of, hours of hosts, and landings of others.

use super::*;
use crate::fleet::file::Tell;

fn all() -> Tell {
    let program = Some(vec!["./tell".to_string()]);
    Tell { machine: program.clone(), group: program.clone(), night: program, patience: None }
}

/// What is to be told now, in its order; each is told.
fn told(state: &State, by: &Worker, tell: &Tell, night_is_over: bool) -> Vec<Subject> {
    let notice = Notice { fleet: "night", worker: by, tell, patience: LEASE, night_is_over };
    let next = || state.next_notice(&notice).unwrap();
    std::iter::from_fn(next).inspect(|subject| state.noticed("night", subject).unwrap()).collect()
}

const TELL: &str = "[tell]\nmachine = [\"./tell\"]\ngroup = [\"./tell\"]\nnight = [\"./tell\"]\n";

#[test]
fn each_end_is_told_once_and_again_when_it_is_another_end() {
    let (_folder, state) = fresh();
    let text =
        TELL.to_string() + &rows(&[("a", "group = \"one\""), ("b", "group = \"one\""), ("c", "group = \"two\"")]);
    let sync = || state.sync(&fleet(&text), &[], None, &worker()).unwrap();
    sync();
    assert_eq!(told(&state, &worker(), &all(), true), [Subject::Night], "its time is over");
    sync();
    let a = taken(claim(&state));
    assert_eq!(told(&state, &worker(), &all(), true), [], "a machine runs");
    state.end(&a, &landed()).unwrap();
    assert_eq!(told(&state, &worker(), &all(), false), [Subject::Machine("a".into())]);
    let b = taken(claim(&state));
    state.end(&b, &failed(None)).unwrap();
    let group = |name: &str| Subject::Group(name.into());
    assert_eq!(told(&state, &worker(), &all(), false), [Subject::Machine("b".into()), group("one")]);
    let c = taken(claim(&state));
    state.end(&c, &landed()).unwrap();
    let ends = [Subject::Machine("c".into()), group("two"), Subject::Night];
    assert_eq!(told(&state, &worker(), &all(), true), ends);
    // The next run tries b once more: its end is another one.
    sync();
    let b = taken(claim(&state));
    state.end(&b, &landed()).unwrap();
    let ends = [Subject::Machine("b".into()), group("one"), Subject::Night];
    assert_eq!(told(&state, &worker(), &all(), true), ends);
    sync();
    assert_eq!(told(&state, &worker(), &all(), true), []);
}

#[test]
fn what_a_dead_worker_began_to_tell_is_told_by_another() {
    let (_folder, state) = fresh();
    let text = TELL.to_string() + &rows(&[("a", "")]);
    state.sync(&fleet(&text), &[], None, &worker()).unwrap();
    state.end(&taken(claim(&state)), &landed()).unwrap();
    let mut child = std::process::Command::new("sleep").arg("20").stdout(std::process::Stdio::null()).spawn().unwrap();
    let dead = Worker::of(child.id());
    let (tell, patience) = (all(), LEASE);
    let next = |worker: &Worker| {
        state.next_notice(&Notice { fleet: "night", worker, tell: &tell, patience, night_is_over: false }).unwrap()
    };
    assert_eq!(next(&dead), Some(Subject::Machine("a".into())));
    assert_eq!(next(&worker()), None, "it lives, and tells");
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(next(&worker()), Some(Subject::Machine("a".into())));
}

#[test]
fn a_program_that_is_named_later_does_not_hear_of_all_that_was() {
    let (_folder, state) = fresh();
    let plain = rows(&[("a", ""), ("b", "")]);
    state.sync(&fleet(&plain), &[], None, &worker()).unwrap();
    state.end(&taken(claim(&state)), &landed()).unwrap();
    state.sync(&fleet(&(TELL.to_string() + &plain)), &[], None, &worker()).unwrap();
    state.end(&taken(claim(&state)), &landed()).unwrap();
    let tell = Tell { machine: all().machine, ..Tell::default() };
    assert_eq!(told(&state, &worker(), &tell, true), [Subject::Machine("b".into())]);
}

#[test]
fn a_host_is_left_alone_in_its_quiet_hours() {
    let (_folder, state) = fresh();
    let now = Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC);
    let at = |minutes: i64| now.checked_add(jiff::Span::new().minutes(minutes)).unwrap().strftime("%H:%M").to_string();
    let quiet = |from: i64, until: i64| {
        format!("[quiet.harbour]\nzone = \"UTC\"\nfrom = \"{}\"\nuntil = \"{}\"\n", at(from), at(until))
    };
    let others = rows(&[("a", ""), ("b", "")]) + "[[machine]]\nname = \"c\"\nsource = \"quay:c\"\n";
    state.sync(&fleet(&(quiet(-60, 60) + &others)), &[], None, &worker()).unwrap();
    assert_eq!(taken(claim(&state)).name, "c", "another host is not quiet");
    let Claimed::Later(_) = claim(&state) else { panic!("it waits for c") };
    let c = state.machine("night", "c").unwrap().0;
    assert_eq!(c.state, Stand::Running);
    state
        .change(|session| session.execute("UPDATE reformis_machine SET state = 'landed' WHERE name = 'c'", &[]))
        .unwrap();
    let Claimed::Quiet { host, until } = claim(&state) else { panic!("a and b wait") };
    let minutes = until.duration_since(Timestamp::now()).as_secs() / 60;
    assert!(host == "harbour" && (58..=61).contains(&minutes), "{host} {until}");
    state.sync(&fleet(&(quiet(60, 120) + &others)), &[], None, &worker()).unwrap();
    assert_eq!(taken(claim(&state)).name, "a");
}
