//! Another user of the same machine, who was there first: what they have put into a shared folder is not taken for ours, and what we make is
//! not theirs to read.

use std::{
    fs,
    os::unix::{
        fs::{MetadataExt, PermissionsExt, symlink},
        process::CommandExt,
    },
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use crate::support::{Place, TIDELOG};

/// The other user: one that every system has, and that has nothing.
const OTHER: u32 = 65534;

/// Whether we may be somebody else.
fn can_be_others() -> bool {
    let is_root = fs::metadata("/proc/self").unwrap().uid() == 0;
    if !is_root {
        std::io::Write::write_all(&mut std::io::stderr(), b"SKIPPED: only root can be another user\n").unwrap();
    }
    is_root
}

/// Does `shell` in the place as the other user.
fn other(place: &Place, shell: &str) {
    let mut command = Command::new("sh");
    let done = command.args(["-ec", shell]).current_dir(place.path("")).uid(OTHER).gid(OTHER).output().unwrap();
    assert!(done.status.success(), "{shell}: {}", String::from_utf8_lossy(&done.stderr));
}

/// A folder in which everybody may put things, and nobody may move another's.
fn shared() -> Place {
    let place = Place::new();
    fs::set_permissions(place.path(""), fs::Permissions::from_mode(0o1777)).unwrap();
    place
}

fn mode(path: &Path) -> u32 {
    path.metadata().unwrap().mode() & 0o777
}

const NIGHT: &str = "[[machine]]\nname = \"gauge\"\nsource = \"tidelog.ova\"\ndestination = \"virtio-host\"\ninto = \"landing\"\nnetwork = \"default\"\n";

#[test]
fn a_site_of_anothers_is_an_error_and_runs_nothing() {
    if !can_be_others() {
        return;
    }
    let place = shared();
    other(
        &place,
        "printf '[host.shed]\\nkind = \"libvirt\"\\nat = \"test:///default?command=%s/evil\"\\n' \"$PWD\" >reformis.toml; \
         printf '#!/bin/sh\\ntouch %s/ran\\n' \"$PWD\" >evil; chmod 755 evil; chmod 644 reformis.toml",
    );
    for words in [&["hosts"][..], &["survey", "shed:"], &["dests"]] {
        let refused = place.run(words).expect(1).err;
        assert!(refused.contains("reformis.toml") && refused.contains("belongs to another user"), "{refused}");
    }
    assert!(!place.path("ran").exists());
    // Ours, where others may put another one in its place, is none either; in a folder of ours it is.
    fs::remove_file(place.path("reformis.toml")).unwrap();
    place.write("reformis.toml", b"");
    assert!(place.run(&["hosts"]).expect(1).err.contains("others may write to a folder above it"));
    place.write("own/reformis.toml", b"[host.shed]\nkind = \"export\"\nat = \"http://127.0.0.1:1\"\n");
    let told = place.run(&["hosts", "--site", "own/reformis.toml"]).expect(0).out;
    assert!(told.contains("They stand in own/reformis.toml"), "{told}");
    // Nothing waits for whoever writes to a pipe.
    rustix::fs::mknodat(rustix::fs::CWD, place.path("own/pipe"), rustix::fs::FileType::Fifo, rustix::fs::Mode::RWXU, 0)
        .unwrap();
    for words in [
        &["hosts", "--site", "own/pipe"][..],
        &["fleet", "check", "own/pipe"],
        &["dests", "--log", "own/pipe"],
        &["carry", "own/pipe", "--dest", "virtio-host", "--into", "x"],
    ] {
        let begun = Instant::now();
        let ran = place.run(words);
        assert!(ran.code == 1 && begun.elapsed() < Duration::from_secs(20), "{words:?}: {}", ran.err);
    }
}

#[test]
fn what_lies_where_a_state_is_to_be_is_not_ours() {
    if !can_be_others() {
        return;
    }
    // A journal that another user planted beside a file would be played back into it: there is a folder now, and this one is not ours.
    for plant in [
        "mkdir night.state; chmod 777 night.state; touch night.state/fleet.db-journal",
        "touch night.state",
        "ln -s /root night.state",
        "mkfifo night.state",
    ] {
        let place = shared();
        place.write("tidelog.ova", TIDELOG);
        place.write("night.toml", NIGHT.as_bytes());
        other(&place, plant);
        let refused = place.run(&["fleet", "run", "night.toml"]).expect(1).err;
        assert!(refused.contains("night.state") && !place.path("landing").exists(), "{plant}: {refused}");
    }
    let place = shared();
    place.write("tidelog.ova", TIDELOG);
    place.write("night.toml", NIGHT.as_bytes());
    other(&place, "touch night.state-journal night.state-wal");
    place.run(&["fleet", "run", "night.toml"]).expect(0);
    assert_eq!((mode(&place.path("night.state")), mode(&place.path("night.state/fleet.db"))), (0o700, 0o600));
    assert_eq!(mode(&place.path("night.logs")), 0o700);
}

#[test]
fn logs_are_written_to_nothing_of_anothers() {
    if !can_be_others() {
        return;
    }
    for plant in ["mkdir night.logs", "ln -s /tmp night.logs", "mkdir night.logs; mkfifo night.logs/gauge.log"] {
        let place = shared();
        place.write("tidelog.ova", TIDELOG);
        place.write("night.toml", NIGHT.as_bytes());
        other(&place, plant);
        let refused = place.run(&["fleet", "run", "night.toml"]).expect(1).err;
        assert!(refused.contains("night.logs") && !place.path("landing/gauge").exists(), "{plant}: {refused}");
    }
}

/// Whoever wrote a brief or a fleet file says what of this host goes into a guest: of a stranger's, only what lies beside it.
#[test]
fn a_file_of_anothers_brings_nothing_of_this_host_along() {
    if !can_be_others() {
        return;
    }
    let place = shared();
    place.write("tidelog.ova", TIDELOG);
    fs::create_dir(place.path("theirs")).unwrap();
    fs::set_permissions(place.path("theirs"), fs::Permissions::from_mode(0o777)).unwrap();
    place.write("secret", b"#!/bin/sh\n# the harbour master's\n");
    fs::set_permissions(place.path("secret"), fs::Permissions::from_mode(0o600)).unwrap();
    place.run(&["draft", "tidelog.ova", "--dest", "virtio-host", "--into", "landing", "--out", "brief.toml"]).expect(0);
    let brief = fs::read_to_string(place.path("brief.toml")).unwrap();
    let ova = place.path("tidelog.ova").display().to_string();
    let theirs = |text: String| {
        place.write("theirs/new.toml", text.as_bytes());
        std::os::unix::fs::chown(place.path("theirs/new.toml"), Some(OTHER), Some(OTHER)).unwrap();
    };
    fs::copy(place.path("tidelog.ova"), place.path("theirs/tidelog.ova")).unwrap();
    let beside = brief.replace(&ova, "tidelog.ova");
    let secret = place.path("secret").display().to_string();
    let with = |text: &str, line: &str| text.replace("[guest]", &format!("[guest]\n{line}"));
    assert!(beside.contains("[guest]") && !beside.contains(&ova), "{beside}");
    place.write("theirs/own", b"#!/bin/sh\n");
    symlink(place.path("secret"), place.path("theirs/link")).unwrap();
    for (text, what) in [
        (with(&beside, &format!("first-boot = [\"{secret}\"]")), "secret"),
        (with(&beside, "first-boot = [\"../secret\"]"), "secret"),
        (with(&beside, "first-boot = [\"link\"]"), "link"),
        (with(&beside, &format!("user-data = \"{secret}\"")), "secret"),
        (brief.clone(), "tidelog.ova"),
    ] {
        theirs(text);
        let refused = place.run(&["carry", "theirs/new.toml", "--force"]).expect(1).err;
        assert!(refused.contains(what) && refused.contains("somebody else has written"), "{what}: {refused}");
        assert!(!place.path("theirs/landing").exists());
    }
    theirs(with(&beside, "first-boot = [\"own\"]"));
    place.run(&["carry", "theirs/new.toml"]).expect(0);
    // Whoever has read it says so.
    fs::remove_dir_all(place.path("theirs/landing")).ok();
    fs::remove_dir_all(place.path("landing")).ok();
    theirs(with(&beside, &format!("first-boot = [\"{secret}\"]")));
    place.run(&["carry", "theirs/new.toml", "--trust-links"]).expect(0);

    // A night is such a file, too; that it says itself whom to trust does not count.
    theirs(NIGHT.replace("tidelog.ova", &ova));
    let refused = place.run(&["fleet", "check", "theirs/new.toml"]).expect(3).out;
    assert!(refused.contains("somebody else has written"), "{refused}");
    theirs(NIGHT.replace("tidelog.ova", &ova) + "trust-links = true\n");
    let refused = place.run(&["fleet", "check", "theirs/new.toml"]).expect(1).err;
    assert!(refused.contains("says 'trust-links'"), "{refused}");
    theirs(NIGHT.replace("tidelog.ova", &ova).replace("into = \"landing\"", "into = \"elsewhere\""));
    place.run(&["fleet", "check", "theirs/new.toml", "--trust-links"]).expect(0);
}

/// The narrowest of all that went into a result says who may read it.
#[test]
fn a_result_is_as_narrow_as_what_was_put_in() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    fs::set_permissions(place.path("tidelog.ova"), fs::Permissions::from_mode(0o644)).unwrap();
    place.run(&["recast", "tidelog.ova/tidelog-disk1.vmdk", "plain.qcow2"]).expect(0);
    assert_eq!(mode(&place.path("plain.qcow2")), 0o644, "what everybody may read stays so");
    place.write("secret", b"#!/bin/sh\n");
    fs::set_permissions(place.path("secret"), fs::Permissions::from_mode(0o600)).unwrap();
    place.write("folder/below/secret", b"x");
    fs::set_permissions(place.path("folder/below/secret"), fs::Permissions::from_mode(0o640)).unwrap();
    for (put, name, expected) in [("secret:/etc/s", "a.qcow2", 0o600), ("folder:/srv/f", "b.qcow2", 0o640)] {
        place.run(&["patch", "plain.qcow2", "--put", put, "--out", name]).expect(0);
        assert_eq!(mode(&place.path(name)), expected, "{put}");
    }
    place
        .run(&["refit", "plain.qcow2", "--dest", "virtio-host", "--first-boot", "secret", "--out", "c.qcow2"])
        .expect(0);
    assert_eq!(mode(&place.path("c.qcow2")), 0o600);
    let words = ["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "landing", "--first-boot", "secret"];
    place.run(&[&words[..], &["--network", "default"]].concat()).expect(0);
    for file in fs::read_dir(place.path("landing/tidelog")).unwrap().flatten() {
        assert_eq!(mode(&file.path()), 0o600, "{}", file.path().display());
    }
}

/// What signs a link is in its file, and in nothing that is kept, logged, told to a program or shown.
#[test]
fn what_signs_a_link_is_kept_nowhere() {
    let harbour = crate::fleet::harbour::harbour(1, 4);
    let place = &harbour.place;
    let source = format!("{}/plain/m0/m0.raw?sig=open-sesame", harbour.host.link());
    place.write("tell", b"#!/bin/sh\ncat >>told; env >>told\n");
    fs::set_permissions(place.path("tell"), fs::Permissions::from_mode(0o755)).unwrap();
    let defaults = crate::fleet::harbour::DEFAULTS.replace("[\"will-not-boot\"]", "[\"will-not-boot\", \"no-system\"]");
    let night = |source: &str| {
        format!(
            "[tell]\nmachine = [\"./tell\"]\n{defaults}memory = \"512MiB\"\n[[machine]]\nname = \"m0\"\nsource = \"{source}\"\nhooks = {{ before = [\"./tell\"] }}\n"
        )
    };
    place.write("night.toml", night(&source).as_bytes());
    let mut command = place.command(&["fleet", "run", "night.toml", "--allow-programs", "--verbose"]);
    let ran = command.env("STORE_KEY", "open-sesame").output().unwrap();
    let said = String::from_utf8_lossy(&ran.stdout).into_owned() + &String::from_utf8_lossy(&ran.stderr);
    assert!(ran.status.success(), "{said}");
    // It was asked for with what signs it.
    assert!(harbour.host.log().iter().any(|line| line.contains("open-sesame")));
    // Another day's signature makes no other machine of it.
    place.write("night.toml", night(&source.replace("open-sesame", "open-barley")).as_bytes());
    let status = place.run(&["fleet", "status", "night.toml", "--json"]).expect(0).out;
    assert!(!status.contains("row-changed"), "{status}");
    let page = place.run(&["report", "night.toml", "--out", "-"]).expect(0).out;
    let undone = place.run(&["fleet", "undo", "night.toml", "m0", "--json"]).expect(0).out;
    place.write("shown", (said + &status + &page + &undone).as_bytes());
    fs::remove_file(place.path("night.toml")).unwrap();
    let mut looked = 0;
    for name in place.tree().into_iter().filter(|name| !name.starts_with("host/")) {
        let Ok(bytes) = fs::read(place.path(&name)) else { continue };
        looked += 1;
        let text = String::from_utf8_lossy(&bytes);
        assert!(!text.contains("open-sesame") && !text.contains("open-barley"), "{name}");
    }
    assert!(looked > 5 && fs::read_to_string(place.path("told")).unwrap().contains("PATH="));
}

/// While a key is in memory, no core of it is written, whatever the system does with cores.
#[test]
fn a_core_is_not_dumped() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    let words = ["lend", "tidelog.ova", "--dest", "virtio-host", "--into", "landing", "--at", "unix:sock"];
    let mut lending = place.command(&words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    while !place.path("sock").exists() {
        std::thread::sleep(Duration::from_millis(20));
    }
    let limits = fs::read_to_string(format!("/proc/{}/limits", lending.id())).unwrap();
    let core = limits.lines().find(|line| line.starts_with("Max core file size")).unwrap();
    let soft: u64 = core.split_whitespace().nth(4).unwrap().parse().unwrap();
    assert!(soft <= 1, "{core}");
    rustix::process::kill_process(rustix::process::Pid::from_child(&lending), rustix::process::Signal::ABORT).unwrap();
    lending.wait().unwrap();
    let cores: Vec<_> = place.tree().into_iter().filter(|name| name.contains("core")).collect();
    assert!(cores.is_empty(), "{cores:?}");
}

/// The group that new files get here.
fn own_group(place: &Place) -> u32 {
    place.path("tidelog.ova").metadata().unwrap().gid()
}

#[test]
fn what_a_lent_guest_writes_is_private() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    fs::set_permissions(place.path("tidelog.ova"), fs::Permissions::from_mode(0o644)).unwrap();
    let mut words = vec!["lend", "tidelog.ova", "--dest", "virtio-host", "--into", "landing", "--at", "unix:sock"];
    // Only root gives a file to any group.
    let is_root = fs::metadata("/proc/self").unwrap().uid() == 0;
    if is_root {
        words.extend(["--group", "65534"]);
    }
    // A link in its place is not followed, and stays.
    place.write("victim", b"");
    symlink(place.path("victim"), place.path("sock")).unwrap();
    assert!(place.run(&words).expect(1).err.contains("exists"));
    let victim = place.path("victim").metadata().unwrap();
    assert_eq!((victim.mode() & 0o777, victim.gid()), (0o644, own_group(&place)));
    fs::remove_file(place.path("sock")).unwrap();
    let mut lending = place.command(&words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let begun = Instant::now();
    while !place.path("sock").exists() && begun.elapsed() < Duration::from_secs(30) {
        std::thread::sleep(Duration::from_millis(20));
    }
    let kept = place.path("landing/tidelog.lent");
    let socket = place.path("sock").metadata().unwrap();
    assert_eq!((mode(&kept), mode(&place.path("sock"))), (0o700, if is_root { 0o660 } else { 0o600 }));
    assert!(!is_root || socket.gid() == OTHER);
    let left: Vec<_> = place.tree().into_iter().filter(|name| name.contains(".sock.")).collect();
    assert!(left.is_empty(), "{left:?}");
    for file in fs::read_dir(&kept).unwrap().flatten() {
        assert_eq!(mode(&file.path()), 0o600, "{}", file.path().display());
    }
    rustix::process::kill_process(rustix::process::Pid::from_child(&lending), rustix::process::Signal::INT).unwrap();
    lending.wait().unwrap();
}
