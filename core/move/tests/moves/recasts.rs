//! One disk into another shape: sizes, names and places, and what is refused.

use std::{fs, os::unix::fs::PermissionsExt, path::Path};

use reformis_disk::{Format, format::Squeeze, source::Links};
use reformis_move::{
    Error, Result,
    prove::prove_disks,
    recast::{Options, Recast, recast},
    receipt::Receipt,
};

use crate::common::{Place, disk, run};

const MIB: u64 = 1 << 20;

pub(crate) fn options(place: &Place, source: &str, result: &str) -> Options {
    Options {
        source: place.path(source),
        result: place.path(result),
        from: None,
        snapshot: None,
        shape: None,
        squeeze: None,
        cluster: None,
        force: false,
        links: Links::OwnFolder,
        align: None,
        grow: None,
        receipt: None,
        in_place: false,
    }
}

fn made(options: &Options) -> Result<Recast> {
    run(|context| recast(options, context))
}

fn place() -> Place {
    let place = Place::of("x");
    place.write("berths.img", &disk());
    place
}

fn same(one: &Path, other: &Path) -> bool {
    run(|context| prove_disks(one, other, None, Links::OwnFolder, context)).unwrap().holds
}

#[test]
fn the_name_says_the_shape_and_the_size_is_what_was_asked_for() {
    let place = place();
    let plain = made(&options(&place, "berths.img", "a.qcow2")).unwrap();
    let after = plain.after.unwrap();
    assert_eq!((after.shape.to_string().as_str(), after.virtual_size), ("qcow2/thin", 3 * MIB));
    assert!(plain.findings.is_empty() && same(&place.path("berths.img"), &place.path("a.qcow2")));

    let grown = Options { grow: Some(10 * MIB), align: Some(4 * MIB), ..options(&place, "a.qcow2", "b.vhdx") };
    let recast = made(&grown).unwrap();
    assert_eq!((recast.before.virtual_size, recast.after.unwrap().virtual_size), (3 * MIB, 12 * MIB));
    assert_eq!(recast.findings.iter().map(reformis_move::Finding::code).collect::<Vec<_>>(), ["size-rounded"]);
    let less = Options { grow: Some(MIB), ..options(&place, "a.qcow2", "c.raw") };
    assert!(matches!(made(&less), Err(Error::Shrink { size, asked, .. }) if size == 3 * MIB && asked == MIB));
    let beyond = Options { align: Some(u64::MAX / 2 + 2), grow: Some(u64::MAX), ..options(&place, "a.qcow2", "c.raw") };
    assert!(made(&beyond).is_err());
    assert!(!place.path("c.raw").exists());

    // A name that says another format than is asked for.
    let shape = Some("vdi/thin".parse().unwrap());
    let other = made(&Options { shape, ..options(&place, "berths.img", "d.vmdk") }).unwrap();
    assert_eq!(other.findings.iter().map(reformis_move::Finding::code).collect::<Vec<_>>(), ["misleading-name"]);
    assert_eq!(other.after.unwrap().shape.format, Format::Vdi);
    assert!(made(&options(&place, "berths.img", "nameless")).is_err(), "nothing says which shape");
}

#[test]
fn what_exists_stays_unless_it_is_meant_and_a_source_is_never_its_result() {
    let place = place();
    place.write("there.qcow2", b"a letter");
    let over = options(&place, "berths.img", "there.qcow2");
    assert!(made(&over).is_err());
    assert_eq!(fs::read(place.path("there.qcow2")).unwrap(), b"a letter");
    made(&Options { force: true, ..over }).unwrap();
    assert!(same(&place.path("there.qcow2"), &place.path("berths.img")));
    // By another name, too.
    std::os::unix::fs::symlink(place.path("berths.img"), place.path("link.img")).unwrap();
    for result in ["berths.img", "link.img"] {
        let onto =
            Options { force: true, shape: Some("raw/thin".parse().unwrap()), ..options(&place, "berths.img", result) };
        assert!(matches!(made(&onto), Err(Error::SameFile { .. })), "{result}");
    }
    let receipt = Some(place.path("berths.img"));
    let onto = Options { force: true, receipt, ..options(&place, "berths.img", "e.qcow2") };
    assert!(matches!(made(&onto), Err(Error::SameFile { .. })));
    assert_eq!(fs::read(place.path("berths.img")).unwrap(), disk());
}

#[test]
fn a_receipt_says_what_was_read_and_what_was_made() {
    let place = place();
    fs::set_permissions(place.path("berths.img"), fs::Permissions::from_mode(0o600)).unwrap();
    let receipt = place.path("receipt.json");
    let squeeze = Some(Squeeze::Zstd);
    let wish = Options { squeeze, receipt: Some(receipt.clone()), ..options(&place, "berths.img", "f.qcow2") };
    let recast = made(&wish).unwrap();
    let read: Receipt = serde_json::from_slice(&fs::read(&receipt).unwrap()).unwrap();
    assert_eq!(read.disks.len(), 1);
    let disk = &read.disks[0];
    assert_eq!((disk.content_digest.as_str(), disk.after.virtual_size), (recast.content_digest.as_str(), 3 * MIB));
    assert!(
        disk.result.ends_with("/f.qcow2") && read.sources.iter().any(|source| source.path.ends_with("/berths.img"))
    );
    // Nobody may open what was made who may not open its source.
    for name in ["f.qcow2", "receipt.json"] {
        assert_eq!(fs::metadata(place.path(name)).unwrap().permissions().mode() & 0o077, 0, "{name}");
    }
}

#[test]
fn what_is_packed_as_a_whole_goes_both_ways() {
    let place = place();
    let raw = Some("raw/thin".parse().unwrap());
    for ending in ["gz", "zst"] {
        let packed = format!("g.img.{ending}");
        made(&Options { shape: raw, ..options(&place, "berths.img", &packed) }).unwrap();
        let size = fs::metadata(place.path(&packed)).unwrap().len();
        assert!(size < 2 * MIB, "{ending}: {size}");
        let back = format!("{ending}.img");
        made(&options(&place, &packed, &back)).unwrap();
        assert_eq!(fs::read(place.path(&back)).unwrap(), disk(), "{ending}");
        // Cut short: an error, and nothing made.
        let bytes = fs::read(place.path(&packed)).unwrap();
        place.write(&packed, &bytes[..bytes.len() - 9]);
        assert!(made(&options(&place, &packed, "cut.img")).is_err());
        assert!(!place.path("cut.img").exists());
    }
}
