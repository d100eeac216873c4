//! What is done before a night and after it: rehearsals, inventories, additions, landings that are taken in, groups that are taken back, and
//! what other programs read of it.

use std::{fs, os::unix::fs::PermissionsExt, process::Command};

use reformis_standin::servers::is_installed;
use serde_json::Value;

use super::harbour::{harbour, row, stand};
use crate::support::Place;

fn program(place: &Place, name: &str, text: &str) {
    place.write(name, format!("#!/bin/sh\n{text}\n").as_bytes());
    fs::set_permissions(place.path(name), fs::Permissions::from_mode(0o755)).unwrap();
}

#[test]
fn an_inventory_becomes_a_fleet_file() {
    let harbour = harbour(3, 4);
    let place = &harbour.place;
    place.write(
        "inventory.csv",
        b"Name;Source;Group;Memory;Owner;Confirm\ngauge;harbour:m0;gauges;1GiB;\"Quay; old\";ssh:10.0.0.5:22\n;harbour:m1;desks;;;\n",
    );
    let words = ["fleet", "gather", "--from", "inventory.csv", "--dest", "virtio-host", "--out", "night.toml"];
    let told = place.run(&words).expect(0);
    assert!(told.err.contains("passed over: owner") && told.out.starts_with("2 machines"), "{}{}", told.err, told.out);
    let text = fs::read_to_string(place.path("night.toml")).unwrap();
    for line in ["name = \"gauge\"", "memory = \"1GiB\"", "confirm = { ssh = \"10.0.0.5:22\" }", "group = \"desks\""] {
        assert!(text.contains(line), "{line}: {text}");
    }
    place.run(&["fleet", "check", "night.toml", "--json"]).json();
    // A person changes it; what comes later is added below, and nothing else is touched.
    let mine = format!(
        "# mine\n[[group]]\nname = \"gauges\"\n[[group]]\nname = \"desks\"\n{}",
        text.replace("name = \"gauge\"", "name = \"tidelog\"  # as it is called now")
    );
    place.write("night.toml", mine.as_bytes());
    let add = |more: &[&str]| {
        place.run(
            &[&["fleet", "gather", "harbour:", "--dest", "virtio-host", "--out", "night.toml", "--add"], more].concat(),
        )
    };
    let refused = add(&[]).expect(1).err;
    assert!(refused.contains("machine 'm2' is in no group"), "{refused}");
    assert_eq!(fs::read_to_string(place.path("night.toml")).unwrap(), mine);
    assert!(add(&["--group", "desks"]).expect(0).out.starts_with("Added 1 machine:"));
    let added = fs::read_to_string(place.path("night.toml")).unwrap();
    let new = added.strip_prefix(&mine).unwrap();
    assert!(new.contains("source = \"harbour:m2\"") && !new.contains("harbour:m0"), "{new}");
    assert!(add(&["--group", "desks"]).expect(0).out.starts_with("Added 0 machines"));
    assert_eq!(fs::read_to_string(place.path("night.toml")).unwrap(), added);
    place.write("bad.csv", b"source,cores\nharbour:m0,two\n");
    let wrong = place.run(&["fleet", "gather", "--from", "bad.csv", "--dest", "virtio-host"]).expect(1).err;
    assert!(wrong.contains("'bad.csv': line 2: cores: 'two' is no number"), "{wrong}");
}

#[test]
fn a_landing_of_carry_is_taken_in_and_taken_back() {
    let harbour = harbour(2, 4);
    let place = &harbour.place;
    harbour.file_of("", 2);
    let carry = |name: &str, more: &[&str]| {
        let source = format!("harbour:{name}");
        let words =
            ["carry", &source, "--dest", "virtio-host", "--into", "landing", "--network", "default", "--accept"];
        place.run(&[&words[..], &["will-not-boot"], more].concat())
    };
    carry("m0", &[]).expect(0);
    harbour.place.run(&["fleet", "check", "night.toml"]).expect(3);
    let refused = place.run(&["fleet", "take", "night.toml", "m1"]).expect(1).err;
    assert!(refused.contains("holds no receipt"), "{refused}");
    place.run(&["fleet", "take", "night.toml", "m0"]).expect(0);
    let ran = harbour.run(&[]).expect(0);
    assert!(!ran.err.contains("m0: begins"), "{}", ran.err);
    harbour.has_landed(2);
    let report = place.run(&["report", "night.toml", "--json"]).expect(0).json();
    assert_eq!(report["report"]["fleet"]["counts"]["landed"], 2);
    // It is the fleet's now, and goes like the others; but not one that is another move's.
    place.run(&["fleet", "undo", "night.toml", "m0"]).expect(0);
    assert!(!place.path("landing/m0").exists());
    carry("m1", &["--name", "m0"]).expect(0);
    let refused = place.run(&["fleet", "take", "night.toml", "m0"]).expect(1).err;
    assert!(refused.contains("'harbour:m1' was moved, and its row says 'harbour:m0'"), "{refused}");
    // Nor one that is not whole.
    fs::remove_dir_all(place.path("landing/m0")).unwrap();
    carry("m0", &[]).expect(0);
    let disk = fs::File::options().write(true).open(place.path("landing/m0/m0-0.qcow2")).unwrap();
    disk.set_len(4096).unwrap();
    let refused = place.run(&["fleet", "take", "night.toml", "m0"]).expect(1).err;
    assert!(refused.contains("is not whole"), "{refused}");
}

