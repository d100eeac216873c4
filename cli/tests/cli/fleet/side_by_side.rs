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
    harbour.wait_within(Duration::from_secs(600), "all have landed", |status| {
        std::thread::sleep(Duration::from_millis(10));
        assert_eq!(status["counts"]["failed"], 0, "{round}: {status}");
        status["counts"]["landed"] == machines
    });
    for worker in workers {
        let output = worker.wait_with_output().unwrap();
        assert!(output.status.success(), "{round}: {}", String::from_utf8_lossy(&output.stderr));
    }
    assert_eq!(integrity(&harbour.place.path("night.state/fleet.db")), "ok", "{round}");
    // On a busy machine a lease may run out; then another worker has landed it, and nobody twice.
    harbour.has_landed(machines);
}

#[test]
fn four_workers_and_who_looks_on_share_a_file() {
    night(12, 0);
}

#[test]
#[ignore = "minutes: part of the slower checks"]
fn four_workers_share_a_file_night_after_night() {
    let rounds = std::env::var("REFORMIS_NIGHTS").ok().and_then(|text| text.parse().ok()).unwrap_or(1);
    (1..=rounds).for_each(|round| night(30, round));
}

/// A file system of so many KiB, in memory, that is gone with it.
struct Small(std::path::PathBuf);

impl Small {
    fn mounted(at: std::path::PathBuf, kib: u64) -> Self {
        std::fs::create_dir_all(&at).unwrap();
        let size = format!("size={kib}k");
        let done = Command::new("mount").args(["-t", "tmpfs", "-o", &size, "tmpfs"]).arg(&at).status().unwrap();
        assert!(done.success());
        Self(at)
    }

    fn remount(&self, word: &str) {
        let words = format!("remount,{word}");
        assert!(Command::new("mount").args(["-o", &words]).arg(&self.0).status().unwrap().success());
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        Command::new("umount").arg("-l").arg(&self.0).status().ok();
    }
}

/// Wherever in a night the state's disk is full, or may not be written any more: it is said, the state stays whole, and the same command
/// ends the night once there is room.
#[test]
#[ignore = "needs root"]
fn a_full_disk_and_one_that_is_read_only_end_right_by_the_same_command() {
    for kib in [40, 80, 120, 160, 240] {
        let harbour = harbour(10, 1);
        let small = Small::mounted(harbour.place.path("small"), kib);
        harbour.file_of("", 10);
        let text = std::fs::read_to_string(harbour.place.path("night.toml")).unwrap();
        let text = text.replace("into = \"landing\"", "into = \"../landing\"");
        std::fs::write(harbour.place.path("small/night.toml"), text).unwrap();
        let run = || harbour.place.run(&["fleet", "run", "small/night.toml", "--at-once", "2", "--logs", "logs", "-q"]);
        let first = run();
        if first.code != 0 {
            assert!(first.err.contains("disk is full") || first.err.contains("No space"), "{kib}: {}", first.err);
        }
        small.remount("size=8m,ro");
        let told = run().expect(1).err;
        assert!(told.contains("night.state"), "{kib}: {told}");
        small.remount("size=8m,rw");
        run().expect(0);
        assert_eq!(integrity(&harbour.place.path("small/night.state/fleet.db")), "ok", "{kib}");
        harbour.has_landed(10);
    }
}
