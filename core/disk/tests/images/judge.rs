//! The machine emulator as judge, in both directions: it opens what we write, and we read what it writes. Needs Debian's
//! `qemu-system-x86` and `7zip`; `.ci/run` runs these.

use std::{path::Path, process::Command};

use reformis_disk::{
    Format, Layout, Shape,
    budget::Budget,
    container,
    copy::pipeline,
    format::{self, NewImage},
    source::Links,
};
use reformis_standin::{content::Content, emulator::Emulator, qcow2_check};
use serde_json::json;

use crate::common::{ContentDisk, assert_holds, every_image, open, watch, write, write_new};

const MIB: u64 = 1 << 20;

fn contents() -> Vec<Content> {
    vec![
        Content::empty(64 * MIB),
        Content::empty(70 * MIB + 512).with(0, 3 * MIB, 1).with(30 * MIB + 100, 5, 2).with(70 * MIB - 900, 1412, 3),
        Content::empty(65536 * 3 + 1024).with(65536, 100_000, 4),
        Content::empty(600 * MIB).with(511 * MIB, 4 * MIB, 5).with(599 * MIB, MIB, 6),
    ]
}

/// What the emulator reads of `path`, through its own export.
fn assert_emulator_reads(driver: &str, path: &Path, content: &Content, read_only: bool) {
    let mut emulator = Emulator::start().unwrap();
    let node = emulator.open(driver, path, read_only).unwrap();
    let mut client = emulator.export(&node, !read_only).unwrap();
    assert_eq!(client.size(), content.size);
    let (mut found, mut expected) = (vec![0; MIB as usize], vec![0; MIB as usize]);
    let mut at = 0;
    while at < content.size {
        let len = MIB.min(content.size - at) as usize;
        client.read_at(at, &mut found[..len]).unwrap();
        content.read_at(at, &mut expected[..len]);
        assert!(found[..len] == expected[..len], "the emulator reads something else from byte {at} on");
        at += len as u64;
    }
    if !read_only {
        // Open for writing is more than its word: a write must arrive, and the counts must hold afterwards.
        client.write_at(content.size - 512, &[0xee; 512]).unwrap();
        drop(client);
        emulator.quit().unwrap();
    }
}

#[test]
#[ignore = "needs the machine emulator"]
fn the_emulator_opens_every_shape_of_ours_for_writing_and_reads_it_exactly() {
    let folder = tempfile::tempdir().unwrap();
    for image in every_image(0) {
        let shape = image.shape;
        let driver = if shape.format == Format::Vhd { "vpc" } else { shape.format.name() };
        // What is chosen of a shape is tried on one disk.
        let plain = image == NewImage::new(shape, 0);
        for content in contents().into_iter().skip(usize::from(!plain)).take(if plain { 4 } else { 1 }) {
            let path = folder.path().join("ours.img");
            let image = NewImage { size: Some(content.size), ..image };
            write_new(&ContentDisk(content.clone()), &image, &path).unwrap();
            // It writes a stream from its start only, as everybody does.
            let read_only = shape.layout == Layout::Stream;
            assert_emulator_reads(driver, &path, &content, read_only);
            if shape.format == Format::Qcow2 {
                qcow2_check::check(&path).unwrap();
            }
            let mut tail = [0; 512];
            let disk =
                format::open(container::open(&path, &Budget::whole()).unwrap(), Some(shape.format)).unwrap().disk;
            disk.read_at(content.size - 512, &mut tail).unwrap();
            assert_eq!(tail == [0xee; 512], !read_only, "{shape}");
        }
    }
}

#[test]
#[ignore = "needs the archiver 7zz"]
fn a_general_archiver_reads_every_shape_of_ours_exactly() {
    let folder = tempfile::tempdir().unwrap();
    for shape in Shape::all() {
        let kind = match shape.format {
            Format::Raw => continue,
            Format::Qcow2 => "qcow",
            other => other.name(),
        };
        for content in contents() {
            // It opens no VHDX with an odd number of sectors, whoever wrote it.
            if shape.format == Format::Vhdx && content.size % 1024 != 0 {
                continue;
            }
            let path = folder.path().join("ours.img");
            write(&ContentDisk(content.clone()), &shape.to_string(), &path).unwrap();
            let output = Command::new("7zz").args(["x", "-so", &format!("-t{kind}")]).arg(&path).output().unwrap();
            let messages = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(output.status.success() && !messages.contains("WARNING"), "{shape}: {messages}");
            assert_eq!(output.stdout.len() as u64, content.size, "{shape}");
            let mut expected = vec![0; content.size as usize];
            content.read_at(0, &mut expected);
            assert!(output.stdout == expected, "{shape}");
        }
    }
}

