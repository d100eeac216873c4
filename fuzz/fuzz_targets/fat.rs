//! The writer of FAT: any changes, beside a model and under the eyes of the file system's own checker.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use reformis_fuzz::changes::{self, FileSystem};

static FAT: FileSystem = FileSystem {
    // FAT12, FAT16 and FAT32, which their numbers of clusters make them.
    volumes: LazyLock::new(|| changes::fat_volumes(&[(200 << 10, 512), (3 << 20, 512), (36 << 20, 512)])),
    checker: &["fsck.fat", "-n"],
    folds_case: true,
};

fuzz_target!(|bytes: &[u8]| {
    changes::allow_panics_in_library();
    FAT.change(bytes);
});
