//! Groups with gates between them, first passes that do not wait, and programs that hear of each end.

use std::{fs, net::TcpListener, os::unix::fs::PermissionsExt, time::Duration};

use serde_json::Value;

use super::harbour::{Harbour, harbour, row, stand};

const TWO: &str = "[[group]]\nname = \"gauges\"\n[[group]]\nname = \"desks\"\nafter = ";

fn now() -> impl Fn(i64) -> String {
    let now = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC);
    move |hours: i64| now.checked_add(jiff::Span::new().hours(hours)).unwrap().strftime("%H:00").to_string()
}

#[test]
fn a_group_waits_until_a_person_says_go() {
    let harbour = harbour(2, 4);
    harbour.file(&format!("{TWO}\"go\"\n"), &(row("m0", "group = \"gauges\"") + &row("m1", "group = \"desks\"")));
    let night = harbour.spawn_told(&["fleet", "run", "night.toml"]);
    harbour.wait("the first has landed", |status| status["counts"]["landed"] == 1);
    std::thread::sleep(Duration::from_millis(1500));
    assert_eq!(stand(&harbour.status(&[]), "m1")["state"], "waiting");
    let refused = harbour.place.run(&["fleet", "go", "night.toml", "quays"]).expect(1).err;
    assert!(refused.contains("no group called 'quays'"), "{refused}");
    let said = harbour.place.run(&["fleet", "go", "night.toml", "desks"]).expect(0).out;
    assert!(said.contains("The group desks may begin"), "{said}");
    let (code, err) = harbour.ended(night);
    assert_eq!(code, Some(0), "{err}");
    assert!(err.contains("The group desks begins when a person says so: `reformis fleet go`"), "{err}");
    harbour.has_landed(2);
    // What failed behind an open gate needs no second word.
    harbour.run(&[]).expect(0);
}

#[test]
fn a_group_waits_until_those_before_it_answer() {
    let harbour = harbour(3, 4);
    let free = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let up = TcpListener::bind("127.0.0.1:0").unwrap();
    let confirm = |at| format!("group = \"gauges\"\nconfirm = {{ tcp = \"{at}\" }}");
    let rows =
        row("m0", &confirm(free)) + &row("m1", &confirm(up.local_addr().unwrap())) + &row("m2", "group = \"desks\"");
    harbour.file(&format!("{TWO}\"confirmed\"\n"), &rows);
    let night = harbour.spawn_told(&["fleet", "run", "night.toml"]);
    harbour.wait("one of two answers", |status| {
        let answers = |name: &str| stand(status, name)["answer"]["answers"].clone();
        answers("m1") == true && answers("m0") == false
    });
    assert_eq!(stand(&harbour.status(&[]), "m2")["state"], "waiting");
    // The other one comes up.
    let late = TcpListener::bind(free).unwrap();
    let (code, err) = harbour.ended(night);
    drop(late);
    assert_eq!(code, Some(0), "{err}");
    assert!(err.contains("The group desks begins when those before it answer"), "{err}");
    harbour.has_landed(3);
    // One who cannot be asked would keep the gate shut for ever.
    harbour
        .file(&format!("{TWO}\"confirmed\"\n"), &(row("m0", "group = \"gauges\"") + &row("m2", "group = \"desks\"")));
    let refused = harbour.run(&[]).expect(1).err;
    assert!(refused.contains("machine 'm0' does not say how it is asked ('confirm')"), "{refused}");
}

#[test]
fn a_first_pass_waits_for_neither_the_window_nor_the_gate() {
    let harbour = harbour(2, 4);
    let at = now();
    let head = format!("[window]\nzone = \"UTC\"\nfrom = \"{}\"\nuntil = \"{}\"\n", at(3), at(5));
    harbour.file(&head, &(row("m0", "ahead = \"early\"") + &row("m1", "")));
    let night = harbour.spawn_told(&["fleet", "run", "night.toml"]);
    harbour.wait("the first pass is made", |status| stand(status, "m0")["first_pass"].is_string());
    let status = harbour.status(&[]);
    assert_eq!((&status["counts"]["waiting"], &stand(&status, "m0")["tries"]), (&2.into(), &0.into()));
    assert!(harbour.place.path("landing/.m0.reformis-partial").exists() && !harbour.place.path("landing/m0").exists());
    let (_, err) = harbour.interrupted(night);
    assert!(err.contains("m0: its first pass is made after") && err.contains("Nothing begins before"), "{err}");
    // Something is written meanwhile; then it is its turn.
    let disk = harbour.place.path("host/m0/m0.raw");
    let mut bytes = fs::read(&disk).unwrap();
    bytes[3 << 20..(3 << 20) + 5].copy_from_slice(b"flood");
    fs::write(&disk, bytes).unwrap();
    harbour.file("", &(row("m0", "ahead = \"early\"") + &row("m1", "")));
    let ran = harbour.run(&["--at-once", "1"]).expect(0);
    assert!(!ran.err.contains("its first pass is made"), "{}", ran.err);
    harbour.has_landed(2);
    let receipt: Value =
        serde_json::from_slice(&fs::read(harbour.place.path("landing/m0/receipt.json")).unwrap()).unwrap();
    assert!(receipt["ahead"]["changed"].as_u64().unwrap() > 0, "{receipt}");
}