#[test]
fn a_group_is_taken_back_and_what_stays_is_named() {
    let harbour = harbour(3, 4);
    let rows = row("m0", "group = \"desks\"") + &row("m1", "group = \"desks\"") + &row("m2", "group = \"rest\"");
    harbour.file("", &rows);
    harbour.run(&[]).expect(0);
    let later = std::time::SystemTime::now() + std::time::Duration::from_secs(60);
    let disk = harbour.place.path("landing/m0/m0-0.qcow2");
    fs::File::options().write(true).open(disk).unwrap().set_modified(later).unwrap();
    let undone = harbour.place.run(&["fleet", "undo", "night.toml", "desks"]).expect(1);
    assert!(
        undone.err.contains("the landing of 'm0' stays") && undone.out.contains("Undone m1"),
        "{}{}",
        undone.err,
        undone.out
    );
    let states = |name: &str| stand(&harbour.status(&[]), name)["state"].clone();
    assert_eq!(["m0", "m1", "m2"].map(states), ["landed", "undone", "landed"]);
    let document =
        harbour.place.run(&["fleet", "undo", "night.toml", "desks", "m2", "--force", "--json"]).expect(0).json();
    assert_eq!(document["machines"].as_array().unwrap().len(), 2, "{document}");
    assert_eq!(harbour.status(&[])["counts"]["landed"], 0);
}

#[test]
fn a_rehearsal_lands_nothing_and_tells_how_it_would_go() {
    let harbour = harbour(2, 8);
    let place = &harbour.place;
    // Looks at the first sector of the first disk, as a host would that it is lent to.
    program(
        place,
        "boot",
        "cat >told.$$; python3 - told.$$ <<'P'\nimport json, sys, socket, struct\ntold = json.load(open(sys.argv[1]))\n\
         s = socket.socket(socket.AF_UNIX); s.connect(told['socket'])\n\
         assert s.recv(18, socket.MSG_WAITALL)[:8] == b'NBDMAGIC'\ns.sendall(struct.pack('>I', 3))\n\
         name = told['disks'][0]['export'].encode()\ns.sendall(b'IHAVEOPT' + struct.pack('>II', 1, len(name)) + name)\n\
         size, flags = struct.unpack('>QH', s.recv(10, socket.MSG_WAITALL))\n\
         s.sendall(struct.pack('>IHHQQI', 0x25609513, 0, 0, 7, 0, 512))\n\
         assert struct.unpack('>IIQ', s.recv(16, socket.MSG_WAITALL)) == (0x67446698, 0, 7)\n\
         data = s.recv(512, socket.MSG_WAITALL)\nassert data[510:] == b'\\x55\\xaa'\n\
         s.sendall(struct.pack('>IHHQQI', 0x25609513, 0, 1, 8, 0, 512) + bytes(512))\n\
         assert struct.unpack('>IIQ', s.recv(16, socket.MSG_WAITALL)) == (0x67446698, 0, 8)\n\
         print(told['machine'], 'came up with', size, 'bytes')\nP",
    );
    if !is_installed("python3") {
        return;
    }
    let head = "[rehearsal]\nprogram = [\"./boot\"]\n";
    harbour.file(head, &(row("m0", "") + &row("m1", "") + &row("absent", "")));
    assert!(place.run(&["fleet", "rehearse", "night.toml"]).expect(1).err.contains("nobody allowed: ./boot"));
    let told = place.run(&["fleet", "rehearse", "night.toml", "--allow-programs"]).expect(3);
    assert!(told.out.contains("1 of 3 machines would not go well"), "{}{}", told.out, told.err);
    let document = harbour.status(&[]);
    let rehearsal = &stand(&document, "m0")["rehearsal"];
    assert_eq!((&rehearsal["goes"], &rehearsal["came_up"]["well"]), (&true.into(), &true.into()), "{rehearsal}");
    assert_eq!(rehearsal["came_up"]["said"], "m0 came up with 8388608 bytes");
    assert!(rehearsal["rate"].as_u64().unwrap() > 0 && rehearsal["estimate"].as_f64().is_some(), "{rehearsal}");
    assert_eq!(stand(&document, "absent")["rehearsal"]["error"][0], "not-there");
    assert_eq!(document["counts"]["waiting"], 3, "nothing was begun: {document}");
    assert!(!place.path("landing").exists());
    let page = place.run(&["report", "night.toml", "--out", "-"]).expect(0).out;
    assert!(page.contains("Rehearsal") && page.contains("m0 came up with"), "{page}");

    // A landing apart, which goes afterwards.
    program(
        place,
        "boot",
        "test -s \"$(sed 's/.*\"landing\":\"\\([^\"]*\\)\".*/\\1/')/receipt.json\" && echo it is whole",
    );
    harbour.file(&format!("{head}with = \"copy\"\n"), &(row("m0", "") + &row("m1", "") + &row("absent", "")));
    place.run(&["fleet", "rehearse", "night.toml", "--allow-programs", "--only", "m0"]).expect(0);
    assert_eq!(stand(&harbour.status(&[]), "m0")["rehearsal"]["came_up"]["said"], "it is whole");
    program(place, "boot", "echo no system; exit 7");
    let told = place.run(&["fleet", "rehearse", "night.toml", "--allow-programs", "--only", "m1"]).expect(1).out;
    assert!(told.contains("no system"), "{told}");
    assert!(!place.path("landing").exists());
    let left: Vec<_> = place.tree().into_iter().filter(|name| name.contains("rehearsal")).collect();
    assert!(left.is_empty(), "{left:?}");
    // What is no longer in the file is named by whoever brings it in.
    harbour.file(&format!("{head}with = \"copy\"\n"), &(row("m0", "") + &row("m1", "")));
    let told = place.run(&["fleet", "rehearse", "night.toml", "--allow-programs", "--only", "m0"]).expect(1).err;
    assert!(told.contains("No longer in the file, and not moved: absent"), "{told}");
    // The night is what it would have been.
    harbour.run(&["--allow-programs"]).expect(0);
    harbour.has_landed(2);
}

