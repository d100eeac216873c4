//! The writer of FAT: any changes, beside a model and under the eyes of the file system's own checker.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use reformis_fuzz::changes::{self, Checker, FileSystem};

static FAT: FileSystem = FileSystem {
    // FAT12, FAT16 and FAT32, which their numbers of clusters make them.
    volumes: LazyLock::new(|| changes::fat_volumes(&[(12, 200), (16, 3 << 10), (32, 36 << 10)])),
    checker: Checker::Program(&["fsck.fat", "-n"]),
    folds_case: true,
    filled: None,
};

fuzz_target!(|bytes: &[u8]| {
    FAT.change(bytes);
});
