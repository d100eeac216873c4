//! The writer of ext: any changes, beside a model and under the eyes of the file system's own checker.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use reformis_fuzz::changes::{self, Checker, FileSystem};

static EXT: FileSystem = FileSystem {
    volumes: LazyLock::new(|| {
        changes::ext_volumes(&[
            (&["-t", "ext2", "-b", "1024", "-N", "64"], 300),
            (&["-t", "ext4", "-b", "1024", "-N", "64", "-O", "^has_journal"], 300),
            (&["-t", "ext4", "-b", "1024", "-N", "64", "-O", "^has_journal,inline_data"], 300),
            (&["-t", "ext4", "-b", "1024", "-N", "64", "-O", "^has_journal,^metadata_csum,uninit_bg,^64bit"], 600),
            (&["-t", "ext4", "-b", "4096", "-N", "128"], 8192),
        ])
    }),
    checker: Checker::Program(&["e2fsck", "-fn"]),
    folds_case: false,
    filled: None,
};

fuzz_target!(|bytes: &[u8]| EXT.change(bytes));
