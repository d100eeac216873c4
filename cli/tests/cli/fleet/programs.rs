//! Programs that a fleet file names: they run when the person says so, and no name of a machine is ever a word of theirs.

use std::{fs, os::unix::fs::PermissionsExt};

use super::harbour::{harbour, row, stand};
use crate::support::Place;

/// Writes a program that keeps what it is told in the file `told`, and ends with `code`.
fn program(place: &Place, name: &str, code: u8) {
    let text = format!("#!/bin/sh\ncat >>told; echo >>told; echo \"$0 $*\" >>words; echo it was told; exit {code}\n");
    place.write(name, text.as_bytes());
    fs::set_permissions(place.path(name), fs::Permissions::from_mode(0o755)).unwrap();
}

#[test]
fn a_strangers_file_runs_nothing_by_itself() {
    let harbour = harbour(1, 4);
    program(&harbour.place, "evil", 0);
    harbour.file("", &row("m0", "hooks = { before = [\"./evil\"] }"));
    let refused = harbour.run(&[]).expect(1);
    assert!(refused.err.contains("programs that nobody allowed: ./evil"), "{}", refused.err);
    assert!(refused.err.contains("--allow-programs") && !harbour.place.path("told").exists(), "{}", refused.err);
    assert!(!harbour.place.path("night.state").exists());
    let check = harbour.place.run(&["fleet", "check", "night.toml"]).expect(0).out;
    assert!(check.contains("which run with --allow-programs") && check.contains("./evil"), "{check}");
    assert!(!harbour.place.path("told").exists());
}

#[test]
fn programs_are_told_what_happens_in_json() {
    let harbour = harbour(2, 4);
    program(&harbour.place, "tell", 0);
    let hooks = "hooks = { before = [\"./tell\", \"$(id)\", \"; touch x\"], after = [\"./tell\", \"after\"] }";
    harbour.file("", &(row("m0", hooks) + &row("m1", "confirm = { program = [\"./tell\", \"ask\"] }")));
    harbour.run(&["--allow-programs"]).expect(0);
    let told = fs::read_to_string(harbour.place.path("told")).unwrap();
    let told: Vec<serde_json::Value> = told.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!((told.len(), &told[0]["event"], &told[1]["event"]), (2, &"before".into(), &"after".into()));
    assert_eq!((&told[0]["machine"], &told[0]["source"]), (&"m0".into(), &"harbour:m0".into()));
    assert!(told[1]["landing"].as_str().unwrap().ends_with("/landing/m0"));
    let words = fs::read_to_string(harbour.place.path("words")).unwrap();
    assert!(words.contains("tell $(id) ; touch x\n") && !harbour.place.path("x").exists(), "{words}");
    assert!(fs::read_to_string(harbour.place.path("night.logs/m0.log")).unwrap().contains("it was told"));
    // The program that asks is run when that is asked for.
    let told = harbour.place.run(&["fleet", "confirm", "night.toml"]).expect(0).out;
    assert!(told.contains("0 answer, 0 do not, 2 were not asked"), "{told}");
    let told = harbour.place.run(&["fleet", "confirm", "night.toml", "--allow-programs"]).expect(0).out;
    assert!(told.contains("1 answer, 0 do not, 1 were not asked") && told.contains("it was told"), "{told}");
}

#[test]
fn one_that_fails_before_stops_its_machine_and_one_after_does_not() {
    let harbour = harbour(2, 4);
    program(&harbour.place, "fail", 7);
    program(&harbour.place, "note", 0);
    let rows = row("m0", "hooks = { before = [\"./fail\"], on-failure = [\"./note\"] }")
        + &row("m1", "hooks = { after = [\"./fail\"] }");
    harbour.file("[failure]\ntries = 2\n", &rows);
    harbour.run(&["--allow-programs", "--back-off", "0"]).expect(1);
    let status = harbour.status(&[]);
    let (one, two) = (stand(&status, "m0"), stand(&status, "m1"));
    assert_eq!((&one["state"], &one["code"], &one["tries"]), (&"failed".into(), &"program-failed".into(), &2.into()));
    assert!(one["reason"].as_str().unwrap().contains("'./fail' ended with exit status: 7: it was told"), "{one}");
    assert_eq!(two["state"], "landed");
    assert!(two["reason"].as_str().unwrap().contains("./fail"), "{two}");
    assert!(!harbour.place.path("landing/m0").exists());
    let told = fs::read_to_string(harbour.place.path("told")).unwrap();
    let last = told.lines().filter(|line| line.contains("\"on-failure\"")).count();
    assert_eq!(last, 1, "when it is given up, and not before: {told}");
    let page = harbour.place.run(&["report", "night.toml", "--out", "-"]).expect(0).out;
    assert!(page.contains("After it had landed: ") && page.contains("program-failed"), "{page}");
}

