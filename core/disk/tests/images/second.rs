//! Second passes: a disk that went on while it was copied, and of which only what changed is written then.

use std::{
    collections::BTreeSet,
    fs::File,
    path::Path,
    sync::atomic::{AtomicU64, Ordering},
};

use proptest::prelude::*;
use reformis_disk::{
    Disk, Error, Extent, Layout, Result,
    copy::{
        Again, Output,
        changed::{Changed, Changes, Touched, copy_changed},
        pipeline,
        watch::Watch,
    },
    format::{self, NewImage},
};
use reformis_standin::content::Content;

use crate::{
    again::Memory,
    common::{ContentDisk, assert_holds, every_image, open, watch, write_new},
};

const MIB: u64 = 1 << 20;

/// What was touched, in memory.
#[derive(Default)]
struct Noted(BTreeSet<u64>);

impl Touched for Noted {
    fn earlier(&mut self) -> Result<BTreeSet<u64>> {
        Ok(self.0.clone())
    }

    fn add(&mut self, block: u64) -> Result<()> {
        self.0.insert(block);
        Ok(())
    }
}

/// Whether the places of a shape may be asked for in any order.
fn takes_any_order(image: &NewImage) -> bool {
    let is_plain = image.squeeze.is_none() && image.wrapping.is_none();
    image.shape.layout == Layout::Thin && is_plain && image.cluster.is_none_or(|cluster| cluster <= MIB)
}

fn images(size: u64) -> Vec<NewImage> {
    every_image(size).into_iter().filter(takes_any_order).collect()
}

fn first(disk: &dyn Disk, image: &NewImage, path: &Path, journal: &mut Memory) {
    let file = File::options().read(true).write(true).create(true).truncate(true).open(path).unwrap();
    let output = Output::file(file.try_clone().unwrap(), path.to_string_lossy());
    let make = || format::create_in(Output::file(file.try_clone().unwrap(), path.to_string_lossy()), image);
    let again = Again { journal, output: &output, is_edited: &|_| false, sample: None };
    pipeline::copy_again(disk, &make, again, &watch()).unwrap();
    journal.rewind();
}

/// A second pass, interrupted after so many blocks; with an oracle where `differs` is there.
fn second(
    disk: &dyn Disk,
    image: &NewImage,
    path: &Path,
    journal: &mut Memory,
    touched: &mut Noted,
    differs: Option<&(dyn Fn(std::ops::Range<u64>) -> bool + Sync)>,
    blocks: u64,
) -> Result<Changed> {
    let file = File::options().read(true).write(true).open(path).unwrap();
    let output = Output::file(file.try_clone().unwrap(), path.to_string_lossy());
    let make = || format::create_in(Output::file(file.try_clone().unwrap(), path.to_string_lossy()), image);
    let done = AtomicU64::new(0);
    let progress = |_| {
        done.fetch_add(1, Ordering::Relaxed);
    };
    let watch = Watch { cancel: &|| done.load(Ordering::Relaxed) >= blocks, progress: &progress, workers: Some(2) };
    let changed = copy_changed(
        disk,
        &make,
        Changes { journal, output: &output, touched, may_differ: differs, sample: 64 },
        &watch,
    );
    journal.rewind();
    changed
}

