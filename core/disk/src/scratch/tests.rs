use std::fs::{self, OpenOptions};

use proptest::prelude::*;

use super::*;
use crate::{
    disk::{EmptyDisk, extents},
    overlay::Overlay,
};

/// Not a whole number of blocks, as many disks are.
const SIZE: u64 = 70_144;

/// A disk that has a byte for each place, and a hole.
struct Pattern;

impl Pattern {
    fn byte(at: u64) -> u8 {
        if (16_384..32_768).contains(&at) { 0 } else { (at % 251) as u8 | 1 }
    }
}

impl Disk for Pattern {
    fn size(&self) -> u64 {
        SIZE
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(offset, buf.len(), SIZE)?;
        for (at, byte) in (offset..).zip(buf) {
            *byte = Self::byte(at);
        }
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        Ok(match offset {
            ..16_384 => Extent::data(offset, 16_384 - offset),
            16_384..32_768 => Extent::zero(offset, 32_768 - offset),
            _ => Extent::data(offset, SIZE - offset),
        })
    }

    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }
}

#[derive(Debug, Clone)]
enum Step {
    Write(u64, Vec<u8>),
    Zero(u64, u64),
    Flush,
    Reopen,
}

fn step() -> impl Strategy<Value = Step> {
    let place = prop_oneof![0..SIZE, (0..SIZE / BLOCK).prop_map(|block| block * BLOCK)];
    let bytes = prop_oneof![
        prop::collection::vec(any::<u8>(), 0..2000),
        (any::<u8>(), 1..5usize).prop_map(|(byte, blocks)| vec![byte; blocks * 4096]),
        prop::collection::vec(any::<u8>(), 4000..20_000),
    ];
    let write = (place.clone(), bytes).prop_map(|(at, bytes)| Step::Write(at, bytes));
    let zero = (place, 0..30_000u64).prop_map(|(at, len)| Step::Zero(at, len));
    prop_oneof![5 => write, 3 => zero, 2 => Just(Step::Flush), 1 => Just(Step::Reopen)]
}

fn file(path: &std::path::Path) -> File {
    OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path).unwrap()
}

fn whole(disk: &dyn Disk) -> Vec<u8> {
    let mut bytes = vec![0x55; SIZE as usize];
    disk.read_at(0, &mut bytes).unwrap();
    bytes
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Against a plain vector: what is read, which extents hold data, which ranges count as written, and that what an edit
    /// changed does not. A copy of the file at any moment, as a crash leaves it, has what was flushed, and nothing but
    /// what was there then or written later.
    #[test]
    fn behaves_like_a_drive_with_a_cache(steps in prop::collection::vec(step(), 1..25)) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("scratch");
        let base: Arc<dyn Disk> = Arc::new(Pattern);
        let mut model: Vec<u8> = (0..SIZE).map(Pattern::byte).collect();
        let mut overlay = Overlay::new(base.clone());
        overlay.begin("edit", "a test");
        overlay.write_at(5000, b"as it is lent").unwrap();
        model[5000..5013].copy_from_slice(b"as it is lent");
        let mut scratch = Scratch::create(file(&path), "s", base.clone()).unwrap();
        scratch.keep_edits(&overlay, overlay.edits()).unwrap();
        scratch.flush().unwrap();
        let mut touched = vec![false; SIZE as usize];
        // For each byte, all that it may be after a crash.
        let mut maybe: Vec<Vec<u8>> = model.iter().map(|byte| vec![*byte]).collect();
        for step in steps {
            match step {
                Step::Write(at, bytes) if at + bytes.len() as u64 > SIZE => {
                    prop_assert!(scratch.write_at(at, &bytes).is_err());
                }
                Step::Write(at, bytes) => {
                    scratch.write_at(at, &bytes).unwrap();
                    for (place, byte) in (at as usize..).zip(bytes) {
                        model[place] = byte;
                        touched[place] = true;
                        maybe[place].push(byte);
                    }
                }
                Step::Zero(at, len) if at + len > SIZE => prop_assert!(scratch.write_zeroes(at, len).is_err()),
                Step::Zero(at, len) => {
                    scratch.write_zeroes(at, len).unwrap();
                    for place in at as usize..(at + len) as usize {
                        model[place] = 0;
                        touched[place] = true;
                        maybe[place].push(0);
                    }
                }
                Step::Flush => {
                    scratch.flush().unwrap();
                    maybe = model.iter().map(|byte| vec![*byte]).collect();
                }
                Step::Reopen => {
                    scratch.flush().unwrap();
                    maybe = model.iter().map(|byte| vec![*byte]).collect();
                    scratch = Scratch::open(file(&path), "s", base.clone()).unwrap();
                }
            }
            prop_assert!(whole(&scratch) == model);
            let crashed = folder.path().join("crashed");
            fs::copy(&path, &crashed).unwrap();
            let crashed = whole(&Scratch::open(file(&crashed), "s", base.clone()).unwrap());
            prop_assert!(crashed.iter().zip(&maybe).all(|(byte, maybe)| maybe.contains(byte)));
        }
        let mut end = 0;
        for extent in extents(&scratch) {
            let extent = extent.unwrap();
            prop_assert_eq!(extent.start, end);
            end = extent.end();
            let bytes = &model[extent.start as usize..end as usize];
            prop_assert!(extent.kind == ExtentKind::Data || bytes.iter().all(|byte| *byte == 0));
        }
        prop_assert_eq!(end, SIZE);
        let written = scratch.written(1000).unwrap();
        let covers = |ranges: &[Range<u64>], at: u64| ranges.iter().any(|range| range.contains(&at));
        for at in 0..SIZE {
            let block = (at / BLOCK * BLOCK) as usize..((at / BLOCK + 1) * BLOCK).min(SIZE) as usize;
            prop_assert_eq!(covers(&written, at), touched[block].iter().any(|touched| *touched));
        }
        for most in 1..3 {
            let coarse = scratch.written(most).unwrap();
            prop_assert!(coarse.len() <= most);
            prop_assert!(written.iter().all(|range| covers(&coarse, range.start) && covers(&coarse, range.end - 1)));
        }
    }
}

