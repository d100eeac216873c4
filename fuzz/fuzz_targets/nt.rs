//! What a Windows guest keeps in files: hives and their logs, boot stores, and bytes that the system packed.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_guest::fuzzing;
use reformis_standin::hives;

fuzz_target!(|bytes: &[u8]| {
    let Some((kind, rest)) = bytes.split_first() else { return };
    match kind % 8 {
        // A hive as it lies there, with a right checksum, and with a log of its own making.
        0 => drop(fuzzing::hive(rest, &[])),
        1 => drop(fuzzing::hive(&hives::with_checksum(rest), &[])),
        2 => {
            let sound = hives::empty(5);
            let after = [&sound[..4096], rest].concat();
            let whole = after.len() / 4096 * 4096;
            if whole > 4096 {
                let (stopped, log) = hives::interrupted(&sound, &after[..whole], kind & 8 == 0);
                fuzzing::hive(&stopped, &log);
            }
        }
        3 => drop(fuzzing::hive(&hives::empty(5), &hives::with_checksum(rest))),
        // What a person was sent as registry text.
        7 if kind & 8 != 0 => drop(fuzzing::registry_text(rest)),
        kind => drop(fuzzing::unpack(kind - 4, rest)),
    }
});
