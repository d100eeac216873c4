//! The reader of descriptors; what it accepts is written in every kind.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_machine::MachineFile;

fuzz_target!(|bytes: &[u8]| reformis_fuzz::machine_file(MachineFile::Ovf, bytes));
