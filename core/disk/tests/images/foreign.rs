//! Images that were worked on by the machine emulator: overwritten, discarded, zeroed, snapshotted, and left by one that was
//! killed. Needs Debian's `qemu-system-x86`; `.ci/run` runs these.

use std::{collections::BTreeMap, path::Path};

use reformis_disk::{Disk, budget::Budget, container, format, source::Links};
use reformis_standin::{emulator::Emulator, nbd::Client};
use serde_json::{Value, json};

const MIB: u64 = 1 << 20;
/// No whole number of clusters, grains or blocks.
const SIZE: u64 = 20 * MIB + 3 * 512;

/// A small generator, so that a failure can be had again.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % sides
    }
}

/// Writes, overwrites, discards and zeroes here and there.
fn work_on(client: &mut Client, dice: &mut Dice) {
    for step in 0..120 {
        let size = client.size();
        let len = match dice.roll(3) {
            0 => 512 * (1 + dice.roll(8)),
            1 => 4096 * (1 + dice.roll(40)),
            _ => 65536 * (1 + dice.roll(20)),
        };
        let offset = dice.roll(size / 512) * 512;
        let len = len.min(size - offset);
        match dice.roll(6) {
            0 => client.discard(offset, len as u32).unwrap(),
            1 => client.write_zeros(offset, len as u32).unwrap(),
            2 => client.write_at(offset, &vec![0; len as usize]).unwrap(),
            _ => {
                let bytes: Vec<u8> = (0..len).map(|at| (at / 512 * 7 + step) as u8 | 1).collect();
                client.write_at(offset, &bytes).unwrap();
            }
        }
    }
}

/// Everything that the emulator reads.
fn all(client: &mut Client) -> Vec<u8> {
    let mut bytes = vec![0; client.size() as usize];
    for (index, piece) in bytes.chunks_mut(MIB as usize).enumerate() {
        client.read_at(index as u64 * MIB, piece).unwrap();
    }
    bytes
}

fn assert_reads(disk: &dyn Disk, expected: &[u8], what: &str) {
    assert_eq!(disk.size(), expected.len() as u64, "{what}");
    let piece = 777_777;
    let mut found = vec![0; piece];
    for (index, expected) in expected.chunks(piece).enumerate() {
        disk.read_at((index * piece) as u64, &mut found[..expected.len()]).unwrap();
        assert!(found[..expected.len()] == *expected, "{what}: piece {index} differs");
    }
    for extent in reformis_disk::disk::extents(disk) {
        let extent = extent.unwrap();
        let bytes = &expected[extent.start as usize..extent.end() as usize];
        let sound = extent.kind == reformis_disk::ExtentKind::Data || bytes.iter().all(|&byte| byte == 0);
        assert!(sound, "{what}: bytes from {} are not zero", extent.start);
    }
}

fn read_as(path: &Path, expected: &[u8], what: &str) -> reformis_disk::Facts {
    let image = format::open(container::open(path, &Budget::whole()).unwrap(), None).unwrap();
    assert_reads(image.disk.as_ref(), expected, what);
    image.facts
}

/// Every kind of image that it works on, with options.
fn kinds() -> Vec<(&'static str, Value)> {
    let qcow2 = |more: Value| {
        let mut options = json!({ "version": "v3" });
        options.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        ("qcow2", options)
    };
    let mut kinds = vec![
        qcow2(json!({ "extended-l2": true })),
        qcow2(json!({ "extended-l2": true, "cluster-size": 16384 })),
        qcow2(json!({ "extended-l2": true, "cluster-size": 2 * MIB, "preallocation": "metadata" })),
        qcow2(json!({ "cluster-size": 512 })),
        qcow2(json!({ "lazy-refcounts": true })),
        qcow2(json!({ "preallocation": "full" })),
        ("qcow2", json!({ "version": "v2" })),
        ("vmdk", json!({ "subformat": "monolithicSparse" })),
        ("vmdk", json!({ "subformat": "monolithicSparse", "zeroed-grain": true })),
        ("vdi", json!({})),
        ("vpc", json!({ "subformat": "dynamic", "force-size": true })),
        ("vhdx", json!({ "block-size": MIB })),
        ("vhdx", json!({ "subformat": "fixed" })),
    ];
    kinds.extend([1, 2, 4, 8, 32, 64].map(|bits| qcow2(json!({ "refcount-bits": bits }))));
    kinds
}

