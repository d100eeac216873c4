//! Deltas that the stand-ins build by hand, over disks that we or they wrote.

use std::{fs, ops::Range, path::Path};

use reformis_disk::{
    Error, Trouble,
    budget::Budget,
    container, format,
    source::{Links, MemoryStorage},
};
use reformis_standin::{
    content::Content,
    deltas::{Delta, datastore, vdi, vhd, vhdx},
};

use crate::common::{ContentDisk, assert_holds, open, write};

const MIB: u64 = 1 << 20;

/// A disk, what was written over it, and both together.
struct Case {
    base: Content,
    written: Vec<Range<u64>>,
    whole: Content,
}

/// The second run ends with the disk; the base is shorter, so that the delta's end lies over nothing.
fn case() -> Case {
    let base = Content::empty(5 * MIB).with(0, 700_000, 1).with(3 * MIB, MIB, 2);
    let size = 5 * MIB + 77 * 512;
    let written = vec![512..1024, 600_064..1_000_448, 2 * MIB..3 * MIB + 512, size - 512..size];
    let mut whole = Content { size, ..base.clone() };
    for (seed, range) in written.iter().enumerate() {
        whole = whole.with(range.start, range.end - range.start, seed as u64 + 10);
    }
    Case { base, written, whole }
}

impl Case {
    fn delta(&self) -> Delta<'_> {
        Delta { whole: &self.whole, written: &self.written }
    }
}

/// The delta at `path` is `whole`, found by its content, and its chain has one disk, called `parent`.
fn assert_delta(path: &Path, whole: &Content, parent: &str) {
    let image = format::open(container::open(path, &Budget::whole()).unwrap(), None).unwrap();
    assert_holds(image.disk.as_ref(), whole);
    assert_eq!(image.facts.chain, [parent]);
    assert_eq!(image.facts.parents[0].virtual_size, 5 * MIB);
    assert!(image.files.iter().any(|file| file.name().ends_with(parent)));
    // What the extents call zero is zero.
    for extent in reformis_disk::disk::extents(image.disk.as_ref()) {
        let extent = extent.unwrap();
        assert!(extent.kind == reformis_disk::ExtentKind::Data || !whole.touches(extent.start, extent.len));
    }
}

/// The delta at `path` tells what it keeps above the image in the file `below` beside it: whatever is not there is as it is there, and
/// it is no more than what was `written`, in units of `unit` bytes, and what lies behind the end of `below`.
fn assert_above(path: &Path, below: &str, written: &[Range<u64>], unit: u64) {
    let image = format::open(container::open(path, &Budget::whole()).unwrap(), None).unwrap();
    let file = image.files.iter().find(|file| Path::new(file.name()).ends_with(below)).unwrap();
    let above = image.above(file.as_ref(), 1000, &|| false).unwrap().unwrap();
    assert!(above.is_sorted_by(|one, next| one.end < next.start), "{above:?}");
    let under = open(&path.with_file_name(below)).unwrap();
    let (mut at, mut least) = (0, 0);
    for range in above.iter().cloned().chain([image.disk.size()..image.disk.size()]) {
        if range.start > at {
            let len = usize::try_from(range.start - at).unwrap();
            let (mut one, mut other) = (vec![1; len], vec![2; len]);
            image.disk.read_at(at, &mut one).unwrap();
            under.read_at(at, &mut other).unwrap();
            assert!(one == other, "from {at} to {}", range.start);
        }
        at = range.end;
        least += range.end - range.start;
    }
    let units = |range: &Range<u64>| range.end.next_multiple_of(unit) - range.start / unit * unit;
    let most = written.iter().map(units).sum::<u64>() + (image.disk.size() - under.size()).next_multiple_of(unit);
    assert!(least <= most, "{least} of {most}: {above:?}");
    if above.len() > 1 {
        assert_eq!(image.above(file.as_ref(), above.len() - 1, &|| false).unwrap(), None);
    }
    assert!(matches!(image.above(file.as_ref(), 1000, &|| true), Err(Error::Interrupted)));
    // Of another disk, it says nothing.
    let whole = 0..image.disk.size();
    let strange = MemoryStorage::new("elsewhere", vec![0; 512]);
    assert_eq!(image.above(&strange, 1000, &|| false).unwrap(), Some(vec![whole]));
}

