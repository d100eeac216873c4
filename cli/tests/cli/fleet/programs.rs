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
