//! Btrfs, changed: after any sequence of changes its own checker finds nothing, the kernel sees the tree that was meant and goes on with it,
//! snapshots keep every byte, and nothing changed outside the ranges that were recorded.

use std::{
    fs::{self, File},
    path::{Path, PathBuf},
    process::Command,
};

use proptest::{prelude::*, test_runner::TestRunner};
use reformis_disk::{budget::Budget, format};
use reformis_guest::{Device, Error, Guest, Tree};

use crate::{
    common::{NOW, has, taken},
    model::{Model, Node, before, bytes, mounted, open, run, save, seen, step, take, with_mount, with_steps},
};

const TOOLS: [&str; 2] = ["mkfs.btrfs", "btrfs"];

/// Options of mkfs.btrfs, and the volume's size in MiB.
pub(crate) const KINDS: &[(&[&str], u64)] = &[
    (&[], 160),
    (&["--csum", "xxhash", "-n", "4096", "-m", "single"], 160),
    (&["--csum", "blake2", "-n", "65536", "-m", "dup", "-d", "dup"], 320),
    (&["--mixed", "-n", "4096"], 96),
    (&["--csum", "sha256", "-O", "^no-holes,^extref,^skinny-metadata", "-R", "^free-space-tree"], 160),
];

pub(crate) fn make(folder: &Path, kind: &(&[&str], u64)) -> PathBuf {
    let image = folder.join("volume");
    File::create(&image).unwrap().set_len(kind.1 << 20).unwrap();
    run(Command::new("mkfs.btrfs").args(["-q", "-f"]).args(kind.0).arg(&image));
    image
}

pub(crate) fn check(image: &Path) {
    run(Command::new("btrfs").args(["check", "--readonly"]).arg(image));
    // Every byte of every file has the sum that is noted for it.
    run(Command::new("btrfs").args(["check", "--readonly", "--check-data-csum"]).arg(image));
}

#[test]
fn steps_without_a_kernel_leave_what_was_meant() {
    if !has(&TOOLS) {
        return;
    }
    for kind in KINDS {
        let mut runner = TestRunner::new(ProptestConfig {
            cases: 2,
            max_shrink_iters: 20,
            failure_persistence: None,
            ..ProptestConfig::default()
        });
        let outcome = runner.run(&prop::collection::vec(step(), 1..40), |steps| {
            let folder = tempfile::tempdir().unwrap();
            let image = make(folder.path(), kind);
            let (bench, mut tree) = open(&image);
            let mut model = Model::new();
            bench.begin("steps", "a test");
            for step in &steps {
                take(&mut tree, &mut model, step);
            }
            let mut read = Model::new();
            seen(&tree, "", &mut read);
            assert!(read == model, "what was made is not what is read: {kind:?}");
            check(&save(&bench, &image));
            Ok(())
        });
        outcome.unwrap_or_else(|error| panic!("{kind:?}: {error}"));
    }
}

