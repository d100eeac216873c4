//! Text files of a guest: what configures its network, and what it mounts.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let text = String::from_utf8_lossy(bytes);
    let (adapters, same) = reformis_guest::fuzzing::texts(&text);
    assert!(adapters <= 5 * text.len() + 1, "each is named somewhere, or by its file");
    assert!(same, "a changed field is a field");
    reformis_guest::fuzzing::label_rules(&text);
    reformis_guest::fuzzing::cloud_rules(&text);
});