#[test]
#[ignore = "needs the machine emulator"]
fn what_the_emulator_works_on_is_read_while_it_runs_killed_and_closed() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("worked on.image");
    for (seed, (driver, options)) in kinds().into_iter().enumerate() {
        let what = format!("{driver} {options}");
        let mut dice = Dice(seed as u64);
        for killed in [false, true] {
            let mut emulator = Emulator::start().unwrap();
            emulator.create(driver, &path, SIZE, &options).unwrap();
            let node = emulator.open(driver, &path, false).unwrap();
            let mut client = emulator.export(&node, true).unwrap();
            work_on(&mut client, &mut dice);
            let expected = all(&mut client);
            client.flush().unwrap();
            if killed {
                // Dropping it kills it: what was flushed is there, whatever the image says of its end.
                drop(emulator);
            } else {
                drop(client);
                emulator.quit().unwrap();
            }
            let facts = read_as(&path, &expected, &what);
            let lazy = options["lazy-refcounts"] == true;
            assert_eq!(facts.dirty, killed && lazy, "{what}");
            if options["extended-l2"] == true {
                assert!(facts.details.iter().any(|(_, value)| value.contains("extended L2 entries")));
            }
        }
    }
}

#[test]
#[ignore = "needs the machine emulator"]
fn external_data_is_read_and_never_followed_out_of_the_folder() {
    let folder = tempfile::tempdir().unwrap();
    let (path, data) = (folder.path().join("head.qcow2"), folder.path().join("body.raw"));
    for raw in [false, true] {
        let mut emulator = Emulator::start().unwrap();
        std::fs::File::create(&data).unwrap();
        let node = json!({ "driver": "file", "filename": data, "node-name": "data" });
        emulator.command("blockdev-add", &node).unwrap();
        let options = json!({ "version": "v3", "data-file": "data", "data-file-raw": raw });
        emulator.create("qcow2", &path, SIZE, &options).unwrap();
        let file = json!({ "driver": "file", "filename": path });
        let head = json!({ "driver": "qcow2", "node-name": "head", "file": file, "data-file": "data" });
        emulator.command("blockdev-add", &head).unwrap();
        let mut client = emulator.export("head", true).unwrap();
        work_on(&mut client, &mut Dice(5));
        let expected = all(&mut client);
        drop(client);
        emulator.quit().unwrap();

        // It is named by its whole path, which is refused unless links are trusted.
        let error =
            format::open(container::open(&path, &Budget::whole()).unwrap(), None).map(drop).unwrap_err().to_string();
        assert!(error.contains("the name is absolute"), "{error}");
        let image =
            format::opener(Links::Trusted).open(container::open(&path, &Budget::whole()).unwrap(), None).unwrap();
        assert_reads(image.disk.as_ref(), &expected, "external data");
        assert_eq!(image.files.len(), 1);
        let named = image.facts.details.iter().any(|(name, value)| {
            name == "external data" && value.contains("body.raw") && value.contains("a raw disk") == raw
        });
        assert!(named, "{:?}", image.facts.details);
    }
}

