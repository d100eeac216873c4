//! What a fleet file and its runner keep to: the time, the room, rates and numbers at once of each host.

use reformis_standin::host::{Host, Options};

use super::harbour::{DEFAULTS, Harbour, harbour, machine, row, secret, stand};

/// A second host, `quay`, which has the machine `q0`.
fn with_quay(harbour: &Harbour) -> Host {
    let place = &harbour.place;
    machine(place, "q0", 77, 6);
    std::fs::create_dir(place.path("other")).unwrap();
    std::fs::rename(place.path("host/q0"), place.path("other/q0")).unwrap();
    let token = "another-secret-token";
    let host =
        Host::start(Options { at: "127.0.0.1:0".into(), token: token.into(), ..Options::new(place.path("other")) });
    let host = host.unwrap();
    let site = std::fs::read_to_string(place.path("reformis.toml")).unwrap();
    let more = format!(
        "[host.quay]\nkind = \"export\"\nat = \"{0}\"\n[link.\"{0}\"]\ntoken = {{ file = \"quay-token\" }}\n",
        host.link()
    );
    place.write("reformis.toml", (site + &more).as_bytes());
    secret(place, "quay-token", token);
    host
}

/// Some hours from now, so that whenever this runs there is time for what is small, and not for what is large.
fn later() -> String {
    let now = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::system());
    now.checked_add(jiff::Span::new().hours(2)).unwrap().strftime("%H:%M").to_string()
}

#[test]
fn nothing_begins_that_would_not_be_done_in_time() {
    let harbour = harbour(3, 4);
    // By what the first one took, the second takes years; nothing else is in its way.
    let rows = row("m0", "size = \"4 MiB\"") + &row("m1", "size = \"4000 TiB\"") + &row("m2", "size = \"1 MiB\"");
    harbour.file("[limits]\nat-once = 1\n", &rows);
    let ran = harbour.run(&["--until", &later()]).expect(0);
    assert!(ran.out.contains("the rest would not have been done in time"), "{}", ran.out);
    let status = harbour.status(&[]);
    let states = ["m0", "m1", "m2"].map(|name| stand(&status, name)["state"].as_str().unwrap());
    assert_eq!(states, ["landed", "waiting", "landed"]);
    assert_eq!(stand(&status, "m1")["tries"], 0);
    assert!(harbour.run(&["--until", "25:99"]).expect(2).err.contains("25:99"));
    // Without an end, it goes.
    harbour.run(&[]).expect(0);
    harbour.has_landed(3);
}

#[test]
fn a_landing_without_room_is_not_begun() {
    let harbour = harbour(1, 4);
    harbour.file_of("[limits]\nroom = \"8000 TiB\"\n", 1);
    let check = harbour.place.run(&["fleet", "check", "night.toml"]);
    assert!(check.out.contains("free"), "{}{}", check.out, check.err);
    let ran = harbour.run(&["--back-off", "0"]).expect(1);
    assert!(ran.err.contains("m0: failed"), "{}", ran.err);
    let status = harbour.status(&[]);
    assert_eq!(stand(&status, "m0")["code"], "no-room", "{status}");
    assert!(!harbour.place.path("landing/m0").exists());
    harbour.file_of("[limits]\nroom = \"1 MiB\"\n", 1);
    harbour.run(&[]).expect(0);
    harbour.has_landed(1);
}

