//! What can only be read or written forwards, what lies in archives, and what is kept in several files.

use std::{
    fs,
    io::{Cursor, Read, Write},
    process::Stdio,
};

use reformis_standin::{content::Content, ova};

use crate::support::{Place, Ran};

/// A raw disk of 20 MiB and a bit that is known by its boot sector.
fn disk() -> Vec<u8> {
    let size = (20 << 20) + 1536;
    let content = Content::empty(size).with(0, 100_000, 2).with(9 << 20, 300_000, 1).with(size - 700, 700, 3);
    let mut bytes = vec![0; size as usize];
    content.read_at(0, &mut bytes);
    bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
    bytes
}

/// Runs with `input` on stdin; stdout is left as bytes.
fn piped(place: &Place, args: &[&str], input: &[u8]) -> (i32, Vec<u8>, String) {
    let mut command = place.command(args);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut stdin = child.stdin.take().unwrap();
    let output = std::thread::scope(|scope| {
        // A run that refuses at once does not read its input.
        scope.spawn(move || stdin.write_all(input).ok());
        child.wait_with_output().unwrap()
    });
    (output.status.code().unwrap(), output.stdout, String::from_utf8_lossy(&output.stderr).into_owned())
}

#[test]
fn a_disk_goes_through_pipes_at_both_ends() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.run(&["recast", "disk.img", "disk.qcow2"]).expect(0);
    let (code, raw, told) = piped(&place, &["recast", "disk.qcow2", "-", "--as", "raw"], b"");
    assert_eq!(code, 0, "{told}");
    assert!(raw == disk() && told.contains("Made stdout") && told.contains("content digest"), "{told}");
    let (code, again, _) = piped(&place, &["recast", "-", "-"], &raw);
    assert!(code == 0 && again == raw);
    // Of a stream the size comes first, so that what has no size yet is put aside.
    for (source, input) in [("disk.qcow2", &[][..]), ("-", &raw[..])] {
        let (code, stream, told) = piped(&place, &["recast", source, "-", "--as", "vmdk/stream", "--quiet"], input);
        assert_eq!((code, told.as_str()), (0, ""));
        place.write("through.vmdk", &stream);
        place.run(&["prove", "disk.img", "through.vmdk"]).expect(0);
    }
    for (args, expected, part) in [
        (&["recast", "disk.img", "-", "--as", "vhdx"][..], 1, "a pipe takes raw/thin, vmdk/stream"),
        (&["recast", "disk.img", "-", "--json"], 2, "use --receipt FILE"),
    ] {
        let (code, out, told) = piped(&place, args, b"");
        assert!(code == expected && told.contains(part) && out.is_empty(), "{args:?}: {told}");
    }
}

#[test]
fn a_pipe_becomes_every_shape_and_the_receipt_proves_it() {
    let place = Place::new();
    place.write("disk.img", &disk());
    for shape in
        ["raw/thin", "qcow2/thin", "vhdx/thin", "vhd/thin", "vmdk/stream", "vdi/thin", "vmdk/split", "vhd/full"]
    {
        let args = ["recast", "-", "out.vmdk", "--as", shape, "--force", "--receipt", "r.json", "--align", "1MiB"];
        let (code, _, told) = piped(&place, &args, &disk());
        assert_eq!(code, 0, "{shape}: {told}");
        // Where the size has to be known first, the bytes are put aside, which is said.
        let aside = ["vdi/thin", "vmdk/split", "vhd/full"].contains(&shape);
        assert_eq!(told.contains("is unpacked first"), aside, "{shape}: {told}");
        place.run(&["prove", "r.json"]).expect(0);
        place.run(&["recast", "disk.img", "grown.img", "--align", "1MiB", "--force"]).expect(0);
        place.run(&["prove", "grown.img", "out.vmdk"]).expect(0);
    }
    let mut bytes = fs::read(place.path("out.vmdk")).unwrap();
    bytes[9 << 20] ^= 1;
    fs::write(place.path("out.vmdk"), bytes).unwrap();
    place.run(&["prove", "r.json"]).expect(4);
    let (code, _, told) = piped(&place, &["recast", "-", "small.qcow2", "--grow", "1MiB"], &disk());
    assert!(code == 1 && told.contains("making it smaller (1048576) would lose its end"), "{told}");
    let (code, _, told) = piped(&place, &["recast", "-", "large.vhd", "--grow", "3TiB"], &disk());
    assert!(code == 1 && told.contains("it fits in qcow2, vmdk, vhdx, vdi, raw"), "{told}");
    assert!(!place.tree().iter().any(|name| name.starts_with('.') || name.starts_with("small")), "{:?}", place.tree());
}

