//! The VHDX reader, with right checksums: log, tables, bitmaps, parents.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_disk::Format;
use reformis_fuzz::{explore, fix_vhdx, split};

fuzz_target!(|input: &[u8]| {
    let (first, second) = split(input);
    let (mut first, mut second) = (first.to_vec(), second.to_vec());
    fix_vhdx(&mut first);
    fix_vhdx(&mut second);
    explore(&first, &second, Some(Format::Vhdx), None);
});
