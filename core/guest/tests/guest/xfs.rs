//! XFS as its own tools make and check it: after any sequence of changes the checker finds nothing, the kernel sees the tree
//! that was meant and goes on with it, and nothing changed outside the ranges that were recorded.

use std::{
    fs::{self, File},
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::Command,
};

use reformis_disk::Disk;
use reformis_guest::{State, Wishes, edit, refit};
use reformis_standin::early::{FILE, FOLDER, archive};

use crate::{
    common::{MIB, NOW, ROOT_UUID, disk, has, names, system, text as text_of, tree, virtio},
    model::{Model, Node, before, bytes, mounted, open, run, save, seen, take, with_mount, with_steps},
};

const TOOLS: [&str; 2] = ["mkfs.xfs", "xfs_repair"];

/// Options of mkfs.xfs, the volume's size in MiB, and whether kernels of today mount it.
const KINDS: &[(&[&str], u64, bool)] = &[
    (&[], 64, true),
    (&["-m", "crc=0", "-b", "size=512", "-i", "size=256"], 40, false),
    (&["-m", "crc=0", "-b", "size=4096", "-n", "ftype=0", "-l", "version=1,lazy-count=0"], 64, false),
    (&["-b", "size=1024", "-m", "rmapbt=1", "-d", "agcount=2"], 48, true),
    (&["-b", "size=2048", "-n", "size=8192", "-s", "size=2048", "-i", "nrext64=1,size=1024"], 64, true),
    (&["-m", "finobt=0,inobtcount=0,reflink=0,bigtime=0", "-i", "sparse=0,size=1024", "-l", "su=32k"], 64, true),
    (&["-m", "rmapbt=1", "-s", "size=4096", "-i", "nrext64=1", "-n", "size=16384"], 96, true),
    (&["-b", "size=65536", "-m", "reflink=0"], 192, true),
];

fn make(folder: &Path, kind: &(&[&str], u64, bool)) -> PathBuf {
    let image = folder.join("volume");
    File::create(&image).unwrap().set_len(kind.1 << 20).unwrap();
    run(Command::new("mkfs.xfs").args(["--unsupported", "-q", "-f"]).args(kind.0).arg(&image));
    image
}

fn check(image: &Path) {
    run(Command::new("xfs_repair").args(["-n", "-f", "-o", "force_geometry"]).arg(image));
}

/// What the checker says of attributes whose values were not yet all there when the volume was torn: they stay marked as
/// incomplete after the kernel's replay as well, and no reader sees them. Nothing else may be said.
fn complaints(image: &Path) -> Vec<String> {
    let mut command = Command::new("xfs_repair");
    command.args(["-n", "-f", "-o", "force_geometry"]).arg(image);
    let output = command.output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    let torn: Vec<String> = text.lines().filter(|line| line.ends_with(" is INCOMPLETE")).map(str::to_owned).collect();
    assert!(output.status.success() || !torn.is_empty(), "{command:?}: {text}");
    torn
}

/// A folder that needs each form in turn, on its way up and down, and the tree around it.
#[test]
fn a_folder_takes_each_form_and_comes_back() {
    if !has(&TOOLS) {
        return;
    }
    for kind in KINDS.iter().take(5) {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), kind);
        let name = |number: usize| format!("/many/{number}-{}", "n".repeat(number * 7 % 90));
        let (bench, mut tree) = open(&image);
        bench.begin("fill", "a test");
        tree.make_folders("/many").unwrap();
        let mut made = 0;
        // In the inode, in one block, with one leaf, with a tree of several levels.
        for until in [3, 20, 150, 900] {
            while made < until {
                tree.write(name(made), b"x").unwrap_or_else(|error| panic!("{kind:?} {made}: {error}"));
                made += 1;
            }
            assert_eq!(tree.list("/many").unwrap().len(), until);
            assert!((0..until).all(|number| tree.exists(name(number))), "{kind:?}");
            assert!(!tree.exists(name(until)));
        }
        let full = save(&bench, &image);
        check(&full);
        let (bench, mut tree) = open(&full);
        bench.begin("empty", "a test");
        // First every other one, so that places become free everywhere; then from the end.
        let order: Vec<usize> = (0..900).step_by(2).chain((0..900).rev().filter(|number| number % 2 == 1)).collect();
        let mut rest = 900;
        for number in order {
            tree.remove(name(number)).unwrap_or_else(|error| panic!("{kind:?} {number}: {error}"));
            rest -= 1;
            if [450, 100, 12, 2].contains(&rest) {
                assert_eq!(tree.list("/many").unwrap().len(), rest);
            }
        }
        tree.write("/many/last", b"y").unwrap();
        let result = save(&bench, &full);
        check(&result);
        let (_, tree) = open(&result);
        assert_eq!(tree.read("/many/last", 9).unwrap(), b"y");
    }
}

