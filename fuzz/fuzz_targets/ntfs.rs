//! The writer of NTFS: any changes, beside a model and under the eyes of a strict checker; and changes to a damaged volume.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use reformis_fuzz::changes::{self, Checker, FileSystem};
use reformis_standin::ntfs_check;

static NTFS: FileSystem = FileSystem {
    volumes: LazyLock::new(|| changes::ntfs_volumes(&[(512, 512, 1536), (4096, 512, 2048), (4096, 4096, 2048)])),
    checker: Checker::Function(ntfs_check::check),
    folds_case: true,
    filled: None,
};

fuzz_target!(|bytes: &[u8]| NTFS.change(bytes));
