//! What is told of a disk by looking at it: partitions, volumes, loaders.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use reformis_disk::{Format, formats, source::MemoryStorage};

fuzz_target!(|bytes: &[u8]| {
    let storage = Arc::new(MemoryStorage::new("fuzz.raw", bytes));
    let disk = formats::open(storage, Some(Format::Raw)).expect("any bytes are a raw disk").disk;
    let look = reformis_guest::look(&disk).expect("memory can be read");
    assert!(look.partitions.iter().all(|(partition, _)| partition.start + partition.size <= disk.size()));
    look.family();
});
