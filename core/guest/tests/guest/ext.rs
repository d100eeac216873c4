//! ext2, ext3 and ext4 as their own tools make and check them: after any sequence of changes the checker finds nothing, the
//! kernel sees the tree that was meant, and nothing changed outside the ranges that were recorded.

use std::{
    collections::BTreeMap,
    fs::{self, File},
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
};

use proptest::{prelude::*, test_runner::TestRunner};
use reformis_disk::budget::Budget;
use reformis_disk::{Disk, format};
use reformis_guest::{Bench, Device, Kind, Tree};

use crate::common::has;

const NOW: i64 = 1_780_000_000;

fn run(command: &mut Command) -> String {
    let output = command.output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{command:?}: {text}");
    text
}

fn open(image: &Path) -> (Arc<Bench>, Tree) {
    let storage = reformis_disk::container::open(image, &Budget::whole()).unwrap();
    let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
    let bench = Bench::new([disk], &Budget::whole());
    let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
    let tree = Tree::of(&device, NOW).unwrap().unwrap();
    (bench, tree)
}

/// Writes what is on the bench beside the image, and looks that only recorded ranges changed.
fn save(bench: &Bench, image: &Path) -> PathBuf {
    let overlay = bench.take().pop().unwrap();
    let mut before = fs::read(image).unwrap();
    let mut after = vec![0; overlay.size() as usize];
    overlay.read_at(0, &mut after).unwrap();
    for edit in overlay.edits() {
        for range in &edit.ranges {
            let range = range.start as usize..range.end as usize;
            before[range.clone()].copy_from_slice(&after[range]);
        }
    }
    assert!(before == after, "something changed outside the recorded ranges");
    let result = image.with_extension("after");
    fs::write(&result, after).unwrap();
    result
}

fn check(image: &Path) {
    run(Command::new("e2fsck").arg("-fn").arg(image));
}

/// What a tree is to hold.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Node {
    Folder,
    File(Vec<u8>),
    Link(Vec<u8>),
}

type Model = BTreeMap<String, Node>;

/// The tree as we read it.
fn seen(tree: &Tree, folder: &str, into: &mut Model) {
    for (name, stat) in tree.list(folder).unwrap() {
        let path = format!("{folder}/{}", String::from_utf8(name).unwrap());
        if path == "/lost+found" {
            continue;
        }
        let node = match stat.kind {
            Kind::Folder => Node::Folder,
            Kind::File => Node::File(tree.read(&path, 1 << 30).unwrap()),
            Kind::Link => Node::Link(tree.link_target(&path).unwrap()),
            Kind::Other => unreachable!("{path}"),
        };
        let is_folder = node == Node::Folder;
        into.insert(path.clone(), node);
        if is_folder {
            seen(tree, &path, into);
        }
    }
}

/// The tree as the kernel reads it.
fn mounted(root: &Path, folder: &Path, into: &mut Model) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = format!("/{}", path.strip_prefix(root).unwrap().to_str().unwrap());
        if name == "/lost+found" {
            continue;
        }
        let kind = path.symlink_metadata().unwrap().file_type();
        if kind.is_dir() {
            into.insert(name, Node::Folder);
            mounted(root, &path, into);
        } else if kind.is_symlink() {
            into.insert(name, Node::Link(fs::read_link(&path).unwrap().to_str().unwrap().into()));
        } else {
            into.insert(name, Node::File(fs::read(&path).unwrap()));
        }
    }
}

/// Mounts `image` without writing to it while `work` runs.
fn with_mount(image: &Path, work: impl FnOnce(&Path)) {
    let place = tempfile::tempdir().unwrap();
    run(Command::new("mount").args(["-o", "loop,ro"]).arg(image).arg(place.path()));
    work(place.path());
    run(Command::new("umount").arg(place.path()));
}

#[derive(Debug, Clone)]
enum Step {
    Write(String, usize),
    Append(String, usize),
    Link(String, usize),
    Folder(String),
    Remove(String),
    /// Many entries in one folder.
    Fill(String, usize, usize),
}

fn path() -> impl Strategy<Value = String> {
    prop::collection::vec(prop_oneof!["[a-d]", "[a-c]{20,60}"], 1..4).prop_map(|parts| format!("/{}", parts.join("/")))
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        3 => (path(), 0..300_000_usize).prop_map(|(path, len)| Step::Write(path, len)),
        3 => (path(), 0..70_000_usize).prop_map(|(path, len)| Step::Append(path, len)),
        1 => (path(), 1..200_usize).prop_map(|(path, len)| Step::Link(path, len)),
        2 => path().prop_map(Step::Folder),
        2 => path().prop_map(Step::Remove),
        1 => (path(), 1..600_usize, 1..100_usize).prop_map(|(path, count, len)| Step::Fill(path, count, len)),
    ]
}

