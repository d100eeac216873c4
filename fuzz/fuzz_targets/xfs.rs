//! XFS: any changes to a sound volume, beside a model and under the eyes of the file system's own checker; and what is read of
//! damaged ones, their logs included. Checksums are not looked at here, so that damage gets behind them.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use reformis_fuzz::changes::{Checker, FileSystem, xfs_volume};

/// Leaves an empty tree behind, and a log that is to be replayed.
const LEAVE: &str = "mkdir a; for i in $(seq 200); do echo $i >a/$i; done; ln -s x a/link; sync -f .; rm -r a; sync -f .; \
                     xfs_io -x -c 'shutdown -f' .";
/// A folder with an index, attributes of each form, a file in many pieces, and a log that is to be replayed.
const FILL: &str = "mkdir many; for i in $(seq 700); do echo $i >many/name-that-is-not-short-$i; done; ln -s x link; \
                    ln -s $(printf 'x%.0s' $(seq 600)) long; mkdir -p d/e/f; \
                    for i in $(seq 40); do setfattr -n user.$i -v $(printf '%0200d' $i) d; done; \
                    setfattr -n user.large -v $(printf '%09000d' 1) link many/name-that-is-not-short-1; \
                    for i in $(seq 0 2 300); do dd if=/dev/zero of=pieces bs=4k count=1 seek=$i conv=notrunc; done; \
                    cp --reflink=always pieces shared; sync -f .; rm many/*7; xfs_io -x -c 'shutdown -f' .";

static XFS: FileSystem = FileSystem {
    volumes: LazyLock::new(|| {
        vec![
            xfs_volume(&["-m", "crc=0", "-b", "size=512", "-i", "size=256"], 16 << 10, ""),
            xfs_volume(&["-m", "rmapbt=1"], 16 << 10, LEAVE),
        ]
    }),
    checker: Checker::Program(&["xfs_repair", "-n", "-f", "-o", "force_geometry"]),
    folds_case: false,
    filled: Some(LazyLock::new(|| vec![xfs_volume(&["-m", "rmapbt=1"], 16 << 10, FILL)])),
};

fuzz_target!(
    // Their making is not a part of the first input's time.
    init: {
        LazyLock::force(&XFS.volumes);
        XFS.filled.as_ref().map(LazyLock::force);
    },
    |bytes: &[u8]| XFS.change(bytes)
);
