//! A simulated night of 200 machines: workers are killed, the database is restarted, links are cut. At the end every machine has landed
//! once and proves, or has failed with a reason.

use std::{
    collections::BTreeSet,
    fs,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use serde_json::Value;

use super::{
    harbour::{Harbour, harbour, harbour_at, row, stand},
    servers::{database, is_there},
};
use crate::support::PROGRAM;

const MACHINES: usize = 200;
/// Machines that the host does not have: they fail.
const ABSENT: usize = 3;

/// A file with 200 machines in three groups; some come after others, and three are not there.
fn file(harbour: &Harbour) {
    let group = |number: usize| ["gauges", "desks", "rest"][number * 3 / MACHINES];
    let mut rows = String::new();
    for number in 0..MACHINES {
        let after = if number % 7 == 3 { format!("after = [\"m{}\"]\n", number - 1) } else { String::new() };
        rows += &row(&format!("m{number}"), &format!("group = \"{}\"\n{after}size = \"1MiB\"", group(number)));
    }
    (0..ABSENT).for_each(|number| rows += &row(&format!("absent{number}"), "group = \"rest\""));
    harbour.file("[limits]\nat-once = 12\nhost = { harbour = 10 }\n[failure]\ntries = 50\n", &rows);
}

/// A source of chances that is the same in each run.
struct Chance(u64);

impl Chance {
    fn below(&mut self, most: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % most
    }
}

/// What must hold in the morning.
fn judge(harbour: &Harbour) {
    let status = harbour.status(&[]);
    assert_eq!(
        (&status["counts"]["landed"], &status["counts"]["failed"]),
        (&MACHINES.into(), &ABSENT.into()),
        "{}",
        status["counts"]
    );
    assert_eq!((&status["counts"]["running"], &status["counts"]["waiting"]), (&0.into(), &0.into()));
    for number in 0..ABSENT {
        assert!(stand(&status, &format!("absent{number}"))["reason"].as_str().is_some());
    }
    let landings: BTreeSet<String> = fs::read_dir(harbour.place.path("landing"))
        .unwrap()
        .flatten()
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .collect();
    assert_eq!(landings, (0..MACHINES).map(|number| format!("m{number}")).collect());
    let mut jobs = BTreeSet::new();
    for machine in status["machines"].as_array().unwrap().iter().filter(|machine| machine["state"] == "landed") {
        let name = machine["name"].as_str().unwrap();
        let path = harbour.place.path(&format!("landing/{name}/receipt.json"));
        let receipt: Value = serde_json::from_slice(&fs::read(&path).unwrap()).unwrap();
        assert_eq!(receipt["job"], machine["job"], "{name}");
        assert!(jobs.insert(machine["job"].to_string()));
        harbour.place.run(&["prove", path.to_str().unwrap(), "-q"]).expect(0);
    }
    let page = harbour.place.run(&["report", "night.toml", "--out", "morning.html"]).expect(0).out;
    assert!(page.contains("200 landed, 3 failed"), "{page}");
}

#[test]
#[ignore = "minutes: part of the slower checks"]
fn two_hundred_machines_on_sqlite_with_kills() {
    let harbour = harbour(MACHINES, 1);
    file(&harbour);
    let mut chance = Chance(18);
    let words = ["fleet", "run", "night.toml", "--at-once", "4", "--lease", "2", "--back-off", "0"];
    harbour.slow(2);
    for _ in 0..8 {
        let mut child = harbour.spawn(&words);
        std::thread::sleep(Duration::from_millis(600 + chance.below(2500)));
        child.kill().unwrap();
        child.wait().unwrap();
    }
    harbour.slow(0);
    harbour.place.run(&words).expect(1);
    judge(&harbour);
}

/// A machine of its own, as far as the network goes.
struct Netns(String);

fn ip(words: &str) {
    let done = Command::new("ip").args(words.split(' ')).output().unwrap();
    assert!(done.status.success(), "ip {words}: {}", String::from_utf8_lossy(&done.stderr));
}

impl Netns {
    /// The namespace `rfN`, whose link ends at the bridge `rfnight`.
    fn new(number: usize) -> Self {
        let name = format!("rf{number}");
        Command::new("ip").args(["netns", "del", &name]).output().unwrap();
        ip(&format!("netns add {name}"));
        ip(&format!("link add {name}v type veth peer name eth0 netns {name}"));
        ip(&format!("link set {name}v master rfnight up"));
        ip(&format!("-n {name} addr add 10.181.77.{}/24 dev eth0", 10 + number));
        ip(&format!("-n {name} link set eth0 up"));
        ip(&format!("-n {name} link set lo up"));
        Self(name)
    }

    fn cut(&self, is_cut: bool) {
        ip(&format!("link set {}v {}", self.0, if is_cut { "down" } else { "up" }));
    }

    fn work(&self, harbour: &Harbour) -> Child {
        let mut command = Command::new("ip");
        command.args([
            "netns",
            "exec",
            &self.0,
            PROGRAM,
            "fleet",
            "work",
            "night",
            "--at-once",
            "2",
            "--lease",
            "4",
            "--back-off",
            "0",
        ]);
        command.args(["--logs", &format!("logs-{}", self.0)]).current_dir(harbour.place.path(""));
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }
}

impl Drop for Netns {
    fn drop(&mut self) {
        Command::new("ip").args(["netns", "del", &self.0]).output().ok();
    }
}

/// The bridge between them.
struct Bridge;

impl Bridge {
    fn new() -> Self {
        Command::new("ip").args(["link", "del", "rfnight"]).output().unwrap();
        ip("link add rfnight type bridge");
        ip("addr add 10.181.77.1/24 dev rfnight");
        ip("link set rfnight up");
        Self
    }
}

impl Drop for Bridge {
    fn drop(&mut self) {
        Command::new("ip").args(["link", "del", "rfnight"]).output().ok();
    }
}

#[test]
#[ignore = "minutes, and needs root and PostgreSQL: part of the slower checks"]
fn two_hundred_machines_on_postgresql_with_six_workers_that_are_killed_and_cut_off() {
    assert!(is_there("two_hundred_machines_on_postgresql_with_six_workers_that_are_killed_and_cut_off"));
    let _bridge = Bridge::new();
    let harbour = harbour_at("10.181.77.1:0", MACHINES, 1);
    let server = database(&harbour, "IP:10.181.77.1", "10.181.77.1");
    file(&harbour);
    // Its own worker puts the fleet there, and is killed.
    let mut first = harbour.spawn(&["fleet", "run", "night.toml", "--at-once", "1", "--lease", "2"]);
    harbour.wait("the fleet is there", |status| status["counts"]["running"].as_u64() > Some(0));
    first.kill().unwrap();
    first.wait().unwrap();
    let spaces: Vec<Netns> = (0..6).map(Netns::new).collect();
    let mut workers: Vec<Child> = spaces.iter().map(|space| space.work(&harbour)).collect();
    let (mut chance, begun) = (Chance(7), Instant::now());
    harbour.slow(15);
    let mut steps = 0;
    loop {
        steps += 1;
        std::thread::sleep(Duration::from_millis(400 + chance.below(800)));
        let status = harbour.place.run(&["fleet", "status", "night.toml", "--json"]);
        let open = |counts: &Value| counts["running"].as_u64().unwrap() + counts["waiting"].as_u64().unwrap();
        if status.code == 0 && open(&status.json()["counts"]) == 0 {
            break;
        }
        assert!(begun.elapsed() < Duration::from_secs(600), "{}{}", status.out, status.err);
        let which = chance.below(6) as usize;
        match steps % 8 {
            1 | 4 | 6 => {
                workers[which].kill().ok();
                workers[which].wait().unwrap();
                workers[which] = spaces[which].work(&harbour);
            }
            2 | 5 => {
                spaces[which].cut(true);
                std::thread::sleep(Duration::from_millis(1000 + chance.below(5000)));
                spaces[which].cut(false);
            }
            3 => {
                server.down().unwrap();
                server.up().unwrap();
            }
            // One may have ended because there was nothing to do just then.
            _ => {
                let gone = workers.iter_mut().map(|worker| worker.try_wait().unwrap().is_some()).collect::<Vec<_>>();
                for which in gone.iter().enumerate().filter(|(_, gone)| **gone).map(|(which, _)| which) {
                    workers[which] = spaces[which].work(&harbour);
                }
            }
        }
    }
    assert!(steps > 5, "the night was over before it was disturbed");
    harbour.slow(0);
    for worker in &mut workers {
        let begun = Instant::now();
        while worker.try_wait().unwrap().is_none() {
            assert!(begun.elapsed() < Duration::from_secs(60), "a worker does not end");
            std::thread::sleep(Duration::from_millis(50));
        }
    }
    judge(&harbour);
}