/// Has the emulator make an image and fill it from a raw file.
fn foreign(
    driver: &str,
    options: &serde_json::Value,
    compress: bool,
    content: &Content,
    folder: &Path,
) -> std::path::PathBuf {
    let raw = folder.join("foreign.raw");
    write(&ContentDisk(content.clone()), "raw", &raw).unwrap();
    let path = folder.join("foreign.image");
    let mut emulator = Emulator::start().unwrap();
    emulator.create(driver, &path, content.size, options).unwrap();
    let from = emulator.open("raw", &raw, true).unwrap();
    let to = emulator.open(driver, &path, false).unwrap();
    emulator.copy(&from, &to, compress).unwrap();
    emulator.close(&to).unwrap();
    path
}

#[test]
#[ignore = "needs the machine emulator"]
fn we_read_what_the_emulator_writes() {
    let folder = tempfile::tempdir().unwrap();
    let kinds = [
        ("vmdk", json!({ "subformat": "streamOptimized" }), true),
        ("vmdk", json!({ "subformat": "monolithicSparse" }), false),
        ("vmdk", json!({ "subformat": "monolithicSparse", "zeroed-grain": true }), false),
        ("vdi", json!({}), false),
        ("vdi", json!({ "preallocation": "metadata" }), false),
        ("vpc", json!({ "subformat": "dynamic", "force-size": true }), false),
        ("vpc", json!({ "subformat": "fixed", "force-size": true }), false),
        ("vhdx", json!({}), false),
        ("vhdx", json!({ "subformat": "fixed" }), false),
        ("vhdx", json!({ "block-size": MIB, "block-state-zero": false }), false),
        ("qcow2", json!({ "version": "v3" }), true),
        ("qcow2", json!({ "version": "v3", "cluster-size": 4096 }), true),
        ("qcow2", json!({ "version": "v3", "compression-type": "zstd" }), true),
        ("qcow2", json!({ "version": "v3", "compression-type": "zstd", "cluster-size": 2 * MIB }), true),
        ("qcow2", json!({ "version": "v2" }), false),
        ("qcow2", json!({ "version": "v3" }), false),
        ("qcow2", json!({ "version": "v3", "cluster-size": 512 }), false),
        ("qcow2", json!({ "version": "v3", "cluster-size": 2 * MIB, "refcount-bits": 64 }), false),
        ("qcow2", json!({ "version": "v3", "lazy-refcounts": true, "preallocation": "metadata" }), false),
    ];
    for (driver, options, compress) in kinds {
        for content in contents() {
            let path = foreign(driver, &options, compress, &content, folder.path());
            let disk = open(&path).unwrap_or_else(|error| panic!("{driver} {options}: {error}"));
            assert_holds(disk.as_ref(), &content);
            let digest = pipeline::scan(disk.as_ref(), &watch()).unwrap();
            assert_eq!(digest, pipeline::scan(&ContentDisk(content), &watch()).unwrap(), "{driver} {options}");
        }
    }
}

/// Has the emulator make a delta of `base` and write into it.
fn delta(driver: &str, base: &Path, options: serde_json::Value, over: &Content, folder: &Path) -> std::path::PathBuf {
    let path = folder.join(format!("delta.{driver}"));
    let mut emulator = Emulator::start().unwrap();
    let mut all = json!({ "backing-file": base.file_name().unwrap().to_str().unwrap() });
    all.as_object_mut().unwrap().extend(options.as_object().unwrap().clone());
    if driver == "vmdk" {
        // This writer opens the disk below itself, by its whole path.
        all["backing-file"] = json!(base);
    }
    emulator.create(driver, &path, over.size, &all).unwrap();
    let node = emulator.open(driver, &path, false).unwrap();
    let mut client = emulator.export(&node, true).unwrap();
    for run in &over.runs {
        let mut bytes = vec![0; run.len as usize];
        over.read_at(run.offset, &mut bytes);
        client.write_at(run.offset, &bytes).unwrap();
    }
    drop(client);
    emulator.quit().unwrap();
    path
}

