//! The short stop of a machine whose host keeps its writes in a delta: the first pass reads what is below it, and the second asks it.

use std::{
    fs::{self, File},
    time::{Duration, SystemTime},
};

use reformis_standin::{
    content::Content,
    deltas::{Delta, datastore, vdi},
};
use serde_json::Value;

use crate::support::{AS_IT_IS, Place, Ran};

const VMX: &str = include_str!("../../../../demo/ledger/ledger.vmx");
const MIB: u64 = 1 << 20;
/// The books before the snapshot.
const BASE: Content = Content { size: 100 * MIB, runs: Vec::new() };

fn bytes(content: &Content) -> Vec<u8> {
    let mut bytes = vec![0; content.size as usize];
    content.read_at(0, &mut bytes);
    bytes
}

/// Leaves files alone for as long as a first pass wants to trust what is known of them.
fn rest() {
    std::thread::sleep(Duration::from_millis(2100));
}

/// What tells of changes where nothing was written: `digests` on a file system that does not note every write, such as one in memory.
fn told(place: &Place) -> &'static str {
    let magic = rustix::fs::statfs(place.path("")).unwrap().f_type as u64 & 0xffff_ffff;
    if [0xef53, 0x5846_5342, 0x9123_683e].contains(&magic) { "delta" } else { "digests" }
}

/// The ledger, two disks of it: no snapshot was made yet.
struct Ledger {
    place: Place,
    base: Content,
    cid: String,
}

impl Ledger {
    fn new() -> Self {
        let place = Place::new();
        let base = BASE.clone().with(0, 30 * MIB, 1).with(60 * MIB, 9 * MIB, 2);
        place.write("base.img", &bytes(&base));
        place.write("accounts.img", &bytes(&Content::empty(70 * MIB).with(5 * MIB, 65 * MIB, 3)));
        fs::create_dir(place.path("vm")).unwrap();
        for (name, image) in [("base", "ledger"), ("accounts", "ledger_1")] {
            place.run(&["recast", &format!("{name}.img"), &format!("vm/{image}.vmdk"), "--as", "vmdk/full"]).expect(0);
        }
        let text = fs::read_to_string(place.path("vm/ledger.vmdk")).unwrap();
        let cid = text.split("\nCID=").nth(1).unwrap()[..8].to_string();
        let ledger = Self { place, base, cid };
        ledger.name("ledger.vmdk");
        rest();
        ledger
    }

    /// Its machine file names this disk as the first.
    fn name(&self, disk: &str) {
        self.place.write("vm/ledger.vmx", VMX.replace("\"ledger.vmdk\"", &format!("\"{disk}\"")).as_bytes());
    }

    /// A snapshot is made, and the guest writes these runs; returns what it has then.
    fn snapshot(&self, runs: &[(u64, u64, u64)]) -> Content {
        let whole = runs.iter().fold(self.base.clone(), |whole, &(at, len, seed)| whole.with(at, len, seed));
        let written: Vec<_> =
            runs.iter().map(|&(at, len, _)| at / 512 * 512..(at + len).next_multiple_of(512)).collect();
        let delta = datastore::cowd(&Delta { whole: &whole, written: &written });
        self.place.write("vm/ledger-000001-delta.vmdk", &delta);
        let (sectors, extent) = (self.base.size / 512, "ledger-000001-delta.vmdk");
        let text = datastore::descriptor(sectors, "VMFSSPARSE", extent, &self.cid, "ledger.vmdk");
        self.place.write("vm/ledger-000001.vmdk", text.as_bytes());
        self.name("ledger-000001.vmdk");
        whole
    }

    fn carry(&self, more: &[&str]) -> Ran {
        self.carry_of("vm/ledger.vmx", more)
    }

    fn carry_of(&self, machine: &str, more: &[&str]) -> Ran {
        let words = ["carry", machine, "--dest", "virtio-host", "--into", "landing", "--network", "default"];
        let accept = ["--accept", "no-system", "--accept", "snapshots-left"];
        self.place.run(&[&words[..], &accept, &AS_IT_IS, more].concat())
    }

    /// What has landed is this, and the receipt proves it; returns what it says of the two passes.
    fn has_landed(&self, whole: &Content) -> Value {
        self.place.write("whole.img", &bytes(whole));
        self.place.run(&["prove", "whole.img", "landing/ledger/ledger-0.qcow2"]).expect(0);
        self.place.run(&["prove", "accounts.img", "landing/ledger/ledger-1.qcow2"]).expect(0);
        self.place.run(&["prove", "landing/ledger/receipt.json"]).expect(0);
        let receipt = fs::read(self.place.path("landing/ledger/receipt.json")).unwrap();
        serde_json::from_slice::<Value>(&receipt).unwrap()["ahead"].clone()
    }
}

const RUNS: [(u64, u64, u64); 3] = [(29 * MIB, 5000, 11), (45 * MIB, 2 * MIB, 12), (99 * MIB + 512, 512, 13)];