#[test]
#[ignore = "needs the machine emulator"]
fn internal_snapshots_are_listed_and_read() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("states.qcow2");
    for options in
        [json!({ "version": "v3" }), json!({ "version": "v3", "extended-l2": true }), json!({ "version": "v2" })]
    {
        let mut emulator = Emulator::start().unwrap();
        emulator.create("qcow2", &path, SIZE, &options).unwrap();
        let node = emulator.open("qcow2", &path, false).unwrap();
        let mut client = emulator.export(&node, true).unwrap();
        let (mut dice, mut states) = (Dice(9), BTreeMap::new());
        for name in ["before", "after the storm"] {
            work_on(&mut client, &mut dice);
            states.insert(name, all(&mut client));
            let snapshot = json!({ "device": node, "name": name });
            emulator.command("blockdev-snapshot-internal-sync", &snapshot).unwrap();
        }
        work_on(&mut client, &mut dice);
        let now = all(&mut client);
        drop(client);
        emulator.quit().unwrap();
        let facts = read_as(&path, &now, "now");
        let listed: Vec<_> = facts.snapshots.iter().map(|s| (s.id.as_str(), s.name.as_str(), s.virtual_size)).collect();
        assert_eq!(listed, [("1", "before", SIZE), ("2", "after the storm", SIZE)]);
        assert!(facts.snapshots.iter().all(|snapshot| snapshot.time > 1_700_000_000 && !snapshot.has_memory));
        let at = |name: &str| {
            let opener = format::opener(reformis_disk::source::Links::default()).at_snapshot(Some(name.into()));
            opener.open(container::open(&path, &Budget::whole()).unwrap(), None)
        };
        assert_reads(at("before").unwrap().disk.as_ref(), &states["before"], "by name");
        assert_reads(at("2").unwrap().disk.as_ref(), &states["after the storm"], "by number");
        let error = at("never").map(drop).unwrap_err().to_string();
        assert!(error.contains("no snapshot 'never'; there is 'before', 'after the storm'"), "{error}");
    }
}

/// Deltas as a running host makes them: each over the one before, while the guest writes.
#[test]
#[ignore = "needs the machine emulator"]
fn a_chain_that_the_emulator_made_is_one_disk() {
    let folder = tempfile::tempdir().unwrap();
    let name = |number: u32| folder.path().join(format!("chain-{number}.qcow2"));
    let mut emulator = Emulator::start().unwrap();
    emulator.create("qcow2", &name(0), SIZE, &json!({ "version": "v3", "cluster-size": 4096 })).unwrap();
    let mut node = emulator.open("qcow2", &name(0), false).unwrap();
    let mut dice = Dice(31);
    let mut expected = Vec::new();
    for number in 1..=4 {
        let mut client = emulator.export(&node, true).unwrap();
        work_on(&mut client, &mut dice);
        expected = all(&mut client);
        drop(client);
        emulator.command("nbd-server-stop", &json!({})).unwrap();
        if number < 4 {
            let next = format!("delta{number}");
            let backing = format!("chain-{}.qcow2", number - 1);
            let options = json!({ "version": "v3", "backing-file": backing, "backing-fmt": "qcow2" });
            emulator.create("qcow2", &name(number), SIZE, &options).unwrap();
            let file = json!({ "driver": "file", "filename": name(number), "locking": "off" });
            let overlay =
                json!({ "driver": "qcow2", "node-name": next, "backing": null, "file": file, "discard": "unmap" });
            emulator.command("blockdev-add", &overlay).unwrap();
            emulator.command("blockdev-snapshot", &json!({ "node": node, "overlay": next })).unwrap();
            node = next;
        }
    }
    emulator.quit().unwrap();
    let image = format::open(container::open(&name(3), &Budget::whole()).unwrap(), None).unwrap();
    assert_eq!(image.facts.chain, ["chain-2.qcow2", "chain-1.qcow2", "chain-0.qcow2"]);
    assert_reads(image.disk.as_ref(), &expected, "the chain");
    // Whatever is not above a disk of the chain is as it is there.
    for number in 0..3 {
        let under = format::open(container::open(&name(number), &Budget::whole()).unwrap(), None).unwrap().disk;
        let file = image.files.iter().find(|file| Path::new(file.name()) == name(number)).unwrap();
        let above = image.above(file.as_ref(), usize::MAX, &|| false).unwrap().unwrap();
        let mut at = 0;
        for range in above.iter().cloned().chain([SIZE..SIZE]) {
            let mut bytes = vec![0; usize::try_from(range.start - at).unwrap()];
            under.read_at(at, &mut bytes).unwrap();
            assert!(bytes == expected[usize::try_from(at).unwrap()..][..bytes.len()], "{number}: from {at} on");
            at = range.end;
        }
        let len: u64 = above.iter().map(|range| range.end - range.start).sum();
        assert!(len > 0 && len < SIZE, "{number}: {len} of {SIZE}");
    }
}
