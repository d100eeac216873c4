//! Disks that are lent before they are copied, and land with what the guest wrote.

use std::{
    fs,
    io::{BufRead, BufReader, Read},
    path::Path,
    process::{Child, ChildStdout, Stdio},
    time::{Duration, Instant},
};

use reformis_standin::{nbd::Client, servers::Authority};
use serde_json::Value;

use crate::support::Place;

const MACHINE: [(&str, &[u8]); 3] = [
    ("ledger.vmx", include_bytes!("../../../demo/ledger/ledger.vmx")),
    ("ledger.vmdk", include_bytes!("../../../demo/ledger/ledger.vmdk")),
    ("ledger_1.vmdk", include_bytes!("../../../demo/ledger/ledger_1.vmdk")),
];

/// Where the guest of the demo has nothing.
const FREE: u64 = 1900 << 20;

fn place() -> Place {
    let place = Place::new();
    for (name, bytes) in MACHINE {
        place.write(name, bytes);
    }
    let draft =
        ["draft", "ledger.vmx", "--dest", "virtio-host", "--into", "landing", "--out", "ledger.toml", "--mac", "fresh"];
    place.run(&draft).expect(0);
    place
}

/// A program that lends.
struct Lending {
    child: Child,
    out: BufReader<ChildStdout>,
    said: String,
}

impl Lending {
    fn start(place: &Place, more: &[&str]) -> Self {
        Self::of(place, &[&["ledger.toml"], more].concat())
    }

