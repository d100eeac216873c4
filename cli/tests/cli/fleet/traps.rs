//! What a stranger could have written into a fleet file, or put beside it.

use std::{fs, os::unix::fs::symlink};

use super::harbour::{DEFAULTS, harbour, row};

#[test]
fn names_lead_nowhere_and_reach_no_terminal() {
    let harbour = harbour(1, 4);
    for (name, shown) in [("../../m0", "../../m0"), ("m0/../../x", "m0/../../x"), ("\\u001b[2Jm0", "m0"), ("", "''")] {
        harbour.place.write(
            "night.toml",
            format!("{DEFAULTS}[[machine]]\nname = \"{name}\"\nsource = \"harbour:m0\"\n").as_bytes(),
        );
        let refused = harbour.run(&[]).expect(1).err;
        assert!(refused.contains("no name of a machine") && refused.contains(shown), "{refused}");
        assert!(!refused.contains('\u{1b}'), "{refused:?}");
    }
    assert!(!harbour.place.path("landing").exists() && !harbour.place.path("night.logs").exists());
    harbour.place.write("night.toml", &vec![b'#'; 9 << 20]);
    let refused = harbour.run(&[]).expect(1).err;
    assert!(refused.contains("are the most") && refused.contains("docs/fleet.md"), "{refused}");
}

#[test]
fn links_beside_the_file_are_not_followed() {
    let harbour = harbour(1, 4);
    harbour.file_of("", 1);
    harbour.place.write("victim", b"as it was");
    symlink(harbour.place.path("victim"), harbour.place.path("night.state")).unwrap();
    let refused = harbour.run(&[]).expect(1).err;
    assert!(refused.contains("cannot be opened"), "{refused}");
    fs::remove_file(harbour.place.path("night.state")).unwrap();
    fs::create_dir(harbour.place.path("night.logs")).unwrap();
    symlink(harbour.place.path("victim"), harbour.place.path("night.logs/m0.log")).unwrap();
    let ran = harbour.run(&[]).expect(0);
    assert!(ran.err.contains("no log of m0 is written") && ran.err.contains("a symbolic link"), "{}", ran.err);
    assert_eq!(fs::read(harbour.place.path("victim")).unwrap(), b"as it was");
}

#[test]
fn what_a_host_calls_its_machines_stays_text_in_the_file() {
    let harbour = harbour(1, 4);
    // A folder's name is all that the stand-in's machines are called by.
    let name = "a\"\nsource = \"evil:x\" #\u{1b}[31m";
    fs::rename(harbour.place.path("host/m0"), harbour.place.path("host").join(name)).unwrap();
    harbour.place.run(&["fleet", "gather", "harbour:", "--dest", "virtio-host", "--out", "night.toml"]).expect(0);
    let text = fs::read_to_string(harbour.place.path("night.toml")).unwrap();
    assert!(!text.contains('\u{1b}') && !text.lines().any(|line| line.starts_with("source = \"evil")), "{text}");
    let file: toml::Table = text.parse().unwrap();
    let machines = file["machine"].as_array().unwrap();
    assert_eq!((machines.len(), machines[0]["source"].as_str()), (1, Some(format!("harbour:{name}").as_str())));
}

#[test]
fn a_machine_that_waits_for_none_is_told_by_its_name() {
    let harbour = harbour(1, 4);
    harbour.file("", &row("m0", "after = [\"m9\"]"));
    let refused = harbour.run(&[]).expect(1).err;
    assert!(refused.contains("machine 'm0' waits for 'm9', which is not in the file"), "{refused}");
    assert!(harbour.place.run(&["fleet", "run", "none.toml"]).expect(1).err.contains("fleet gather"));
    assert!(harbour.place.run(&["fleet", "work", "night"]).expect(1).err.contains("--state"));
    assert!(harbour.place.run(&["fleet", "status", "night.toml"]).expect(1).err.contains("m9"));
    harbour.file_of("", 1);
    assert!(harbour.place.run(&["fleet", "status", "night.toml"]).expect(1).err.contains("cannot be opened"));
}