fn bytes(seed: &str, len: usize) -> Vec<u8> {
    let mut state = seed.bytes().fold(7_u32, |sum, byte| sum.wrapping_mul(31).wrapping_add(byte.into()));
    let mut next = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 24) as u8
    };
    (0..len).map(|_| next()).collect()
}

fn parent(path: &str) -> &str {
    &path[..path.rfind('/').unwrap()]
}

/// Does a step to the tree and to the model, and looks that both refuse the same.
fn take(tree: &mut Tree, model: &mut Model, step: &Step) {
    let is_folder = |model: &Model, path: &str| path.is_empty() || model.get(path) == Some(&Node::Folder);
    match step {
        Step::Write(path, len) => {
            let content = bytes(path, *len);
            let allowed = is_folder(model, parent(path)) && matches!(model.get(path), None | Some(Node::File(_)));
            // What is behind a link is another's place.
            if matches!(model.get(path), Some(Node::Link(_))) {
                return;
            }
            assert_eq!(tree.write(path, &content).is_ok(), allowed, "{step:?}");
            if allowed {
                model.insert(path.clone(), Node::File(content));
            }
        }
        Step::Append(path, len) => {
            if let Some(Node::File(content)) = model.get_mut(path) {
                let more = bytes(path, *len);
                tree.append(path, &more).unwrap();
                content.extend(more);
            }
        }
        Step::Link(path, len) => {
            // A target that is nowhere, so that nothing is followed.
            let target = format!("/nowhere{}", "x".repeat(*len));
            let allowed = is_folder(model, parent(path)) && matches!(model.get(path), None | Some(Node::Link(_)));
            assert_eq!(tree.link(path, &target).is_ok(), allowed, "{step:?}");
            if allowed {
                model.insert(path.clone(), Node::Link(target.into_bytes()));
            }
        }
        Step::Folder(path) => {
            let made = tree.make_folders(path).is_ok();
            let mut at = String::new();
            for part in path[1..].split('/') {
                at = format!("{at}/{part}");
                match model.get(&at) {
                    None => {
                        model.insert(at.clone(), Node::Folder);
                    }
                    Some(Node::Folder) => {}
                    Some(Node::Link(_)) => {
                        // The link leads nowhere, and a folder is made there or not: nothing is made below it here.
                        assert!(!made, "{step:?}");
                        return;
                    }
                    Some(Node::File(_)) => {
                        assert!(!made, "{step:?}");
                        return;
                    }
                }
            }
            assert!(made, "{step:?}");
        }
        Step::Remove(path) => {
            // Behind a link is nothing.
            let there = model.contains_key(path);
            assert_eq!(tree.remove(path).is_ok(), there, "{step:?}");
            let below = format!("{path}/");
            model.retain(|name, _| name != path && !name.starts_with(&below));
        }
        Step::Fill(path, count, len) => {
            if !is_folder(model, path) {
                return;
            }
            for number in 0..*count {
                let name = format!("{path}/{number}{}", "n".repeat(*len));
                tree.write(&name, b"x").unwrap();
                model.insert(name, Node::File(b"x".to_vec()));
            }
        }
    }
}

/// Options of mke2fs, the volume's size in MiB, and whether this kernel mounts it.
const KINDS: &[(&[&str], u64, bool)] = &[
    (&["-t", "ext4"], 64, true),
    (&["-t", "ext4", "-b", "1024"], 40, true),
    (&["-t", "ext2", "-b", "1024"], 40, true),
    (&["-t", "ext2", "-r", "1", "-O", "^dir_index,^resize_inode", "-I", "128"], 40, true),
    (&["-t", "ext3", "-b", "2048"], 64, true),
    (&["-t", "ext4", "-O", "^metadata_csum,uninit_bg"], 64, true),
    (&["-t", "ext4", "-O", "^metadata_csum,^uninit_bg,^64bit,^extents"], 64, true),
    (&["-t", "ext4", "-O", "inline_data,metadata_csum_seed"], 64, true),
    (&["-t", "ext4", "-O", "meta_bg,^resize_inode", "-b", "1024", "-g", "1024"], 40, true),
    (&["-t", "ext4", "-O", "^flex_bg", "-b", "1024", "-g", "2048"], 40, true),
    (&["-t", "ext4", "-O", "sparse_super2", "-I", "512"], 64, true),
    (&["-t", "ext4", "-O", "orphan_file"], 64, true),
    (&["-t", "ext4", "-b", "16384"], 64, false),
    (&["-t", "ext4", "-b", "65536"], 96, false),
    (&["-t", "ext4", "-b", "65536", "-O", "inline_data"], 96, false),
];

