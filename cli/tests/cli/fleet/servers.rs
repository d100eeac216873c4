//! A fleet whose state is in PostgreSQL: several workers, a server that goes away, and nobody else who is let in.

use std::io::Write;

use reformis_standin::servers::{Authority, Postgres, is_installed, postgres};

use super::harbour::{Harbour, harbour, row, secret};

/// Whether PostgreSQL is here; says so when not.
pub(super) fn is_there(test: &str) -> bool {
    let is_there = Postgres::is_installed() && is_installed("openssl");
    if !is_there {
        let line = format!("SKIPPED {test}: there is no PostgreSQL\n");
        std::io::stderr().write_all(line.as_bytes()).unwrap();
    }
    is_there
}

/// Starts PostgreSQL, with a certificate for `names`, and adds it to the site's file of `harbour`, at `host`.
pub(super) fn database(harbour: &Harbour, names: &str, host: &str) -> Postgres {
    let place = &harbour.place;
    std::fs::create_dir_all(place.path("ca")).unwrap();
    let authority = Authority::new(&place.path("ca")).unwrap();
    authority.issue("local", names, "serverAuth").unwrap();
    let server = Postgres::start(&place.path("pg"), &authority).unwrap();
    secret(place, "password", postgres::PASSWORD);
    let site = std::fs::read_to_string(place.path("reformis.toml")).unwrap();
    let table = format!(
        "[database]\nat = \"{}?sslmode=require\"\npassword = {{ file = \"password\" }}\nauthorities = [\"ca/ca.pem\"]\n{site}",
        server.address().replace("localhost", host)
    );
    place.write("reformis.toml", table.as_bytes());
    server
}

#[test]
fn two_workers_share_a_night_while_the_database_comes_and_goes() {
    if !is_there("two_workers_share_a_night_while_the_database_comes_and_goes") {
        return;
    }
    let harbour = harbour(8, 4);
    let server = database(&harbour, "DNS:localhost,IP:127.0.0.1", "localhost");
    harbour.file_of("[failure]\ntries = 20\n", 8);
    harbour.slow(30);
    let mut first = harbour.spawn(&["fleet", "run", "night.toml", "--at-once", "2", "--lease", "20"]);
    harbour.wait("the fleet is there", |status| status["counts"]["machines"] == 8);
    let mut second = harbour.spawn(&["fleet", "work", "night", "--at-once", "2", "--lease", "20"]);
    harbour.wait("some have landed", |status| status["counts"]["landed"].as_u64() > Some(1));
    server.down().unwrap();
    std::thread::sleep(std::time::Duration::from_millis(700));
    server.up().unwrap();
    harbour.slow(0);
    assert_eq!((first.wait().unwrap().code(), second.wait().unwrap().code()), (Some(0), Some(0)));
    let status = harbour.status(&[]);
    assert_eq!(status["counts"]["landed"], 8, "{status}");
    let machines = status["machines"].as_array().unwrap();
    let workers: std::collections::BTreeSet<&str> =
        machines.iter().map(|machine| machine["worker"].as_str().unwrap()).collect();
    assert_eq!(workers.len(), 2, "both had some: {status}");
    harbour.has_landed(8);
    // The state lies in the database alone, and knows what it is asked by the fleet's name.
    assert!(!harbour.place.path("night.state").exists());
    let told = harbour.place.run(&["fleet", "status", "night"]).expect(0).out;
    assert!(told.starts_with("night  8 machines: 8 landed"), "{told}");
    assert!(harbour.place.run(&["fleet", "status", "other"]).expect(1).err.contains("no fleet called 'other'"));
}

