//! What a tree is meant to hold after any steps, beside what we read of it and what the kernel does.

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
};

use proptest::{prelude::*, test_runner::TestRunner};
use reformis_disk::budget::Budget;
use reformis_disk::{Disk, format};
use reformis_guest::{Bench, Device, Kind, Tree};

use crate::common::NOW;

pub(crate) fn run(command: &mut Command) -> String {
    let output = command.output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{command:?}: {text}");
    text
}

pub(crate) fn open(image: &Path) -> (Arc<Bench>, Tree) {
    let storage = reformis_disk::container::open(image, &Budget::whole()).unwrap();
    let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
    let bench = Bench::new([disk], &Budget::whole());
    let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
    let tree = Tree::of(&device, NOW).unwrap().unwrap();
    (bench, tree)
}

/// Writes what is on the bench beside the image, and looks that only recorded ranges changed.
pub(crate) fn save(bench: &Bench, image: &Path) -> PathBuf {
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

/// What a tree is to hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Node {
    Folder,
    File(Vec<u8>),
    Link(Vec<u8>),
}

pub(crate) type Model = BTreeMap<String, Node>;

/// The tree as we read it.
pub(crate) fn seen(tree: &Tree, folder: &str, into: &mut Model) {
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
pub(crate) fn mounted(root: &Path, folder: &Path, into: &mut Model) {
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

/// Mounts `image` while `work` runs.
pub(crate) fn with_mount(image: &Path, options: &str, work: impl FnOnce(&Path)) {
    let place = tempfile::tempdir().unwrap();
    run(Command::new("mount").args(["-o", options]).arg(image).arg(place.path()));
    work(place.path());
    crate::common::unmount(place.path());
}

#[derive(Debug, Clone)]
pub(crate) enum Step {
    Write(String, usize),
    Append(String, usize),
    Link(String, usize),
    Folder(String),
    Remove(String),
    /// Many entries in one folder.
    Fill(String, usize, usize),
}

pub(crate) fn path() -> impl Strategy<Value = String> {
    prop::collection::vec(prop_oneof!["[a-d]", "[a-c]{20,60}"], 1..4).prop_map(|parts| format!("/{}", parts.join("/")))
}

pub(crate) fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        3 => (path(), 0..300_000_usize).prop_map(|(path, len)| Step::Write(path, len)),
        3 => (path(), 0..70_000_usize).prop_map(|(path, len)| Step::Append(path, len)),
        1 => (path(), 1..200_usize).prop_map(|(path, len)| Step::Link(path, len)),
        2 => path().prop_map(Step::Folder),
        2 => path().prop_map(Step::Remove),
        1 => (path(), 1..600_usize, 1..100_usize).prop_map(|(path, count, len)| Step::Fill(path, count, len)),
    ]
}

pub(crate) fn bytes(seed: &str, len: usize) -> Vec<u8> {
    let mut state = seed.bytes().fold(7_u32, |sum, byte| sum.wrapping_mul(31).wrapping_add(byte.into()));
    let mut next = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 24) as u8
    };
    (0..len).map(|_| next()).collect()
}

pub(crate) fn parent(path: &str) -> &str {
    &path[..path.rfind('/').unwrap()]
}

/// Does a step to the tree and to the model, and looks that both refuse the same.
pub(crate) fn take(tree: &mut Tree, model: &mut Model, step: &Step) {
    let is_folder = |model: &Model, path: &str| path.is_empty() || model.get(path) == Some(&Node::Folder);
    match step {
        Step::Write(path, len) => {
            let content = bytes(path, *len);
            let allowed = is_folder(model, parent(path)) && matches!(model.get(path), None | Some(Node::File(_)));
            // What is behind a link is another's place.
            if matches!(model.get(path), Some(Node::Link(_))) {
                return;
            }
            let outcome = tree.write(path, &content);
            assert_eq!(outcome.is_ok(), allowed, "{step:?}: {outcome:?}");
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

/// Makes with the host's own calls what steps say, as far as they can be made in an empty folder.
pub(crate) fn before(root: &Path, model: &mut Model, steps: &[Step]) {
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

/// Looks at any steps of other hands, and any of ours behind them, as often as `REFORMIS_CASES` says; `what` is named where it fails.
pub(crate) fn with_steps(what: &dyn std::fmt::Debug, look: impl Fn(&[Step], &[Step])) {
    let cases = std::env::var("REFORMIS_CASES").ok().and_then(|text| text.parse().ok()).unwrap_or(1);
    let config = ProptestConfig { cases, max_shrink_iters: 40, failure_persistence: None, ..ProptestConfig::default() };
    let steps = (prop::collection::vec(step(), 1..12), prop::collection::vec(step(), 1..40));
    let outcome = TestRunner::new(config).run(&steps, |(first, second)| {
        look(&first, &second);
        Ok(())
    });
    outcome.unwrap_or_else(|error| panic!("{what:?}: {error}"));
}