fn make(folder: &Path, kind: &(&[&str], u64, bool), content: Option<&Path>) -> PathBuf {
    let image = folder.join("volume");
    File::create(&image).unwrap().set_len(kind.1 << 20).unwrap();
    let mut command = Command::new("mke2fs");
    command.args(["-q", "-F", "-m", "1", "-N", "8000"]).args(kind.0);
    if let Some(content) = content {
        command.arg("-d").arg(content);
    }
    run(command.arg(&image));
    image
}

#[test]
#[ignore = "needs root, loop devices and Debian's e2fsprogs"]
fn any_changes_leave_a_sound_file_system() {
    let cases = std::env::var("REFORMIS_CASES").ok().and_then(|text| text.parse().ok()).unwrap_or(2);
    for kind in KINDS {
        let mut runner = TestRunner::new(ProptestConfig {
            cases,
            max_shrink_iters: 40,
            failure_persistence: None,
            ..ProptestConfig::default()
        });
        let steps = (prop::collection::vec(step(), 1..12), prop::collection::vec(step(), 1..40));
        let outcome = runner.run(&steps, |(first, second)| {
            let folder = tempfile::tempdir().unwrap();
            // What is there before comes from other hands.
            let content = folder.path().join("content");
            fs::create_dir(&content).unwrap();
            let mut model = Model::new();
            before(&content, &mut model, &first);
            let image = make(folder.path(), kind, Some(&content));
            let (bench, mut tree) = open(&image);
            let mut read = Model::new();
            seen(&tree, "", &mut read);
            assert!(read == model, "what was there is not what is read: {kind:?}");
            bench.begin("steps", "a test");
            for step in &second {
                take(&mut tree, &mut model, step);
            }
            let mut read = Model::new();
            seen(&tree, "", &mut read);
            assert!(read == model, "what was made is not what is read: {kind:?}");
            let result = save(&bench, &image);
            check(&result);
            if kind.2 {
                with_mount(&result, |root| {
                    let mut read = Model::new();
                    mounted(root, root, &mut read);
                    assert!(read == model, "the kernel sees another tree: {kind:?}");
                });
            }
            Ok(())
        });
        outcome.unwrap_or_else(|error| panic!("{kind:?}: {error}"));
    }
}

/// Makes with the host's own calls what steps say, as far as they can be made in an empty folder.
fn before(root: &Path, model: &mut Model, steps: &[Step]) {
    for step in steps {
        let (path, node) = match step {
            Step::Write(path, len) | Step::Append(path, len) => (path, Node::File(bytes(path, *len))),
            Step::Link(path, len) => (path, Node::Link(format!("/nowhere{}", "x".repeat(*len)).into_bytes())),
            Step::Folder(path) | Step::Remove(path) => (path, Node::Folder),
            Step::Fill(path, count, _) => {
                for number in 0..count * 2 {
                    let name = format!("{path}-{number}");
                    if root.join(&parent(path)[..parent(path).len().min(1)]).is_dir() && parent(path).is_empty() {
                        fs::write(root.join(&name[1..]), b"y").unwrap();
                        model.insert(name, Node::File(b"y".to_vec()));
                    }
                }
                continue;
            }
        };
        let place = root.join(&path[1..]);
        if place.symlink_metadata().is_ok() || !place.parent().unwrap().is_dir() {
            continue;
        }
        match &node {
            Node::Folder => fs::create_dir(&place).unwrap(),
            Node::File(bytes) => fs::write(&place, bytes).unwrap(),
            Node::Link(target) => std::os::unix::fs::symlink(std::str::from_utf8(target).unwrap(), &place).unwrap(),
        }
        model.insert(path.clone(), node);
    }
}