/// Two hosts: of one, little is taken each second, and the other's machine lands all the same.
#[test]
fn a_rate_holds_for_its_host_alone() {
    let harbour = harbour(2, 8);
    let _quay = with_quay(&harbour);
    let rows = row("m0", "") + &row("m1", "") + &row("q0", "").replace("harbour:", "quay:");
    let limits = "[limits]\nrate = { harbour = \"64KiB/s\" }\nhost = { harbour = 1 }\n";
    harbour.place.write("night.toml", format!("{limits}{DEFAULTS}{rows}").as_bytes());
    let child = harbour.spawn(&["fleet", "run", "night.toml", "--at-once", "3", "--lease", "1"]);
    harbour.wait("the quay's has landed", |status| stand(status, "q0")["state"] == "landed");
    let status = harbour.status(&[]);
    assert_eq!(stand(&status, "m0")["state"], "running", "{status}");
    assert_eq!(stand(&status, "m1")["state"], "waiting", "one at once from its host: {status}");
    let (done, total) = (stand(&status, "m0")["done"].as_u64().unwrap(), 2 << 20);
    assert!(done < total, "{status}");
    rustix::process::kill_process(rustix::process::Pid::from_child(&child), rustix::process::Signal::INT).unwrap();
    assert_eq!({ child }.wait().unwrap().code(), Some(130));
    // The rate is another one now, and they land.
    harbour.place.write("night.toml", format!("{}{DEFAULTS}{rows}", limits.replace("64KiB", "1GiB")).as_bytes());
    harbour.run(&["--at-once", "3"]).expect(0);
    assert_eq!(harbour.status(&[])["counts"]["landed"], 3);
}

/// A worker looks at each landing beside its own once, and still knows whose address is there.
#[test]
fn an_address_that_landed_in_the_same_night_is_noticed() {
    let harbour = harbour(1, 4);
    for name in ["m1", "m2"] {
        super::harbour::machine(&harbour.place, name, if name == "m1" { 0 } else { 9 }, 4);
    }
    harbour.file_of("", 3);
    harbour.run(&["--at-once", "1"]).expect(0);
    let twice = |name: &str| {
        let receipt = std::fs::read_to_string(harbour.place.path(&format!("landing/{name}/receipt.json"))).unwrap();
        receipt.contains("mac-twice")
    };
    assert_eq!(["m0", "m1", "m2"].map(twice), [false, true, false]);
}

/// What a person asks for by name is moved, and nothing else; what failed is tried again by itself; and a night can be held from any terminal.
#[test]
fn a_night_is_steered_from_the_command_line() {
    use super::harbour::{row, stand};
    let harbour = harbour(4, 4);
    let group = |name: &str, group: &str| row(name, &format!("group = \"{group}\""));
    let rows = group("m0", "gauges") + &group("m1", "desks") + &group("m2", "desks") + &group("absent", "rest");
    harbour.file("[failure]\ntries = 1\n", &rows);
    harbour.run(&["--only", "desks"]).expect(0);
    let states = |status: &serde_json::Value| {
        ["m0", "m1", "m2", "absent"].map(|name| stand(status, name)["state"].as_str().unwrap().to_string())
    };
    assert_eq!(states(&harbour.status(&[])), ["waiting", "landed", "landed", "waiting"]);
    assert!(harbour.run(&["--only", "none"]).expect(1).err.contains("no machine called 'none'"));
    let steer = |words: &[&str], code: i32| harbour.place.run(&[&["fleet"], words].concat()).expect(code);
    assert!(steer(&["hold", "night.toml", "m1"], 1).err.contains("'m1' is not held back: it is landed"));
    steer(&["hold", "night.toml", "m0"], 0);
    harbour.run(&["--only", "absent"]).expect(1);
    assert_eq!(states(&harbour.status(&[])), ["held", "landed", "landed", "failed"]);
    super::harbour::machine(&harbour.place, "absent", 9, 4);
    harbour.run(&["--only-failed"]).expect(0);
    assert_eq!(states(&harbour.status(&[])), ["held", "landed", "landed", "landed"]);
    harbour.run(&[]).expect(0);
    harbour.place.run(&["prove", "landing/m0/receipt.json"]).expect(0);
    // Paused, nothing begins until it goes on.
    steer(&["undo", "night.toml", "m0"], 0);
    harbour.slow(300);
    let mut child = harbour.spawn(&["fleet", "run", "night.toml", "--again", "m0"]);
    harbour.wait("it runs", |status| stand(status, "m0")["state"] == "running");
    steer(&["pause", "night.toml"], 0);
    assert_eq!(harbour.status(&[])["paused"], true);
    assert!(child.wait().unwrap().success(), "what runs is finished");
    steer(&["go", "night.toml"], 0);
    assert_eq!(harbour.status(&[])["paused"], false);
}
