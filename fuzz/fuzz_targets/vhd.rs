//! The VHD reader, with right checksums.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_disk::Format;
use reformis_fuzz::{explore, fix_vhd, split};

fuzz_target!(|input: &[u8]| {
    let (first, second) = split(input);
    let (mut first, mut second) = (first.to_vec(), second.to_vec());
    fix_vhd(&mut first);
    fix_vhd(&mut second);
    explore(&first, &second, Some(Format::Vhd), None);
});
