//! Early boot images, and the indexes of modules.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    reformis_guest::fuzzing::early_image(bytes);
    reformis_guest::fuzzing::modules(&String::from_utf8_lossy(bytes));
});
