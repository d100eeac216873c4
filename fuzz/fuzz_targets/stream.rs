//! What can only be read forwards: compressed as a whole, and members of what is.
#![no_main]

use std::io::Read;

use libfuzzer_sys::fuzz_target;
use reformis_disk::container::{Source, locate_in};
use std::sync::Arc;

fuzz_target!(|bytes: &[u8]| {
    for member in [None, Some("a")] {
        let storage = Arc::new(reformis_disk::source::MemoryStorage::new("fuzz", bytes.to_vec()));
        let Ok(Ok(Source::Stream(stream))) = locate_in(storage, member).map(Source::unwrapped) else { continue };
        // A bomb is read no further than this.
        let read = |stream: &mut (dyn Read + Send), _| {
            std::io::copy(&mut stream.take(4 << 20), &mut std::io::sink()).ok();
            Ok(())
        };
        let _ = stream.visit(&mut std::io::empty(), &|_| {}, false, &mut { read });
    }
});