/// The delta opens, tells what is wrong, and is not read.
fn assert_wrong_parent(path: &Path, found: &str) {
    let image = format::open(container::open(path, &Budget::whole()).unwrap(), None).unwrap();
    let [Trouble::WrongParent { found: told, .. }] = &image.facts.troubles[..] else {
        panic!("{:?}", image.facts.troubles)
    };
    assert_eq!(told, found);
    assert!(matches!(image.disk.read_at(0, &mut [0; 512]), Err(Error::Trouble(_))));
}

#[test]
fn a_differencing_vhd_is_read_by_its_bitmaps() {
    let folder = tempfile::tempdir().unwrap();
    let case = case();
    let base = folder.path().join("base.vhd");
    write(&ContentDisk(case.base.clone()), "vhd", &base).unwrap();
    let uuid: [u8; 16] = fs::read(&base).unwrap()[68..84].try_into().unwrap();
    let path = folder.path().join("delta.vhd");
    fs::write(&path, vhd::image(&case.delta(), uuid, "base.vhd")).unwrap();
    assert_delta(&path, &case.whole, "base.vhd");
    assert_above(&path, "base.vhd", &case.written, 512);

    write(&ContentDisk(case.base.clone()), "vhd", &base).unwrap();
    let uuid: [u8; 16] = fs::read(&base).unwrap()[68..84].try_into().unwrap();
    assert_wrong_parent(&path, &uuid::Uuid::from_bytes(uuid).to_string());
    fs::remove_file(&base).unwrap();
    assert!(open(&path).map(drop).unwrap_err().to_string().contains("No such file"));
    // A name that climbs finds only what lies beside.
    fs::write(&path, vhd::image(&case.delta(), uuid, "..\\base.vhd")).unwrap();
    assert!(open(&path).map(drop).unwrap_err().to_string().contains("climbs out of its folder"));
}

#[test]
fn a_differencing_vhdx_is_read_by_its_bitmaps() {
    let folder = tempfile::tempdir().unwrap();
    let case = case();
    let base = folder.path().join("base.vhdx");
    write(&ContentDisk(case.base.clone()), "vhdx", &base).unwrap();
    let state = |path: &Path| {
        let bytes: [u8; 16] = fs::read(path).unwrap()[(64 << 10) + 32..][..16].try_into().unwrap();
        uuid::Uuid::from_bytes_le(bytes).to_string()
    };
    let path = folder.path().join("delta.vhdx");
    fs::write(&path, vhdx::image(&case.delta(), &state(&base).to_uppercase(), "base.vhdx")).unwrap();
    assert_delta(&path, &case.whole, "base.vhdx");
    assert_above(&path, "base.vhdx", &case.written, 512);

    write(&ContentDisk(case.base.clone()), "vhdx", &base).unwrap();
    assert_wrong_parent(&path, &state(&base));
}

#[test]
fn a_vdi_finds_its_parent_by_its_uuid() {
    let folder = tempfile::tempdir().unwrap();
    let case = case();
    let base = folder.path().join("renamed since.vdi");
    write(&ContentDisk(case.base.clone()), "vdi", &base).unwrap();
    fs::write(folder.path().join("another.vdi"), b"no image").unwrap();
    let bytes = fs::read(&base).unwrap();
    let uuid = |at: usize| -> [u8; 16] { bytes[at..at + 16].try_into().unwrap() };
    let ids = vdi::Ids { own: [1; 16], state: [2; 16], parent: uuid(392), parent_state: uuid(408) };
    // Blocks are whole here, so that what the guest gave back is a whole block: one that the base has.
    let freed = 3 * MIB / (64 << 10) + 1;
    let block = freed * (64 << 10);
    let path = folder.path().join("delta.vdi");
    fs::write(&path, vdi::image(&case.delta(), &ids, Some(freed))).unwrap();
    let disk = open(&path).unwrap();
    let mut found = vec![1; 64 << 10];
    disk.read_at(block, &mut found).unwrap();
    assert!(found.iter().all(|&byte| byte == 0));
    fs::write(&path, vdi::image(&case.delta(), &ids, None)).unwrap();
    assert_delta(&path, &case.whole, "renamed since.vdi");
    assert_above(&path, "renamed since.vdi", &case.written, 64 << 10);

    let other = vdi::Ids { parent_state: [9; 16], ..ids };
    fs::write(&path, vdi::image(&case.delta(), &other, None)).unwrap();
    assert_wrong_parent(&path, &uuid::Uuid::from_bytes_le(uuid(408)).to_string());
    fs::remove_file(&base).unwrap();
    assert!(open(&path).map(drop).unwrap_err().to_string().contains("and no image in its folder has that UUID"));
}

