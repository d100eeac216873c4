//! A night as a person runs it: gathered, checked, run, stopped, killed, gone on with, and told in the morning.

mod afar;
mod around;
pub(crate) mod harbour;
mod limits;
mod one_word;
mod programs;
mod servers;
mod short_stop;
mod side_by_side;
mod silent_writes;
mod snapshot;
mod terminal;
mod traps;
mod two_hundred;
mod waves;

use std::{fs, net::TcpListener, process::Stdio, time::Duration};

use harbour::{harbour, machine, row, stand};
use reformis_standin::host::Faults;

use crate::support::TIDELOG;

#[test]
fn a_night_from_a_host_is_gathered_checked_run_and_told() {
    let harbour = harbour(3, 4);
    let place = &harbour.place;
    let told = place.run(&["fleet", "gather", "harbour:", "--dest", "virtio-host", "--out", "night.toml"]).expect(0);
    assert!(told.out.contains("3 machines: 0 ready, 3 with something that asks for a hand, 0 blocked"), "{}", told.out);
    let text = fs::read_to_string(place.path("night.toml")).unwrap();
    assert!(text.contains("source = \"harbour:m1\"") && text.contains("size = \""), "{text}");
    // What would be refused in the night is told now.
    place.write("night.toml", format!("{text}\n{}", row("absent", "")).as_bytes());
    let refused = place.run(&["fleet", "check", "night.toml"]).expect(3).out;
    assert!(refused.contains("1 of 4 machines cannot go") && refused.contains("[not-there]"), "{refused}");
    place.write("night.toml", text.as_bytes());
    // So is what lies where a landing is to be, and is none of a fleet's.
    fs::create_dir_all(place.path("landing/m1")).unwrap();
    assert!(place.run(&["fleet", "check", "night.toml"]).expect(3).out.contains("[exists]"));
    fs::remove_dir_all(place.path("landing")).unwrap();
    let check = place.run(&["fleet", "check", "night.toml", "--json"]).expect(0).json();
    assert_eq!((&check["goes"], check["check"]["machines"].as_array().unwrap().len()), (&true.into(), 3));
    assert!(!place.path("landing").exists() && !place.path("night.state").exists(), "a check writes nothing");

    let ran = harbour.run(&["--at-once", "2"]).expect(0);
    assert!(ran.out.contains("3 machines: 3 landed") && ran.err.contains("m2: landed after"), "{}{}", ran.out, ran.err);
    harbour.has_landed(3);
    let status = harbour.status(&[]);
    assert_eq!((&status["counts"]["landed"], &stand(&status, "m0")["tries"]), (&3.into(), &1.into()));
    let log = fs::read_to_string(place.path("night.logs/m1.log")).unwrap();
    assert!(log.contains("a try begins") && log.contains("carrying m1-0.qcow2"), "{log}");

    // Once more: nothing is left to do, and nothing is made again.
    let receipt = fs::read(place.path("landing/m1/receipt.json")).unwrap();
    let again = harbour.run(&[]).expect(0);
    assert!(!again.err.contains("begins"), "{}", again.err);
    assert_eq!(fs::read(place.path("landing/m1/receipt.json")).unwrap(), receipt);

    let told = place.run(&["report", "night.toml", "--out", "morning.html"]).expect(0).out;
    assert!(told.starts_with("night  3 machines: 3 landed"), "{told}");
    let page = fs::read_to_string(place.path("morning.html")).unwrap();
    assert!(page.contains("3 of 3") && page.contains(">m2<") && !page.contains("Not landed"));
    // Its receipts may be gone from here, where another machine made them: the state has them, too.
    fs::remove_dir_all(place.path("landing/m1")).unwrap();
    let report = place.run(&["report", "night.toml", "--json"]).expect(0).json();
    assert_eq!(report["report"]["machines"].as_array().unwrap().len(), 3);
    assert_eq!(report["report"]["fleet"]["counts"]["landed"], 3);
}

#[test]
fn a_folder_of_exports_is_gathered_by_its_machines() {
    let harbour = harbour(2, 4);
    let place = &harbour.place;
    place.write("exports/tidelog.ova", TIDELOG);
    fs::rename(place.path("host/m0"), place.path("exports/m0")).unwrap();
    fs::rename(place.path("host/m1/m1.xml"), place.path("exports/m1.xml")).unwrap();
    fs::rename(place.path("host/m1/m1.raw"), place.path("exports/m1.raw")).unwrap();
    place.write("exports/readme.txt", b"what lies here");
    let gathered = place.run(&["fleet", "gather", "exports", "--dest", "virtio-host", "--json"]).expect(0).json();
    let machines = gathered["machines"].as_array().unwrap();
    let mut names: Vec<&str> = machines.iter().map(|machine| machine["name"].as_str().unwrap()).collect();
    names.sort_unstable();
    assert_eq!(names, ["m0", "m1", "tidelog"], "a disk that a machine has is none of its own");
    assert!(machines.iter().all(|machine| machine["ready"] == "asks"), "{gathered}");
}