#[test]
#[ignore = "needs the machine emulator"]
fn deltas_are_read_with_what_is_below_them() {
    let folder = tempfile::tempdir().unwrap();
    let base = Content::empty(40 * MIB).with(MIB, 3 * MIB, 1).with(20 * MIB, MIB, 2);
    let over = Content::empty(44 * MIB).with(2 * MIB, 512 * 9, 3).with(30 * MIB, MIB, 4).with(43 * MIB, 4096, 5);
    let mut both = Content::empty(44 * MIB);
    both.runs = base.runs.iter().chain(&over.runs).copied().collect();

    let raw = folder.path().join("base.raw");
    write(&ContentDisk(base.clone()), "raw", &raw).unwrap();
    let path = delta("qcow2", &raw, json!({ "backing-fmt": "raw" }), &over, folder.path());
    assert_holds(open(&path).unwrap().as_ref(), &both);
    let facts = format::open(container::open(&path, &Budget::whole()).unwrap(), None).unwrap().facts;
    assert_eq!(facts.chain, ["base.raw"]);
    let copy = folder.path().join("flat.vhdx");
    write(open(&path).unwrap().as_ref(), "vhdx", &copy).unwrap();
    assert_holds(open(&copy).unwrap().as_ref(), &both);

    let sparse = foreign("vmdk", &json!({ "subformat": "monolithicSparse" }), false, &base, folder.path());
    let same_size = Content { size: base.size, runs: over.runs[..2].to_vec() };
    let path = delta("vmdk", &sparse, json!({}), &same_size, folder.path());
    // It names the disk below by its whole path, and beside the delta it is found all the same; elsewhere it is not.
    let elsewhere = folder.path().join("elsewhere");
    std::fs::create_dir(&elsewhere).unwrap();
    std::fs::copy(&path, elsewhere.join("delta.vmdk")).unwrap();
    let error = open(&elsewhere.join("delta.vmdk")).map(drop).unwrap_err().to_string();
    assert!(error.contains("the name is absolute"), "{error}");
    let trusted = format::opener(Links::Trusted).open(container::open(&path, &Budget::whole()).unwrap(), None).unwrap();
    let both = Content { size: base.size, runs: base.runs.iter().chain(&same_size.runs).copied().collect() };
    assert_holds(trusted.disk.as_ref(), &both);
    assert_holds(open(&path).unwrap().as_ref(), &both);
    assert_eq!(trusted.facts.chain.len(), 1);
    // A disk below that was written since is not the one that the delta was made of.
    let mut bytes = std::fs::read(&sparse).unwrap();
    let at = bytes.windows(4).position(|w| w == b"CID=").unwrap() + 4;
    // The emulator leaves out zeros in front.
    let len = bytes[at..].iter().position(|byte| *byte == b'\n').unwrap();
    bytes[at..at + len].copy_from_slice(&b"0badcafe"[8 - len..]);
    std::fs::write(&sparse, bytes).unwrap();
    let image = format::open(container::open(&path, &Budget::whole()).unwrap(), None).unwrap();
    let error = image.disk.read_at(0, &mut [0; 512]).unwrap_err().to_string();
    assert!(error.contains("has 0badcafe: it was written or replaced since"), "{error}");
}