#[test]
fn a_vdi_of_the_first_version_is_read() {
    let folder = tempfile::tempdir().unwrap();
    let content = Content::empty(5 * MIB + 512).with(100, 70_000, 1).with(5 * MIB, 512, 2);
    let whole = [0..content.size];
    let path = folder.path().join("old.vdi");
    fs::write(&path, vdi::old_image(&Delta { whole: &content, written: &whole })).unwrap();
    assert_holds(open(&path).unwrap().as_ref(), &content);
}

/// A base that both kinds of a datastore's deltas lie over, with its CID.
fn datastore_base(folder: &Path, case: &Case) -> String {
    write(&ContentDisk(case.base.clone()), "vmdk/full", &folder.join("base.vmdk")).unwrap();
    let text = fs::read_to_string(folder.join("base.vmdk")).unwrap();
    text.split("\nCID=").nth(1).unwrap()[..8].to_string()
}

#[test]
fn both_kinds_of_a_datastores_deltas_are_read() {
    let folder = tempfile::tempdir().unwrap();
    let mut case = case();
    let cid = datastore_base(folder.path(), &case);
    let path = folder.path().join("ledger-000001.vmdk");
    let extent = folder.path().join("ledger-000001-delta.vmdk");
    let sectors = case.whole.size / 512;
    let name = "ledger-000001-delta.vmdk";
    let hint = "/vmfs/volumes/1234/ledger/base.vmdk";
    fs::write(&path, datastore::descriptor(sectors, "VMFSSPARSE", name, &cid, hint)).unwrap();
    fs::write(&extent, datastore::cowd(&case.delta())).unwrap();
    assert_delta(&path, &case.whole, "base.vmdk");
    assert_above(&path, "base.vmdk", &case.written, 512);
    // Alone, an extent does not know of which disk it is a delta.
    assert!(open(&extent).map(drop).unwrap_err().to_string().contains("name the descriptor beside it"));

    // In grains of 4 KiB the delta has whole ones; two of the base's are zeros in it.
    let (zeroed, unmapped) = (3 * MIB / 4096 + 20, 3 * MIB / 4096 + 21);
    fs::write(&path, datastore::descriptor(sectors, "SESPARSE", name, &cid, hint)).unwrap();
    fs::write(&extent, datastore::space_efficient(&case.delta(), zeroed, unmapped)).unwrap();
    let disk = open(&path).unwrap();
    let mut found = vec![1; 8192];
    disk.read_at(zeroed * 4096, &mut found).unwrap();
    assert!(found.iter().all(|&byte| byte == 0));
    case.whole.runs.insert(2, reformis_standin::content::Run { offset: 0, len: 0, seed: 0 });
    let around = [(0, zeroed * 4096), ((unmapped + 1) * 4096, case.whole.size)];
    for (start, end) in around {
        let (mut found, mut expected) = (vec![0; (end - start) as usize], vec![0; (end - start) as usize]);
        disk.read_at(start, &mut found).unwrap();
        case.whole.read_at(start, &mut expected);
        assert!(found == expected);
    }

    let freed = [case.written.clone(), vec![zeroed * 4096..(unmapped + 1) * 4096]].concat();
    assert_above(&path, "base.vmdk", &freed, 4096);

    let mut bytes = fs::read(&extent).unwrap();
    bytes[512 + 24] = 1;
    fs::write(&extent, &bytes).unwrap();
    assert!(open(&path).map(drop).unwrap_err().to_string().contains("its journal holds writes"));
    let wrong = datastore::descriptor(sectors, "VMFSSPARSE", name, "0badcafe", hint);
    fs::write(&path, wrong).unwrap();
    fs::write(&extent, datastore::cowd(&case.delta())).unwrap();
    assert_wrong_parent(&path, &cid);
}

