//! The reader of descriptors; what it accepts is written as a domain, which must be sound XML.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_machine::{domain, ovf};

fuzz_target!(|bytes: &[u8]| {
    ovf::looks_like(bytes);
    let Ok(package) = ovf::read(bytes, "fuzz.ovf") else { return };
    let disk = |index: usize| domain::LandedDisk { path: format!("/landing/{index}"), format: "qcow2".into() };
    let disks: Vec<_> = (0..package.machine.disks.len()).map(disk).collect();
    let text = domain::write(&package.machine, &disks).expect("memory takes every write");
    assert!(text.starts_with("<domain"));
});
