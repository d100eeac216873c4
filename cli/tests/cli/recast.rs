//! Disks into other shapes, from wherever they come.

use std::{
    fs,
    io::{Read, Write},
    process::Stdio,
};

use reformis_standin::content::Content;

use crate::support::{Place, Ran};

/// A raw disk of 20 MiB with a boot sector's signature, so that it is known without its name.
fn disk() -> Vec<u8> {
    let content = Content::empty(20 << 20).with(0, 100_000, 2).with(9 << 20, 300_000, 1);
    let mut bytes = vec![0; 20 << 20];
    content.read_at(0, &mut bytes);
    bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
    bytes
}

fn packed(kind: &str, bytes: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    match kind {
        "gz" => flate2::read::GzEncoder::new(bytes, flate2::Compression::fast()).read_to_end(&mut out).map(drop),
        "xz" => liblzma::read::XzEncoder::new(bytes, 1).read_to_end(&mut out).map(drop),
        "bz2" => bzip2::read::BzEncoder::new(bytes, bzip2::Compression::fast()).read_to_end(&mut out).map(drop),
        _ => zstd::stream::copy_encode(bytes, &mut out, 1),
    }
    .unwrap();
    out
}

#[test]
fn every_shape_from_every_shape() {
    let place = Place::new();
    place.write("disk.img", &disk());
    let shapes = reformis_disk::Shape::all().into_iter().map(|shape| shape.to_string());
    let mut before = "disk.img".to_string();
    for shape in shapes {
        let after = shape.replace('/', ".");
        let made = place.run(&["recast", &before, &after, "--as", &shape, "--json"]).expect(0).json();
        assert_eq!(made["recast"]["after"]["shape"], *shape);
        place.run(&["prove", "disk.img", &after]).expect(0);
        before = after;
    }
    for format in ["raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi"] {
        let (shape, at_least) = (format!("{format}.full"), 20u64 << 20);
        let survey = place.run(&["survey", &shape, "--json"]).expect(0).json();
        let allocated = survey["targets"][0]["disks"][0]["image"]["allocated"].as_u64().unwrap();
        assert!(allocated >= at_least, "{shape}: {allocated}");
    }
}

#[test]
fn what_is_compressed_as_a_whole_is_unpacked_on_the_way() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.run(&["recast", "disk.img", "disk.qcow2"]).expect(0);
    let qcow2 = fs::read(place.path("disk.qcow2")).unwrap();
    for kind in ["gz", "xz", "bz2", "zst"] {
        for (inner, bytes) in [("img", &disk()), ("qcow2", &qcow2)] {
            let name = format!("{inner}.{kind}");
            place.write(&name, &packed(kind, bytes));
            let ran = place.run(&["recast", &name, "out.vhdx", "--force"]).expect(0);
            // Raw bytes go straight through; what has tables is unpacked first, and that is said before it starts.
            let spooled = ran.err.contains("is unpacked first") && ran.out.contains("spooled");
            assert_eq!(spooled, inner == "qcow2", "{}", ran.err);
            place.run(&["prove", "disk.img", "out.vhdx"]).expect(0);
        }
        let whole = packed(kind, &disk());
        place.write("cut", &whole[..whole.len() / 2]);
        let ran = place.run(&["recast", "cut", "none.vhdx"]).expect(1);
        assert!(ran.err.contains("'cut' is damaged: after "), "{kind}: {}", ran.err);
        assert!(!place.tree().iter().any(|name| name.contains("none") || name.starts_with('.')), "{:?}", place.tree());
    }
}

