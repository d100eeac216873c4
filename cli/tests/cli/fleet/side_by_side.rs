//! Several workers on one state in a file, while others look: SQLite's locks are what keeps them apart.

use std::{process::Command, time::Duration};

use super::harbour::harbour;

/// What the library says of the whole file, read by another program.
fn integrity(path: &std::path::Path) -> String {
    let script =
        "import sqlite3, sys; print(*sqlite3.connect(sys.argv[1]).execute('PRAGMA integrity_check').fetchone())";
    let done = Command::new("python3").args(["-c", script]).arg(path).output().unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8_lossy(&done.stdout).trim().to_string()
}

/// A night of `machines` and four workers, with leases that are renewed all the time.
fn night(machines: usize, round: usize) {
    let harbour = harbour(machines, 1);
    harbour.file_of("", machines);
    let words = ["fleet", "run", "night.toml", "--at-once", "2", "--lease", "4", "--quiet"];
    let workers: Vec<_> = (0..4)
        .map(|_| {
            let mut command = harbour.place.command(&words);
            command.stdin(std::process::Stdio::null()).stdout(std::process::Stdio::piped());
            command.stderr(std::process::Stdio::piped()).spawn().unwrap()
        })
        .collect();
    // Another terminal.
    harbour.wait("all have landed", |status| {
        std::thread::sleep(Duration::from_millis(10));
        assert_eq!(status["counts"]["failed"], 0, "{round}: {status}");
        status["counts"]["landed"] == machines
    });
    for worker in workers {
        let output = worker.wait_with_output().unwrap();
        assert!(output.status.success(), "{round}: {}", String::from_utf8_lossy(&output.stderr));
    }
    assert_eq!(integrity(&harbour.place.path("night.state")), "ok", "{round}");
    let tries = harbour.status(&[])["machines"].as_array().unwrap().iter().all(|machine| machine["tries"] == 1);
    assert!(tries, "{round}: no machine was taken twice");
    harbour.has_landed(machines);
}

#[test]
fn four_workers_and_who_looks_on_share_a_file() {
    night(12, 0);
}

#[test]
#[ignore = "minutes: part of the slower checks"]
fn four_workers_share_a_file_night_after_night() {
    let rounds = std::env::var("REFORMIS_NIGHTS").ok().and_then(|text| text.parse().ok()).unwrap_or(4);
    (1..=rounds).for_each(|round| night(30, round));
}
