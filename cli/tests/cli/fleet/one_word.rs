//! `check`, `run` and `status` say the same of what an earlier night left, and of a file that was changed since.

use std::{fs, os::unix::fs::PermissionsExt, process::Stdio, time::Duration};

use super::harbour::{Harbour, harbour, row, stand};

impl Harbour {
    fn check(&self, code: i32) -> String {
        self.place.run(&["fleet", "check", "night.toml"]).expect(code).out
    }

    fn shown(&self) -> String {
        self.place.run(&["fleet", "status", "night.toml"]).expect(0).out
    }

    /// All three say `code`, or none of them.
    #[track_caller]
    fn all_say(&self, code: &str, exit: i32) {
        let ran = self.run(&["--back-off", "0"]);
        let (status, check) = (self.shown(), self.place.run(&["fleet", "check", "night.toml"]));
        let word = format!("[{code}]");
        for (who, text) in [("run", &ran.err), ("status", &status), ("check", &check.out)] {
            assert!(text.contains(&word), "{who} does not say {word}: {text}");
        }
        assert_eq!((ran.code, check.code), (exit, 3), "{}{}", ran.err, check.out);
    }
}

#[test]
fn of_a_landing_that_is_gone_and_a_row_that_was_changed_all_say_the_same() {
    let harbour = harbour(2, 4);
    let plain = row("m0", "") + &row("m1", "");
    harbour.file("", &plain);
    harbour.run(&[]).expect(0);
    assert!(harbour.check(0).contains("landed"));
    // What would make another landing.
    harbour.file("", &(row("m0", "shape = \"raw/thin\"") + &row("m1", "")));
    harbour.all_say("row-changed", 1);
    assert!(harbour.shown().contains("shape: nothing before, \"raw/thin\" now"), "{}", harbour.shown());
    // How it is asked is no other landing, and is learnt.
    harbour.file("", &(row("m0", "confirm = { tcp = \"127.0.0.1:1\", patience = \"1 s\" }") + &row("m1", "")));
    harbour.run(&[]).expect(0);
    let asked = harbour.place.run(&["fleet", "confirm", "night.toml"]).expect(1).out;
    assert!(asked.contains("port 127.0.0.1:1"), "{asked}");
    // It is there: nobody moves it over that.
    let refused = harbour.run(&["--again", "m1"]).expect(1).err;
    assert!(refused.contains("the landing of 'm1' is there"), "{refused}");
    fs::remove_dir_all(harbour.place.path("landing/m1")).unwrap();
    harbour.all_say("landing-gone", 1);
    harbour.run(&["--again", "m1"]).expect(0);
    harbour.has_landed(2);
}

#[test]
fn of_a_file_with_another_name_all_say_that_the_place_is_taken() {
    let harbour = harbour(1, 4);
    harbour.file_of("", 1);
    harbour.run(&[]).expect(0);
    for name in ["night.state", "night.logs"] {
        fs::rename(harbour.place.path(name), harbour.place.path("elsewhere")).ok();
    }
    harbour.all_say("exists", 1);
}

#[test]
fn of_a_program_that_cannot_be_started_all_say_so() {
    let harbour = harbour(2, 4);
    harbour.place.write("quiet", b"#!/bin/sh\n");
    fs::set_permissions(harbour.place.path("quiet"), fs::Permissions::from_mode(0o644)).unwrap();
    let hooks = |program: &str| format!("hooks = {{ before = [\"{program}\"] }}");
    harbour.file("[failure]\ntries = 1\n", &(row("m0", &hooks("./quiet")) + &row("m1", &hooks("no-such-program"))));
    let check = harbour.check(3);
    assert!(
        check.contains("'./quiet' may not be executed") && check.contains("not on the path of programs"),
        "{check}"
    );
    let ran = harbour.run(&["--allow-programs"]).expect(1).err;
    assert!(ran.contains("[no-program]") && ran.contains("'./quiet' may not be executed"), "{ran}");
    assert!(harbour.shown().contains("[no-program]"));
    fs::set_permissions(harbour.place.path("quiet"), fs::Permissions::from_mode(0o755)).unwrap();
    harbour.file("", &(row("m0", &hooks("./quiet")) + &row("m1", &hooks("true"))));
    harbour.check(0);
    harbour.run(&["--allow-programs"]).expect(0);
}

#[test]
fn a_row_that_is_changed_behind_a_kill_is_the_one_that_is_moved() {
    let harbour = harbour(1, 64);
    harbour.file_of("", 1);
    harbour.slow(500);
    let mut child = harbour.spawn(&["fleet", "run", "night.toml"]);
    harbour.wait("it runs", |_| harbour.place.path("landing/.m0.reformis-partial").exists());
    // A worker has it: what differs is said, and nothing is changed.
    let other = row("m0", "into = \"elsewhere\"\nshape = \"raw/thin\"");
    harbour.file("", &other);
    let refused = harbour.run(&[]).expect(1).err;
    assert!(
        refused.contains("'m0' is being worked on by") && refused.contains("into: \"landing\" before"),
        "{refused}"
    );
    child.kill().unwrap();
    child.wait().unwrap();
    harbour.slow(0);
    // At once, though its lease would last for a minute.
    let begun = std::time::Instant::now();
    harbour.run(&[]).expect(0);
    assert!(begun.elapsed() < Duration::from_secs(30));
    assert!(harbour.place.path("elsewhere/m0/m0-0.raw").exists());
    assert!(!harbour.place.path("landing/m0").exists());
    harbour.place.run(&["prove", "elsewhere/m0/receipt.json"]).expect(0);
}

#[test]
fn what_is_no_longer_in_the_file_is_named_and_is_no_success() {
    let harbour = harbour(2, 4);
    harbour.file("[failure]\ntries = 1\n", &(row("m0", "") + &row("absent", "")));
    harbour.run(&[]).expect(1);
    harbour.file_of("", 1);
    let ran = harbour.run(&[]).expect(1).err;
    assert!(ran.contains("No longer in the file, and not moved: absent"), "{ran}");
    harbour.run(&[]).expect(0);
}

#[test]
fn another_run_that_holds_the_landing_costs_no_try() {
    let harbour = harbour(1, 16);
    harbour.file_of("[failure]\ntries = 1\n", 1);
    harbour.slow(60);
    // A person moves the same machine to the same place, and is stopped in the middle of it.
    let mut words = vec!["carry", "harbour:m0", "--dest", "virtio-host", "--into", "landing", "--network", "default"];
    words.extend(["--accept", "will-not-boot"]);
    let mut other = harbour.place.command(&words);
    let mut other = other.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    while !harbour.place.path("landing/.m0.reformis-partial").exists() {
        std::thread::sleep(Duration::from_millis(5));
    }
    let pid = rustix::process::Pid::from_child(&other);
    rustix::process::kill_process(pid, rustix::process::Signal::STOP).unwrap();
    let mut night = harbour.spawn(&["fleet", "run", "night.toml", "--back-off", "0"]);
    harbour.wait("it waits", |status| stand(status, "m0")["code"] == "busy");
    std::thread::sleep(Duration::from_secs(3));
    assert_eq!(stand(&harbour.status(&[]), "m0")["tries"].as_u64().map(|tries| tries <= 1), Some(true));
    other.kill().unwrap();
    other.wait().unwrap();
    harbour.slow(0);
    assert!(night.wait().unwrap().success());
    harbour.has_landed(1);
}
