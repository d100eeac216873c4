//! Disks whose data lies in many runs: what is a hole is neither read nor written, and counts all the same.

use std::{
    fs::File,
    ops::Range,
    os::unix::fs::{FileExt, MetadataExt},
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

use proptest::prelude::*;
use reformis_disk::{
    Disk, Extent, ExtentKind, Result,
    budget::Budget,
    container,
    copy::{pipeline, watch::Watch},
    digest::BLOCK,
    disk::extents,
    format,
    source::FileStorage,
};

use crate::common::{output, watch};

/// Bytes of a page of the file: file systems keep holes in no smaller pieces.
const PAGE: u64 = 64 << 10;

/// Counts what is read of a disk, and how often it is asked for its extents.
struct Counted {
    disk: Arc<dyn Disk>,
    read: AtomicU64,
    asked: AtomicU64,
}

impl Counted {
    fn new(disk: Arc<dyn Disk>) -> Self {
        Self { disk, read: AtomicU64::new(0), asked: AtomicU64::new(0) }
    }
}

impl Disk for Counted {
    fn size(&self) -> u64 {
        self.disk.size()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.read.fetch_add(buf.len() as u64, Ordering::Relaxed);
        self.disk.read_at(offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        self.asked.fetch_add(1, Ordering::Relaxed);
        self.disk.extent_at(offset)
    }

    fn check_unchanged(&self) -> Result<()> {
        self.disk.check_unchanged()
    }
}

/// A disk of so many pages with data in `runs`; a run of zeros is stored like any other.
fn sparse(file: &File, pages: u64, runs: &[(Range<u64>, u8)]) {
    file.set_len(pages * PAGE).unwrap();
    for (run, byte) in runs {
        let bytes: Vec<u8> = (0..(run.end - run.start) * PAGE).map(|at| byte.wrapping_mul((at % 251) as u8)).collect();
        file.write_all_at(&bytes, run.start * PAGE).unwrap();
    }
}

/// The content digest as its definition has it, of all bytes.
fn digest_of(bytes: &[u8]) -> String {
    let mut whole = blake3::Hasher::new();
    whole.update(&(bytes.len() as u64).to_le_bytes());
    for block in bytes.chunks(BLOCK as usize) {
        whole.update(blake3::hash(block).as_bytes());
    }
    whole.finalize().to_hex().to_string()
}

fn runs() -> impl Strategy<Value = (u64, Vec<(Range<u64>, u8)>)> {
    (1..200_u64).prop_flat_map(|pages| {
        let run = (0..pages, 1..20_u64, any::<u8>());
        let runs = prop::collection::vec(run, 0..12);
        (
            Just(pages),
            runs.prop_map(move |runs| {
                runs.into_iter().map(|(start, len, byte)| (start..(start + len).min(pages), byte)).collect()
            }),
        )
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn holes_are_not_read_and_the_digest_is_that_of_all_bytes(
        (pages, runs) in runs(),
        workers in 1..5_usize,
        shape in prop::sample::select(vec!["raw", "qcow2", "vdi", "vhdx", "vhd", "vmdk/thin", "vmdk/stream"]),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("disk.img");
        sparse(&File::create(&path).unwrap(), pages, &runs);
        let bytes = std::fs::read(&path).unwrap();
        let storage = Arc::new(FileStorage::open(&path, &Budget::whole()).unwrap());
        let disk = Counted::new(format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk);
        let data: Vec<Extent> = extents(&disk).map(|extent| extent.unwrap()).filter(|extent| extent.kind == ExtentKind::Data).collect();
        let stored: u64 = data.iter().map(|extent| extent.len).sum();
        disk.asked.store(0, Ordering::Relaxed);

        let result = folder.path().join("result.vmdk");
        let image = format::NewImage::new(shape.parse().unwrap(), disk.size());
        let mut writer = format::create_in(output(&result), &image).unwrap();
        let copied = pipeline::copy(&disk, writer.as_mut(), &Watch { workers: Some(workers), ..watch() }).unwrap();
        drop(writer);
        prop_assert_eq!(copied.digest.to_string(), digest_of(&bytes));
        // Between two runs of a block a small hole is read over; nothing else is read that is not stored.
        let read = disk.read.load(Ordering::Relaxed);
        prop_assert!(read >= stored && read <= stored + data.len() as u64 * (32 << 10), "{} read of {} stored", read, stored);
        // Once for each run and each hole, and once for each block that one of them goes on in.
        let most = 2 * data.len() as u64 + 2 + disk.size().div_ceil(BLOCK);
        let asked = disk.asked.load(Ordering::Relaxed);
        prop_assert!(asked <= most, "asked {} times", asked);

        let back = format::open(container::open(&result, &Budget::whole()).unwrap(), Some(image.shape.format)).unwrap().disk;
        // Formats round up to whole sectors or cylinders.
        let mut found = vec![1; bytes.len()];
        back.read_at(0, &mut found).unwrap();
        prop_assert!(found == bytes);
        if shape == "raw" {
            let taken = |path| std::fs::metadata(path).map(|metadata| metadata.blocks() * 512).unwrap();
            prop_assert!(taken(&result) <= taken(&path), "what is zero takes no room");
        }
    }
}

/// One worker that is much slower than the others holds nothing up for ever, and what it makes stands in its place.
#[test]
fn blocks_wait_for_a_slow_one_and_stay_in_order() {
    struct Slow(u64);
    impl Disk for Slow {
        fn size(&self) -> u64 {
            self.0
        }
        fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
            if (offset / BLOCK).is_multiple_of(7) {
                std::thread::sleep(std::time::Duration::from_millis(5));
            }
            buf.fill((offset / BLOCK) as u8 + 1);
            Ok(())
        }
        fn extent_at(&self, offset: u64) -> Result<Extent> {
            Ok(Extent::data(offset, self.0 - offset))
        }
        fn check_unchanged(&self) -> Result<()> {
            Ok(())
        }
    }
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("disk.img");
    let disk = Slow(40 * BLOCK);
    let mut writer = format::create_in(output(&path), &format::NewImage::new("raw".parse().unwrap(), disk.0)).unwrap();
    pipeline::copy(&disk, writer.as_mut(), &Watch { workers: Some(5), ..watch() }).unwrap();
    let bytes = std::fs::read(&path).unwrap();
    let blocks: Vec<_> =
        bytes.chunks(BLOCK as usize).map(|block| (block[0], block.iter().all(|b| *b == block[0]))).collect();
    assert_eq!(blocks, (1..=40).map(|number| (number, true)).collect::<Vec<_>>());
}