/// Sectors of one block that are written at the same time are all there.
#[test]
fn neighbours_in_a_block_do_not_lose_each_other() {
    for round in 0..50 {
        let folder = tempfile::tempdir().unwrap();
        let scratch = Scratch::create(file(&folder.path().join("s")), "s", Arc::new(Pattern)).unwrap();
        std::thread::scope(|scope| {
            for sector in 0..8u64 {
                let scratch = &scratch;
                scope.spawn(move || scratch.write_at(round % 3 * BLOCK + sector * 512, &[sector as u8 + 1; 512]));
            }
        });
        let read = whole(&scratch);
        for sector in 0..8usize {
            let at = (round % 3 * BLOCK) as usize + sector * 512;
            assert_eq!(read[at..at + 512], [sector as u8 + 1; 512]);
        }
    }
}

#[test]
fn a_large_disk_takes_no_more_room_than_what_was_written() {
    let folder = tempfile::tempdir().unwrap();
    let size = 2 << 40;
    let disk = Scratch::create(file(&folder.path().join("s")), "s", Arc::new(EmptyDisk::new(size))).unwrap();
    disk.write_at(size - 10_000, &[7; 10_000]).unwrap();
    disk.write_zeroes(0, 64 << 30).unwrap();
    disk.flush().unwrap();
    assert!(disk.room() < 6 << 20, "{} bytes", disk.room());
    assert_eq!(disk.written(10).unwrap(), [0..64 << 30, (size - 10_000) / BLOCK * BLOCK..size]);
}

#[test]
fn what_is_no_scratch_file_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("s");
    let base: Arc<dyn Disk> = Arc::new(EmptyDisk::new(100_000));
    let told = |base: &Arc<dyn Disk>| Scratch::open(file(&path), "s", base.clone()).err().unwrap().to_string();
    assert!(told(&base).contains("it has no header"));
    drop(Scratch::create(file(&path), "s", base.clone()).unwrap());
    Scratch::open(file(&path), "s", base.clone()).unwrap();
    let other: Arc<dyn Disk> = Arc::new(EmptyDisk::new(100_512));
    assert!(told(&other).contains("above a disk of 100000 bytes, and this one has 100512"));
    let good = fs::read(&path).unwrap();
    for (at, words) in [(3, "does not begin"), (17, "its header is damaged"), (30, "its header is damaged")] {
        let mut bad = good.clone();
        bad[at] ^= 1;
        fs::write(&path, bad).unwrap();
        assert!(told(&base).contains(words), "{}", told(&base));
    }
    fs::write(&path, &good[..good.len() - 1]).unwrap();
    assert!(told(&base).contains("bytes in place of"));
    // Sound in itself, and larger than any disk.
    let huge = Header::new(u64::MAX).to_bytes();
    fs::write(&path, huge).unwrap();
    assert!(told(&base).contains("larger than any"));
}