/// Snapshots of a subvolume that is changed keep every byte, and so does what shares its extents; the kernel reads both, and goes on.
#[test]
#[ignore = "needs root, loop devices and Debian's btrfs-progs"]
fn any_changes_leave_a_sound_file_system_and_its_snapshots() {
    for kind in KINDS {
        with_steps(kind, |first, second| {
            let folder = tempfile::tempdir().unwrap();
            let image = make(folder.path(), kind);
            let mut model = Model::new();
            let (mut snapshot, mut again) = (Model::new(), Model::new());
            // What is there before comes from other hands.
            with_mount(&image, "loop,subvolid=5", |root| {
                let system = root.join("system");
                run(Command::new("btrfs").args(["subvolume", "create"]).arg(&system));
                before(&system, &mut model, first);
                fs::create_dir(system.join("z")).unwrap();
                for number in 0..300 {
                    let content = bytes(&format!("{number} z"), number * 40);
                    fs::write(system.join(format!("z/{number}")), content).unwrap();
                }
                fs::write(system.join("z/large"), bytes("large", 900_000)).unwrap();
                run(Command::new("cp").arg("--reflink=always").arg(system.join("z/large")).arg(system.join("z/copy")));
                for name in ["kept", "kept again"] {
                    run(Command::new("btrfs").args(["subvolume", "snapshot"]).arg(&system).arg(root.join(name)));
                    fs::write(system.join("z/copy"), bytes(name, 100_000)).unwrap();
                }
                // What is opened when nothing else is asked for.
                run(Command::new("btrfs").args(["subvolume", "set-default"]).arg(&system));
                mounted(&system, &system, &mut model);
                mounted(&root.join("kept"), &root.join("kept"), &mut snapshot);
                mounted(&root.join("kept again"), &root.join("kept again"), &mut again);
            });
            let (bench, mut tree) = open(&image);
            let mut read = Model::new();
            seen(&tree, "", &mut read);
            assert!(read == model, "what was there is not what is read: {kind:?}");
            bench.begin("steps", "a test");
            for step in second {
                take(&mut tree, &mut model, step);
            }
            // A folder with extents that snapshots have too.
            for number in (0..300).step_by(3) {
                tree.remove(format!("/z/{number}")).unwrap();
                model.remove(&format!("/z/{number}"));
            }
            tree.write_at("/z/large", 300_000, b"changed").unwrap();
            let Some(Node::File(large)) = model.get_mut("/z/large") else { panic!("it is a file") };
            large[300_000..300_007].copy_from_slice(b"changed");
            tree.truncate("/z/copy", 5000).unwrap();
            let Some(Node::File(copy)) = model.get_mut("/z/copy") else { panic!("it is a file") };
            copy.truncate(5000);
            let mut read = Model::new();
            seen(&tree, "", &mut read);
            assert!(read == model, "what was made is not what is read: {kind:?}");
            let result = save(&bench, &image);
            check(&result);
            with_mount(&result, "loop,subvolid=5", |root| {
                for (name, model) in [("system", &model), ("kept", &snapshot), ("kept again", &again)] {
                    let mut read = Model::new();
                    mounted(&root.join(name), &root.join(name), &mut read);
                    assert!(read == *model, "the kernel sees another tree in {name}: {kind:?}");
                }
                // It goes on with what we left.
                let system = root.join("system");
                before(&system.join("."), &mut Model::new(), second);
                for (path, _) in model.iter().filter(|(_, node)| matches!(node, Node::File(_))).take(50) {
                    fs::write(system.join(&path[1..]), bytes(path, 9000)).unwrap();
                }
                run(Command::new("btrfs").args(["subvolume", "delete", "-c"]).arg(root.join("kept")));
                run(Command::new("btrfs").args(["subvolume", "sync"]).arg(root));
            });
            check(&result);
        });
    }
}