#[test]
fn what_fails_is_told_with_its_reason_and_what_comes_after_it_is_left_out() {
    let harbour = harbour(2, 4);
    let rows = row("absent", "") + &row("m0", "after = [\"absent\"]") + &row("m1", "");
    harbour.file("", &rows);
    let ran = harbour.run(&["--back-off", "0"]).expect(1);
    assert!(ran.err.contains("absent: failed: "), "{}", ran.err);
    let status = harbour.status(&[]);
    let states = ["absent", "m0", "m1"].map(|name| stand(&status, name)["state"].as_str().unwrap());
    assert_eq!(states, ["failed", "skipped", "landed"]);
    assert_eq!(stand(&status, "absent")["code"], "not-there");
    let page = harbour.place.run(&["report", "night.toml", "--out", "-"]).expect(0).out;
    assert!(page.contains("Not landed") && page.contains("what it comes after has not landed"), "{page}");
    // It is mended, and the same command goes on.
    machine(&harbour.place, "absent", 9, 4);
    harbour.run(&[]).expect(0);
    assert_eq!(harbour.status(&[])["counts"]["landed"], 3);
}

#[test]
fn a_line_that_breaks_costs_a_try_and_no_machine() {
    let harbour = harbour(2, 4);
    harbour.file_of("", 2);
    let faults = Faults { busy: Some((3, 0)), cut: Some((300_000, 3)), ..Faults::default() };
    harbour.host.go_wrong(faults);
    harbour.run(&["--back-off", "0"]).expect(0);
    harbour.has_landed(2);
}

#[test]
fn an_interrupt_stops_cleanly_and_the_next_run_goes_on() {
    let harbour = harbour(6, 4);
    harbour.file_of("[limits]\nat-once = 1\n", 6);
    harbour.slow(60);
    let mut child = harbour.spawn(&["fleet", "run", "night.toml"]);
    harbour.wait("the first has landed", |status| status["counts"]["landed"].as_u64() > Some(0));
    rustix::process::kill_process(rustix::process::Pid::from_child(&child), rustix::process::Signal::INT).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    let status = harbour.status(&[]);
    assert_eq!(status["counts"]["running"], 0, "it gave back what it had: {status}");
    assert!(status["counts"]["landed"].as_u64().unwrap() < 6, "{status}");
    harbour.slow(0);
    harbour.run(&[]).expect(0);
    harbour.has_landed(6);
    let tries = harbour.status(&[])["machines"].as_array().unwrap().iter().all(|machine| machine["tries"] == 1);
    assert!(tries, "that a person stopped it is no try");
}

#[test]
fn a_worker_that_is_killed_leaves_nothing_stuck() {
    let harbour = harbour(5, 4);
    harbour.file_of("[failure]\ntries = 20\n", 5);
    harbour.slow(40);
    for moment in [1u64, 2, 3] {
        let mut child = harbour.spawn(&["fleet", "run", "night.toml", "--lease", "1", "--at-once", "2"]);
        harbour.wait("something runs", |status| status["counts"]["running"].as_u64() > Some(0));
        std::thread::sleep(Duration::from_millis(moment * 150));
        child.kill().unwrap();
        child.wait().unwrap();
    }
    harbour.slow(0);
    harbour.run(&["--lease", "1", "--at-once", "2"]).expect(0);
    assert_eq!(harbour.status(&[])["counts"]["landed"], 5);
    harbour.has_landed(5);
}

#[test]
fn a_landing_that_nobody_could_tell_of_is_taken_as_it_is() {
    let harbour = harbour(1, 4);
    harbour.file_of("", 1);
    harbour.run(&[]).expect(0);
    let receipt = fs::read(harbour.place.path("landing/m0/receipt.json")).unwrap();
    // As after a kill between the landing's name and the state's row.
    let state = rusqlite::Connection::open(harbour.place.path("night.state/fleet.db")).unwrap();
    let set = |row: &str| state.execute(&format!("UPDATE reformis_machine SET {row}"), []).unwrap();
    set("state = 'running', lease_until = 1, receipt = NULL");
    let ran = harbour.run(&[]).expect(0);
    assert!(ran.err.contains("m0: landed"), "{}", ran.err);
    assert_eq!(fs::read(harbour.place.path("landing/m0/receipt.json")).unwrap(), receipt);
    // What another move made is not taken for it.
    set("state = 'running', lease_until = 1, tries = 0, job = '5a170000-0000-4000-8000-000000000001'");
    let ran = harbour.run(&[]).expect(1);
    assert!(ran.err.contains("exists"), "{}", ran.err);
}

