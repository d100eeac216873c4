//! What a person may point at, and what each is taken for.

use std::{fs, io::Write, path::Path};

use reformis_disk::{budget::Budget, source::Links};
use reformis_machine::MachineFile;
use reformis_move::{
    Error, Result,
    target::{self, Kind, Opening, Pick, Target},
};

use crate::common::{BERTHS, Place, disk};

fn open_as(path: &Path, machine: Pick<'_>) -> Result<Target> {
    target::open(
        path,
        &Opening { machine, ..Opening::new(Links::OwnFolder, &Budget::whole(), &reformis_wire::Wires::plain()) },
    )
}

fn open(path: &Path) -> Result<Target> {
    open_as(path, Pick::Only)
}

fn refused(path: &Path) -> Error {
    open(path).map(|target| target.kind).expect_err("it was taken for something")
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut to = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    to.write_all(bytes).unwrap();
    to.finish().unwrap()
}

#[test]
fn each_kind_of_thing_is_told_by_what_is_in_it() {
    let place = Place::berths();
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    place.write("berths.img.gz", &gzip(&disk()));
    // By what is inside, not by the name.
    place.write("notes.txt", BERTHS.as_bytes());
    place.write("disk.qcow2.bak", &disk());
    let kinds = [
        (place.path("berths.xml"), Kind::Beside(MachineFile::DomainXml), 1),
        (place.path("notes.txt"), Kind::Beside(MachineFile::DomainXml), 1),
        (place.path("berths.img"), Kind::Disk, 1),
        (place.path("disk.qcow2.bak"), Kind::Disk, 1),
        (place.path("berths.img.gz"), Kind::Stream, 1),
        (demo.join("tidelog.ova"), Kind::Packed(MachineFile::Ovf), 2),
        (demo.join("ledger/ledger.vmx"), Kind::Beside(MachineFile::Vmx), 2),
        (demo.join("ledger"), Kind::Beside(MachineFile::Vmx), 2),
    ];
    for (path, kind, disks) in kinds {
        let target = open(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
        assert_eq!((target.kind, target.disks.len()), (kind, disks), "{}", path.display());
        assert_eq!(target.described.is_some(), !matches!(kind, Kind::Disk | Kind::Stream), "{}", path.display());
        assert!(target.disks.iter().all(|disk| disk.is_readable() || kind == Kind::Stream));
    }
}

#[test]
fn a_folder_is_the_one_thing_in_it() {
    let place = Place::of("x");
    let folder = place.path("exports");
    fs::create_dir(&folder).unwrap();
    let put = |name: &str, bytes: &[u8]| fs::write(folder.join(name), bytes).unwrap();
    assert!(matches!(refused(&folder), Error::NothingHere { .. }));
    put("readme.txt", b"The servers of Saltmarsh Sound.\n");
    put(".hidden.img", &disk());
    assert!(matches!(refused(&folder), Error::NothingHere { .. }));
    put("berths.img", &disk());
    assert_eq!(open(&folder).unwrap().kind, Kind::Disk);
    // A machine comes before its disks.
    put("berths.xml", BERTHS.as_bytes());
    assert_eq!(open(&folder).unwrap().kind, Kind::Beside(MachineFile::DomainXml));
    put("other.xml", BERTHS.replace(">berths<", ">other<").as_bytes());
    match refused(&folder) {
        Error::SeveralHere { files, .. } => assert_eq!(files, ["berths.xml", "other.xml"]),
        other => panic!("{other}"),
    }
}

#[test]
fn one_of_several_machines_is_picked_by_name_or_place() {
    let sample = Path::new(env!("CARGO_MANIFEST_DIR")).join("../machine/tests/machine/samples/fleet-of-two.ovf");
    let Error::Several { names, .. } = refused(&sample) else { panic!("one was picked") };
    assert_eq!(names.len(), 2);
    for (number, name) in names.iter().enumerate() {
        for pick in [Pick::Named(name), Pick::Nth(number)] {
            let described = open_as(&sample, pick).unwrap().described.unwrap();
            assert_eq!((described.names.len(), described.names[number].as_str()), (2, name.as_str()));
        }
    }
    let unknown = open_as(&sample, Pick::Named("nobody")).map(drop).unwrap_err();
    assert!(matches!(unknown, Error::NoSuchMachine { ref names, .. } if names.len() == 2), "{unknown}");
}

#[test]
fn what_is_nothing_is_an_error_that_names_it() {
    let place = Place::of("x");
    place.write("empty", b"");
    place.write("letter.txt", b"Dear harbour office,\n");
    place.write("cut.xml", &BERTHS.as_bytes()[..200]);
    place.write("bomb.xml", b"<!DOCTYPE domain [<!ENTITY a 'b'>]><domain><name>&a;</name></domain>");
    for name in ["missing.img", "empty", "letter.txt", "cut.xml", "bomb.xml"] {
        let said = refused(&place.path(name)).to_string();
        assert!(said.contains(name), "{name}: {said}");
    }
}

/// A disk that is not there, or lies where a file may not lead, is a finding: the others are told of all the same.
#[test]
fn disks_that_cannot_be_had_are_found_and_named() {
    let place = Place::berths();
    let second = "<disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='@'/><target dev='sdb' bus='sata'/></disk></devices>";
    let with = |file: &str| BERTHS.replace("</devices>", &second.replace('@', file));
    place.write("outside.img", &disk());
    fs::create_dir(place.path("inner")).unwrap();
    fs::copy(place.path("berths.img"), place.path("inner/berths.img")).unwrap();
    for (file, is_missing) in [("gone.img", true), ("../outside.img", false), ("/dev/zero", false)] {
        place.write("inner/two.xml", with(file).as_bytes());
        let target = open(&place.path("inner/two.xml")).unwrap();
        let codes: Vec<&str> = target.findings.iter().map(reformis_move::Finding::code).collect();
        let expected = if is_missing { "disk-missing" } else { "disk-unreadable" };
        assert!(codes.contains(&expected), "{file}: {codes:?}");
        assert_eq!(target.described.unwrap().machine.disks.len(), 2);
    }
}
