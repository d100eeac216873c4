//! What reaches disks that are lent: requests of clients, and the files in which what a guest wrote is kept.
#![no_main]

use std::{fs::File, os::unix::fs::FileExt, sync::Arc};

use libfuzzer_sys::fuzz_target;
use reformis_disk::{
    Disk,
    disk::{EmptyDisk, extents},
    scratch::{Scratch, Writable},
};

/// Not a whole number of blocks.
const SIZE: u64 = 1_000_448;
/// Greets, agrees on chunks and the map of holes, and chooses the export.
const BEGIN: &[u8] = b"\0\0\0\x03IHAVEOPT\0\0\0\x08\0\0\0\0IHAVEOPT\0\0\0\x0a\0\0\0\x1f\0\0\0\x04disk\0\0\0\x01\0\0\0\x0fbase:allocation\
                       IHAVEOPT\0\0\0\x07\0\0\0\x0a\0\0\0\x04disk\0\0";

fn scratch(file: File) -> reformis_disk::Result<Scratch> {
    Scratch::open(file, "scratch", Arc::new(EmptyDisk::new(SIZE)))
}

fn whole(disk: &dyn Disk) -> Vec<u8> {
    let mut bytes = vec![0; SIZE as usize];
    disk.read_at(0, &mut bytes).expect("the file is as long as its header says");
    bytes
}

fuzz_target!(|bytes: &[u8]| {
    let Some((kind, rest)) = bytes.split_first() else { return };
    let file = tempfile::tempfile().expect("a nameless file");
    let own = || file.try_clone().expect("a second handle");
    let made = Scratch::create(own(), "scratch", Arc::new(EmptyDisk::new(SIZE))).expect("room for a sparse file");
    match kind % 4 {
        0 => drop(reformis_wire::nbd::serve::answer(rest, Arc::new(made))),
        1 => {
            let words = [BEGIN, rest].concat();
            let disk: Arc<Scratch> = Arc::new(made);
            reformis_wire::nbd::serve::answer(&words, disk.clone()).ok();
            disk.flush().expect("a file can be flushed");
            let kept = scratch(own()).expect("what was kept is sound");
            assert!(whole(&kept) == whole(disk.as_ref()), "what was flushed is there");
        }
        // Any map, with nothing behind it.
        2 => {
            drop(made);
            file.write_all_at(rest.get(..4096).unwrap_or(rest), 4096).expect("a map can be written");
            let disk = scratch(own()).expect("any map is one");
            let before = whole(&disk);
            let end = extents(&disk).map(|extent| extent.expect("a run").end()).last();
            assert_eq!(end, Some(SIZE));
            let written = disk.written(3).expect("a map is read");
            assert!(written.len() <= 3 && written.iter().all(|range| range.end <= SIZE));
            disk.write_at(77, b"x").expect("a byte can be written");
            let mut after = whole(&disk);
            after[77] = before[77];
            assert!(after == before, "no other byte changed");
        }
        _ => {
            file.write_all_at(rest.get(..36).unwrap_or(rest), 0).expect("a header can be written");
            if let Ok(disk) = scratch(own()) {
                whole(&disk);
            }
        }
    }
});