#[test]
#[ignore = "needs root, loop devices and Debian's xfsprogs"]
fn any_changes_leave_a_sound_file_system() {
    for kind in KINDS {
        with_steps(kind, |first, second| {
            let folder = tempfile::tempdir().unwrap();
            let image = make(folder.path(), kind);
            let mut model = Model::new();
            // What is there before comes from other hands.
            if kind.2 {
                with_mount(&image, "loop", |root| before(root, &mut model, first));
            }
            let (bench, mut tree) = open(&image);
            let mut read = Model::new();
            seen(&tree, "", &mut read);
            assert!(read == model, "what was there is not what is read: {kind:?}");
            bench.begin("steps", "a test");
            for step in second {
                take(&mut tree, &mut model, step);
            }
            let mut read = Model::new();
            seen(&tree, "", &mut read);
            assert!(read == model, "what was made is not what is read: {kind:?}");
            let result = save(&bench, &image);
            check(&result);
            if kind.2 {
                with_mount(&result, "loop", |root| {
                    let mut read = Model::new();
                    mounted(root, root, &mut read);
                    assert!(read == model, "the kernel sees another tree: {kind:?}");
                    // It goes on with what we left.
                    before(&root.join("."), &mut Model::new(), second);
                    for (path, _) in model.iter().filter(|(_, node)| matches!(node, Node::File(_))).take(50) {
                        fs::write(root.join(&path[1..]), bytes(path, 9000)).unwrap();
                    }
                });
                check(&result);
            }
        });
    }
}

/// Copies a volume that is in use after `work` was done on it; what the tree was then.
fn copied_in_use<T>(folder: &Path, image: &Path, options: &str, work: impl FnOnce(&Path) -> T) -> (PathBuf, Model) {
    let place = folder.join("place");
    fs::create_dir(&place).unwrap();
    run(Command::new("mount").args(["-o", options]).arg(image).arg(&place));
    let open = work(&place);
    // What was begun reaches the log, and its place only by and by.
    run(Command::new("sync").arg("-f").arg(&place));
    let copy = folder.join("copy");
    fs::copy(image, &copy).unwrap();
    let mut model = Model::new();
    mounted(&place, &place, &mut model);
    drop(open);
    crate::common::unmount(&place);
    (copy, model)
}

#[test]
#[ignore = "needs root, loop devices and Debian's xfsprogs"]
fn a_file_system_that_was_in_use_when_it_was_copied() {
    for kind in KINDS.iter().filter(|kind| kind.2) {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), kind);
        let (copy, mut model) = copied_in_use(folder.path(), &image, "loop", |place| {
            let put = |name: &str, len: usize| fs::write(place.join(name), bytes(name, len)).unwrap();
            fs::create_dir(place.join("many")).unwrap();
            for number in 0..400 {
                put(&format!("many/{number}"), number * 7);
            }
            run(Command::new("sync").arg("-f").arg(place));
            for number in (0..400).step_by(3) {
                fs::remove_file(place.join(format!("many/{number}"))).unwrap();
            }
            put("after", 900_000);
            // Two files that are open: one is deleted, one is cut short.
            let deleted = File::create(place.join("deleted")).unwrap();
            std::io::Write::write_all(&mut &deleted, &bytes("deleted", 700_000)).unwrap();
            fs::remove_file(place.join("deleted")).unwrap();

            put("cut", 500_000);
            File::options().write(true).open(place.join("cut")).unwrap().set_len(1234).unwrap();
            std::os::unix::fs::symlink("after", place.join("link")).unwrap();
            deleted
        });
        let (bench, mut tree) = open(&copy);
        let mut read = Model::new();
        seen(&tree, "", &mut read);
        assert!(read == model, "{kind:?}: the tree is not what it was");
        bench.begin("steps", "a test");
        tree.write("/more", b"more").unwrap();
        model.insert("/more".into(), Node::File(b"more".to_vec()));
        let result = save(&bench, &copy);
        check(&result);
        with_mount(&result, "loop", |root| {
            let mut read = Model::new();
            mounted(root, root, &mut read);
            assert!(read == model, "{kind:?}: the kernel sees another tree");
            fs::write(root.join("and more"), b"1").unwrap();
        });
        check(&result);
    }
}

