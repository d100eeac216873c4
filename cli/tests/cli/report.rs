//! What moves came to, as a person asks for it: on a terminal, as JSON and as a page that needs nothing else.

use std::{fs, os::unix::fs::PermissionsExt};

use crate::support::{AS_IT_IS, Export, Place, TIDELOG};

/// Two landings: `tidelog` as it is in the demo, with its guest made ready, and a small machine without a system.
fn night() -> Place {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.run(&["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "landing"]).expect(0);
    place.write("small.ova", &Export::small().archive());
    let mut words = vec!["carry", "small.ova", "--dest", "virtio-host", "--into", "landing", "--name", "small"];
    words.extend(AS_IT_IS);
    place.run(&words).expect(0);
    place
}

/// Changes the receipt of `name`.
fn change(place: &Place, name: &str, change: impl Fn(&mut serde_json::Value)) {
    let path = place.path(&format!("landing/{name}/receipt.json"));
    let mut receipt: serde_json::Value = serde_json::from_slice(&fs::read(&path).unwrap()).unwrap();
    change(&mut receipt);
    fs::write(&path, receipt.to_string()).unwrap();
}

#[test]
fn a_night_is_told_on_a_terminal_as_json_and_as_a_page() {
    let place = night();
    let told = place.run(&["report", "landing"]).expect(0).out;
    assert!(told.starts_with("2 machines with ") && told.contains("1 boots by the evidence"), "{told}");
    // What does not boot, or may not, comes first.
    let (small, tidelog) = (told.find("  small").unwrap(), told.find("  tidelog").unwrap());
    assert!(small < tidelog && told.contains("--out FILE.html"), "{told}");

    let json = place.run(&["report", "landing", "--out", "morning.html", "--json"]).expect(0).json();
    let report = &json["report"];
    let machine = report["machines"].as_array().unwrap().iter().find(|one| one["name"] == "tidelog").unwrap();
    let receipt: serde_json::Value =
        serde_json::from_slice(&fs::read(place.path("landing/tidelog/receipt.json")).unwrap()).unwrap();
    let sizes = |of: &str| -> u64 {
        let disks = receipt["disks"].as_array().unwrap();
        disks.iter().map(|disk| disk["after"][of].as_u64().unwrap()).sum()
    };
    assert_eq!((&machine["size"], &machine["after"]), (&sizes("virtual_size").into(), &sizes("file_size").into()));
    assert_eq!(machine["began"], receipt["started"]);
    assert_eq!(report["totals"]["machines"], 2);
    assert_eq!(machine["evidence"], receipt["guest"]["evidence"]);
    // The map of each disk is that of what landed.
    for (disk, record) in machine["disks"].as_array().unwrap().iter().zip(receipt["disks"].as_array().unwrap()) {
        let (cell, held) = (disk["map"]["cell"].as_u64().unwrap(), disk["map"]["held"].as_array().unwrap());
        assert_eq!(held.len() as u64, record["after"]["virtual_size"].as_u64().unwrap().div_ceil(cell));
        assert!(held.iter().any(|percent| percent.as_u64() > Some(0)) && held.iter().any(|percent| *percent == 0));
        for edit in record["edits"].as_array().unwrap() {
            let first = edit["ranges"][0]["start"].as_u64().unwrap() / cell;
            assert!(disk["map"]["edited"].as_array().unwrap().contains(&first.into()), "{edit}");
            assert!(held[first as usize].as_u64() > Some(0), "what was edited holds data");
        }
    }

    let page = fs::read_to_string(place.path("morning.html")).unwrap();
    for part in [
        "<!DOCTYPE html>",
        "href=\"./landing/tidelog/receipt.json\"",
        "Boot evidence",
        "class=\"edited\"",
        "class=\"bar ",
    ] {
        assert!(page.contains(part), "{part}");
    }
    for loads in ["<script", "http://", "https://", "url(", "@import", "src="] {
        assert!(!page.contains(loads), "{loads}");
    }
    let mode = |path: &str| fs::metadata(place.path(path)).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode("morning.html"), mode("landing/tidelog/receipt.json") & mode("landing/small/receipt.json"));
    // What is there is kept, but with --force; and one receipt alone is a report too.
    let kept = place.run(&["report", "landing", "--out", "morning.html"]).expect(1).err;
    assert!(kept.contains("--force"), "{kept}");
    let one = ["report", "landing/tidelog/receipt.json", "--out", "morning.html", "--force", "--title", "One & only"];
    place.run(&one).expect(0);
    let page = fs::read_to_string(place.path("morning.html")).unwrap();
    assert!(page.contains("<title>One &amp; only</title>") && !page.contains("When each was moved"));
    let piped = place.run(&["report", "landing/tidelog", "--out", "-"]).expect(0).out;
    assert!(piped.starts_with("<!DOCTYPE html>"));
}

/// Receipts come from strangers: nothing in them becomes a part of the page, of the terminal, or of a link.
#[test]
fn a_receipt_says_what_it_likes_and_changes_nothing() {
    let place = night();
    let evil = "</style><script>x()</script><img src=x onerror=x()>\"'&\u{1b}[2J\u{202e}";
    change(&place, "small", |receipt| {
        receipt["target"] = evil.into();
        receipt["destination"] = evil.into();
        receipt["machine"]["after"]["name"] = "small".into();
        receipt["findings"] =
            serde_json::json!([{ "severity": "caution", "code": evil, "sentence": evil, "remedy": evil }]);
        receipt["verdict"] = serde_json::json!({ "on": evil, "boots": "no", "edits": 1, "why": evil });
        receipt["cloud"] =
            serde_json::json!({ "cloud": evil, "import": evil, "image": evil, "instance": evil, "address": evil });
        let disk = &mut receipt["disks"][0];
        let size = disk["after"]["virtual_size"].clone();
        disk["id"] = evil.into();
        // Many edits of the whole disk: neither time nor memory grows with them.
        let range = serde_json::json!({ "start": 0, "end": size });
        disk["edits"] = serde_json::json!([{ "name": evil, "reason": evil, "ranges": vec![range; 20_000] }]);
        // A name that leads elsewhere is not followed.
        disk["result"] = "../../../../etc/passwd".into();
    });
    let told = place.run(&["report", "landing", "--out", "page.html"]).expect(0);
    assert!(!told.out.contains('\u{1b}') && !told.out.contains('\u{202e}'), "{:?}", told.out);
    let page = fs::read_to_string(place.path("page.html")).unwrap();
    for part in ["<script", "<img", "\u{1b}", "\u{202e}"] {
        assert!(!page.contains(part), "{part}");
    }
    assert_eq!(page.matches("</style>").count(), 1);
    assert!(page.contains("does not boot") && page.contains("&lt;script&gt;"));
    let json = place.run(&["report", "landing", "--json"]).expect(0).json();
    let first = &json["report"]["machines"][0];
    assert_eq!((&first["urgency"], &first["disks"][0]["map"]["held"]), (&"stands".into(), &serde_json::Value::Null));
    assert_eq!(first["disks"][0]["map"]["edited"].as_array().unwrap().len(), 240);
}

#[test]
fn what_cannot_be_read_is_told_beside_the_rest() {
    let place = night();
    place.write("landing/small/receipt.json", b"{\"schema\": 99}");
    fs::create_dir(place.path("landing/.tide-part")).unwrap();
    place.write("landing/.tide-part/receipt.json", b"not yet");
    let told = place.run(&["report", "landing", "--out", "page.html"]).expect(0).out;
    assert!(told.contains("Receipts that cannot be read") && told.contains("schema is 99"), "{told}");
    assert!(told.starts_with("1 machine with ") && !told.contains("tide-part"), "{told}");
    assert!(fs::read_to_string(place.path("page.html")).unwrap().contains("schema is 99"));
    // One that was named is an error, and so is a folder without any.
    let named = place.run(&["report", "landing/small", "landing/small/receipt.json"]).expect(1).err;
    assert!(named.contains("schema is 99"), "{named}");
    fs::create_dir(place.path("empty")).unwrap();
    let empty = place.run(&["report", "empty"]).expect(1).err;
    assert!(empty.contains("neither it nor a folder in it has a receipt.json"), "{empty}");
}