#[test]
#[ignore = "needs root, loop devices and Debian's e2fsprogs"]
fn a_file_system_that_was_in_use_when_it_was_copied() {
    let kinds: [(&[&str], &str); 5] = [
        (&["-t", "ext4"], "data=ordered"),
        (&["-t", "ext4", "-O", "orphan_file"], "data=journal"),
        (&["-t", "ext4", "-b", "1024", "-O", "^metadata_csum,^64bit"], "data=journal"),
        (&["-t", "ext3", "-b", "2048"], "data=ordered"),
        (&["-t", "ext4", "-O", "inline_data"], "data=journal"),
    ];
    for (options, mode) in kinds {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), &(options, 64, true), None);
        let place = folder.path().join("place");
        fs::create_dir(&place).unwrap();
        run(Command::new("mount").args(["-o", &format!("loop,{mode}")]).arg(&image).arg(&place));
        let put = |name: &str, len: usize| fs::write(place.join(name), bytes(name, len)).unwrap();
        fs::create_dir(place.join("many")).unwrap();
        for number in 0..400 {
            put(&format!("many/{number}"), number * 7);
        }
        // Blocks that held a folder and hold bytes now are revoked in the journal.
        fs::remove_dir_all(place.join("many")).unwrap();
        run(Command::new("sync").arg("-f").arg(&place));
        put("after", 900_000);
        // Two files that are open: one is deleted, one is cut short.
        let deleted = File::create(place.join("deleted")).unwrap();
        std::io::Write::write_all(&mut &deleted, &bytes("deleted", 700_000)).unwrap();
        fs::remove_file(place.join("deleted")).unwrap();
        put("cut", 500_000);
        File::options().write(true).open(place.join("cut")).unwrap().set_len(1234).unwrap();
        std::os::unix::fs::symlink("after", place.join("link")).unwrap();
        run(Command::new("sync").arg("-f").arg(&place));
        let copy = folder.path().join("copy");
        fs::copy(&image, &copy).unwrap();
        let mut model = Model::new();
        mounted(&place, &place, &mut model);
        drop(deleted);
        run(Command::new("umount").arg(&place));
        let (bench, mut tree) = open(&copy);
        let mut read = Model::new();
        seen(&tree, "", &mut read);
        assert!(read == model, "{options:?} {mode}: the tree is not what it was");
        bench.begin("steps", "a test");
        tree.write("/more", b"more").unwrap();
        model.insert("/more".into(), Node::File(b"more".to_vec()));
        let result = save(&bench, &copy);
        check(&result);
        with_mount(&result, |root| {
            let mut read = Model::new();
            mounted(root, root, &mut read);
            assert!(read == model, "{options:?} {mode}: the kernel sees another tree");
        });
    }
}

#[test]
fn a_full_volume_takes_nothing_and_loses_nothing() {
    if !has(&["mke2fs", "debugfs", "e2fsck"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = make(folder.path(), &(&["-t", "ext4"], 16, true), None);
    let (bench, mut tree) = open(&image);
    bench.begin("fits", "a test");
    tree.write("/fits", &bytes("fits", 3_000_000)).unwrap();
    bench.begin("too-large", "a test");
    let error = tree.write("/large", &vec![1; 40 << 20]).unwrap_err().to_string();
    assert!(error.contains("has no room") && error.contains("are free"), "{error}");
    bench.rollback();
    let result = save(&bench, &image);
    check(&result);
    let (_, tree) = open(&result);
    assert_eq!(tree.read("/fits", 1 << 30).unwrap(), bytes("fits", 3_000_000));
    assert!(!tree.exists("/large"));
}

#[test]
#[ignore = "needs root, loop devices and Debian's e2fsprogs"]
fn labels_and_owners_of_what_is_new() {
    let folder = tempfile::tempdir().unwrap();
    let content = folder.path().join("content");
    fs::create_dir_all(content.join("etc")).unwrap();
    fs::write(content.join("etc/one"), b"1").unwrap();
    fs::set_permissions(content.join("etc/one"), std::os::unix::fs::PermissionsExt::from_mode(0o640)).unwrap();
    let image = make(folder.path(), &(&["-t", "ext4"], 32, true), Some(&content));
    let label = |path: &str, value: &str| {
        let command = format!("ea_set {path} security.selinux {value}");
        run(Command::new("debugfs").args(["-w", "-R", &command]).arg(&image));
    };
    label("/", "root_t");
    label("/etc", "etc_t");
    label("/etc/one", "net_conf_t");
    let (bench, mut tree) = open(&image);
    bench.begin("labels", "a test");
    tree.write("/etc/two", b"2").unwrap();
    tree.make_folders("/etc/new").unwrap();
    tree.write("/etc/one", b"replaced").unwrap();
    assert!(!tree.wants_relabel());
    let of = |tree: &Tree, path: &str| {
        let all = tree.attributes(path).unwrap();
        String::from_utf8(all.into_iter().find(|(name, _)| name == "security.selinux").unwrap().1).unwrap()
    };
    assert_eq!(of(&tree, "/etc/two"), "net_conf_t", "as its neighbour");
    assert_eq!(of(&tree, "/etc/new"), "etc_t", "as its folder");
    assert_eq!(tree.stat("/etc/one").unwrap().mode, 0o640, "what is replaced keeps its mode");
    // Where a folder has none although the root has, it cannot be told.
    let result = save(&bench, &image);
    check(&result);
    run(Command::new("debugfs").args(["-w", "-R", "ea_rm /etc security.selinux"]).arg(&result));
    let (_, mut tree) = open(&result);
    tree.write("/etc/three", b"3").unwrap();
    assert!(tree.wants_relabel());
}
