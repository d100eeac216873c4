//! Every shape that is written, read back: sizes around every boundary, holes, and zeros that are stored.

use std::{
    path::Path,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
};

use crate::common::{ContentDisk, assert_holds, every_image, open, open_bytes, watch, write, write_new};
use proptest::prelude::*;
use reformis_disk::{
    Disk, Error, ExtentKind, Format, Layout,
    budget::Budget,
    copy::{pipeline, watch::Watch},
    disk::{EmptyDisk, extents},
    format::{self, NewImage},
};
use reformis_standin::{content::Content, export, qcow2_check};

const MIB: u64 = 1 << 20;

/// Sizes near multiples of a sector, grain or cluster, block, and table range.
fn size() -> impl Strategy<Value = u64> {
    let unit = prop_oneof![Just(512u64), Just(4096), Just(65536), Just(MIB), Just(32 * MIB)];
    (unit, 1u64..5, 0u64..3).prop_map(|(unit, times, off)| (unit * times + off * 512).saturating_sub(512).max(512))
}

fn content() -> impl Strategy<Value = Content> {
    size().prop_flat_map(|size| {
        let run = (0..size, 1u64..200_000, any::<u64>());
        prop::collection::vec(run, 0..6).prop_map(move |runs| {
            runs.into_iter().fold(Content::empty(size), |content, (offset, len, seed)| {
                content.with(offset, len.min(size - offset), seed)
            })
        })
    })
}

