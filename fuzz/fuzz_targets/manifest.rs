//! The reader of manifests.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_machine::manifest;

fuzz_target!(|bytes: &[u8]| {
    for entry in manifest::parse(bytes, "fuzz.mf").into_iter().flatten() {
        assert!(entry.digest.bytes().all(|b| b.is_ascii_hexdigit()));
    }
});