/// The tree on an image, as the kernel sees it.
fn seen_by_kernel(image: &Path) -> Model {
    let mut read = Model::new();
    with_mount(image, "loop", |root| mounted(root, root, &mut read));
    read
}

/// Four processes change files of all kinds while the volume is torn from under them: what we make of its log is what the kernel
/// makes of it.
#[test]
#[ignore = "needs root, loop devices, Python and Debian's xfsprogs"]
fn a_log_that_was_cut_short_is_replayed_as_the_kernel_does() {
    let rounds = std::env::var("REFORMIS_CASES").ok().and_then(|text| text.parse().ok()).unwrap_or(1);
    let kinds: [&[&str]; 3] = [
        &["-m", "rmapbt=1"],
        &["-m", "rmapbt=1", "-b", "size=1024", "-l", "su=16k"],
        &["-i", "nrext64=1", "-n", "size=8192"],
    ];
    for (round, kind) in (0..rounds).flat_map(|round| kinds.map(|kind| (round, kind))) {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), &(kind, 300, true));
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/guest/busy.py");
        with_mount(&image, "loop", |root| {
            // With what is in memory only, or without it.
            let how = if round % 2 == 0 { "" } else { "-f" };
            run(Command::new("python3").arg(&script).arg(root).args(["1.5", &round.to_string(), how]));
        });
        let (bench, tree) = open(&image);
        let mut read = Model::new();
        seen(&tree, "", &mut read);
        let result = save(&bench, &image);
        let ours = complaints(&result);
        // Replays the log into the image itself.
        assert!(seen_by_kernel(&image) == read, "{kind:?}: the kernel makes something else of it");
        let left = complaints(&image);
        assert_eq!(ours, left, "{kind:?}: the volume, and what the kernel makes of it");
        assert!(seen_by_kernel(&result) == read, "{kind:?}: the kernel sees another tree");
        assert_eq!(complaints(&result), left, "{kind:?}: the volume after the kernel had it");
        assert!(read.len() > 500, "{} entries", read.len());
    }
}

/// Free space in many pieces, files that share blocks, and hardly any room.
#[test]
#[ignore = "needs root, loop devices and Debian's xfsprogs"]
fn an_aged_volume_takes_what_it_has_room_for() {
    for kind in [KINDS[0], KINDS[3], KINDS[6]] {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), &kind);
        let mut model = Model::new();
        with_mount(&image, "loop", |root| {
            let mut made = 0;
            while fs::write(root.join(format!("fill-{made}")), bytes("fill", 4096)).is_ok() {
                made += 1;
            }
            for number in (0..made).filter(|number| number % 2 == 0) {
                fs::remove_file(root.join(format!("fill-{number}"))).unwrap();
            }
            fs::write(root.join("one"), bytes("one", 700_000)).unwrap();
            run(Command::new("cp").arg("--reflink=always").arg(root.join("one")).arg(root.join("two")));
            mounted(root, root, &mut model);
        });
        let (bench, mut tree) = open(&image);
        bench.begin("steps", "a test");
        let mut put = |tree: &mut reformis_guest::Tree, path: &str, content: Vec<u8>| {
            tree.write(path, &content).unwrap();
            model.insert(path.into(), Node::File(content));
        };
        put(&mut tree, "/scattered", bytes("scattered", 3_000_000));
        put(&mut tree, "/two", bytes("other", 20_000));
        // What one of two that share blocks gets is not the other's.
        tree.write_at("/one", 300_000, b"changed").unwrap();
        let Some(Node::File(one)) = model.get_mut("/one") else { panic!("it is a file") };
        one[300_000..300_007].copy_from_slice(b"changed");
        tree.remove("/fill-1").unwrap();
        model.remove("/fill-1");
        let mut read = Model::new();
        seen(&tree, "", &mut read);
        assert!(read == model, "{kind:?}");
        bench.begin("too-large", "a test");
        let error = tree.write("/large", &vec![1; 300 << 20]).unwrap_err().to_string();
        assert!(error.contains("has no room"), "{error}");
        bench.rollback();
        let result = save(&bench, &image);
        check(&result);
        assert!(seen_by_kernel(&result) == model, "{kind:?}: the kernel sees another tree");
        check(&result);
    }
}

