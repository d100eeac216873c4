//! Moves over a network that are cut off, and go on where they stopped.

use std::{
    fs,
    process::{Child, Stdio},
    time::{Duration, Instant},
};

use reformis_standin::{
    content::Content,
    host::{Faults, Host, Options},
};

use crate::support::Place;

const SIZE: u64 = 24 << 20;
const XML: &str = "<domain type='kvm'><name>gauge</name><memory unit='MiB'>64</memory><vcpu>1</vcpu>\
    <os><type arch='x86_64' machine='q35'>hvm</type></os><devices><disk type='file' device='disk'>\
    <driver name='qemu' type='raw'/><source file='/pool/gauge.raw'/><target dev='vda' bus='virtio'/></disk></devices></domain>";

struct Harbour {
    place: Place,
    host: Host,
    bytes: Vec<u8>,
}

fn harbour() -> Harbour {
    let place = Place::new();
    let mut bytes = vec![0; SIZE as usize];
    Content::empty(SIZE).with(0, SIZE, 5).read_at(0, &mut bytes);
    fs::create_dir_all(place.path("host/gauge")).unwrap();
    place.write("host/gauge/gauge.xml", XML.as_bytes());
    place.write("host/gauge/gauge.raw", &bytes);
    let host = Host::start(Options::new(place.path("host"))).unwrap();
    let at = host.link();
    let site =
        format!("[host.harbour]\nkind = \"export\"\nat = \"{at}\"\n[link.\"{at}\"]\ntoken = {{ env = \"TOKEN\" }}\n");
    place.write("reformis.toml", site.as_bytes());
    Harbour { place, host, bytes }
}

const CARRY: [&str; 8] =
    ["carry", "harbour:gauge", "--into", "landing", "--accept", "no-system", "--accept", "will-not-boot"];

impl Harbour {
    fn start(&self, more: &[&str]) -> Child {
        self.start_as("virtio-host", more)
    }

    fn start_as(&self, dest: &str, more: &[&str]) -> Child {
        let words: Vec<&str> = CARRY.into_iter().chain(["--dest", dest]).chain(more.iter().copied()).collect();
        let mut command = self.place.command(&words);
        command.env("TOKEN", "a-token-for-tests").stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    }

    /// Runs to the end: exit code, and all that it says.
    fn run(&self, more: &[&str]) -> (Option<i32>, String) {
        ended(self.start(more))
    }

    /// Waits until at least `len` bytes of the disk's journal are there.
    fn wait_for_journal(&self, len: u64) {
        self.wait_for_journal_of("gauge-0.qcow2", len);
    }

