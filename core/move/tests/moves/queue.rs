//! Many workers on one state: every machine is taken once, and lands once, by whoever takes it.

use std::{collections::BTreeMap, io::Write, path::Path, sync::Mutex, time::Duration};

use reformis_move::fleet::{Claim, Claimed, Ended, Fleet, Place, Pressed, State, Worker};
use reformis_standin::servers::{Authority, Postgres, postgres};
use reformis_wire::{Keys, Settings, Wires, database::Access, steady::Shared};

/// A fleet of `count` machines of ten hosts, each after the one ten before it, with a limit for each host.
fn fleet(name: &str, count: usize) -> Fleet {
    let mut text = format!(
        "name = \"{name}\"\n[defaults]\ndestination = \"virtio-host\"\ninto = \"landing\"\n[limits]\nat-once = 64\n[limits.host]\n"
    );
    (0..10).for_each(|host| text += &format!("host{host} = 8\n"));
    for number in 0..count {
        text += &format!(
            "[[machine]]\nname = \"m{number}\"\nsource = \"host{}:m{number}\"\nsize = \"1GiB\"\n",
            number % 10
        );
        if number % 5 == 4 {
            text += &format!("after = [\"m{}\"]\n", number - 4);
        }
    }
    Fleet::parse(&text, "night.toml", name, Path::new("/work")).unwrap()
}

/// Lets `workers` of them take and land all machines of `name`; how often each machine was landed, and the seconds that it took.
fn work_through(place: &Place, access: &Access, name: &str, workers: usize) -> (BTreeMap<String, usize>, f64) {
    let (landed, begun) = (Mutex::new(BTreeMap::new()), std::time::Instant::now());
    std::thread::scope(|scope| {
        for worker in 0..workers {
            let landed = &landed;
            scope.spawn(move || {
                let state = State::open(place, access, false).unwrap();
                let worker = Worker::here().called(&format!("w{worker}"));
                let lease = Duration::from_secs(600);
                loop {
                    let claim = Claim {
                        fleet: name,
                        worker: &worker,
                        lease,
                        most: None,
                        takes_unknown: true,
                        programs: true,
                        only: None,
                        moves: true,
                        takes_over: true,
                    };
                    match state.claim(&claim).unwrap() {
                        Claimed::Machine(held) => {
                            let ended =
                                Ended::Landed { landing: "/l".into(), receipt: "{}".into(), bytes: 1, after: None };
                            assert!(state.may_land(&held, lease).unwrap());
                            assert_eq!(state.end(&held, &ended).unwrap(), Pressed::Noted);
                            *landed.lock().unwrap().entry(held.name.clone()).or_insert(0) += 1;
                        }
                        Claimed::Later(_) => std::thread::sleep(Duration::from_millis(2)),
                        Claimed::Over => return,
                        other => panic!("{other:?}"),
                    }
                }
            });
        }
    });
    (landed.into_inner().unwrap(), begun.elapsed().as_secs_f64())
}

fn tried(place: &Place, access: &Access, count: usize, workers: usize) -> f64 {
    let name = format!("night{workers}");
    let state = State::open(place, access, true).unwrap();
    state.sync(&fleet(&name, count), &[], None, &Worker::here()).unwrap();
    let (landed, seconds) = work_through(place, access, &name, workers);
    assert_eq!(landed.len(), count, "none is lost");
    assert!(landed.values().all(|times| *times == 1), "none is taken twice");
    assert!(state.machines(&name).unwrap().iter().all(|machine| machine.tries == 1));
    seconds
}

struct Password;

impl Keys for Password {
    fn variable(&self, _: &str) -> Option<String> {
        Some(postgres::PASSWORD.into())
    }

    fn ask(&self, _: &str) -> Option<String> {
        None
    }
}

/// A server in `folder`, and what lets us in.
fn server(folder: &Path) -> (Postgres, Place, Access) {
    let ca = folder.join("ca");
    std::fs::create_dir(&ca).unwrap();
    let authority = Authority::new(&ca).unwrap();
    authority.issue("local", "DNS:localhost,IP:127.0.0.1", "serverAuth").unwrap();
    let server = Postgres::start(&folder.join("pg"), &authority).unwrap();
    let site = folder.join("reformis.toml");
    let text = "[database]\npassword = { env = \"NIGHT\" }\nauthorities = [\"ca/ca.pem\"]\n";
    let settings = Settings::parse(&site.to_string_lossy(), text).unwrap();
    let access = Wires::new(settings, std::sync::Arc::new(Password), Shared::quiet()).database().unwrap();
    let place = Place::Server(format!("{}?sslmode=require", server.address()));
    (server, place, access)
}

fn skips(test: &str) -> bool {
    let skips = !Postgres::is_installed() || !reformis_standin::servers::is_installed("openssl");
    if skips {
        let line = format!("SKIPPED {test}: there is no PostgreSQL\n");
        std::io::stderr().write_all(line.as_bytes()).unwrap();
    }
    skips
}

#[test]
fn four_workers_take_every_machine_once_from_a_file() {
    let folder = tempfile::tempdir().unwrap();
    let place = Place::File(folder.path().join("night.state"));
    tried(&place, &Wires::plain().database().unwrap(), 60, 4);
}

#[test]
fn six_workers_take_every_machine_once_from_a_server() {
    if skips("six_workers_take_every_machine_once_from_a_server") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let (_server, place, access) = server(folder.path());
    tried(&place, &access, 300, 6);
}

#[test]
#[ignore = "minutes, and needs PostgreSQL: part of the slower checks"]
fn ten_thousand_machines_are_taken_once_each() {
    let folder = tempfile::tempdir().unwrap();
    let (_server, place, access) = server(folder.path());
    for workers in [1, 2, 4, 6] {
        let count = if workers == 6 { 10_000 } else { 500 };
        let seconds = tried(&place, &access, count, workers);
        let line =
            format!("{workers} workers: {count} machines in {seconds:.1} s, {:.0} a second\n", count as f64 / seconds);
        std::io::stderr().write_all(line.as_bytes()).unwrap();
    }
}