/// Free space in many pieces, so that it is kept in maps; files that share extents; more than the chunks hold, and more than there is.
#[test]
#[ignore = "needs root, loop devices and Debian's btrfs-progs"]
fn an_aged_volume_takes_what_it_has_room_for() {
    for kind in [KINDS[0], KINDS[1], KINDS[3], KINDS[4]] {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), &(kind.0, 400));
        let mut model = Model::new();
        with_mount(&image, "loop", |root| {
            for number in 0..1500 {
                fs::write(root.join(format!("fill-{number}")), bytes("fill", 4096)).unwrap();
            }
            run(Command::new("sync").arg("-f").arg(root));
            for number in (0..1500).step_by(2) {
                fs::remove_file(root.join(format!("fill-{number}"))).unwrap();
            }
            fs::write(root.join("one"), bytes("one", 700_000)).unwrap();
            run(Command::new("cp").arg("--reflink=always").arg(root.join("one")).arg(root.join("two")));
            mounted(root, root, &mut model);
        });
        if kind.0.is_empty() {
            let free = run(Command::new("btrfs").args(["inspect-internal", "dump-tree", "-t", "10"]).arg(&image));
            assert!(free.contains("FREE_SPACE_BITMAP") && free.contains("FREE_SPACE_EXTENT"), "{free}");
        }
        let (bench, mut tree) = open(&image);
        bench.begin("steps", "a test");
        let mut put = |tree: &mut reformis_guest::Tree, path: &str, content: Vec<u8>| {
            tree.write(path, &content).unwrap_or_else(|error| panic!("{kind:?} {path}: {error}"));
            model.insert(path.into(), Node::File(content));
        };
        for number in 0..40 {
            put(&mut tree, &format!("/small-{number}"), bytes("small", 5000 + number));
        }
        // What no chunk that is there has room for.
        put(&mut tree, "/scattered", bytes("scattered", 90_000_000));
        put(&mut tree, "/two", bytes("other", 20_000));
        // What one of two that share extents gets is not the other's.
        tree.write_at("/one", 300_000, b"changed").unwrap();
        let Some(Node::File(one)) = model.get_mut("/one") else { panic!("it is a file") };
        one[300_000..300_007].copy_from_slice(b"changed");
        for number in [1, 3, 5, 99] {
            tree.remove(format!("/fill-{number}")).unwrap();
            model.remove(&format!("/fill-{number}"));
        }
        let mut read = Model::new();
        seen(&tree, "", &mut read);
        assert!(read == model, "{kind:?}");
        bench.begin("too-large", "a test");
        let error = tree.write("/large", &vec![1; 500 << 20]).unwrap_err().to_string();
        assert!(error.contains("has no room"), "{error}");
        bench.rollback();
        let result = save(&bench, &image);
        check(&result);
        with_mount(&result, "loop", |root| {
            let mut read = Model::new();
            mounted(root, root, &mut read);
            assert!(read == model, "{kind:?}: the kernel sees another tree");
            fs::write(root.join("more"), bytes("more", 900_000)).unwrap();
        });
        check(&result);
    }
}

/// A change that failed half way is not there for the one after it, nor for a second view of the volume.
#[test]
fn a_change_that_fails_leaves_nothing_behind() {
    if !has(&TOOLS) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = make(folder.path(), &(&["-m", "single"], 120));
    let (bench, mut tree) = open(&image);
    bench.begin("first", "a test");
    tree.write("/kept", &bytes("kept", 3_000_000)).unwrap();
    for round in 0..3 {
        let error = tree.write("/large", &vec![round; 200 << 20]).unwrap_err().to_string();
        assert!(error.contains("has no room"), "{error}");
        tree.write(format!("/after-{round}"), b"after").unwrap();
    }
    assert!(!tree.exists("/large"));
    // Another view of the same volume, and then the first one again.
    let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
    let mut other = Tree::of(&device, NOW).unwrap().unwrap();
    assert_eq!(other.read("/after-2", 9).unwrap(), b"after");
    other.write("/other", b"other").unwrap();
    tree.write("/first", b"first").unwrap();
    other.write("/other", b"once more").unwrap();
    for tree in [&tree, &other] {
        assert_eq!(tree.read("/kept", 4 << 20).unwrap(), bytes("kept", 3_000_000));
    }
    drop((tree, other));
    let result = save(&bench, &image);
    check(&result);
    let (_, tree) = open(&result);
    assert_eq!(tree.read("/other", 20).unwrap(), b"once more");
    assert_eq!(tree.read("/first", 20).unwrap(), b"first");
    assert_eq!(tree.list("/").unwrap().len(), 6);
}

