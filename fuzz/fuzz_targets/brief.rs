//! The readers of briefs and of a site's file; a brief is written as it was read.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_machine::Site;
use reformis_move::brief::{self, Notes};

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    if let Ok(site) = Site::parse("fuzz.toml", text) {
        site.destinations().expect("a site that was read has sound destinations");
    }
    let Ok(read) = brief::read(text, "fuzz.toml") else { return };
    let again = brief::read(&brief::write(&read, &Notes::new()), "again.toml").expect("what is written is sound");
    assert_eq!(again, read);
});