#[test]
fn a_pipe_is_a_source() {
    let place = Place::new();
    place.write("disk.img", &disk());
    for bytes in [disk(), packed("gz", &disk())] {
        let mut child = place
            .command(&["recast", "-", "guest.vhdx", "--force"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(&bytes).unwrap();
        Ran::from(child.wait_with_output().unwrap()).expect(0);
        place.run(&["prove", "disk.img", "guest.vhdx"]).expect(0);
    }
}

#[test]
fn a_disk_grows_and_never_shrinks() {
    let place = Place::new();
    place.write("disk.img", &disk()[..5_000_192]);
    let size = |name: &str| {
        let survey = place.run(&["survey", name, "--json"]).expect(0).json();
        survey["targets"][0]["disks"][0]["size"].as_u64().unwrap()
    };
    place.run(&["recast", "disk.img", "a.vhd", "--as", "vhd/full", "--align", "1MiB"]).expect(0);
    assert_eq!((size("a.vhd"), fs::metadata(place.path("a.vhd")).unwrap().len()), (5 << 20, (5 << 20) + 512));
    place.run(&["recast", "disk.img", "b.vdi", "--grow", "1GiB"]).expect(0);
    assert_eq!(size("b.vdi"), 1 << 30);
    let ran = place.run(&["recast", "disk.img", "c.vdi", "--grow", "4MiB"]).expect(1);
    assert!(ran.err.contains("making it smaller (4194304) would lose its end"), "{}", ran.err);
    let ran = place.run(&["recast", "disk.img", "d.vhd", "--grow", "3TiB"]).expect(1);
    assert!(ran.err.contains("a disk of 3 TiB is more than the 1.99 TiB that vhd holds"), "{}", ran.err);
    assert!(!place.tree().iter().any(|name| name.starts_with('.') || name.starts_with('c') || name.starts_with("d.v")));
}

/// The fields of our own header that make an image a delta.
fn delta_of(name: &str, image: &[u8]) -> Vec<u8> {
    let mut bytes = image.to_vec();
    bytes[8..16].copy_from_slice(&4096u64.to_be_bytes());
    bytes[16..20].copy_from_slice(&(name.len() as u32).to_be_bytes());
    bytes[4096..4096 + name.len()].copy_from_slice(name.as_bytes());
    bytes
}

#[test]
fn a_delta_leads_nowhere_that_it_may_not() {
    let place = Place::new();
    place.write("disk.img", &disk());
    place.run(&["recast", "disk.img", "empty.qcow2", "--grow", "40MiB"]).expect(0);
    let image = fs::read(place.path("empty.qcow2")).unwrap();
    place.write("in/base.img", &disk());
    place.write("secret.img", &disk());
    for (name, part) in [
        ("loop.qcow2", "comes back to 'in/loop.qcow2'"),
        ("../secret.img", "climbs out of its folder"),
        ("/etc/passwd", "the name is absolute"),
        ("json:{}", "which is not a file"),
        ("nbd://host/disk", "which is not a file"),
        ("absent.img", "No such file"),
    ] {
        place.write("in/loop.qcow2", &delta_of(name, &image));
        let ran = place.run(&["recast", "in/loop.qcow2", "out.img"]).expect(1);
        assert!(ran.err.contains(part), "{name}: {}", ran.err);
    }
    place.write("in/loop.qcow2", &delta_of("../secret.img", &image));
    place.run(&["recast", "in/loop.qcow2", "out.img", "--trust-links"]).expect(0);
    // Neither a link nor a device is a way out; a device is none with trust either.
    std::os::unix::fs::symlink("../secret.img", place.path("in/link.img")).unwrap();
    for (name, trust, part) in [
        ("link.img", None, "a symbolic link leads it out"),
        ("/dev/zero", Some("--trust-links"), "that is not a plain file"),
    ] {
        place.write("in/loop.qcow2", &delta_of(name, &image));
        let mut command = place.command(&["recast", "in/loop.qcow2", "none.img"]);
        let ran = Ran::from(command.args(trust).output().unwrap()).expect(1);
        assert!(ran.err.contains(part), "{name}: {}", ran.err);
    }
    // A guest that writes such a header to its raw disk does not get its neighbour read.
    place.write("in/guest.raw", &delta_of("base.img", &image));
    let ran = place.run(&["recast", "in/guest.raw", "none.img"]).expect(1);
    assert!(ran.err.contains("a guest may have written that") && ran.err.contains("--from raw"), "{}", ran.err);
    place.run(&["recast", "in/guest.raw", "kept.img", "--from", "raw"]).expect(0);
    assert_eq!(fs::read(place.path("kept.img")).unwrap(), delta_of("base.img", &image));
    place.run(&["recast", "in/guest.raw", "read.img", "--from", "qcow2"]).expect(0);
    place.write("in/loop.qcow2", &delta_of("base.img", &image));
    let survey = place.run(&["survey", "in/loop.qcow2"]).expect(0).out;
    assert!(survey.contains("delta of") && survey.contains("base.img"), "{survey}");
}