/// Names, attributes and links of every kind as the kernel reads them.
#[test]
#[ignore = "needs root, loop devices and Debian's attr, btrfs-progs"]
fn names_links_and_attributes_are_what_the_kernel_would_have_made() {
    for kind in [KINDS[0], KINDS[4]] {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), &kind);
        let (packed, long) = (bytes("packed", 4000).repeat(100), "l".repeat(200));
        with_mount(&image, "loop", |root| {
            fs::create_dir_all(root.join("from/below")).unwrap();
            fs::write(root.join("from/file"), b"file").unwrap();
            // As many names as do not fit into one item.
            for number in 0..if kind.0.is_empty() { 60 } else { 10 } {
                fs::hard_link(root.join("from/file"), root.join(format!("from/{long}{number}"))).unwrap();
            }
            run(Command::new("setfattr").args(["-n", "user.tide", "-v", "high"]).arg(root.join("from/file")));
            run(Command::new("setfattr").args(["-n", "security.selinux", "-v", "a:b:c:s0"]).arg(root.join("from")));
            run(Command::new("btrfs").args(["property", "set"]).arg(root.join("from")).args(["compression", "zstd"]));
            fs::write(root.join("from/packed"), &packed).unwrap();
            run(Command::new("fallocate").args(["-l", "300000"]).arg(root.join("from/reserved")));
            run(Command::new("btrfs").args(["subvolume", "create"]).arg(root.join("from/inner")));
        });
        let (bench, mut tree) = open(&image);
        bench.begin("steps", "a test");
        tree.rename("/from/below", "/below").unwrap();
        tree.rename("/from/file", "/below/moved").unwrap();
        assert!(matches!(tree.rename("/below", "/below/again"), Err(Error::WrongKind { .. })));
        assert!(matches!(tree.rename("/below", "/from"), Err(Error::Exists { .. })));
        assert!(matches!(tree.remove("/from/inner"), Err(Error::Unsupported { .. })));
        assert!(matches!(tree.rename("/from/inner", "/from/outer"), Err(Error::Unsupported { .. })));
        tree.remove(format!("/from/{long}3")).unwrap();
        tree.write("/from/new", b"new").unwrap();
        tree.set_owner("/from/new", 5, 6, 0o4750).unwrap();
        tree.write_at("/from/packed", 100_000, b"in the middle").unwrap();
        tree.truncate("/from/packed", 390_001).unwrap();
        tree.write_at("/from/reserved", 200_000, b"low").unwrap();
        tree.truncate("/from/reserved", 700_000).unwrap();
        tree.write_at("/from/reserved", 900_000, b"high").unwrap();
        tree.link("/from/link", "t".repeat(3000)).unwrap();
        tree.write("/from/inner/file", b"inside").unwrap();
        drop(tree);
        let result = save(&bench, &image);
        check(&result);
        with_mount(&result, "loop", |root| {
            use std::os::unix::fs::MetadataExt;
            let read = |path: &str| fs::read(root.join(path)).unwrap();
            let names = if kind.0.is_empty() { 60 } else { 10 };
            assert_eq!(root.join("below/moved").metadata().unwrap().nlink(), names);
            let attributes = run(Command::new("getfattr").args(["-m", "-", "-d"]).arg(root.join("below/moved")));
            assert!(attributes.contains("user.tide=\"high\""), "{attributes}");
            // What is made in a folder with a label has one.
            let attributes = run(Command::new("getfattr").args(["-m", "-", "-d"]).arg(root.join("from/new")));
            assert!(attributes.contains("security.selinux=\"a:b:c:s0\""), "{attributes}");
            let new = root.join("from/new").metadata().unwrap();
            assert_eq!((new.uid(), new.gid(), new.mode() & 0o7777), (5, 6, 0o4750));
            let mut wanted = packed.clone();
            wanted.truncate(390_001);
            wanted[100_000..100_013].copy_from_slice(b"in the middle");
            assert!(read("from/packed") == wanted);
            let mut wanted = vec![0; 900_004];
            wanted[200_000..200_003].copy_from_slice(b"low");
            wanted[900_000..].copy_from_slice(b"high");
            assert!(read("from/reserved") == wanted);
            assert_eq!(fs::read_link(root.join("from/link")).unwrap().to_str().unwrap(), "t".repeat(3000));
            assert_eq!(read("from/inner/file"), b"inside");
        });
        check(&result);
    }
}

