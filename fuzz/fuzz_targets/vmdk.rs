//! The VMDK reader: sparse extents, descriptors and the extents that they name, deltas.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_disk::Format;
use reformis_fuzz::{explore, split};

fuzz_target!(|input: &[u8]| {
    let (first, second) = split(input);
    explore(first, second, Some(Format::Vmdk), None);
});
