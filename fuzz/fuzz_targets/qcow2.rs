//! The qcow2 reader, over a backing or beside a data file; the last byte of the second file picks a snapshot.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_disk::Format;
use reformis_fuzz::{explore, split};

fuzz_target!(|input: &[u8]| {
    let (first, second) = split(input);
    let snapshot = second.last().filter(|&&byte| byte == 1).map(|_| "1");
    explore(first, second, Some(Format::Qcow2), snapshot);
});