/// Two devices whose blocks are copied and whose bytes are striped or copied; and what is not changed, with the reason.
#[test]
#[ignore = "needs root, loop devices and Debian's btrfs-progs"]
fn several_devices_are_changed_together_and_some_volumes_not_at_all() {
    for profile in ["raid0", "raid1", "single"] {
        let folder = tempfile::tempdir().unwrap();
        let images = ["left", "right"].map(|name| folder.path().join(name));
        for image in &images {
            File::create(image).unwrap().set_len(200 << 20).unwrap();
        }
        run(Command::new("mkfs.btrfs").args(["-q", "-m", "raid1", "-d", profile]).args(&images));
        let mut guest = open_all(&images);
        let mut tree = guest.volume_tree(0, NOW).unwrap().unwrap();
        guest.bench.begin("steps", "a test");
        tree.make_folders("/a/b").unwrap();
        for (name, len) in [("large", 20_000_000), ("small", 900)] {
            tree.write(format!("/a/b/{name}"), &bytes(name, len)).unwrap_or_else(|error| panic!("{profile}: {error}"));
        }
        drop(tree);
        for (image, bytes) in images.iter().zip(taken(&guest)) {
            fs::write(image, bytes).unwrap();
        }
        let loops = images.each_ref().map(|image| {
            let made = run(Command::new("losetup").args(["-f", "--show"]).arg(image));
            made.trim().to_string()
        });
        run(Command::new("btrfs").args(["device", "scan"]).args(&loops));
        run(Command::new("btrfs").args(["check", "--readonly", "--check-data-csum"]).arg(&loops[0]));
        let options = format!("device={},device={}", loops[0], loops[1]);
        with_mount(Path::new(&loops[1]), &options, |root| {
            assert!(fs::read(root.join("a/b/large")).unwrap() == bytes("large", 20_000_000));
            fs::write(root.join("more"), bytes("more", 100_000)).unwrap();
            // Each copy is what its sum says.
            let told = run(Command::new("btrfs").args(["scrub", "start", "-B"]).arg(root));
            assert!(told.contains("no errors found"), "{told}");
        });
        run(Command::new("losetup").arg("-d").args(&loops));
        // One of them alone, of two that are alike.
        if profile == "raid1" {
            let mut alone = open_all(&images[1..]);
            let mut tree = alone.volume_tree(0, NOW).unwrap().unwrap();
            assert!(tree.read("/more", 1 << 20).unwrap() == bytes("more", 100_000));
            let error = tree.write("/no", b"no").unwrap_err().to_string();
            assert!(error.contains("not all of its devices are here"), "{error}");
        }
    }
    let folder = tempfile::tempdir().unwrap();
    let image = make(folder.path(), &KINDS[0]);
    with_mount(&image, "loop", |root| {
        fs::write(root.join("file"), b"file").unwrap();
        run(Command::new("btrfs").args(["subvolume", "snapshot", "-r"]).arg(root).arg(root.join("kept")));
    });
    let (bench, mut tree) = open(&image);
    bench.begin("steps", "a test");
    let error = tree.write("/kept/file", b"no").unwrap_err().to_string();
    assert!(error.contains("is read only"), "{error}");
    assert!(bench.take()[0].edits().iter().all(|edit| edit.ranges.is_empty()));
}