#[test]
fn raw_bytes_are_packed_as_a_whole() {
    let place = Place::new();
    place.write("disk.img", &disk());
    for name in ["guest.raw.zst", "guest.img.gz"] {
        let ran = place.run(&["recast", "disk.img", name, "--receipt", "r.json"]).expect(0);
        let packed = fs::read(place.path(name)).unwrap();
        assert!(packed.len() < 1 << 20, "{name}: {}", packed.len());
        let mut unpacked = Vec::new();
        match name.ends_with("gz") {
            true => flate2::read::MultiGzDecoder::new(&packed[..]).read_to_end(&mut unpacked).map(drop),
            false => zstd::stream::copy_decode(&packed[..], &mut unpacked),
        }
        .unwrap();
        assert!(unpacked == disk() && ran.out.contains("raw/thin, disk of 20.0 MiB in "), "{}", ran.out);
        place.run(&["prove", "r.json"]).expect(0);
        fs::remove_file(place.path("r.json")).unwrap();
        place.run(&["recast", name, "back.vdi", "--force"]).expect(0);
        place.run(&["prove", "disk.img", "back.vdi"]).expect(0);
        let (code, out, _) = piped(&place, &["recast", "-", "-", "--from", "raw"], &packed);
        assert!(code == 0 && out == packed, "what is declared raw is raw");
        let survey = place.run(&["survey", name, "--json"]).expect(0).json();
        let disk = &survey["targets"][0]["disks"][0];
        assert_eq!((&disk["stream"]["format"], &disk["image"]), (&"raw".into(), &serde_json::Value::Null));
    }
}

fn zip(stored: &[(&str, &[u8])], packed: &[(&str, &[u8])]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (files, method) in [(stored, zip::CompressionMethod::Stored), (packed, zip::CompressionMethod::Deflated)] {
        for (name, bytes) in files {
            let options = zip::write::SimpleFileOptions::default().compression_method(method);
            writer.start_file(*name, options).unwrap();
            writer.write_all(bytes).unwrap();
        }
    }
    writer.finish().unwrap().into_inner()
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    flate2::read::GzEncoder::new(bytes, flate2::Compression::fast()).read_to_end(&mut out).unwrap();
    out
}

#[test]
fn members_of_archives_are_sources() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.run(&["recast", "disk.img", "disk.qcow2"]).expect(0);
    let qcow2 = fs::read(place.path("disk.qcow2")).unwrap();
    let packed = gzip(&disk());
    let files: [(&str, &[u8]); 3] = [("in/disk.img", &disk()), ("in/disk.qcow2", &qcow2), ("in/disk.img.gz", &packed)];
    place.write("stored.zip", &zip(&files, &[]));
    place.write("packed.zip", &zip(&[], &files));
    let mut tar = Vec::new();
    ova::archive(&mut tar, &files).unwrap();
    place.write("plain.tar", &tar);
    place.write("packed.tar.gz", &gzip(&tar));
    for archive in ["stored.zip", "packed.zip", "plain.tar", "packed.tar.gz"] {
        for (name, _) in files {
            let ran = place.run(&["recast", &format!("{archive}/{name}"), "out.vhdx", "--force"]).expect(0);
            let in_place = ["stored.zip", "plain.tar"].contains(&archive) && !name.ends_with("gz");
            assert_eq!(ran.out.contains("spooled"), !in_place && name.ends_with("qcow2"), "{archive} {name}");
            place.run(&["prove", "disk.img", "out.vhdx"]).expect(0);
        }
        let ran = place.run(&["recast", &format!("{archive}/absent"), "none.vhdx"]).expect(1);
        assert!(ran.err.contains("holds no member 'absent'"), "{}", ran.err);
    }
    let survey = place.run(&["survey", "stored.zip"]).expect(0).out;
    assert!(survey.contains("in/disk.qcow2") && survey.contains("qcow2/thin"), "{survey}");
    let survey = place.run(&["survey", "packed.zip"]).expect(0).out;
    assert!(survey.contains("qcow2 in zip, deflated"), "{survey}");
    place.run(&["prove", "packed.zip/in/disk.img", "disk.img"]).expect(0);
}

#[test]
fn pieces_that_count_on_are_one_disk() {
    let place = Place::new();
    let bytes = disk();
    for (index, piece) in bytes.chunks(7 << 20).enumerate() {
        place.write(&format!("disk.img.{index:03}"), piece);
    }
    place.write("whole.img", &bytes);
    place.run(&["recast", "disk.img.000", "out.qcow2"]).expect(0);
    place.run(&["prove", "whole.img", "out.qcow2"]).expect(0);
    let ran = place.run(&["recast", "disk.img.001", "none.qcow2"]).expect(1);
    assert!(ran.err.contains("begins with 'disk.img.000'"), "{}", ran.err);
    fs::remove_file(place.path("disk.img.001")).unwrap();
    let ran = place.run(&["recast", "disk.img.000", "none.qcow2"]).expect(1);
    assert!(ran.err.contains("'disk.img.001' is not there"), "{}", ran.err);
    // Days are no pieces.
    for day in ["disk.20261122", "disk.20261123"] {
        place.write(day, &bytes);
    }
    place.run(&["prove", "disk.20261123", "whole.img"]).expect(0);
}