#[test]
fn a_delta_tells_the_second_pass_what_was_written() {
    let ledger = Ledger::new();
    // Its machine file of before the snapshot, as a person keeps it.
    fs::copy(ledger.place.path("vm/ledger.vmx"), ledger.place.path("vm/before.vmx")).unwrap();
    let whole = ledger.snapshot(&RUNS);
    ledger.carry_of("vm/before.vmx", &["--ahead"]).expect(0);
    let landed = ledger.carry(&["--finish"]).expect(0).out;
    let record = ledger.has_landed(&whole);
    // 29, 45, 46, 99, in blocks of a MiB.
    assert_eq!((&record["told"], &record["changed"]), (&told(&ledger.place).into(), &(4 * MIB).into()), "{record}");
    if told(&ledger.place) == "delta" {
        assert!(landed.contains("found by the delta above a snapshot"), "{landed}");
        assert!(landed.contains("ledger-1.qcow2  read where a delta above the first pass has something"), "{landed}");
    }
}

/// The delta is not asked where the disk below it is not what the first pass read: all is compared, and all of it lands.
#[test]
fn a_delta_above_a_disk_that_was_written_to_is_not_believed() {
    let ledger = Ledger::new();
    ledger.carry(&["--ahead"]).expect(0);
    let whole = ledger.snapshot(&RUNS);
    // Something wrote below it, in a block that the delta does not have and that is not compared by chance.
    let flat = File::options().write(true).open(ledger.place.path("vm/ledger-flat.vmdk")).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&flat, &bytes(&Content::empty(512).with(0, 512, 77)), 7 * MIB).unwrap();
    ledger.carry(&["--finish"]).expect(0);
    let mut below = bytes(&whole);
    below[7 << 20..][..512].copy_from_slice(&bytes(&Content::empty(512).with(0, 512, 77)));
    ledger.place.write("now.img", &below);
    ledger.place.run(&["prove", "now.img", "landing/ledger/ledger-0.qcow2"]).expect(0);
    let receipt = fs::read(ledger.place.path("landing/ledger/receipt.json")).unwrap();
    let receipt: Value = serde_json::from_slice(&receipt).unwrap();
    assert_eq!(receipt["ahead"]["told"], "digests", "{receipt}");
    if told(&ledger.place) == "delta" {
        let disks = &receipt["ahead"]["disks"];
        assert_eq!((&disks[0]["reread"], &disks[1]["told"]), (&"written".into(), &"delta".into()), "{receipt}");
    }
}

/// A file that was written to a moment before the first pass may have been written to in it, and its time would be the same.
#[test]
fn a_disk_that_was_in_use_a_moment_ago_tells_nothing() {
    let ledger = Ledger::new();
    let flat = File::options().write(true).open(ledger.place.path("vm/ledger-flat.vmdk")).unwrap();
    flat.set_modified(SystemTime::now()).unwrap();
    ledger.carry(&["--ahead"]).expect(0);
    let whole = ledger.snapshot(&RUNS);
    ledger.carry(&["--finish"]).expect(0);
    let record = ledger.has_landed(&whole);
    assert_eq!((&record["told"], &record["disks"][0]["reread"]), (&"digests".into(), &"not-sure".into()), "{record}");
}

/// A disk by itself is called by its file, which is another one behind a snapshot; the machine's name says that it is the same.
#[test]
fn a_disk_without_a_machine_is_known_by_what_lies_below_it() {
    let place = Place::new();
    let base = Content::empty(8 * MIB).with(MIB, 3 * MIB, 1);
    let whole = base.clone().with(6 * MIB, MIB, 2);
    place.write("base.img", &bytes(&base));
    place.write("whole.img", &bytes(&whole));
    for name in ["gauge.vdi", "other.vdi"] {
        place.run(&["recast", "base.img", name]).expect(0);
    }
    rest();
    let delta = |base: &str, name: &str| {
        let header = fs::read(place.path(base)).unwrap();
        let id = |at: usize| header[at..at + 16].try_into().unwrap();
        let ids = vdi::Ids { own: [7; 16], state: [8; 16], parent: id(392), parent_state: id(408) };
        place.write(name, &vdi::image(&Delta { whole: &whole, written: &[6 * MIB..7 * MIB] }, &ids, None));
    };
    delta("gauge.vdi", "{1}.vdi");
    delta("other.vdi", "{2}.vdi");
    let carry = |disk: &str, more: &str| {
        let words = ["carry", disk, "--dest", "virtio-host", "--into", "landing", "--name", "gauge", more];
        let more = ["--memory", "512MiB", "--network", "default", "--accept", "no-system"];
        place.run(&[&words[..], &more, &AS_IT_IS].concat())
    };
    carry("gauge.vdi", "--ahead").expect(0);
    let strange = carry("{2}.vdi", "--finish").expect(1).err;
    assert!(strange.contains("the one that is there is of another machine"), "{strange}");
    carry("{1}.vdi", "--finish").expect(0);
    place.run(&["prove", "whole.img", "landing/gauge/gauge-0.qcow2"]).expect(0);
    let receipt: Value = serde_json::from_slice(&fs::read(place.path("landing/gauge/receipt.json")).unwrap()).unwrap();
    assert_eq!(receipt["ahead"]["told"], told(&place), "{receipt}");
    assert_eq!(receipt["ahead"]["changed"], MIB, "{receipt}");
}