#[test]
fn a_server_that_is_not_trusted_gets_no_password() {
    if !is_there("a_server_that_is_not_trusted_gets_no_password") {
        return;
    }
    let harbour = harbour(1, 4);
    let server = database(&harbour, "DNS:elsewhere.example", "localhost");
    harbour.file_of("", 1);
    let refused = harbour.run(&[]).expect(1).err;
    assert!(refused.contains("cannot be opened") && refused.contains("certificate"), "{refused}");
    // A password has no place in an address, nor in what is said about one.
    let address = format!("postgres://reformis:{}@localhost:{}/night", postgres::PASSWORD, server.port);
    let refused = harbour.run(&["--state", &address]).expect(1).err;
    assert!(refused.contains("holds a password") && !refused.contains(postgres::PASSWORD), "{refused}");
    secret(&harbour.place, "password", "wrong");
    let refused = harbour.run(&["--state", &format!("{}?sslmode=disable", server.address())]).expect(1).err;
    assert!(refused.contains("password authentication failed"), "{refused}");
}

/// Away for longer than a lease, and for less than the ten minutes that the guide says: nothing that runs is stopped, nothing is taken over,
/// and no program is ended.
#[test]
fn a_database_that_is_away_for_longer_than_a_lease_costs_nothing() {
    if !is_there("a_database_that_is_away_for_longer_than_a_lease_costs_nothing") {
        return;
    }
    use std::os::unix::fs::PermissionsExt;
    let harbour = harbour(2, 4);
    let server = database(&harbour, "DNS:localhost,IP:127.0.0.1", "localhost");
    let script = "#!/bin/sh\necho begun >>begun; sleep 6; echo ended >>ended\n";
    harbour.place.write("quiet", script.as_bytes());
    std::fs::set_permissions(harbour.place.path("quiet"), PermissionsExt::from_mode(0o755)).unwrap();
    harbour.file(
        "",
        &(0..2).map(|number| row(&format!("m{number}"), "hooks = { before = [\"./quiet\"] }")).collect::<String>(),
    );
    let words = ["--at-once", "1", "--lease", "2", "--allow-programs"];
    let mut first = harbour.spawn(&[&["fleet", "run", "night.toml"], &words[..]].concat());
    harbour.wait("the fleet is there", |status| status["counts"]["running"].as_u64() > Some(0));
    let mut second = harbour.spawn(&[&["fleet", "work", "night"], &words[..]].concat());
    let lines = |name: &str| std::fs::read_to_string(harbour.place.path(name)).unwrap_or_default().lines().count();
    harbour.wait("both have one", |_| lines("begun") == 2);
    server.down().unwrap();
    std::thread::sleep(std::time::Duration::from_secs(8));
    server.up().unwrap();
    assert_eq!((first.wait().unwrap().code(), second.wait().unwrap().code()), (Some(0), Some(0)));
    assert_eq!((lines("begun"), lines("ended")), (2, 2));
    let status = harbour.status(&[]);
    assert!(status["machines"].as_array().unwrap().iter().all(|machine| machine["tries"] == 1), "{status}");
    harbour.has_landed(2);
}

#[test]
fn two_files_of_one_name_are_two_fleets() {
    if !is_there("two_files_of_one_name_are_two_fleets") {
        return;
    }
    let harbour = harbour(3, 4);
    let _server = database(&harbour, "DNS:localhost,IP:127.0.0.1", "localhost");
    harbour.file("[window]\nfrom = \"00:00\"\nuntil = \"23:59\"\n", &(row("m0", "") + &row("m1", "")));
    harbour.run(&["--until", "00:00"]);
    // Another person's, in another folder.
    let text =
        std::fs::read_to_string(harbour.place.path("night.toml")).unwrap().replace("\"landing\"", "\"../landing\"");
    let text = text.split("[[machine]]").next().unwrap().to_string() + &row("m2", "");
    harbour.place.write("other/night.toml", text.as_bytes());
    let refused = harbour.place.run(&["fleet", "run", "other/night.toml"]).expect(1).err;
    assert!(refused.contains("a fleet called 'night' is there already, from "), "{refused}");
    assert!(refused.contains("/night.toml") && refused.contains("name = "), "{refused}");
    assert_eq!(harbour.status(&[])["counts"]["machines"], 2, "nothing of the first is gone");
    harbour.place.write("other/night.toml", format!("name = \"others\"\n{text}").as_bytes());
    harbour.place.run(&["fleet", "run", "other/night.toml"]).expect(0);
    harbour.run(&[]).expect(0);
    harbour.has_landed(3);
}