/// A disk of some MiB, and changes to it: new data in holes, other data, and holes where data was.
fn contents() -> impl Strategy<Value = (Content, Vec<Content>)> {
    (1u64..70).prop_flat_map(|size| {
        let size = size * MIB + 512 * (size % 5);
        let run = || (0..size, 1u64..2 * MIB, any::<u64>());
        let runs = prop::collection::vec(run(), 1..6);
        let changes = prop::collection::vec(prop::collection::vec(run(), 0..4), 1..4);
        (runs, changes).prop_map(move |(runs, changes)| {
            let put = |content: Content, (at, len, seed): (u64, u64, u64)| {
                let len = len.min(size - at);
                if seed % 4 == 0 { content.with_zeros(at, len) } else { content.with(at, len, seed) }
            };
            let before = runs.into_iter().fold(Content::empty(size), put);
            let mut last = before.clone();
            let mut after = Vec::new();
            for runs in changes {
                // Now and then much of it becomes a hole.
                if runs.first().is_some_and(|(_, _, seed)| seed % 3 == 0) {
                    last = Content::empty(size);
                }
                last = runs.into_iter().fold(last, put);
                after.push(last.clone());
            }
            (before, after)
        })
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// The disk changes, second passes are cut off, it changes again, also back to what it was: in the end the image holds what the disk
    /// does, and its digest is that of a copy in one go.
    #[test]
    fn the_image_holds_what_the_disk_holds_at_last(
        (before, after) in contents(),
        pick in any::<prop::sample::Index>(),
        cuts in prop::collection::vec(0u64..5, 4),
        returns in any::<bool>(),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let images = images(before.size);
        let image = &images[pick.index(images.len())];
        let path = folder.path().join("second.raw");
        let (mut journal, mut touched) = (Memory::default(), Noted::default());
        first(&ContentDisk(before.clone()), image, &path, &mut journal);
        for (content, cut) in after.iter().zip(&cuts) {
            match second(&ContentDisk(content.clone()), image, &path, &mut journal, &mut touched, None, *cut) {
                Ok(_) | Err(Error::Interrupted) => {}
                Err(error) => panic!("{}: {error}", image.shape),
            }
        }
        // What was written to in between may be as it was at first.
        let last = if returns { before } else { after.last().unwrap().clone() };
        let disk = ContentDisk(last.clone());
        let done = second(&disk, image, &path, &mut journal, &mut touched, None, u64::MAX).unwrap();
        let straight = write_new(&disk, image, &folder.path().join("straight")).unwrap();
        prop_assert_eq!(done.copied.digest, straight.digest, "{}", image.shape);
        let opened = open(&path).unwrap();
        prop_assert_eq!(pipeline::scan(opened.as_ref(), &watch()).unwrap(), done.copied.digest, "{}", image.shape);
        assert_holds(opened.as_ref(), &last);
    }

    /// Where it is known what may have changed, nothing else is read, and the result is the same.
    #[test]
    fn what_cannot_have_changed_is_not_read((before, after) in contents(), pick in any::<prop::sample::Index>()) {
        struct Watched<'a>(ContentDisk, &'a (dyn Fn(std::ops::Range<u64>) -> bool + Sync));
        impl Disk for Watched<'_> {
            fn size(&self) -> u64 {
                self.0.size()
            }
            fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
                let is_sample = (offset / MIB).is_multiple_of(64);
                assert!(is_sample || (self.1)(offset / MIB * MIB..offset + 1), "byte {offset} cannot have changed");
                self.0.read_at(offset, buf)
            }
            fn extent_at(&self, offset: u64) -> Result<Extent> {
                self.0.extent_at(offset)
            }
            fn check_unchanged(&self) -> Result<()> {
                Ok(())
            }
        }
        let folder = tempfile::tempdir().unwrap();
        let images = images(before.size);
        let image = &images[pick.index(images.len())];
        let path = folder.path().join("second.raw");
        let last = after.last().unwrap();
        let differing: BTreeSet<u64> = (0..before.size.div_ceil(MIB))
            .filter(|block| {
                let len = MIB.min(before.size - block * MIB) as usize;
                let bytes = |content: &Content| {
                    let mut bytes = vec![0; len];
                    content.read_at(block * MIB, &mut bytes);
                    bytes
                };
                bytes(&before) != bytes(last)
            })
            .collect();
        let differs = |range: std::ops::Range<u64>| differing.range(range.start / MIB..range.end.div_ceil(MIB)).next().is_some();
        let (mut journal, mut touched) = (Memory::default(), Noted::default());
        first(&ContentDisk(before.clone()), image, &path, &mut journal);
        let disk = Watched(ContentDisk(last.clone()), &differs);
        let done = second(&disk, image, &path, &mut journal, &mut touched, Some(&differs), u64::MAX).unwrap();
        let straight = write_new(&disk.0, image, &folder.path().join("straight")).unwrap();
        prop_assert_eq!(done.copied.digest, straight.digest, "{}", image.shape);
        assert_holds(open(&path).unwrap().as_ref(), last);
        prop_assert!(done.changed <= differing.len() as u64 * MIB);
    }
}

#[test]
fn shapes_of_one_order_and_journals_that_are_not_whole_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let content = Content::empty(3 * MIB).with(0, 2 * MIB, 7);
    let disk = ContentDisk(content);
    let mut refused = 0;
    for image in every_image(3 * MIB) {
        let path = folder.path().join("refused.raw");
        let can = takes_any_order(&image);
        let mut journal = Memory::default();
        if can {
            first(&disk, &image, &path, &mut journal);
            journal.forget_last();
        } else if matches!(image.shape.to_string().as_str(), "raw/full" | "vmdk/full" | "vmdk/split") {
            continue;
        } else {
            std::fs::write(&path, b"").unwrap();
        }
        let before = std::fs::read(&path).unwrap();
        let error = second(&disk, &image, &path, &mut journal, &mut Noted::default(), None, u64::MAX).unwrap_err();
        let word = if can { "not whole" } else { "one order" };
        assert!(error.to_string().contains(word), "{}: {error}", image.shape);
        if can {
            assert!(std::fs::read(&path).unwrap() == before, "{}: nothing was written", image.shape);
        }
        refused += 1;
    }
    assert!(refused > 6);
}

#[test]
fn a_map_of_changes_that_lies_is_found_out() {
    let folder = tempfile::tempdir().unwrap();
    let before = Content::empty(70 * MIB).with(0, 70 * MIB, 7);
    let after = before.clone().with(64 * MIB, 1000, 9);
    for image in images(before.size) {
        let path = folder.path().join("lies.raw");
        let mut journal = Memory::default();
        first(&ContentDisk(before.clone()), &image, &path, &mut journal);
        let none = |_: std::ops::Range<u64>| false;
        let disk = ContentDisk(after.clone());
        let done = second(&disk, &image, &path, &mut journal, &mut Noted::default(), Some(&none), u64::MAX);
        assert!(matches!(done, Err(Error::Changed { .. })), "{}: {done:?}", image.shape);
        // Without it, everything is read.
        second(&disk, &image, &path, &mut journal, &mut Noted::default(), None, u64::MAX).unwrap();
        assert_holds(open(&path).unwrap().as_ref(), &after);
    }
}