/// What groups of subvolumes take is not counted by us: the guest's kernel knows that, and counts when it is asked to.
#[test]
#[ignore = "needs root, loop devices and Debian's btrfs-progs"]
fn quotas_are_left_for_the_kernel_to_count() {
    let folder = tempfile::tempdir().unwrap();
    let image = make(folder.path(), &KINDS[0]);
    with_mount(&image, "loop", |root| {
        run(Command::new("btrfs").args(["quota", "enable"]).arg(root));
        run(Command::new("btrfs").args(["quota", "rescan", "-w"]).arg(root));
        fs::write(root.join("file"), bytes("file", 100_000)).unwrap();
    });
    let (bench, mut tree) = open(&image);
    bench.begin("steps", "a test");
    tree.write("/more", &bytes("more", 1_000_000)).unwrap();
    drop(tree);
    let result = save(&bench, &image);
    run(Command::new("btrfs").args(["check", "--readonly"]).arg(&result));
    with_mount(&result, "loop", |root| {
        run(Command::new("btrfs").args(["quota", "rescan", "-w"]).arg(root));
        let told = run(Command::new("btrfs").args(["qgroup", "show", "--raw"]).arg(root));
        let counted = told.lines().find_map(|line| line.strip_prefix("0/5")).unwrap_or_default();
        let bytes: u64 = counted.split_whitespace().next().unwrap_or_default().parse().unwrap_or_default();
        assert!(bytes > 1_100_000, "{told}");
    });
    check(&result);
}

fn open_all(images: &[PathBuf]) -> Guest {
    let disks = images.iter().map(|image| {
        let storage = reformis_disk::container::open(image, &Budget::whole()).unwrap();
        format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk
    });
    Guest::open(disks.collect::<Vec<_>>(), NOW, &Budget::whole()).unwrap()
}

/// Small files lie among the items of the blocks that snapshots share: their bytes are no references.
#[test]
#[ignore = "needs root, loop devices and Debian's btrfs-progs"]
fn small_files_beside_a_snapshot_are_bytes_alone() {
    let folder = tempfile::tempdir().unwrap();
    let image = make(folder.path(), &KINDS[0]);
    let content = |number: usize| bytes(&format!("tide {number}"), number * 7);
    with_mount(&image, "loop", |root| {
        run(Command::new("btrfs").args(["subvolume", "create"]).arg(root.join("system")));
        for number in 0..250 {
            fs::write(root.join(format!("system/{number}")), content(number)).unwrap();
        }
        run(Command::new("btrfs")
            .args(["subvolume", "snapshot", "-r"])
            .arg(root.join("system"))
            .arg(root.join("kept")));
    });
    let (bench, mut tree) = open(&image);
    bench.begin("steps", "a test");
    for number in (0..250).step_by(9) {
        tree.append(format!("/system/{number}"), b"more").unwrap();
        tree.remove(format!("/system/{}", number + 1)).unwrap();
    }
    for number in 0..250 {
        assert!(tree.read(format!("/kept/{number}"), 1 << 20).unwrap() == content(number));
    }
    let result = save(&bench, &image);
    check(&result);
}

/// An extent that so many files share that its references have items of their own.
#[test]
#[ignore = "needs root, loop devices and Debian's btrfs-progs"]
fn an_extent_of_many_files_is_given_back_by_the_last() {
    for kind in [KINDS[0], KINDS[1]] {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), &kind);
        with_mount(&image, "loop", |root| {
            fs::write(root.join("0"), bytes("shared", 300_000)).unwrap();
            run(Command::new("sync").arg("-f").arg(root));
            let line = "for i in $(seq 1 150); do cp --reflink=always 0 $i; done";
            run(Command::new("sh").args(["-ec", line]).current_dir(root));
        });
        let (bench, mut tree) = open(&image);
        bench.begin("steps", "a test");
        for number in (0..150).step_by(2) {
            tree.write_at(format!("/{number}"), 100_000, b"mine").unwrap();
        }
        let half = save(&bench, &image);
        check(&half);
        let (bench, mut tree) = open(&half);
        bench.begin("steps", "a test");
        for number in 0..150 {
            tree.remove(format!("/{number}")).unwrap();
        }
        assert!(tree.read("/150", 1 << 20).unwrap() == bytes("shared", 300_000));
        check(&save(&bench, &half));
    }
}
