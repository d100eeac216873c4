//! What the content tells: every reader as it is chosen by the bytes themselves.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_fuzz::explore;

fuzz_target!(|bytes: &[u8]| explore(bytes, &[], None, None));