fn small_content() -> impl Strategy<Value = Content> {
    let unit = prop_oneof![Just(512u64), Just(4096), Just(65536), Just(MIB)];
    let size = (unit, 1u64..4, 0u64..3).prop_map(|(unit, times, off)| (unit * times + off * 512).max(1024) - 512);
    size.prop_flat_map(|size| {
        prop::collection::vec((0..size, 1u64..200_000, any::<u64>()), 0..4).prop_map(move |runs| {
            runs.into_iter().fold(Content::empty(size), |content, (offset, len, seed)| {
                content.with(offset, len.min(size - offset), seed)
            })
        })
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// From one shape into another, through all of them in any order. A writer knows nothing of who reads, so that each pair on
    /// its own would show no more.
    #[test]
    fn any_journey_through_all_shapes_ends_with_the_same(
        (content, images) in small_content().prop_flat_map(|content| {
            let images = Just(every_image(content.size)).prop_shuffle();
            (Just(content), images)
        }),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let source = ContentDisk(content.clone());
        let digest = pipeline::scan(&source, &watch()).unwrap();
        let mut disk: Arc<dyn Disk> = Arc::new(source);
        for (number, image) in images.iter().enumerate() {
            let path = folder.path().join(format!("{number}.vmdk"));
            let copied = write_new(disk.as_ref(), image, &path).unwrap();
            prop_assert_eq!(copied.digest, digest, "into {}", image.shape);
            disk = open_as(&path, image.shape.format);
        }
        assert_holds(disk.as_ref(), &content);
    }

    #[test]
    fn what_is_written_reads_back(content in content()) {
        let folder = tempfile::tempdir().unwrap();
        let source = ContentDisk(content.clone());
        let digest = pipeline::scan(&source, &watch()).unwrap();
        for image in every_image(content.size) {
            let path = folder.path().join("image.vmdk");
            let copied = write_new(&source, &image, &path).unwrap();
            let disk = open_as(&path, image.shape.format);
            assert_holds(disk.as_ref(), &content);
            prop_assert_eq!(copied.digest, digest);
            prop_assert_eq!(pipeline::scan(disk.as_ref(), &watch()).unwrap(), digest);
            check_extents(disk.as_ref(), &content)?;
            if image.shape.format == Format::Qcow2 {
                let counts = qcow2_check::check(&path).unwrap();
                let thin = image == NewImage::new(image.shape, content.size) && image.shape.layout == Layout::Thin;
                prop_assert_eq!(counts.free_clusters, 0);
                let most = content.runs.iter().map(|r| r.len + 2 * 65536).sum::<u64>();
                prop_assert!(!thin || counts.data_clusters * 65536 <= most);
            }
        }
    }

    /// Against looking at every byte: the first difference outside what is allowed, and the digests of both.
    #[test]
    fn a_comparison_is_that_of_the_bytes(
        base in small_content(),
        changes in prop::collection::vec((any::<prop::sample::Index>(), 1u64..90_000, any::<u64>()), 0..3),
        allowed in prop::collection::vec((any::<prop::sample::Index>(), 1u64..300_000), 0..3),
    ) {
        let size = base.size;
        let at = |index: prop::sample::Index| index.index(size as usize) as u64;
        let changed = changes.into_iter().fold(base.clone(), |content, (index, len, seed)| {
            let start = at(index);
            content.with(start, len.min(size - start), seed)
        });
        let mut ranges: Vec<std::ops::Range<u64>> = Vec::new();
        for (index, len) in allowed {
            reformis_disk::overlay::add_range(&mut ranges, at(index)..(at(index) + len).min(size));
        }
        let bytes = |content: &Content| {
            let mut bytes = vec![0; size as usize];
            content.read_at(0, &mut bytes);
            bytes
        };
        let (left, right) = (bytes(&base), bytes(&changed));
        let differs = |at: &usize| left[*at] != right[*at] && !ranges.iter().any(|range| range.contains(&(*at as u64)));
        let expected = (0..left.len()).find(differs).map(|at| at as u64);
        let (one, other) = (ContentDisk(base), ContentDisk(changed));
        let compared = pipeline::compare(&one, &other, &ranges, &watch()).unwrap();
        prop_assert_eq!(compared.first_difference, expected);
        prop_assert_eq!(compared.differing == 0, left == right);
        prop_assert_eq!(compared.left, pipeline::scan(&one, &watch()).unwrap());
        prop_assert_eq!(compared.right, pipeline::scan(&other, &watch()).unwrap());
    }

    /// A raw disk cut anywhere into files that count on is the disk, holes and all.
    #[test]
    fn pieces_that_count_on_are_one_disk(content in small_content(), piece in 512u64..2_000_000) {
        let folder = tempfile::tempdir().unwrap();
        let mut whole = vec![0; content.size as usize];
        content.read_at(0, &mut whole);
        // A boot sector tells that it is a disk; each content has room for one.
        whole[510..512].copy_from_slice(&[0x55, 0xaa]);
        let piece = piece.max(content.size / 90 + 1) as usize;
        for (number, bytes) in whole.chunks(piece).enumerate() {
            std::fs::write(folder.path().join(format!("disk.img.{number:03}")), bytes).unwrap();
        }
        let disk = open(&folder.path().join("disk.img.000")).unwrap();
        prop_assert_eq!(disk.size(), content.size);
        let mut found = vec![1; whole.len()];
        disk.read_at(0, &mut found).unwrap();
        prop_assert!(found == whole);
        let end = extents(disk.as_ref()).map(|extent| extent.unwrap()).fold(0, |end, extent| {
            assert_eq!(extent.start, end);
            extent.end()
        });
        prop_assert_eq!(end, content.size);
    }

    #[test]
    fn a_foreign_stream_reads_exactly(content in content()) {
        let bytes = export::stream_vmdk_of(&content, "made-up.vmdk").unwrap();
        let disk = open_bytes(&bytes).unwrap();
        assert_holds(disk.as_ref(), &content);
        check_extents(disk.as_ref(), &content)?;
    }
}

fn open_as(path: &Path, format: Format) -> Arc<dyn Disk> {
    format::open(reformis_disk::container::open(path, &Budget::whole()).unwrap(), Some(format)).unwrap().disk
}

/// The extents cover the disk, and what they call zero is zero.
fn check_extents(disk: &dyn Disk, content: &Content) -> Result<(), TestCaseError> {
    let mut end = 0;
    for extent in extents(disk) {
        let extent = extent.unwrap();
        prop_assert_eq!(extent.start, end);
        prop_assert!(extent.len > 0);
        prop_assert!(extent.kind == ExtentKind::Data || !content.touches(extent.start, extent.len));
        end = extent.end();
    }
    prop_assert_eq!(end, content.size);
    Ok(())
}

/// Data on both sides of where a piece of 2 GiB ends, and pieces in which there is none.
#[test]
fn pieces_join_where_they_meet() {
    let folder = tempfile::tempdir().unwrap();
    let piece = 4_192_256 * 512;
    let content = Content::empty(4 * piece + 512).with(piece - 70_000, 140_000, 1).with(4 * piece, 512, 2);
    let path = folder.path().join("split.vmdk");
    let copied = write(&ContentDisk(content.clone()), "vmdk/split", &path).unwrap();
    let disk = open(&path).unwrap();
    assert_eq!(disk.size(), content.size);
    assert_eq!(pipeline::scan(disk.as_ref(), &watch()).unwrap(), copied.digest);
    check_extents(disk.as_ref(), &content).unwrap();
    let mut found = vec![0; 200_000];
    let mut expected = found.clone();
    disk.read_at(piece - 100_000, &mut found).unwrap();
    content.read_at(piece - 100_000, &mut expected);
    assert!(found == expected);
    let files = std::fs::read_dir(folder.path()).unwrap().count();
    assert_eq!(files, 6, "the descriptor and five pieces");
}

#[test]
fn an_empty_disk_stores_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("empty.qcow2");
    let copied = write(&EmptyDisk::new(4 << 40), "qcow2", &path).unwrap();
    assert_eq!(copied.stored, 0);
    let counts = qcow2_check::check(&path).unwrap();
    assert_eq!(counts.data_clusters, 0);
    assert!(counts.file_clusters < 8);
    let disk = open(&path).unwrap();
    assert_eq!(extents(disk.as_ref()).count(), 1);
    assert_eq!(pipeline::scan(disk.as_ref(), &watch()).unwrap(), copied.digest);
}

#[test]
fn zeros_that_are_stored_are_not_written_again() {
    let folder = tempfile::tempdir().unwrap();
    let raw = folder.path().join("zeros.img");
    std::fs::write(&raw, vec![0; 8 << 20]).unwrap();
    let disk = open_as(&raw, Format::Raw);
    let copied = write(disk.as_ref(), "qcow2", &folder.path().join("z.qcow2")).unwrap();
    assert_eq!(copied.stored, 0);
}

#[test]
fn many_refcount_blocks_and_l2_tables_add_up() {
    // 5 GiB of clusters, one in each MiB: ten L2 tables; and enough data for the second refcount block.
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("wide.qcow2");
    let content = (0..2100).fold(Content::empty(5 << 30), |content, i| content.with(i * 2 * MIB + 4096, 512, i));
    let copied = write(&ContentDisk(content), "qcow2", &path).unwrap();
    assert_eq!(copied.stored, 2100 * 65536);
    assert_eq!(qcow2_check::check(&path).unwrap().data_clusters, 2100);
}

/// The result does not depend on how many workers there were.
#[test]
fn order_is_kept_whatever_the_number_of_workers() {
    let folder = tempfile::tempdir().unwrap();
    let source = ContentDisk((0..40).fold(Content::empty(64 * MIB), |c, i| c.with(i * MIB + i * 700, 300_000, i)));
    let write_with = |workers| {
        let path = folder.path().join(format!("{workers}.qcow2"));
        let file = std::fs::File::create(&path).unwrap();
        let mut writer = format::create(file, "x".into(), "qcow2".parse().unwrap(), source.size()).unwrap();
        pipeline::copy(&source, writer.as_mut(), &Watch { workers: Some(workers), ..watch() }).unwrap();
        std::fs::read(path).unwrap()
    };
    let one = write_with(1);
    assert!(one == write_with(2) && one == write_with(7));
}

#[test]
fn progress_adds_up_and_an_interrupt_ends_the_copy() {
    let folder = tempfile::tempdir().unwrap();
    let source = ContentDisk(Content::empty(64 * MIB).with(MIB / 2, 30 * MIB, 2).with(50 * MIB, 10, 1));
    let (done, cancel) = (AtomicU64::new(0), AtomicBool::new(false));
    let progress = |bytes| {
        done.fetch_add(bytes, Ordering::Relaxed);
    };
    let digest = pipeline::scan(&source, &Watch { progress: &progress, ..watch() }).unwrap();
    assert_eq!(done.load(Ordering::Relaxed), pipeline::work(&source).unwrap());
    assert_eq!(pipeline::work(&source).unwrap(), 32 * MIB);

    let stop = |_| cancel.store(true, Ordering::Relaxed);
    let file = std::fs::File::create(folder.path().join("x")).unwrap();
    let mut writer = format::create(file, "x".into(), "raw".parse().unwrap(), source.size()).unwrap();
    let result = pipeline::copy(
        &source,
        writer.as_mut(),
        &Watch { cancel: &|| cancel.load(Ordering::Relaxed), progress: &stop, workers: None },
    );
    assert!(matches!(result, Err(Error::Interrupted)), "{result:?}, not {digest}");
}

#[test]
fn a_comparison_finds_the_first_difference_outside_what_is_allowed() {
    let base = Content::empty(40 * MIB).with(3 * MIB, 9 * MIB, 4);
    let changed = base.clone().with(5 * MIB + 77, 10, 8).with(11 * MIB, 5, 9);
    let (left, right) = (ContentDisk(base), ContentDisk(changed));
    let first = |allowed: &[std::ops::Range<u64>]| {
        pipeline::compare(&left, &right, allowed, &watch()).unwrap().first_difference
    };
    assert_eq!(first(&[]), Some(5 * MIB + 77));
    assert_eq!(first(&[0..10, 5 * MIB + 70..5 * MIB + 90]), Some(11 * MIB));
    assert_eq!(first(&[5 * MIB..5 * MIB + 80]), Some(5 * MIB + 80));
    assert_eq!(first(&[5 * MIB..12 * MIB]), None);
    let compared = pipeline::compare(&left, &left, &[], &watch()).unwrap();
    assert_eq!((compared.first_difference, compared.differing), (None, 0));
    assert_eq!(compared.left, pipeline::scan(&left, &watch()).unwrap());
}

/// A disk that fails at one place; the error must arrive, from any worker, and nothing may hang.
struct Failing(u64, Mutex<u32>);

impl Disk for Failing {
    fn size(&self) -> u64 {
        64 * MIB
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> reformis_disk::Result<()> {
        *self.1.lock().unwrap() += 1;
        buf.fill(1);
        if offset == self.0 { Err(Error::damaged("x", offset, "broken here")) } else { Ok(()) }
    }

    fn extent_at(&self, offset: u64) -> reformis_disk::Result<reformis_disk::Extent> {
        Ok(reformis_disk::Extent::data(offset, self.size() - offset))
    }

    fn check_unchanged(&self) -> reformis_disk::Result<()> {
        Ok(())
    }
}

#[test]
fn the_first_error_is_told_and_the_rest_is_not_read() {
    let disk = Failing(8 * MIB, Mutex::new(0));
    let error = pipeline::scan(&disk, &watch()).unwrap_err();
    assert!(error.to_string().contains("byte 8388608: broken here"), "{error}");
    assert!(*disk.1.lock().unwrap() < 20);
}

/// A descriptor as hosts write it, over a flat piece that starts inside its file, zeros, and a sparse piece.
#[test]
fn a_disk_over_several_files_is_one() {
    let folder = tempfile::tempdir().unwrap();
    let content = Content::empty(12 * MIB).with(0, 3 * MIB, 1).with(9 * MIB + 700, MIB, 2);
    let mut flat = vec![0xee; 512 * 5];
    let mut bytes = vec![0; 4 << 20];
    content.read_at(0, &mut bytes);
    flat.append(&mut bytes);
    std::fs::write(folder.path().join("tide gate-f001.vmdk"), &flat).unwrap();
    let tail = Content { size: 4 * MIB, runs: vec![] };
    let tail = content.runs[1..].iter().fold(tail, |c, r| c.with(r.offset - 8 * MIB, r.len, r.seed));
    // The bytes of a run depend on where it lies, so the piece is cut from the whole.
    let mut piece = vec![0; 4 << 20];
    content.read_at(8 * MIB, &mut piece);
    std::fs::write(folder.path().join("piece.img"), &piece).unwrap();
    let raw = open(&folder.path().join("piece.img")).unwrap();
    assert_eq!(raw.size(), tail.size);
    write(raw.as_ref(), "vmdk/thin", &folder.path().join("tide gate-s002.vmdk")).unwrap();
    let descriptor = "# Disk DescriptorFile\nversion=1\nCID=12345678\nparentCID=ffffffff\ncreateType=\"custom\"\n\
        RW 8192 FLAT \"tide gate-f001.vmdk\" 5\nRW 8192 ZERO\nRW 8192 SPARSE \"tide gate-s002.vmdk\"\n";
    let path = folder.path().join("tide gate.vmdk");
    std::fs::write(&path, descriptor).unwrap();
    let disk = open(&path).unwrap();
    assert_holds(disk.as_ref(), &content);
    check_extents(disk.as_ref(), &content).unwrap();

    let refused = |from: &str, to: &str| {
        std::fs::write(&path, descriptor.replace(from, to)).unwrap();
        open(&path).map(drop).unwrap_err().to_string()
    };
    assert!(refused("RW 8192 FLAT", "RW 8193 FLAT").contains("cut short: the extent"));
    assert!(refused("RW 8192 SPARSE", "RW 9000 SPARSE").contains("the descriptor says 4608000"));
    assert!(refused("s002", "s003").contains("No such file"));
    assert!(refused("tide gate-f001", "../tide gate-f001").contains("climbs out"));
    assert!(refused("ZERO", "VMFSRDM \"x\"").contains("an extent of kind VMFSRDM"));
    assert!(refused("FLAT \"tide gate-f001", "SESPARSE \"tide gate-s002").contains("a datastore's sparse extent was"));
    assert!(refused("RW 8192 ZERO", "RW 99999999999999999 ZERO").contains("larger than any disk"));
    assert!(refused("RW 8192 ZERO", "RW many ZERO").contains("the extent line"));
}
