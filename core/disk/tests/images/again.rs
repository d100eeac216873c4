//! Copies that are cut off, and go on where they stopped.

use std::{
    collections::VecDeque,
    fs::File,
    os::unix::fs::FileExt,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

use proptest::prelude::*;
use reformis_disk::{
    Disk, Error, Layout, Result, Shape,
    copy::{
        Again, Output,
        journal::{Entry, Journal},
        pipeline,
        watch::Watch,
        writer::Copied,
    },
    format::{self, NewImage},
};
use reformis_standin::content::Content;

use crate::common::{ContentDisk, assert_holds, every_image, open, watch, write_new};

const MIB: u64 = 1 << 20;

/// A journal in memory, through the bytes that a file would hold.
#[derive(Default)]
pub(crate) struct Memory {
    kept: Vec<Vec<u8>>,
    next: usize,
}

impl Memory {
    /// Begins with the first entry again.
    pub(crate) fn rewind(&mut self) {
        self.next = 0;
    }

    /// Loses the last entry.
    pub(crate) fn forget_last(&mut self) {
        self.kept.pop();
    }
}

impl Journal for Memory {
    fn earlier(&mut self) -> Result<Option<Entry>> {
        let bytes = self.kept.get(self.next);
        self.next += 1;
        Ok(bytes.map(|bytes| Entry::decode(bytes).unwrap().0))
    }

    fn keep(&mut self, count: u64) -> Result<()> {
        self.kept.truncate(count as usize);
        self.next = 0;
        Ok(())
    }

    fn put(&mut self, entry: &Entry) -> Result<()> {
        self.kept.push(entry.encode());
        Ok(())
    }
}

/// Copies `disk` into the file at `path`, going on with what `journal` says; it is interrupted after `blocks` blocks.
fn go_on(
    disk: &dyn Disk,
    image: &NewImage,
    path: &Path,
    journal: &mut Memory,
    edited: u64,
    blocks: u64,
) -> Result<Copied> {
    let file = File::options().read(true).write(true).create(true).truncate(false).open(path).unwrap();
    let output = Output::file(file.try_clone().unwrap(), path.to_string_lossy());
    let make = || format::create_in(Output::file(file.try_clone().unwrap(), path.to_string_lossy()), image);
    let done = AtomicU64::new(0);
    let watch = Watch {
        cancel: &|| done.load(Ordering::Relaxed) >= blocks,
        progress: &|_| {
            done.fetch_add(1, Ordering::Relaxed);
        },
        workers: Some(2),
    };
    let is_edited = |range: std::ops::Range<u64>| range.start < edited;
    let again = Again { journal, output: &output, is_edited: &is_edited, sample: Some(4) };
    pipeline::copy_again(disk, &make, again, &watch)
}

/// What can be taken up again: one file, not filled beforehand.
fn images(size: u64) -> Vec<NewImage> {
    let fits = |shape: Shape| matches!(shape.layout, Layout::Thin | Layout::Stream);
    every_image(size).into_iter().filter(|image| fits(image.shape)).collect()
}

fn content() -> impl Strategy<Value = Content> {
    (1u64..9 * MIB).prop_flat_map(|size| {
        let size = size / 512 * 512 + 512;
        prop::collection::vec((0..size, 1u64..3 * MIB, any::<u64>()), 1..6).prop_map(move |runs| {
            runs.into_iter()
                .fold(Content::empty(size), |content, (at, len, seed)| content.with(at, len.min(size - at), seed))
        })
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Cut off any number of times, with a stored byte damaged in between, and with edits at the start that come out in another
    /// way each time: the result is what a copy in one go makes.
    #[test]
    fn however_often_it_is_cut_off_the_result_is_the_same(
        content in content(),
        pick in any::<prop::sample::Index>(),
        cuts in prop::collection::vec(0u64..6, 1..4),
        damage in prop::option::of(any::<prop::sample::Index>()),
        other in any::<u64>(),
        lost in 0usize..3,
    ) {
        let folder = tempfile::tempdir().unwrap();
        let images = images(content.size);
        let image = &images[pick.index(images.len())];
        // By its name alone, raw bytes are told.
        let path = folder.path().join("again.raw");
        let mut journal = Memory::default();
        // What is edited comes out with other bytes the last time.
        let edits: VecDeque<Content> = cuts.iter().map(|_| content.clone()).collect();
        let len = 3000.min(content.size);
        let last = content.clone().with(0, len, other);
        for (first, cut) in edits.into_iter().map(|content| content.with(0, len, other ^ 1)).zip(&cuts) {
            match go_on(&ContentDisk(first), image, &path, &mut journal, len, *cut) {
                Ok(_) | Err(Error::Interrupted) => {}
                Err(error) => panic!("{}: {error}", image.shape),
            }
            journal.kept.truncate(journal.kept.len().saturating_sub(lost));
            journal.next = 0;
        }
        // Of what was stored: nobody writes into holes.
        let entries = journal.kept.iter().map(|bytes| Entry::decode(bytes).unwrap().0);
        let runs: Vec<_> = entries.filter_map(|entry| entry.block).flat_map(|(_, runs)| runs).collect();
        if let Some(at) = damage.filter(|_| !runs.is_empty()) {
            let run = &runs[at.index(runs.len())];
            File::options().write(true).open(&path).unwrap().write_all_at(&[0xa5], run.position).unwrap();
        }
        let disk = ContentDisk(last.clone());
        let copied = go_on(&disk, image, &path, &mut journal, len, u64::MAX).unwrap();
        let straight = write_new(&disk, image, &folder.path().join("straight")).unwrap();
        prop_assert_eq!(copied.digest, straight.digest, "{}", image.shape);
        let opened = open(&path).unwrap();
        prop_assert_eq!(pipeline::scan(opened.as_ref(), &watch()).unwrap(), copied.digest, "{}", image.shape);
        assert_holds(opened.as_ref(), &last);
    }
}

#[test]
fn what_is_there_is_not_read_again() {
    struct Counting(ContentDisk, AtomicU64);
    impl Disk for Counting {
        fn size(&self) -> u64 {
            self.0.size()
        }
        fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
            self.1.fetch_add(buf.len() as u64, Ordering::Relaxed);
            self.0.read_at(offset, buf)
        }
        fn extent_at(&self, offset: u64) -> Result<reformis_disk::Extent> {
            self.0.extent_at(offset)
        }
        fn check_unchanged(&self) -> Result<()> {
            Ok(())
        }
    }
    let folder = tempfile::tempdir().unwrap();
    let disk = Arc::new(Counting(ContentDisk(Content::empty(12 * MIB).with(0, 12 * MIB, 7)), AtomicU64::new(0)));
    for image in images(disk.size()) {
        let path = folder.path().join(image.shape.to_string().replace('/', "-"));
        std::fs::remove_file(&path).ok();
        let mut journal = Memory::default();
        let cut = go_on(disk.as_ref(), &image, &path, &mut journal, 0, 8);
        assert!(matches!(cut, Err(Error::Interrupted)), "{}", image.shape);
        let kept = journal.kept.len() as u64;
        assert!(kept >= 7, "{}: {kept} of 8 blocks are known", image.shape);
        disk.1.store(0, Ordering::Relaxed);
        journal.next = 0;
        go_on(disk.as_ref(), &image, &path, &mut journal, 0, u64::MAX).unwrap();
        let read = disk.1.load(Ordering::Relaxed);
        // And one of four, since nothing says that the disk is the same.
        assert_eq!(read, (12 - kept + kept.div_ceil(4)) * MIB, "{}", image.shape);
    }
}