#[test]
fn a_worker_that_may_run_no_programs_moves_nothing_that_has_some() {
    let harbour = harbour(1, 4);
    program(&harbour.place, "tell", 0);
    // The fleet is put there, and its first worker killed before the machine has landed.
    harbour.file("", &row("m0", "hooks = { before = [\"./tell\"], after = [\"./tell\"] }"));
    harbour.slow(300);
    let mut child = harbour.spawn(&["fleet", "run", "night.toml", "--allow-programs"]);
    harbour.wait("it runs", |status| status["counts"]["running"] == 1);
    child.kill().unwrap();
    child.wait().unwrap();
    harbour.slow(0);
    let told = || fs::read_to_string(harbour.place.path("told")).unwrap_or_default().lines().count();
    // What was being said to it when the worker ended.
    std::thread::sleep(std::time::Duration::from_millis(200));
    let before = told();
    let refused = harbour.place.run(&["fleet", "work", "night.toml"]).expect(1).err;
    assert!(refused.contains("programs that nobody allowed: ./tell"), "{refused}");
    assert_eq!(told(), before);
    assert!(!harbour.place.path("landing/m0").exists());
    harbour.place.run(&["fleet", "work", "night.toml", "--allow-programs"]).expect(0);
    assert!(told() > before);
    harbour.has_landed(1);
}

/// Ctrl-C while `after` runs, and a worker that is killed then: the program is asked again until it ends well, and the machine moves once.
#[test]
fn a_program_behind_the_landing_is_asked_until_it_ended_well() {
    let harbour = harbour(1, 4);
    let script = "#!/bin/sh\necho begun >>begun; test -e ready || exec sleep 60; echo ended >>ended\n";
    harbour.place.write("tell", script.as_bytes());
    fs::set_permissions(harbour.place.path("tell"), fs::Permissions::from_mode(0o755)).unwrap();
    harbour.file("", &row("m0", "hooks = { after = [\"./tell\"] }"));
    let begun = |times: usize| {
        let text = fs::read_to_string(harbour.place.path("begun")).unwrap_or_default();
        text.lines().count() >= times
    };
    for (round, signal) in [rustix::process::Signal::INT, rustix::process::Signal::KILL].into_iter().enumerate() {
        let mut child = harbour.spawn(&["fleet", "run", "night.toml", "--allow-programs"]);
        harbour.wait("it is told", |_| begun(round + 1));
        assert_eq!(stand(&harbour.status(&[]), "m0")["after"], "begun");
        rustix::process::kill_process(rustix::process::Pid::from_child(&child), signal).unwrap();
        child.wait().unwrap();
    }
    let receipt = fs::read(harbour.place.path("landing/m0/receipt.json")).unwrap();
    harbour.place.write("ready", b"");
    harbour.run(&["--allow-programs"]).expect(0);
    let status = harbour.status(&[]);
    let machine = stand(&status, "m0");
    assert_eq!(
        (&machine["state"], &machine["after"], &machine["code"]),
        (&"landed".into(), &"done 0".into(), &serde_json::Value::Null)
    );
    assert_eq!(fs::read_to_string(harbour.place.path("ended")).unwrap(), "ended\n");
    assert_eq!(fs::read(harbour.place.path("landing/m0/receipt.json")).unwrap(), receipt, "it was moved once");
    // Once it has ended well, it is not asked again.
    harbour.run(&["--allow-programs"]).expect(0);
    assert!(!begun(4));
}

/// However a worker ends, what it started for a machine ends with it: the next one begins it anew, beside nothing.
#[test]
fn a_program_ends_with_its_worker() {
    let harbour = harbour(1, 4);
    let script = "#!/bin/sh\nsleep 30 &\necho $! >>sleepers; echo $$ >>shells; wait\n";
    harbour.place.write("quiet", script.as_bytes());
    fs::set_permissions(harbour.place.path("quiet"), fs::Permissions::from_mode(0o755)).unwrap();
    harbour.file("", &row("m0", "hooks = { before = [\"./quiet\"] }"));
    let lines = |name: &str| fs::read_to_string(harbour.place.path(name)).unwrap_or_default();
    for round in 1..=2 {
        let mut child = harbour.spawn(&["fleet", "run", "night.toml", "--allow-programs"]);
        harbour.wait("it runs", |_| lines("shells").lines().count() == round);
        child.kill().unwrap();
        child.wait().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(200));
        for pid in (lines("shells") + &lines("sleepers")).lines() {
            let stat = fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
            assert!(stat.is_empty() || stat.contains(") Z "), "{round}: {stat}");
        }
    }
}