/// Three deltas over one another, of which the last is recast: the chain is one disk.
#[test]
fn a_chain_of_several_deltas_is_one_disk() {
    let folder = tempfile::tempdir().unwrap();
    let mut case = case();
    let cid = datastore_base(folder.path(), &case);
    let sectors = case.whole.size / 512;
    let case_written = case.written.clone();
    let mut below = ("base.vmdk".to_string(), cid);
    for number in 1..=3u64 {
        let run = number * 700_416..number * 700_416 + 51_200;
        case.whole = case.whole.with(run.start, run.end - run.start, 90 + number);
        if number > 1 {
            case.written = vec![run];
        } else {
            case.written.push(run);
        }
        let (name, extent) = (format!("d{number}.vmdk"), format!("d{number}-delta.vmdk"));
        fs::write(folder.path().join(&extent), datastore::cowd(&case.delta())).unwrap();
        let text = datastore::descriptor(sectors, "VMFSSPARSE", &extent, &below.1, &below.0);
        fs::write(folder.path().join(&name), text).unwrap();
        below = (name, "12345678".into());
    }
    let image = format::opener(Links::OwnFolder)
        .open(container::open(&folder.path().join("d3.vmdk"), &Budget::whole()).unwrap(), None)
        .unwrap();
    assert_eq!(image.facts.chain, ["d2.vmdk", "d1.vmdk", "base.vmdk"]);
    assert_holds(image.disk.as_ref(), &case.whole);
    // Extents, descriptors of the disks below, and the flat file of the last.
    assert_eq!(image.files.len(), 7);
    let runs: Vec<_> = (1..=3).map(|number| number * 700_416..number * 700_416 + 51_200).collect();
    assert_above(&folder.path().join("d3.vmdk"), "d2.vmdk", &runs[2..], 512);
    assert_above(&folder.path().join("d3.vmdk"), "d1.vmdk", &runs[1..], 512);
    assert_above(&folder.path().join("d3.vmdk"), "base.vmdk", &[&case_written[..], &runs].concat(), 512);
}

/// A qcow2 over a differencing VHDX over a dynamic one: what the formats allow may be mixed.
#[test]
fn formats_mix_in_a_chain() {
    let folder = tempfile::tempdir().unwrap();
    let case = case();
    let base = folder.path().join("base.vhdx");
    write(&ContentDisk(case.base.clone()), "vhdx", &base).unwrap();
    let id: [u8; 16] = fs::read(&base).unwrap()[(64 << 10) + 32..][..16].try_into().unwrap();
    let id = uuid::Uuid::from_bytes_le(id).to_string();
    fs::write(folder.path().join("delta.vhdx"), vhdx::image(&case.delta(), &id, "base.vhdx")).unwrap();
    let path = folder.path().join("top.qcow2");
    write(&reformis_disk::disk::EmptyDisk::new(case.whole.size), "qcow2", &path).unwrap();
    let mut bytes = fs::read(&path).unwrap();
    bytes[8..20].copy_from_slice(&[0, 0, 0, 0, 0, 0, 2, 0, 0, 0, 0, 10]);
    // The extension that declares the format, behind a header of 112 bytes, then the name at 512.
    bytes[112..125].copy_from_slice(b"\xe2\x79\x2a\xca\0\0\0\x04vhdx\0");
    bytes[512..522].copy_from_slice(b"delta.vhdx");
    fs::write(&path, &bytes).unwrap();
    let image = format::open(container::open(&path, &Budget::whole()).unwrap(), None).unwrap();
    assert_eq!(image.facts.chain, ["delta.vhdx", "base.vhdx"]);
    assert_holds(image.disk.as_ref(), &case.whole);
    assert_above(&path, "delta.vhdx", &[], 512);
    assert_above(&path, "base.vhdx", &case.written, 512);
    // Declared otherwise, it is that.
    bytes[120..124].copy_from_slice(b"raw\0");
    bytes[119] = 3;
    fs::write(&path, &bytes).unwrap();
    let mut start = [0; 8];
    open(&path).unwrap().read_at(0, &mut start).unwrap();
    assert_eq!(&start, b"vhdxfile");
}

/// A grain directory that leads nowhere is what the redundant one is for.
#[test]
fn the_redundant_directory_stands_in() {
    let folder = tempfile::tempdir().unwrap();
    let content = Content::empty(40 * MIB).with(MIB, 3 * MIB, 1);
    let path = folder.path().join("d.vmdk");
    write(&ContentDisk(content.clone()), "vmdk", &path).unwrap();
    let mut bytes = fs::read(&path).unwrap();
    bytes[56..64].copy_from_slice(&(1u64 << 40).to_le_bytes());
    fs::write(&path, &bytes).unwrap();
    let image = format::open(container::open(&path, &Budget::whole()).unwrap(), None).unwrap();
    assert!(image.facts.unclean && !image.facts.piece);
    assert_holds(image.disk.as_ref(), &content);
    bytes[48..56].copy_from_slice(&(1u64 << 40).to_le_bytes());
    fs::write(&path, &bytes).unwrap();
    assert!(open(&path).map(drop).unwrap_err().to_string().contains("cut short: the grain directory"));
}
