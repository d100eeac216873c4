//! A host with many small machines, and a fleet file for them.

use std::{
    fs,
    os::unix::fs::PermissionsExt,
    process::{Child, Stdio},
    time::{Duration, Instant},
};

use reformis_standin::{
    content::Content,
    host::{Faults, Host, Options},
};
use serde_json::Value;

use crate::support::{Place, Ran};

/// What a made-up disk without a system needs to be moved.
pub(crate) const DEFAULTS: &str = "[defaults]\ndestination = \"virtio-host\"\ninto = \"landing\"\naccept = [\"will-not-boot\"]\nnetwork = \"default\"\n";

/// A host, and a place whose `reformis.toml` knows it as `harbour`.
pub(crate) struct Harbour {
    pub(crate) place: Place,
    pub(crate) host: Host,
}

const MACHINE: &str = r#"<domain type="kvm"><name>NAME</name><memory unit="MiB">512</memory><vcpu>1</vcpu>
<os><type arch="x86_64" machine="q35">hvm</type></os>
<devices><disk type="file" device="disk"><driver name="qemu" type="raw"/><source file="NAME.raw"/><target dev="sda" bus="sata"/></disk>
<interface type="network"><mac address="52:54:00:MAC"/><source network="default"/><model type="e1000e"/></interface></devices></domain>
"#;

/// Writes the machine `name`, whose disk of `mib` MiB a BIOS would start, into the host's folder of `place`.
pub(super) fn machine(place: &Place, name: &str, number: usize, mib: usize) {
    let mut disk = vec![0; mib << 20];
    let (size, seed) = (disk.len() as u64, number as u64);
    let content = Content::empty(size).with(0, 200_000, seed).with(size / 2, size / 4, seed + 1);
    content.read_at(0, &mut disk);
    // No partition, and a boot sector.
    disk[446..510].fill(0);
    disk[510..512].copy_from_slice(&[0x55, 0xaa]);
    let mac = format!("{:02x}:{:02x}:{:02x}", number >> 16, number >> 8 & 255, number & 255);
    let text = MACHINE.replace("NAME", name).replace("MAC", &mac);
    place.write(&format!("host/{name}/{name}.xml"), text.as_bytes());
    place.write(&format!("host/{name}/{name}.raw"), &disk);
}

/// A host at `at` with machines `m0`, `m1`, … with disks of `mib` MiB.
pub(super) fn harbour_at(at: &str, count: usize, mib: usize) -> Harbour {
    let place = Place::new();
    for number in 0..count {
        machine(&place, &format!("m{number}"), number, mib);
    }
    let token = "quite-a-secret-token";
    let host = Host::start(Options { at: at.into(), token: token.into(), ..Options::new(place.path("host")) }).unwrap();
    let site = format!(
        "[host.harbour]\nkind = \"export\"\nat = \"{0}\"\n[link.\"{0}\"]\ntoken = {{ file = \"token\" }}\n",
        host.link()
    );
    place.write("reformis.toml", site.as_bytes());
    secret(&place, "token", token);
    Harbour { place, host }
}

/// As [`harbour_at`], on this machine alone.
pub(crate) fn harbour(count: usize, mib: usize) -> Harbour {
    harbour_at("127.0.0.1:0", count, mib)
}

pub(super) fn secret(place: &Place, name: &str, text: &str) {
    place.write(name, format!("{text}\n").as_bytes());
    fs::set_permissions(place.path(name), fs::Permissions::from_mode(0o600)).unwrap();
}

/// A row of a fleet file.
pub(super) fn row(name: &str, more: &str) -> String {
    format!("[[machine]]\nname = \"{name}\"\nsource = \"harbour:{name}\"\n{more}\n")
}

impl Harbour {
    /// Writes `night.toml`: `head`, the defaults, and `rows`.
    pub(super) fn file(&self, head: &str, rows: &str) {
        self.place.write("night.toml", format!("{head}\n{DEFAULTS}\n{rows}").as_bytes());
    }

    /// A fleet file with a row for each of `count` machines.
    pub(super) fn file_of(&self, head: &str, count: usize) {
        let rows: String = (0..count).map(|number| row(&format!("m{number}"), "")).collect();
        self.file(head, &rows);
    }

    pub(super) fn slow(&self, millis: u64) {
        self.host.go_wrong(Faults { slow: millis, ..Faults::default() });
    }

    pub(super) fn run(&self, more: &[&str]) -> Ran {
        let mut words = vec!["fleet", "run", "night.toml"];
        words.extend(more);
        self.place.run(&words)
    }

    pub(super) fn spawn(&self, words: &[&str]) -> Child {
        self.place.command(words).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }

    pub(super) fn status(&self, more: &[&str]) -> Value {
        let mut words = vec!["fleet", "status", "night.toml", "--json"];
        words.extend(more);
        self.place.run(&words).expect(0).json()
    }

    /// Waits until the fleet stands as `is_so` says.
    pub(super) fn wait(&self, what: &str, is_so: impl Fn(&Value) -> bool) {
        self.wait_within(Duration::from_secs(60), what, is_so);
    }

    /// As [`Harbour::wait`], for as long as it may take where much else is done.
    pub(super) fn wait_within(&self, patience: Duration, what: &str, is_so: impl Fn(&Value) -> bool) {
        let begun = Instant::now();
        loop {
            let ran = self.place.run(&["fleet", "status", "night.toml", "--json"]);
            if ran.code == 0 && is_so(&ran.json()) {
                return;
            }
            assert!(begun.elapsed() < patience, "{what}: {}{}", ran.out, ran.err);
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Every machine `m0`, … has landed once and proves, and nothing half-made is there.
    pub(super) fn has_landed(&self, count: usize) {
        for number in 0..count {
            self.place.run(&["prove", &format!("landing/m{number}/receipt.json")]).expect(0);
        }
        let landings = fs::read_dir(self.place.path("landing")).unwrap().flatten();
        let mut names: Vec<String> = landings.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
        names.sort();
        let mut expected: Vec<String> = (0..count).map(|number| format!("m{number}")).collect();
        expected.sort();
        assert_eq!(names, expected);
    }
}

/// How the machine `name` stands in a status.
pub(super) fn stand<'v>(status: &'v Value, name: &str) -> &'v Value {
    let machines = status["machines"].as_array().unwrap();
    machines.iter().find(|machine| machine["name"] == name).unwrap_or_else(|| panic!("{name}: {status}"))
}