#[test]
fn a_landing_is_undone_unless_it_was_started() {
    let harbour = harbour(2, 4);
    let place = &harbour.place;
    harbour.file_of("", 2);
    harbour.run(&[]).expect(0);
    let disk = place.path("landing/m0/m0-0.qcow2");
    let later = std::time::SystemTime::now() + Duration::from_secs(60);
    fs::File::options().write(true).open(&disk).unwrap().set_modified(later).unwrap();
    let stays = place.run(&["fleet", "undo", "night.toml", "m0"]).expect(1);
    assert!(stays.err.contains("'m0-0.qcow2' was written to since it landed"), "{}", stays.err);
    let undone = place.run(&["fleet", "undo", "night.toml", "m0", "--force"]).expect(0);
    assert!(undone.out.contains("start the old machine where it was: harbour:m0"), "{}", undone.out);
    assert!(!place.path("landing/m0").exists() && place.path("landing/m1").exists());
    // What is not as it landed is a person's: it is set aside, and only that.
    let aside: Vec<_> = fs::read_dir(place.path("landing/m0.set-aside")).unwrap().flatten().collect();
    assert!(aside.len() == 1 && aside[0].file_name() == "m0-0.qcow2", "{aside:?}");
    fs::remove_dir_all(place.path("landing/m0.set-aside")).unwrap();
    // It stays undone until somebody says otherwise.
    harbour.run(&[]).expect(0);
    assert!(!place.path("landing/m0").exists());
    harbour.run(&["--again", "m0"]).expect(0);
    harbour.has_landed(2);
    // Another's landing is not ours to remove.
    let receipt = fs::read_to_string(place.path("landing/m1/receipt.json")).unwrap();
    let job = receipt.lines().find(|line| line.contains("\"job\"")).unwrap();
    fs::write(place.path("landing/m1/receipt.json"), receipt.replace(job, "\"job\": null")).unwrap();
    let stays = place.run(&["fleet", "undo", "night.toml", "m1", "--force"]).expect(1);
    assert!(stays.err.contains("another move's") && place.path("landing/m1").exists(), "{}", stays.err);
    // One that another machine made is not forgotten here.
    fs::remove_dir_all(place.path("landing/m1")).unwrap();
    let stays = place.run(&["fleet", "undo", "night.toml", "m1"]).expect(1);
    assert!(stays.err.contains("undo it where it was made"), "{}", stays.err);
    assert!(place.run(&["fleet", "undo", "night.toml", "none"]).expect(1).err.contains("no machine called 'none'"));
}

#[test]
fn machines_that_were_started_are_asked_whether_they_answer() {
    let harbour = harbour(3, 4);
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let open = listener.local_addr().unwrap();
    let closed = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let rows = row("m0", &format!("confirm = {{ tcp = \"{open}\" }}"))
        + &row("m1", &format!("confirm = {{ tcp = \"{closed}\", patience = \"1 s\" }}"))
        + &row("m2", &format!("confirm = {{ page = \"{}/\", patience = \"1 s\" }}", harbour.host.link()));
    harbour.file("", &rows);
    harbour.run(&[]).expect(0);
    let told = harbour.place.run(&["fleet", "confirm", "night.toml"]).expect(1).out;
    assert!(told.starts_with("1 answer, 2 do not, 0 were not asked"), "the host's page asks for a token: {told}");
    let answer =
        &harbour.place.run(&["fleet", "confirm", "night.toml", "m0", "--json"]).expect(0).json()["machines"][0];
    assert_eq!((&answer["name"], &answer["answer"]["answers"]), (&"m0".into(), &true.into()));
    let page = harbour.place.run(&["report", "night.toml", "--out", "-"]).expect(0).out;
    assert!(page.contains("does not answer") && page.contains(&format!("port {open}")), "{page}");
}

#[test]
fn nothing_begins_outside_its_hours() {
    let harbour = harbour(1, 4);
    // It opens in some hours, whenever this runs.
    let now = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC);
    let at = |hours: i64| now.checked_add(jiff::Span::new().hours(hours)).unwrap().strftime("%H:00").to_string();
    let window = format!("[window]\nzone = \"UTC\"\nfrom = \"{}\"\nuntil = \"{}\"\n", at(3), at(5));
    harbour.file_of(&window, 1);
    let mut command = harbour.place.command(&["fleet", "run", "night.toml"]);
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(700));
    assert_eq!(harbour.status(&[])["counts"]["waiting"], 1);
    rustix::process::kill_process(rustix::process::Pid::from_child(&child), rustix::process::Signal::INT).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    let mut said = String::new();
    std::io::Read::read_to_string(&mut child.stderr.take().unwrap(), &mut said).unwrap();
    assert!(said.contains("Nothing begins before"), "{said}");
    // In the middle of its hours it begins.
    harbour.file_of(&format!("[window]\nzone = \"UTC\"\nfrom = \"{}\"\nuntil = \"{}\"\n", at(-2), at(3)), 1);
    harbour.run(&[]).expect(0);
}