#[test]
#[ignore = "needs the machine emulator"]
fn disks_that_the_emulator_spreads_over_files_are_read() {
    let folder = tempfile::tempdir().unwrap();
    let content = Content::empty((2 << 30) + 32 * MIB).with(0, MIB, 1).with((2 << 30) - MIB, 2 * MIB, 2).with(
        (2 << 30) + 32 * MIB - 512,
        512,
        3,
    );
    let raw = folder.path().join("source.raw");
    write(&ContentDisk(content.clone()), "raw", &raw).unwrap();
    for (subformat, pieces) in [("monolithicFlat", 1), ("twoGbMaxExtentFlat", 2), ("twoGbMaxExtentSparse", 2)] {
        let mut emulator = Emulator::start().unwrap();
        let mut add = |name: String| {
            let path = folder.path().join(&name);
            std::fs::File::create(&path).unwrap();
            let node = emulator.fresh_name();
            let file = json!({ "node-name": node, "driver": "file", "filename": path });
            emulator.command("blockdev-add", &file).unwrap();
            node
        };
        let extents: Vec<String> = (0..pieces).map(|index| add(format!("{subformat}-{index}.vmdk"))).collect();
        let descriptor = add(format!("{subformat}.vmdk"));
        let options = json!({
            "driver": "vmdk", "file": descriptor, "size": content.size, "subformat": subformat, "extents": extents,
        });
        emulator.command("blockdev-create", &json!({ "job-id": "make", "options": options })).unwrap();
        emulator.finish_job("make").unwrap();
        for node in extents.iter().chain([&descriptor]) {
            emulator.close(node).unwrap();
        }
        let path = folder.path().join(format!("{subformat}.vmdk"));
        let from = emulator.open("raw", &raw, true).unwrap();
        let to = emulator.open("vmdk", &path, false).unwrap();
        emulator.copy(&from, &to, false).unwrap();
        emulator.close(&to).unwrap();
        let disk =
            format::opener(Links::Trusted).open(container::open(&path, &Budget::whole()).unwrap(), None).unwrap().disk;
        let expected = pipeline::scan(&ContentDisk(content.clone()), &watch()).unwrap();
        assert_eq!(disk.size(), content.size);
        assert_eq!(pipeline::scan(disk.as_ref(), &watch()).unwrap(), expected, "{subformat}");
    }
}

/// The emulator's own log entry, as a crash would leave it: the header names the log, and the table that the entry
/// describes never reached its place.
#[test]
#[ignore = "needs the machine emulator"]
fn a_log_that_the_emulator_wrote_is_replayed_in_memory() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("killed.vhdx");
    let content = (0..12).fold(Content::empty(900 * MIB), |c, i| c.with(i * 40 * MIB + 4096, 100_352, i));
    let mut emulator = Emulator::start().unwrap();
    emulator.create("vhdx", &path, content.size, &json!({ "block-size": MIB })).unwrap();
    let node = emulator.open("vhdx", &path, false).unwrap();
    let mut client = emulator.export(&node, true).unwrap();
    for run in &content.runs {
        let mut bytes = vec![0; run.len as usize];
        content.read_at(run.offset, &mut bytes);
        client.write_at(run.offset, &bytes).unwrap();
    }
    // Dropping kills it: nothing is closed.
    drop(emulator);
    drop(client);
    let mut bytes = std::fs::read(&path).unwrap();
    let (log, table) = (MIB as usize, 2 * MIB as usize);
    let entries: Vec<usize> = (log..table).step_by(4096).filter(|&at| &bytes[at..at + 4] == b"loge").collect();
    let number = |at: usize| u64::from_le_bytes(bytes[at + 16..at + 24].try_into().unwrap());
    let last = entries.into_iter().max_by_key(|&at| number(at)).expect("the emulator logs what it does to its tables");
    let guid = bytes[last + 32..last + 48].to_vec();
    for header in [64 << 10, 128 << 10] {
        bytes[header + 48..header + 64].copy_from_slice(&guid);
        bytes[header + 4..header + 8].fill(0);
        let sum = crc32c::crc32c(&bytes[header..header + 4096]);
        bytes[header + 4..header + 8].copy_from_slice(&sum.to_le_bytes());
    }
    bytes[table..table + 4096].fill(0);
    std::fs::write(&path, &bytes).unwrap();
    let image = format::open(container::open(&path, &Budget::whole()).unwrap(), None).unwrap();
    assert!(image.facts.unclean);
    assert_holds(image.disk.as_ref(), &content);
    assert!(std::fs::read(&path).unwrap() == bytes, "the file is not written");

    bytes[last + 100] ^= 1;
    std::fs::write(&path, &bytes).unwrap();
    match open(&path) {
        Err(error) => assert!(error.to_string().contains("no whole sequence of entries"), "{error}"),
        // An older entry is whole: then the last table is lost, as it would be to anyone.
        Ok(disk) => assert_eq!(disk.size(), content.size),
    }
}
