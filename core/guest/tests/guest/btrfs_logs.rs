//! Btrfs that was in use when it was copied: what its log holds counts.

use std::{fs, path::Path, process::Command, sync::Arc};

use reformis_disk::{budget::Budget, format, source::MemoryStorage};
use reformis_guest::Guest;

use crate::{
    btrfs::{fixture, lines},
    btrfs_changes::{KINDS, check, make},
    common::{MIB, NOW, has, taken},
    model::{Model, mounted, open, run, save, seen, with_mount},
};

/// Files of all kinds are changed, some of them synchronised, and the volume is copied before the kernel has written a generation: what we make
/// of its log is what the kernel makes of it.
#[test]
#[ignore = "needs root, loop devices, Python and Debian's btrfs-progs"]
fn a_log_is_replayed_as_the_kernel_does() {
    let rounds = std::env::var("REFORMIS_CASES").ok().and_then(|text| text.parse().ok()).unwrap_or(1);
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/guest/busy.py");
    let mut replayed = 0;
    for (round, kind) in (0..rounds).flat_map(|round| [0, 1, 4].map(|kind| (round, KINDS[kind]))) {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), &(kind.0, 600));
        let copy = folder.path().join("copy");
        with_mount(&image, "loop,commit=300", |root| {
            let busy = |seconds: &str, seed: usize, often: &str| {
                let seed = seed.to_string();
                run(Command::new("python3").arg(&script).arg(root).args([seconds, &seed]).env("SYNC_EVERY", often));
            };
            busy("0.7", round, "60");
            run(Command::new("sync").arg("-f").arg(root));
            busy("0.5", round + 100, "3");
            fs::copy(&image, &copy).unwrap();
        });
        let (bench, tree) = open(&copy);
        let mut read = Model::new();
        seen(&tree, "", &mut read);
        drop(tree);
        replayed += usize::from(bench.take()[0].edits().iter().any(|edit| edit.name == "journal"));
        let (bench, _) = open(&copy);
        let result = save(&bench, &copy);
        check(&result);
        let kernel = |image: &Path| {
            let mut read = Model::new();
            with_mount(image, "loop", |root| mounted(root, root, &mut read));
            read
        };
        // Replays the log into the copy itself.
        assert!(kernel(&copy) == read, "{kind:?}: the kernel makes something else of it");
        assert!(kernel(&result) == read, "{kind:?}: the kernel sees another tree");
        check(&result);
        assert!(read.len() > 100, "{} entries", read.len());
    }
    assert!(replayed > 0, "there were logs");
}

/// A volume of the kernel (`btrfs/recipe.sh`): what was synchronised counts, and what was not is as the last generation has it.
#[test]
fn what_was_synchronised_is_there() {
    let storage = Arc::new(MemoryStorage::new("disk.raw", fixture("logged")));
    let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
    let mut guest = Guest::open([disk], NOW, &Budget::whole()).unwrap();
    let tree = guest.volume_tree(0, NOW).unwrap().unwrap();
    assert_eq!(guest.unread, []);
    assert_eq!(guest.replayed, ["disk 1"]);
    let mut plain = lines("plain", 9000);
    plain[50_000..50_005].copy_from_slice(b"other");
    assert!(tree.read("/etc/plain", MIB).unwrap() == plain);
    assert_eq!(tree.attributes("/etc/plain").unwrap(), [(b"user.tide".to_vec(), b"high".to_vec())]);
    assert!(tree.read("/etc/new", MIB).unwrap() == lines("new", 9000));
    assert!(tree.read("/usr/deep/hard", MIB).unwrap() == lines("new", 9000));
    assert_eq!(tree.stat("/etc/new").unwrap().links, 2);
    assert!(tree.read("/etc/cut", MIB).unwrap() == lines("cut", 9000)[..20_000]);
    assert_eq!(tree.read("/usr/moved", MIB).unwrap(), lines("moved", 9));
    assert_eq!(tree.read("/usr/deep/file", MIB).unwrap(), lines("deep", 99));
    for gone in ["/etc/moved", "/etc/gone", "/etc/lost", "/usr/file-7"] {
        assert!(!tree.exists(gone), "{gone}");
    }
    drop(tree);
    if has(&["btrfs"]) {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("image");
        fs::write(&image, &taken(&guest)[0]).unwrap();
        check(&image);
    }
}