/// A fixed VHD begins as the raw disk does, and shows only at its end that it is none.
#[test]
fn a_fixed_vhd_in_a_pipe_is_not_taken_for_raw() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.run(&["recast", "disk.img", "fixed.vhd", "--as", "vhd/full"]).expect(0);
    let fixed = fs::read(place.path("fixed.vhd")).unwrap();
    let (code, _, told) = piped(&place, &["recast", "-", "out.qcow2"], &fixed);
    assert!(code == 1 && told.contains("ended with the footer of a VHD"), "{told}");
    assert!(!place.tree().contains(&"out.qcow2".to_string()));
    place.write("fixed.vhd.gz", &gzip(&fixed));
    for args in
        [&["recast", "-", "out.qcow2", "--from", "vhd"][..], &["recast", "fixed.vhd.gz", "out.qcow2", "--force"]]
    {
        let (code, _, told) = piped(&place, args, &fixed);
        assert_eq!(code, 0, "{told}");
        place.run(&["prove", "disk.img", "out.qcow2"]).expect(0);
    }
}

#[test]
fn a_disk_in_several_files_appears_whole_or_not_at_all() {
    let place = Place::new();
    place.write("disk.img", &disk());
    let recast = ["recast", "disk.img", "out.vmdk", "--as", "vmdk/split"];
    place.run(&recast).expect(0);
    assert_eq!(place.tree(), ["disk.img", "out-s001.vmdk", "out.vmdk"]);
    place.run(&["prove", "disk.img", "out.vmdk"]).expect(0);
    // A piece that is there already is not replaced, and nothing else is made then.
    fs::remove_file(place.path("out.vmdk")).unwrap();
    let ran = place.run(&recast).expect(1);
    assert!(ran.err.contains("out-s001.vmdk' exists already"), "{}", ran.err);
    assert_eq!(place.tree(), ["disk.img", "out-s001.vmdk"]);
    Ran::from(place.command(&recast).arg("--force").output().unwrap()).expect(0);
    place.run(&["recast", "disk.img", "flat.vmdk", "--as", "vmdk/full"]).expect(0);
    place.run(&["prove", "out.vmdk", "flat.vmdk"]).expect(0);
    // What a killed run named already does not stand in the way of the next: it has both its names.
    for (name, piece) in [("out.vmdk", "out-s001.vmdk"), ("flat.vmdk", "flat-flat.vmdk")] {
        let partial = |name: &str| place.path(&format!(".{name}.reformis-partial"));
        fs::rename(place.path(name), partial(name)).unwrap();
        fs::hard_link(place.path(piece), partial(piece)).unwrap();
    }
    place.run(&recast).expect(0);
    place.run(&["recast", "disk.img", "flat.vmdk", "--as", "vmdk/full"]).expect(0);
    assert_eq!(place.tree(), ["disk.img", "flat-flat.vmdk", "flat.vmdk", "out-s001.vmdk", "out.vmdk"]);
}

/// Also with --force: not the disk below a delta, nor a piece, nor by the receipt.
#[test]
fn no_part_of_a_source_is_ever_replaced() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.run(&["recast", "disk.img", "flat.vmdk", "--as", "vmdk/full"]).expect(0);
    let before = fs::read(place.path("flat-flat.vmdk")).unwrap();
    for args in [
        &["flat.vmdk", "flat-flat.vmdk", "--as", "raw"][..],
        &["flat-flat.vmdk", "flat.vmdk", "--as", "vmdk/full", "--from", "raw"],
        &["flat.vmdk", "new.qcow2", "--receipt", "flat-flat.vmdk"],
        &["flat.vmdk", "new.qcow2", "--receipt", "flat.vmdk"],
    ] {
        let ran = Ran::from(place.command(&["recast", "--force"]).args(args).output().unwrap()).expect(1);
        assert!(ran.err.contains("a source is never written"), "{args:?}: {}", ran.err);
        assert!(fs::read(place.path("flat-flat.vmdk")).unwrap() == before, "{args:?}");
        assert_eq!(place.tree(), ["disk.img", "flat-flat.vmdk", "flat.vmdk"], "{args:?}");
    }
}

/// What stands in the way of reading is told by survey, and refused by recast, before anything is written.
#[test]
fn trouble_is_a_blocker() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.run(&["recast", "disk.img", "good.qcow2"]).expect(0);
    let good = fs::read(place.path("good.qcow2")).unwrap();
    for (at, value, code) in [(35, 2u8, "disk-encrypted"), (79, 2, "image-corrupt")] {
        let mut bytes = good.clone();
        bytes[at] = value;
        place.write("bad.qcow2", &bytes);
        let survey = place.run(&["survey", "bad.qcow2"]).expect(0).out;
        assert!(survey.contains("blocker") && survey.contains("20.0 MiB"), "{survey}");
        let ran = place.run(&["recast", "bad.qcow2", "out.img"]).expect(3);
        assert!(ran.err.contains(code), "{}", ran.err);
    }
    let mut bytes = good;
    bytes[79] = 1;
    place.write("bad.qcow2", &bytes);
    let ran = place.run(&["recast", "bad.qcow2", "out.img"]).expect(0);
    assert!(ran.out.contains("image-dirty") && ran.out.contains("note"), "{}", ran.out);
}