#[test]
fn programs_hear_of_each_end() {
    let harbour = harbour(2, 4);
    harbour.place.write("tell", b"#!/bin/sh\ncat >>told; echo >>told\n");
    fs::set_permissions(harbour.place.path("tell"), fs::Permissions::from_mode(0o755)).unwrap();
    let head = "[failure]\ntries = 1\n[tell]\nmachine = [\"./tell\"]\ngroup = [\"./tell\"]\nnight = [\"./tell\"]\n";
    let rows = row("m0", "group = \"gauges\"") + &row("absent", "group = \"gauges\"") + &row("m1", "group = \"desks\"");
    harbour.file(head, &rows);
    assert!(harbour.run(&[]).expect(1).err.contains("programs that nobody allowed: ./tell"));
    harbour.run(&["--allow-programs", "--at-once", "1"]).expect(1);
    let told = || -> Vec<Value> {
        let text = fs::read_to_string(harbour.place.path("told")).unwrap_or_default();
        text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    };
    let ends: Vec<String> = told()
        .iter()
        .map(|told| format!("{} {}", told["event"].as_str().unwrap(), told["sentence"].as_str().unwrap()))
        .collect();
    assert_eq!(ends.len(), 6, "{ends:?}");
    assert_eq!(ends[0], "machine-ended m0 has landed");
    assert!(ends[1].starts_with("machine-ended absent failed: "), "{ends:?}");
    assert_eq!(ends[2], "group-ended 1 of 2 machines have landed, 1 failed");
    assert_eq!(ends[5], "night-ended 2 of 3 machines have landed, 1 failed");
    let told_of = &told()[1];
    assert_eq!(
        (&told_of["state"], &told_of["code"], &told_of["fleet"]),
        (&"failed".into(), &"not-there".into(), &"night".into())
    );
    // Nothing of it is told again where nothing has changed; what is tried again is.
    harbour.run(&["--allow-programs"]).expect(1);
    let ends: Vec<Value> = told()[6..].iter().map(|told| told["event"].clone()).collect();
    assert_eq!(ends, ["machine-ended", "group-ended", "night-ended"]);
    // A program that does not end well is told of, and costs no machine.
    harbour.place.write("tell", b"#!/bin/sh\nexit 3\n");
    let ran = harbour.run(&["--allow-programs"]).expect(1);
    assert!(ran.err.contains("Not told of the end of absent:"), "{}", ran.err);
}

impl Harbour {
    /// The program as [`Harbour::spawn`] starts it, whose stderr is kept.
    fn spawn_told(&self, words: &[&str]) -> std::process::Child {
        let mut command = self.place.command(words);
        command.stdin(std::process::Stdio::null()).stdout(std::process::Stdio::null());
        command.stderr(fs::File::create(self.place.path("said")).unwrap()).spawn().unwrap()
    }

    fn ended(&self, mut child: std::process::Child) -> (Option<i32>, String) {
        let begun = std::time::Instant::now();
        while child.try_wait().unwrap().is_none() {
            if begun.elapsed() > Duration::from_secs(60) {
                child.kill().unwrap();
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        (child.wait().unwrap().code(), fs::read_to_string(self.place.path("said")).unwrap())
    }

    fn interrupted(&self, child: std::process::Child) -> (Option<i32>, String) {
        rustix::process::kill_process(rustix::process::Pid::from_child(&child), rustix::process::Signal::INT).unwrap();
        self.ended(child)
    }
}
