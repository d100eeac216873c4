//! Judged by the hosts themselves. Needs root and Debian's packages; `.ci/run` installs them and runs these.

use std::{
    fs,
    path::Path,
    process::{Command, Stdio},
};

use reformis_standin::{content::Content, emulator::Emulator};

use crate::support::{AS_IT_IS, Export, PROGRAM, Place, Ran, TIDELOG};

fn shell(script: &str) -> Ran {
    Command::new("bash").args(["-euc", script]).output().unwrap().into()
}

#[test]
#[ignore = "needs a libvirt daemon (tools/libvirt-up) and its schema"]
fn libvirt_accepts_the_landing_as_it_stands() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.carry(&[]).expect(0);
    let xml = place.path("landing/tidelog/tidelog.xml");
    let xml = xml.display();
    shell(&format!("virt-xml-validate {xml} domain")).expect(0);
    let defined = shell(&format!(
        "virsh -q -c qemu:///system define --validate {xml}; virsh -q -c qemu:///system domblklist tidelog; \
         virsh -q -c qemu:///system undefine tidelog"
    ))
    .expect(0);
    assert!(defined.out.contains("tidelog-0.qcow2") && defined.out.contains("tidelog-1.qcow2"), "{}", defined.out);
}

#[test]
#[ignore = "needs the machine emulator and ovmf"]
fn the_emulator_starts_the_landing() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    for controller in ["virtio-scsi", "virtio-blk", "ahci"] {
        place.run(&["draft", "tidelog.ova", "--dest", "virtio-host", "--out", "b.toml", "--force", "-q"]).expect(0);
        let brief = fs::read_to_string(place.path("b.toml")).unwrap();
        fs::write(place.path("b.toml"), brief.replace("\"virtio-scsi\"", &format!("\"{controller}\""))).unwrap();
        place.run(&["carry", "b.toml", "--force", "-q"]).expect(0);
        let xml = fs::read_to_string(place.path("landing/tidelog/tidelog.xml")).unwrap();
        let mut emulator = Emulator::start_domain(&xml).unwrap();
        let blocks = emulator.command("query-block", &serde_json::json!({})).unwrap();
        let size = |index: usize| blocks[index]["inserted"]["image"]["virtual-size"].as_u64();
        assert_eq!((size(0), size(1)), (Some(3 << 30), Some(1 << 30)), "{controller}: {blocks}");
    }
}

/// The demo's disks, as the emulator's block layer and a general archiver read both source and result.
#[test]
#[ignore = "needs the machine emulator and 7zz"]
fn others_read_the_same_in_the_archive_and_in_the_landing() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.carry(&AS_IT_IS).expect(0);
    shell(&format!("cd {} && 7zz x -y tidelog.ova -otaken >/dev/null", place.path("").display())).expect(0);
    for index in 0..2 {
        let source = place.path(&format!("taken/tidelog-disk{}.vmdk", index + 1));
        let result = place.path(&format!("landing/tidelog/tidelog-{index}.qcow2"));
        assert_same_in_emulator(("vmdk", &source), ("qcow2", &result));
        let sum = |kind: &str, path: &Path| {
            shell(&format!("7zz x -so -t{kind} {} 2>&1 | sha256sum", path.display())).expect(0).out
        };
        assert_eq!(sum("vmdk", &source), sum("qcow", &result));
        // And the file system on it is whole.
        place.run(&["recast", &result.to_string_lossy(), "disk.img", "--force"]).expect(0);
    }
    let check = shell(&format!("e2fsck -fn {} 2>&1", place.path("disk.img").display())).expect(0);
    assert!(check.out.contains("tides: "), "{}", check.out);
}

fn assert_same_in_emulator(left: (&str, &Path), right: (&str, &Path)) {
    let clients = [left, right].map(|(driver, path)| {
        let mut emulator = Emulator::start().unwrap();
        let node = emulator.open(driver, path, true).unwrap();
        let client = emulator.export(&node, false).unwrap();
        (emulator, client)
    });
    let [(_one, mut left), (_two, mut right)] = clients;
    assert_eq!(left.size(), right.size());
    let (mut a, mut b) = (vec![0; 4 << 20], vec![0; 4 << 20]);
    for at in (0..left.size()).step_by(4 << 20) {
        let len = (left.size() - at).min(4 << 20) as usize;
        left.read_at(at, &mut a[..len]).unwrap();
        right.read_at(at, &mut b[..len]).unwrap();
        assert!(a[..len] == b[..len], "from byte {at} on");
    }
}

