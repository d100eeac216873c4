//! The readers of tar and zip archives: members lie inside, and their names too.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use reformis_disk::{
    container::Archive,
    source::{MemoryStorage, check_relative_name},
};

fuzz_target!(|bytes: &[u8]| {
    let Ok(archive) = Archive::open(Arc::new(MemoryStorage::new("fuzz", bytes.to_vec()))) else { return };
    for member in archive.members() {
        assert!(check_relative_name(&member.name).is_ok());
        let Ok(storage) = archive.member(&member.name) else { continue };
        assert!(member.offset + member.len <= bytes.len() as u64);
        let mut last = [0];
        if storage.len() > 0 {
            storage.read_at(storage.len() - 1, &mut last).expect("a byte inside the member");
        }
    }
});
