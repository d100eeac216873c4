//! A night that is drawn on a terminal, and a terminal that goes away.

use std::{
    fs,
    io::Write,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use reformis_standin::servers::is_installed;

use super::harbour::{Harbour, harbour};
use crate::support::PROGRAM;

/// Whether the program still runs in the place of `harbour`.
fn runs(harbour: &Harbour) -> bool {
    let (folder, program) = (harbour.place.path(""), fs::canonicalize(PROGRAM).unwrap());
    let leads = |process: &std::path::Path, name: &str, to: &std::path::Path| {
        fs::read_link(process.join(name)).is_ok_and(|path| path == fs::canonicalize(to).unwrap())
    };
    let processes = fs::read_dir("/proc").unwrap().flatten().map(|entry| entry.path());
    processes.into_iter().any(|process| leads(&process, "cwd", &folder) && leads(&process, "exe", &program))
}

/// Starts the night on a terminal of its own, whose picture goes to the file `drawn`.
fn on_terminal(harbour: &Harbour) -> std::process::Child {
    let line = format!("stty rows 40 cols 140; {PROGRAM} fleet run night.toml --at-once 1");
    let mut command = Command::new("script");
    command.args(["-qfc", &line, "drawn"]).current_dir(harbour.place.path(""));
    command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

fn is_there(test: &str) -> bool {
    let is_there = is_installed("script");
    if !is_there {
        std::io::stderr().write_all(format!("SKIPPED {test}: there is no script\n").as_bytes()).unwrap();
    }
    is_there
}

#[test]
fn keys_steer_the_night_that_is_drawn() {
    if !is_there("keys_steer_the_night_that_is_drawn") {
        return;
    }
    let harbour = harbour(4, 4);
    harbour.file_of("", 4);
    harbour.slow(100);
    let mut terminal = on_terminal(&harbour);
    harbour.wait("the first runs", |status| status["counts"]["running"] == 1);
    // Down to the last one, which is held back; then no more after the one that runs.
    let mut keys = terminal.stdin.take().unwrap();
    std::thread::sleep(Duration::from_millis(1500));
    keys.write_all(b"jjjh").unwrap();
    harbour.wait("one is held back", |status| status["counts"]["held"] == 1);
    keys.write_all(b"s").unwrap();
    assert!(terminal.wait().unwrap().success());
    let status = harbour.status(&[]);
    assert_eq!(
        (&status["counts"]["running"], &status["machines"][3]["state"]),
        (&0.into(), &"held".into()),
        "{status}"
    );
    let drawn = fs::read_to_string(harbour.place.path("drawn")).unwrap();
    assert!(drawn.contains("p pause") && drawn.contains("\u{1b}[?1049l"), "the terminal is given back as it was");
}

#[test]
fn a_terminal_that_goes_away_ends_the_night_cleanly() {
    if !is_there("a_terminal_that_goes_away_ends_the_night_cleanly") {
        return;
    }
    let harbour = harbour(6, 4);
    harbour.file_of("", 6);
    harbour.slow(100);
    let mut terminal = on_terminal(&harbour);
    harbour.wait("one runs", |status| status["counts"]["running"] == 1);
    assert!(runs(&harbour));
    std::thread::sleep(Duration::from_millis(600));
    terminal.kill().unwrap();
    terminal.wait().unwrap();
    let begun = Instant::now();
    while runs(&harbour) {
        assert!(begun.elapsed() < Duration::from_secs(20), "it goes on without a terminal");
        std::thread::sleep(Duration::from_millis(50));
    }
    assert_eq!(harbour.status(&[])["counts"]["running"], 0, "it gave back what it had");
    harbour.slow(0);
    harbour.run(&[]).expect(0);
    harbour.has_landed(6);
}
