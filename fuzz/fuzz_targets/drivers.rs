//! What comes on a driver medium: the medium itself, setup information files, program files.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_guest::fuzzing;

fuzz_target!(|bytes: &[u8]| {
    let Some((kind, rest)) = bytes.split_first() else { return };
    match kind % 4 {
        0 => drop(fuzzing::setup_information(rest)),
        1 => drop(fuzzing::program(rest)),
        _ => drop(fuzzing::medium(rest)),
    }
});