#[test]
#[ignore = "mounts a small tmpfs, which needs root"]
fn a_full_device_leaves_nothing() {
    let place = Place::new();
    let system = Content::empty(64 << 20).with(0, 24 << 20, 1);
    place.write("tidelog.ova", &Export::new(&system, &Content::empty(8 << 20)).archive());
    fs::create_dir(place.path("full")).unwrap();
    let full = place.path("full");
    shell(&format!("mount -t tmpfs -o size=10m none {}", full.display())).expect(0);
    let carried = place.run(&["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "full"]);
    let recast = place.run(&["recast", "tidelog.ova/tidelog-disk1.vmdk", "full/x.qcow2"]);
    let left = place.tree();
    shell(&format!("umount {}", full.display())).expect(0);
    for ran in [carried, recast] {
        let ran = ran.expect(1);
        assert!(ran.err.contains("No space left on device") && ran.err.contains("help: Free some room"), "{}", ran.err);
    }
    assert_eq!(left, ["full", "tidelog.ova"]);
}

/// 4 TiB with a few MiB of data, put into a stream by the emulator's own writer: in seconds, and in little memory.
#[test]
#[ignore = "needs the machine emulator"]
fn a_huge_disk_with_little_on_it_takes_little() {
    let place = Place::new();
    let size = 4u64 << 40;
    let path = place.path("huge.img");
    fs::File::create(&path).unwrap().set_len(size).unwrap();
    let mut emulator = Emulator::start().unwrap();
    let stream = place.path("huge.vmdk");
    emulator.create("vmdk", &stream, size, &serde_json::json!({ "subformat": "monolithicSparse" })).unwrap();
    let node = emulator.open("vmdk", &stream, false).unwrap();
    let mut client = emulator.export(&node, true).unwrap();
    let places = [0, 1 << 40, (3 << 40) + 12345 * 512, size - (1 << 20)];
    for at in places {
        client.write_at(at, &vec![0x5a; 1 << 20]).unwrap();
    }
    drop(client);
    emulator.quit().unwrap();
    let output = Command::new("/usr/bin/time")
        .args(["-f", "%M"])
        .arg(PROGRAM)
        .args(["recast", "huge.vmdk", "huge.qcow2"])
        .current_dir(place.path(""))
        .stdin(Stdio::null())
        .output()
        .unwrap();
    let ran = Ran::from(output).expect(0);
    let kib: u64 = ran.err.lines().last().unwrap().trim().parse().unwrap();
    assert!(kib < 128 << 10, "{kib} KiB of memory");
    let counts = reformis_standin::qcow2_check::check(&place.path("huge.qcow2")).unwrap();
    assert!((64..=65).contains(&counts.data_clusters), "{counts:?}");
    place.run(&["prove", "huge.vmdk", "huge.qcow2"]).expect(0);
    assert!(fs::metadata(place.path("huge.qcow2")).unwrap().len() < 16 << 20);
    // As the emulator reads it: the data, and what lies around it.
    let mut emulator = Emulator::start().unwrap();
    let node = emulator.open("qcow2", &place.path("huge.qcow2"), true).unwrap();
    let mut client = emulator.export(&node, false).unwrap();
    assert_eq!(client.size(), size);
    for at in places {
        let start = u64::saturating_sub(at, 1 << 20);
        let mut bytes = vec![1; (size - start).min(3 << 20) as usize];
        client.read_at(start, &mut bytes).unwrap();
        for (index, byte) in bytes.iter().enumerate() {
            let inside = (at..at + (1 << 20)).contains(&(start + index as u64));
            assert_eq!(*byte, if inside { 0x5a } else { 0 }, "at byte {}", start + index as u64);
        }
    }
}