/// Attributes in each of their forms, as the kernel sets them and as we do.
#[test]
#[ignore = "needs root, loop devices and Debian's attr, xfsprogs"]
fn attributes_of_every_size_are_read() {
    for kind in [KINDS[0], KINDS[3], KINDS[4]] {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), &kind);
        let value = |number: usize| bytes(&number.to_string(), [3, 250, 3000, 20_000][number % 4]);
        with_mount(&image, "loop", |root| {
            for (file, count) in [("few", 1), ("some", 4), ("many", 120)] {
                fs::write(root.join(file), b"x").unwrap();
                for number in 0..count {
                    let hex: String = value(number).iter().map(|byte| format!("{byte:02x}")).collect();
                    let name = format!("user.number-{number}");
                    run(Command::new("setfattr").args(["-n", &name, "-v", &format!("0x{hex}")]).arg(root.join(file)));
                }
            }
        });
        let (bench, mut tree) = open(&image);
        for (file, count) in [("few", 1), ("some", 4), ("many", 120)] {
            let all = tree.attributes(format!("/{file}")).unwrap();
            assert_eq!(all.len(), count, "{kind:?}");
            for number in 0..count {
                let name = format!("user.number-{number}");
                assert!(
                    all.iter().any(|(known, bytes)| known == name.as_bytes() && *bytes == value(number)),
                    "{kind:?} {name}"
                );
            }
        }
        bench.begin("remove", "a test");
        tree.remove("/many").unwrap();
        let result = save(&bench, &image);
        check(&result);
    }
}

/// Tried on deliberate mistakes: the judge finds them.
#[test]
fn the_checker_sees_a_block_that_is_free_and_used() {
    if !has(&TOOLS) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = make(folder.path(), &KINDS[2]);
    let (bench, mut tree) = open(&image);
    bench.begin("steps", "a test");
    tree.write("/file", &bytes("file", 40_000)).unwrap();
    let result = save(&bench, &image);
    check(&result);
    let mut bytes = fs::read(&result).unwrap();
    // One more free block in the head of the first group.
    bytes[512 + 55] += 1;
    fs::write(&result, bytes).unwrap();
    let judged = Command::new("xfs_repair").args(["-n", "-f", "-o", "force_geometry"]).arg(&result).output().unwrap();
    assert!(!judged.status.success());
}

/// Lines of a prototype (`mkfs.xfs(8)`, `-p`) for what is below a folder.
fn prototype(folder: &Path, lines: &mut String) {
    let mut all: Vec<_> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    all.sort();
    for path in all {
        let name = path.file_name().unwrap().to_str().unwrap();
        let kind = path.symlink_metadata().unwrap().file_type();
        if kind.is_dir() {
            lines.push_str(&format!("{name} d--755 0 0\n"));
            prototype(&path, lines);
            lines.push_str("$\n");
        } else if kind.is_symlink() {
            lines.push_str(&format!("{name} l--777 0 0 {}\n", fs::read_link(&path).unwrap().display()));
        } else {
            lines.push_str(&format!("{name} ---644 0 0 {}\n", path.display()));
        }
    }
}