    fn of(place: &Place, words: &[&str]) -> Self {
        let mut child =
            place.command(&[&["lend"], words].concat()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let mut out = BufReader::new(child.stdout.take().unwrap());
        let mut said = String::new();
        // It says how to end it when it is ready.
        while !said.contains("Ctrl-C here") && out.read_line(&mut said).unwrap() > 0 {}
        Self { child, out, said }
    }

    fn at_socket(place: &Place) -> Self {
        Self::start(place, &["--at", "unix:ledger.sock"])
    }

    fn signal(&self, name: &str) {
        std::process::Command::new("kill").args([name, &self.child.id().to_string()]).status().unwrap();
    }

    /// Ctrl-C: exit code, and all that it said.
    fn end(mut self) -> (Option<i32>, String) {
        self.signal("-INT");
        self.out.read_to_string(&mut self.said).unwrap();
        let mut errors = String::new();
        self.child.stderr.take().unwrap().read_to_string(&mut errors).unwrap();
        (self.child.wait().unwrap().code(), self.said.clone() + &errors)
    }
}

impl Drop for Lending {
    fn drop(&mut self) {
        self.child.kill().ok();
        self.child.wait().ok();
    }
}

fn client(place: &Place) -> Client {
    Client::connect(&place.path("ledger.sock"), "ledger-0").unwrap()
}

fn read(client: &mut Client, at: u64, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    client.read_at(at, &mut bytes).unwrap();
    bytes
}

fn sources(place: &Place) -> Vec<Vec<u8>> {
    MACHINE.iter().map(|(name, _)| fs::read(place.path(name)).unwrap()).collect()
}

/// A guest starts from a disk that was not copied, loses its host twice, and lands with what it wrote and flushed; the receipt
/// tells the three apart, and the proof holds.
#[test]
fn what_a_guest_wrote_lands_with_its_source_and_its_edits() {
    let place = place();
    let before = sources(&place);
    let lending = Lending::at_socket(&place);
    for words in ["Boots on virtio-host: yes, with", "nbd+unix:///ledger-1?socket=", "adapter-names", "(new)"] {
        assert!(lending.said.contains(words), "{words}: {}", lending.said);
    }
    let mut guest = client(&place);
    guest.write_at(FREE, &[7; 10_000]).unwrap();
    guest.flush().unwrap();
    guest.write_at(FREE + (1 << 20), &[8; 512]).unwrap();
    // Nobody else lends it, or carries it, meanwhile.
    let other = ["lend", "ledger.toml", "--at", "unix:other.sock"];
    assert!(place.run(&other).expect(1).err.contains("another run"));
    let carry = ["carry", "ledger.toml", "--with", "landing/ledger.lent"];
    assert!(place.run(&carry).expect(1).err.contains("another run"));
    // The host of the lender loses its power.
    lending.signal("-KILL");
    drop((guest, lending));

    let lending = Lending::at_socket(&place);
    assert!(lending.said.contains("goes on with what the guest wrote before"), "{}", lending.said);
    let mut guest = client(&place);
    assert_eq!(read(&mut guest, FREE, 10_000), [7; 10_000], "what was flushed");
    let later = read(&mut guest, FREE + (1 << 20), 512);
    assert!(later == [8; 512] || later == [0; 512], "what was not flushed is there, or is not");
    guest.write_at(FREE + (2 << 20), &[9; 700_000]).unwrap();
    guest.write_zeros(0, 512).unwrap();
    let (code, said) = lending.end();
    assert_eq!(code, Some(0), "{said}");
    for words in ["Ended", "1 still open", "reformis carry ledger.toml --with "] {
        assert!(said.contains(words), "{words}: {said}");
    }
    assert!(!place.path("ledger.sock").exists());
    assert!(sources(&place) == before, "the source is what it was");

    // The guest's master boot record is gone: that it will not boot now is seen, and accepted.
    let carried = place.run(&carry).expect(3);
    assert!(carried.err.contains("will-not-boot"), "{}", carried.err);
    let carried = place.run(&[&carry[..], &["--json", "--accept", "will-not-boot"]].concat()).expect(0).json();
    let receipt = &carried["receipt"];
    let edits = receipt["disks"][0]["edits"].as_array().unwrap();
    let names: Vec<&str> = edits.iter().map(|edit| edit["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["drivers", "device-names", "adapter-names", "helpers", "guest-writes"]);
    let ranges = edits[4]["ranges"].as_array().unwrap();
    let covers =
        |at: u64| ranges.iter().any(|range| range["start"].as_u64() <= Some(at) && range["end"].as_u64() > Some(at));
    assert!(covers(0) && covers(FREE) && covers(FREE + (2 << 20) + 699_999) && !covers(1 << 20), "{ranges:?}");
    assert!(receipt["disks"][1]["edits"].as_array().unwrap().is_empty());
    let written: u64 =
        ranges.iter().map(|range| range["end"].as_u64().unwrap() - range["start"].as_u64().unwrap()).sum();
    assert_eq!(receipt["lent"]["written"], written);
    assert!(receipt["findings"].to_string().contains("guest-wrote"));
    place.run(&["prove", "landing/ledger/receipt.json"]).expect(0);
    place.run(&["recast", "landing/ledger/ledger-0.qcow2", "back.raw"]).expect(0);
    let back = fs::File::open(place.path("back.raw")).unwrap();
    let at = |offset: u64, len: usize| {
        let mut bytes = vec![0; len];
        std::os::unix::fs::FileExt::read_exact_at(&back, &mut bytes, offset).unwrap();
        bytes
    };
    assert_eq!(at(FREE, 10_000), [7; 10_000]);
    assert_eq!(at(FREE + (2 << 20), 700_000), vec![9; 700_000]);
    assert_eq!(at(0, 512), [0; 512]);
}

/// It lands as the machine that was lent: with the addresses and the identity that its network and its licences saw.
#[test]
fn the_machine_file_is_of_the_machine_that_lands() {
    let place = place();
    let more = ["--at", "unix:ledger.sock", "--machine-file", "lent.xml"];
    let lending = Lending::start(&place, &more);
    let xml = fs::read_to_string(place.path("lent.xml")).unwrap();
    let socket = place.path("ledger.sock");
    for words in
        ["<source protocol=\"nbd\" name=\"ledger-1\">", "type=\"raw\"", &format!("socket=\"{}\"", socket.display())]
    {
        assert!(xml.contains(words), "{words}: {xml}");
    }
    valid(&place.path("lent.xml"));
    drop(lending);
    // Another file is not written over, and nothing is lent then.
    let ran = place.run(&["lend", "ledger.toml", "--at", "unix:ledger.sock", "--machine-file", "lent.xml"]).expect(1);
    assert!(ran.err.contains("exists already"), "{}", ran.err);
    place.run(&["carry", "ledger.toml", "--with", "landing/ledger.lent"]).expect(0);
    let landed = fs::read_to_string(place.path("landing/ledger/ledger.xml")).unwrap();
    let line = |text: &str, start: &str| -> Vec<String> {
        text.lines().filter(|line| line.trim().starts_with(start)).map(|line| line.trim().to_string()).collect()
    };
    for start in ["<uuid", "<mac "] {
        assert_eq!(line(&xml, start), line(&landed, start));
        assert!(!line(&xml, start).is_empty());
    }
}

/// Whether libvirt takes a domain, where its tools are installed.
fn valid(path: &Path) {
    let schema = "/usr/share/libvirt/schemas/domain.rng";
    if !Path::new(schema).exists() || !reformis_standin::servers::is_installed("xmllint") {
        return;
    }
    let out = std::process::Command::new("xmllint").args(["--noout", "--relaxng", schema]).arg(path).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
}

/// What was kept lands with what it was kept of, and with nothing else.
#[test]
fn what_was_kept_of_another_machine_is_refused() {
    let place = place();
    assert_eq!(Lending::at_socket(&place).end().0, Some(0));
    let carry = ["carry", "ledger.toml", "--with", "landing/ledger.lent"];
    let brief = fs::read_to_string(place.path("ledger.toml")).unwrap();
    let told = |from: &str, to: &str| {
        assert!(brief.contains(from), "{from}");
        place.write("ledger.toml", brief.replacen(from, to, 1).as_bytes());
        let ran = place.run(&carry).expect(1);
        place.write("ledger.toml", brief.as_bytes());
        ran.err
    };
    assert!(told("controller = \"virtio-scsi\"", "controller = \"ahci\"").contains("other hardware"));
    assert!(
        told("destination = \"virtio-host\"", "destination = \"virtio-cloud\"").contains("made ready for virtio-host")
    );
    // The source was started again meanwhile.
    let now = fs::File::options().append(true).open(place.path("ledger.vmdk")).unwrap();
    now.set_modified(std::time::SystemTime::now() + Duration::from_secs(5)).unwrap();
    assert!(place.run(&carry).expect(1).err.contains("another version than the one that was lent"));
    // No folder of ours, a record that is none, a file that is cut short.
    fs::create_dir(place.path("empty")).unwrap();
    let with = |folder: &str| place.run(&["carry", "ledger.toml", "--with", folder]).expect(1).err;
    assert!(with("nowhere").contains("nowhere"));
    assert!(with("empty").contains("there is no lend.json in it"));
    place.write("empty/lend.json", b"{\"schema\": 1}");
    assert!(with("empty").contains("its lend.json cannot be used"));
    std::os::unix::fs::symlink(place.path("landing/ledger.lent"), place.path("led")).unwrap();
    assert!(with("led").contains("symbolic link") || with("led").contains("not what a run of ours"), "{}", with("led"));
}

#[test]
fn a_script_gets_one_document_and_wrong_words_are_told() {
    let place = place();
    let words = ["lend", "ledger.toml", "--at", "127.0.0.1:0", "--json"];
    let mut child = place.command(&words).stdout(Stdio::piped()).spawn().unwrap();
    let mut out = BufReader::new(child.stdout.take().unwrap());
    let mut text = String::new();
    while serde_json::from_str::<Value>(&text).is_err() {
        assert!(out.read_line(&mut text).unwrap() > 0, "{text}");
    }
    let lent: Value = serde_json::from_str(&text).unwrap();
    let lent = &lent["lent"];
    let link = lent["exports"][0]["link"].as_str().unwrap();
    assert!(link.starts_with("nbd://127.0.0.1:") && link.ends_with("/ledger-0"), "{link}");
    assert_eq!(lent["exports"][0]["size"], 2_u64 << 30);
    assert_eq!(lent["verdict"]["boots"], "yes");
    // The disk is read there as any other.
    let survey = place.run(&["survey", link, "--json"]).expect(0).json();
    assert!(survey.to_string().contains("Saltmarsh"), "{survey}");
    std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    let start = Instant::now();
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert!(start.elapsed() < Duration::from_secs(20));

    for (more, code, part) in [
        (&["--at", "0.0.0.0:0"][..], 1, "without TLS"),
        (&["--at", "ledger.sock"], 2, "unix:/PATH or HOST:PORT"),
        (&["--at", "unix:s", "--certificate", "a", "--key", "b", "--clients", "c"], 2, "needs no certificate"),
        (&["--at", "127.0.0.1:0", "--certificate", "a"], 2, "--key"),
        (&["--at", "127.0.0.1:0", "--group", "root"], 2, "socket files"),
        (&["--at", "unix:s", "--dest", "virtio-host", "--into", "x"], 2, "the brief has all of that"),
        (&["--at", "unix:s", "--group", "nobody-has-this-name"], 1, "no group called"),
    ] {
        let ran = place.run(&[&["lend", "ledger.toml"], more].concat()).expect(code);
        assert!(ran.err.contains(part), "{part}: {}", ran.err);
    }
    let ran = place.run(&["lend", "ledger.vmdk", "--at", "unix:s", "--kept", "x"]).expect(2);
    assert!(ran.err.contains("--kept belongs to a machine"), "{}", ran.err);
    // No word for served disks, and nothing is left.
    let args = ["lend", "ledger.vmx", "--dest", "vmbus-host", "--into", "y", "--at", "unix:s", "--machine-file", "m"];
    let ran = place.run(&args).expect(1);
    assert!(ran.err.contains("no machine file of vmbus-host has a word"), "{}", ran.err);
    assert!(!place.path("s").exists() && !place.path("m").exists() && !place.path("y/ledger.lent").exists());
}

/// What is compressed as a whole is unpacked each time, and is the same source all the same.
#[test]
fn a_compressed_disk_is_lent_and_lands() {
    let place = Place::new();
    place.write("gauge.raw", &vec![3; 8 << 20]);
    place.run(&["recast", "gauge.raw", "gauge.raw.gz", "--from", "raw"]).expect(0);
    let target = ["gauge.raw.gz", "--dest", "virtio-host", "--into", "landing"];
    let words = [&target[..], &["--at", "unix:ledger.sock"]].concat();
    for round in 0..2 {
        let lending = Lending::of(&place, &words);
        assert!(lending.said.contains(if round == 0 { "(new)" } else { "goes on" }), "{}", lending.said);
        let mut guest = Client::connect(&place.path("ledger.sock"), "").unwrap();
        assert!(round == 0 || read(&mut guest, 1 << 20, 100) == [5; 100]);
        guest.write_at(1 << 20, &[5; 100]).unwrap();
        guest.flush().unwrap();
        lending.signal("-KILL");
    }
    let kept = fs::read_dir(place.path("landing")).unwrap().next().unwrap().unwrap().path();
    let name = kept.file_stem().unwrap().to_str().unwrap().to_string();
    let kept = kept.to_str().unwrap();
    place.run(&[&["carry"], &target[..], &["--with", kept]].concat()).expect(0);
    place.run(&["prove", &format!("landing/{name}/receipt.json")]).expect(0);
}

/// A disk alone is served as it is; what a guest would write is refused.
#[test]
fn a_bare_disk_is_for_reading() {
    let place = place();
    let lending = Lending::of(&place, &["ledger_1.vmdk", "--at", "unix:s"]);
    assert!(lending.said.contains("for reading alone"), "{}", lending.said);
    let mut client = Client::connect(&place.path("s"), "").unwrap();
    assert_eq!(client.size(), 1 << 30);
    assert!(client.write_at(0, &[1]).is_err());
}

#[test]
fn over_tls_it_serves_other_machines() {
    if !reformis_standin::servers::is_installed("openssl") {
        return;
    }
    let place = place();
    let authority = Authority::new(&place.path("")).unwrap();
    authority.issue("local", "DNS:localhost,IP:127.0.0.1", "serverAuth").unwrap();
    authority.issue("client", "DNS:client.inner.example", "clientAuth").unwrap();
    for key in ["local.key", "client.key"] {
        fs::set_permissions(place.path(key), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    }
    let guard = ["--certificate", "local.pem", "--key", "local.key", "--clients", "ca.pem"];
    let more = [&["--at", "localhost:0", "--machine-file", "lent.xml"], &guard[..]].concat();
    let lending = Lending::start(&place, &more);
    let xml = fs::read_to_string(place.path("lent.xml")).unwrap();
    assert!(xml.contains("name=\"ledger-0\" tls=\"yes\"") && xml.contains("<host name=\"localhost\" port="), "{xml}");
    valid(&place.path("lent.xml"));
    let link = lending.said.split_whitespace().find(|word| word.starts_with("nbds://localhost:")).unwrap();
    let site = format!(
        "[link.\"{}\"]\nauthorities = [\"ca.pem\"]\nclient-certificate = \"client.pem\"\nclient-key = \"client.key\"\n",
        link.rsplit_once('/').unwrap().0
    );
    place.write("reformis.toml", site.as_bytes());
    assert!(place.run(&["survey", link]).expect(0).out.contains("Saltmarsh"));
    fs::remove_file(place.path("reformis.toml")).unwrap();
    place.run(&["survey", link]).expect(1);
    assert_eq!(lending.end().0, Some(0));
}