    fn wait_for_journal_of(&self, disk: &str, len: u64) {
        let path = self.place.path(&format!("landing/.gauge.reformis-partial/{disk}.journal"));
        let start = Instant::now();
        while fs::metadata(&path).map_or(0, |metadata| metadata.len()) < len {
            assert!(start.elapsed() < Duration::from_secs(30), "{} does not grow", path.display());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Bytes of the disk that were asked for since `from` lines of the host's log.
    fn fetched(&self, from: usize) -> u64 {
        let log = self.host.log();
        let ranges = log[from..]
            .iter()
            .filter_map(|line| line.split_once("range: bytes=")?.1.split(',').next().map(str::to_string));
        ranges
            .map(|range| {
                let (first, last) = range.split_once('-').unwrap();
                last.trim().parse::<u64>().unwrap() - first.parse::<u64>().unwrap() + 1
            })
            .sum()
    }

    /// The landing is whole, holds the source, and nothing is left beside it.
    fn check(&self) {
        let made = self.place.run(&["recast", "landing/gauge/gauge-0.qcow2", "back.raw", "--force"]);
        made.expect(0);
        assert!(fs::read(self.place.path("back.raw")).unwrap() == self.bytes);
        let names: Vec<_> =
            fs::read_dir(self.place.path("landing")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        assert_eq!(names, ["gauge"]);
        let mut names: Vec<_> =
            fs::read_dir(self.place.path("landing/gauge")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        names.sort();
        assert_eq!(names, ["gauge-0.qcow2", "gauge.xml", "receipt.json"]);
    }
}

fn ended(child: Child) -> (Option<i32>, String) {
    let out = child.wait_with_output().unwrap();
    (out.status.code(), String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned())
}

fn signal(child: &Child, name: &str) {
    std::process::Command::new("kill").args([name, &child.id().to_string()]).status().unwrap();
}

#[test]
fn a_move_that_was_interrupted_or_killed_goes_on_and_fetches_only_the_rest() {
    for name in ["-INT", "-KILL"] {
        let harbour = harbour();
        let child = harbour.start(&["--limit", "8MiB/s"]);
        harbour.wait_for_journal(800);
        signal(&child, name);
        let (code, said) = ended(child);
        assert_eq!(code, if name == "-INT" { Some(130) } else { None }, "{said}");
        // The finding part-kept is told at once: there is no receipt yet that could hold it.
        assert!(name == "-KILL" || said.contains("is kept") && said.contains("--resume"), "{said}");
        let before = harbour.host.log().len();
        let (code, said) = harbour.run(&["--resume"]);
        assert_eq!(code, Some(0), "{said}");
        let fetched = harbour.fetched(before);
        assert!(fetched < SIZE - (4 << 20), "{name}: {fetched} bytes were fetched again");
        harbour.check();
    }
}

/// The manifest has the digest of a file that two runs have written.
#[test]
fn a_move_with_a_manifest_goes_on() {
    let harbour = harbour();
    let more = ["--accept", "no-driver", "--shape", "vmdk/stream"];
    let child = harbour.start_as("vmx-host", &[&more[..], &["--limit", "8MiB/s"]].concat());
    harbour.wait_for_journal_of("gauge-0.vmdk", 6000);
    signal(&child, "-KILL");
    ended(child);
    let before = harbour.host.log().len();
    let (code, said) = ended(harbour.start_as("vmx-host", &[&more[..], &["--resume"]].concat()));
    assert_eq!(code, Some(0), "{said}");
    assert!(harbour.fetched(before) < SIZE - (4 << 20), "{} bytes were fetched again", harbour.fetched(before));
    let manifest = fs::read_to_string(harbour.place.path("landing/gauge/gauge.mf")).unwrap();
    let out =
        std::process::Command::new("sha256sum").arg(harbour.place.path("landing/gauge/gauge-0.vmdk")).output().unwrap();
    let digest = String::from_utf8(out.stdout).unwrap().split(' ').next().unwrap().to_string();
    assert!(digest.len() == 64 && manifest.contains(&format!("SHA256(gauge-0.vmdk)= {digest}")), "{manifest}");
    harbour.place.run(&["recast", "landing/gauge/gauge-0.vmdk", "back.raw"]).expect(0);
    assert!(fs::read(harbour.place.path("back.raw")).unwrap() == harbour.bytes);
}

#[test]
fn what_is_of_another_source_is_not_gone_on_with() {
    let harbour = harbour();
    let child = harbour.start(&["--limit", "8MiB/s"]);
    harbour.wait_for_journal(600);
    signal(&child, "-KILL");
    ended(child);
    let mut faults = Faults::default();
    faults.set("changed").unwrap();
    harbour.host.go_wrong(faults);
    let (code, said) = harbour.run(&["--resume"]);
    assert!(code == Some(0) && said.contains("begun-anew"), "{said}");
    harbour.check();
}

#[test]
fn without_the_wish_to_go_on_a_move_begins_anew() {
    let harbour = harbour();
    let child = harbour.start(&["--limit", "8MiB/s"]);
    harbour.wait_for_journal(600);
    signal(&child, "-KILL");
    ended(child);
    let (code, said) = harbour.run(&[]);
    assert!(code == Some(0) && said.contains("stale-removed"), "{said}");
    harbour.check();
    // With nothing to go on with, it is a move like any other.
    let (code, said) = harbour.run(&["--resume", "--force"]);
    assert_eq!(code, Some(0), "{said}");
    harbour.check();
}

#[test]
fn a_shape_that_cannot_be_gone_on_with_leaves_nothing_and_begins_anew() {
    let harbour = harbour();
    let more = ["--shape", "vhdx/full", "--accept", "no-driver"];
    let child = harbour.start_as("vmbus-host", &[&more[..], &["--limit", "8MiB/s"]].concat());
    let partial = harbour.place.path("landing/.gauge.reformis-partial/gauge-0.vhdx");
    let start = Instant::now();
    while !partial.exists() && start.elapsed() < Duration::from_secs(30) {
        std::thread::sleep(Duration::from_millis(20));
    }
    signal(&child, "-INT");
    let (code, said) = ended(child);
    assert!(code == Some(130) && said.contains("nothing half-made was left"), "{said}");
    assert!(!harbour.place.path("landing").exists());
    let (code, said) = ended(harbour.start_as("vmbus-host", &[&more[..], &["--resume"]].concat()));
    assert_eq!(code, Some(0), "{said}");
    harbour.place.run(&["recast", "landing/gauge/gauge-0.vhdx", "back.raw"]).expect(0);
    assert!(fs::read(harbour.place.path("back.raw")).unwrap() == harbour.bytes);
}

/// Killed at fifty points, each time to go on: what lands is right, and what has no name yet is no landing.
#[test]
#[ignore = "takes half a minute"]
fn a_client_that_is_killed_at_fifty_points_lands_what_the_source_is() {
    let harbour = harbour();
    let landed = || harbour.place.path("landing/gauge").exists();
    let (mut kills, mut landings) = (0, 0);
    while kills < 50 {
        let mut child = harbour.start(&["--resume", "--limit", "16MiB/s"]);
        std::thread::sleep(Duration::from_millis(kills * 131 % 1100));
        let is_over = child.try_wait().unwrap().is_some();
        if !is_over {
            signal(&child, "-KILL");
            kills += 1;
        }
        let (code, said) = ended(child);
        assert!(code.is_none() || code == Some(0), "{said}");
        if landed() {
            harbour.check();
            fs::remove_dir_all(harbour.place.path("landing")).unwrap();
            landings += 1;
        }
    }
    let (code, said) = harbour.run(&["--resume"]);
    assert_eq!(code, Some(0), "{said}");
    harbour.check();
    assert!(landings > 0, "some came to their end");
}