/// A whole system on XFS, without a mount and without root rights: its own tool makes it, its own checker looks at it.
#[test]
fn a_whole_guest_is_made_ready() {
    if !has(&TOOLS) || !has(&["sfdisk", "mkswap"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let early = archive(&[
        ("lib", FOLDER, b""),
        ("lib/modules", FOLDER, b""),
        ("lib/modules/6.1-tide", FOLDER, b""),
        ("lib/modules/6.1-tide/kernel", FOLDER, b""),
        ("lib/modules/6.1-tide/kernel/ahci.ko", FILE, b"ahci"),
    ]);
    let files = system(&zstd::encode_all(&early[..], 3).unwrap());
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, bytes)| (*path, bytes.as_slice())).collect();
    let root = tree(folder.path(), &files);
    let mut text = "/none\n0 0\nd--755 0 0\n".to_string();
    prototype(&root, &mut text);
    let plan = folder.path().join("prototype");
    fs::write(&plan, text + "$\n").unwrap();
    let uuid = format!("uuid={ROOT_UUID}");
    for kind in [KINDS[0], KINDS[1], KINDS[6]] {
        let made = tempfile::tempdir().unwrap();
        let image = made.path().join("volume");
        File::create(&image).unwrap().set_len(64 * MIB).unwrap();
        let mut maker = Command::new("mkfs.xfs");
        maker.args(["--unsupported", "-q", "-f", "-m", &uuid, "-p"]).arg(&plan);
        run(maker.args(kind.0).arg(&image));
        let table = "label: dos\nlabel-id: 0x5a170001\nstart=2048, size=8192\nstart=10240, size=131072\n";
        let (path, file) = disk(made.path(), "disk", 80, table);
        file.write_all_at(&[0xeb, 0x63], 0).unwrap();
        file.write_all_at(&fs::read(&image).unwrap(), 5 * MIB).unwrap();
        let mut guest = crate::common::open(&[&path]);
        assert_eq!(guest.systems.len(), 1, "{kind:?}: {:?}", guest.unread);
        let ready = refit(&mut guest, &virtio("vd"), &Wishes::default(), NOW);
        let names = names(&ready);
        for edit in [edit::DRIVERS, edit::DEVICE_NAMES, edit::ADAPTER_NAMES] {
            assert!(names.contains(&edit), "{kind:?}: {names:?} {:?}", ready.remarks);
        }
        let chain = &ready.evidence[0].1;
        assert!(chain.iter().all(|link| link.state != State::Broken), "{kind:?}: {chain:?}");
        let overlay = guest.bench.take().remove(0);
        let mut bytes = vec![0; overlay.size() as usize];
        overlay.read_at(0, &mut bytes).unwrap();
        fs::write(&path, &bytes).unwrap();
        fs::write(&image, &bytes[5 * MIB as usize..69 * MIB as usize]).unwrap();
        check(&image);
        let after = crate::common::open(&[&path]);
        let fstab = text_of(&after, "/etc/fstab");
        assert!(fstab.contains(&format!("UUID={ROOT_UUID}\t/ ext4")), "{fstab}");
        let image = after.systems[0].tree().read("/boot/initrd.img-6.1-tide", MIB).unwrap();
        assert!(String::from_utf8_lossy(&image).contains("lib/modules/6.1-tide/kernel/virtio_scsi.ko"));
        // A second time nothing is left to do.
        let mut again = crate::common::open(&[&path]);
        let second = refit(&mut again, &virtio("vd"), &Wishes::default(), NOW);
        assert!(second.done.is_empty(), "{kind:?}: {:?}", second.done);
    }
}

/// Logs that kernels of today do not write: version 4 with a log of the first version, and quotas (`xfs-logs/recipe.sh`). What is made
/// of them is what an older kernel made of the same.
#[test]
fn logs_of_older_volumes_are_replayed_as_their_kernel_did() {
    let folder = tempfile::tempdir().unwrap();
    for name in ["v4", "quotas"] {
        let unpacked = |name: &str| {
            let packed = format!("{}/tests/guest/xfs-logs/{name}.raw.zst", env!("CARGO_MANIFEST_DIR"));
            let path = folder.path().join(name);
            fs::write(&path, zstd::decode_all(File::open(packed).unwrap()).unwrap()).unwrap();
            path
        };
        let read = |path: &Path| {
            let mut read = Model::new();
            let (bench, tree) = open(path);
            seen(&tree, "", &mut read);
            (bench, read)
        };
        let (_, wanted) = read(&unpacked(&format!("{name}-replayed")));
        let left = unpacked(name);
        let (bench, replayed) = read(&left);
        assert!(wanted.len() > 280 && replayed == wanted, "{name}: {} of {}", replayed.len(), wanted.len());
        assert!(bench.changed(), "{name}: the log is replayed as an edit");
        let result = save(&bench, &left);
        if has(&TOOLS) {
            check(&result);
        }
        // It is clean then, and can be changed.
        let (bench, mut tree) = open(&result);
        assert!(!bench.changed());
        bench.begin("more", "a test");
        tree.write("/more", b"more").unwrap();
        let result = save(&bench, &result);
        if has(&TOOLS) {
            check(&result);
        }
    }
}