/// What a stranger's validator says of each document, by the schema in the docs.
#[test]
fn a_status_is_what_its_schema_says_line_by_line() {
    let harbour = harbour(2, 4);
    let at = harbour.place.path("");
    harbour.file("[failure]\ntries = 1\n", &(row("m0", "") + &row("absent", "after = [\"m0\"]")));
    harbour.run(&[]).expect(1);
    let lines = harbour.place.run(&["fleet", "status", "night.toml", "--watch", "--json"]).expect(0).out;
    assert_eq!(lines.lines().count(), 1, "nothing changes any more: {lines}");
    let whole = harbour.status(&[]);
    let first: Value = serde_json::from_str(lines.lines().next().unwrap()).unwrap();
    assert_eq!(first, whole, "the same document, on one line");
    let schema = concat!(env!("CARGO_MANIFEST_DIR"), "/../docs/fleet-status.schema.json");
    harbour.place.write("status.json", lines.as_bytes());
    let script = "import json, sys\ntry:\n import jsonschema\nexcept ImportError:\n sys.exit(77)\n\
                  schema = json.load(open(sys.argv[1]))\njsonschema.Draft202012Validator.check_schema(schema)\n\
                  good = json.load(open('status.json'))\njsonschema.validate(good, schema)\n\
                  good['machines'][0]['state'] = 'lost'\n\
                  try:\n jsonschema.validate(good, schema)\nexcept jsonschema.ValidationError:\n sys.exit(0)\nsys.exit(1)\n";
    let judged = Command::new("python3").args(["-c", script, schema]).current_dir(at).output().unwrap();
    match judged.status.code() {
        Some(77) => eprintln_skip(),
        code => assert_eq!(code, Some(0), "{}", String::from_utf8_lossy(&judged.stderr)),
    }
}

fn eprintln_skip() {
    use std::io::Write;
    std::io::stderr()
        .write_all(b"SKIPPED a_status_is_what_its_schema_says_line_by_line: there is no validator\n")
        .unwrap();
}

#[test]
fn a_report_is_a_table_for_a_spreadsheet() {
    let harbour = harbour(1, 4);
    harbour.file("[failure]\ntries = 1\n", &(row("m0", "") + &row("absent", "")));
    harbour.run(&[]).expect(1);
    harbour.place.run(&["report", "night.toml", "--csv", "morning.csv"]).expect(0);
    harbour.place.run(&["report", "night.toml", "--csv", "morning.csv"]).expect(1);
    // Read by a reader that is not ours.
    let script = "import csv\nrows = list(csv.DictReader(open('morning.csv', newline='')))\n\
                  assert [r['state'] for r in rows] == ['landed', 'failed'], rows\n\
                  assert rows[0]['machine'] == 'm0' and int(rows[0]['disk-bytes']) == 4 << 20 and rows[1]['code'] == 'not-there', rows\n\
                  assert all(None not in r and None not in r.values() for r in rows)\n";
    let judged = Command::new("python3").args(["-c", script]).current_dir(harbour.place.path("")).output().unwrap();
    assert!(judged.status.success(), "{}", String::from_utf8_lossy(&judged.stderr));
}
