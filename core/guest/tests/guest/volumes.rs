//! Every file system that is written, beside a model of what it then holds, and under the eyes of its own checker: any changes
//! in any order, also those that fail and are taken back.

use std::{
    collections::BTreeMap,
    fs::File,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
};

use proptest::{prelude::*, test_runner::TestRunner};
use reformis_disk::{Disk, budget::Budget, format};
use reformis_guest::{Bench, Device, Error, Kind, Tree};
use reformis_standin::ntfs_check;

use crate::common::{NOW, has};

/// A volume: the tool that makes it, its size in KiB, and what checks it.
struct Made {
    tool: &'static [&'static str],
    kib: u64,
    checker: &'static [&'static str],
    folds_case: bool,
}

const E2FSCK: &[&str] = &["e2fsck", "-fn"];
/// Our own, which looks closer than any tool that there is.
const CHECK_NTFS: &[&str] = &[];
const FSCK_FAT: &[&str] = &["fsck.fat", "-n"];

const CHECK_XFS: &[&str] = &["xfs_repair", "-n", "-f", "-o", "force_geometry"];

const KINDS: [Made; 15] = [
    Made { tool: &["mke2fs", "-q", "-F", "-t", "ext2", "-b", "1024"], kib: 2048, checker: E2FSCK, folds_case: false },
    Made { tool: &["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024"], kib: 4096, checker: E2FSCK, folds_case: false },
    Made { tool: &["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096"], kib: 16384, checker: E2FSCK, folds_case: false },
    Made {
        tool: &["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-O", "inline_data,^metadata_csum"],
        kib: 4096,
        checker: E2FSCK,
        folds_case: false,
    },
    Made { tool: &["mkfs.fat", "-F", "12", "-s", "1"], kib: 200, checker: FSCK_FAT, folds_case: true },
    Made { tool: &["mkfs.fat", "-F", "16", "-s", "1"], kib: 3072, checker: FSCK_FAT, folds_case: true },
    Made { tool: &["mkfs.fat", "-F", "32", "-s", "1"], kib: 36 << 10, checker: FSCK_FAT, folds_case: true },
    Made {
        tool: &["mkntfs", "-q", "-F", "-Q", "-c", "512", "-s", "512"],
        kib: 4096,
        checker: CHECK_NTFS,
        folds_case: true,
    },
    Made {
        tool: &["mkntfs", "-q", "-F", "-Q", "-c", "4096", "-s", "512"],
        kib: 8192,
        checker: CHECK_NTFS,
        folds_case: true,
    },
    Made {
        tool: &["mkntfs", "-q", "-F", "-Q", "-c", "4096", "-s", "4096"],
        kib: 8192,
        checker: CHECK_NTFS,
        folds_case: true,
    },
    Made {
        tool: &["mkntfs", "-q", "-F", "-Q", "-c", "65536", "-s", "512"],
        kib: 65536,
        checker: CHECK_NTFS,
        folds_case: true,
    },
    Made { tool: &["mkfs.xfs", "--unsupported", "-q", "-f"], kib: 16 << 10, checker: CHECK_XFS, folds_case: false },
    Made {
        tool: &["mkfs.xfs", "--unsupported", "-q", "-f", "-m", "crc=0", "-b", "size=512", "-i", "size=256"],
        kib: 16 << 10,
        checker: CHECK_XFS,
        folds_case: false,
    },
    Made {
        tool: &["mkfs.xfs", "--unsupported", "-q", "-f", "-b", "size=1024", "-m", "rmapbt=1", "-d", "agcount=2"],
        kib: 32 << 10,
        checker: CHECK_XFS,
        folds_case: false,
    },
    Made {
        tool: &[
            "mkfs.xfs",
            "--unsupported",
            "-q",
            "-f",
            "-b",
            "size=2048",
            "-n",
            "size=8192",
            "-s",
            "size=2048",
            "-i",
            "nrext64=1",
        ],
        kib: 24 << 10,
        checker: CHECK_XFS,
        folds_case: false,
    },
];

const NAMES: [&str; 10] = [
    "a",
    "B",
    "tide.txt",
    "TIDE~1.TXT",
    "a name that needs more than two entries, since it goes on and on.conf",
    "Grüße",
    ".hidden",
    "two  spaces",
    "EFI",
    "BOOTX64.EFI",
];

/// What a tree holds below its root: a folder, or the bytes of a file.
type Model = BTreeMap<String, Option<Vec<u8>>>;

#[derive(Debug, Clone)]
enum Step {
    Write(String, Vec<u8>),
    Append(String, Vec<u8>),
    WriteAt(String, u64, Vec<u8>),
    Truncate(String, u64),
    Folders(String),
    Remove(String),
    Rename(String, String),
}

fn path() -> impl Strategy<Value = String> {
    prop::collection::vec(0..NAMES.len(), 1..3)
        .prop_map(|parts| parts.iter().map(|&part| format!("/{}", NAMES[part])).collect())
}

fn content() -> impl Strategy<Value = Vec<u8>> {
    (prop_oneof![0..40usize, 0..9000usize], any::<u8>())
        .prop_map(|(len, seed)| (0..len).map(|at| (at * 31) as u8 ^ seed).collect())
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        4 => (path(), content()).prop_map(|(path, bytes)| Step::Write(path, bytes)),
        2 => (path(), content()).prop_map(|(path, bytes)| Step::Append(path, bytes)),
        3 => (path(), 0..20_000u64, content()).prop_map(|(path, at, bytes)| Step::WriteAt(path, at, bytes)),
        2 => (path(), 0..20_000u64).prop_map(|(path, size)| Step::Truncate(path, size)),
        2 => path().prop_map(Step::Folders),
        1 => path().prop_map(Step::Remove),
        2 => (path(), path()).prop_map(|(from, to)| Step::Rename(from, to)),
    ]
}

fn make(made: &Made, folder: &Path) -> PathBuf {
    let image = folder.join("image");
    File::create(&image).unwrap().set_len(made.kib << 10).unwrap();
    let output = Command::new(made.tool[0]).args(&made.tool[1..]).arg(&image).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    image
}

/// What the step makes of the model, where it may be done; `None` where it must fail.
fn meant(model: &Model, step: &Step, key: &dyn Fn(&str) -> String) -> Option<Model> {
    let mut new = model.clone();
    let above = |path: &str| path.rfind('/').map_or(String::new(), |end| path[..end].to_string());
    let in_folder = |path: &str| above(path).is_empty() || model.get(&above(path)) == Some(&None);
    match step {
        Step::Write(path, bytes) => {
            let path = key(path);
            (in_folder(&path) && model.get(&path) != Some(&None))
                .then(|| drop(new.insert(path, Some(bytes.clone()))))?;
        }
        Step::Append(path, bytes) => new.get_mut(&key(path))?.as_mut()?.extend(bytes),
        Step::WriteAt(path, at, bytes) => {
            let content = new.get_mut(&key(path))?.as_mut()?;
            let end = *at as usize + bytes.len();
            if !bytes.is_empty() {
                content.resize(content.len().max(end), 0);
                content[*at as usize..end].copy_from_slice(bytes);
            }
        }
        Step::Truncate(path, size) => new.get_mut(&key(path))?.as_mut()?.resize(*size as usize, 0),
        Step::Folders(path) => {
            let path = key(path);
            let ends = path.match_indices('/').skip(1).map(|(at, _)| at).chain([path.len()]);
            for end in ends {
                if matches!(model.get(&path[..end]), Some(Some(_))) {
                    return None;
                }
                new.insert(path[..end].into(), None);
            }
        }
        Step::Remove(path) => {
            let path = key(path);
            model.get(&path)?;
            new.retain(|name, _| *name != path && !name.starts_with(&format!("{path}/")));
        }
        Step::Rename(from, to) => {
            let (from, to) = (key(from), key(to));
            model.get(&from)?;
            let below = format!("{from}/");
            if !in_folder(&to) || to.starts_with(&below) || (model.contains_key(&to) && from != to) {
                return None;
            }
            new.retain(|name, _| *name != from && !name.starts_with(&below));
            for (name, what) in model.iter().filter(|(name, _)| **name == from || name.starts_with(&below)) {
                new.insert(format!("{to}{}", &name[from.len()..]), what.clone());
            }
        }
    }
    Some(new)
}

fn take(tree: &mut Tree, step: &Step) -> Result<(), Error> {
    match step {
        Step::Write(path, bytes) => tree.write(path, bytes),
        Step::Append(path, bytes) => tree.append(path, bytes),
        Step::WriteAt(path, at, bytes) => tree.write_at(path, *at, bytes),
        Step::Truncate(path, size) => tree.truncate(path, *size),
        Step::Folders(path) => tree.make_folders(path),
        Step::Remove(path) => tree.remove(path),
        Step::Rename(from, to) => tree.rename(from, to),
    }
}

fn seen(tree: &Tree, folder: &str, key: &dyn Fn(&str) -> String, into: &mut Model) {
    for (name, stat) in tree.list(folder).unwrap() {
        let path = format!("{folder}/{}", String::from_utf8(name).unwrap());
        if path == "/lost+found" {
            continue;
        }
        if stat.kind == Kind::Folder {
            into.insert(key(&path), None);
            seen(tree, &path, key, into);
        } else {
            into.insert(key(&path), Some(tree.read(&path, 1 << 20).unwrap()));
        }
    }
}

/// Writes what `bench` holds into a file, and lets the checker look at it.
fn check(bench: &Bench, image: &Path, checker: &[&str]) -> Result<(), TestCaseError> {
    let overlay = bench.take().remove(0);
    let file = File::options().write(true).open(image).unwrap();
    let mut bytes = vec![0; overlay.size() as usize];
    overlay.read_at(0, &mut bytes).unwrap();
    file.write_all_at(&bytes, 0).unwrap();
    if checker.is_empty() {
        prop_assert_eq!(ntfs_check::check(&bytes), Vec::<String>::new());
        return Ok(());
    }
    let output = Command::new(checker[0]).args(&checker[1..]).arg(image).output().unwrap();
    prop_assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stdout));
    Ok(())
}

#[test]
fn any_changes_leave_what_was_meant_in_a_sound_volume() {
    if !has(&["mke2fs", "e2fsck", "mkfs.fat", "fsck.fat", "mkntfs", "mkfs.xfs", "xfs_repair"]) {
        return;
    }
    for made in &KINDS {
        let folder = tempfile::tempdir().unwrap();
        let empty = std::fs::read(make(made, folder.path())).unwrap();
        let image = folder.path().join("image");
        let key = |path: &str| if made.folds_case { path.to_ascii_lowercase() } else { path.to_string() };
        // A few each time, and as many as whoever hunts asks for.
        let asked = std::env::var("PROPTEST_CASES").ok().and_then(|cases| cases.parse().ok());
        let config =
            ProptestConfig { cases: asked.unwrap_or(12), failure_persistence: None, ..ProptestConfig::default() };
        let run = TestRunner::new(config).run(&prop::collection::vec(step(), 1..40), |steps| {
            std::fs::write(&image, &empty).unwrap();
            let storage = reformis_disk::container::open(&image, &Budget::whole()).unwrap();
            let disk: Arc<dyn Disk> = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
            let bench = Bench::new([disk], &Budget::whole());
            let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
            let open = || Tree::of(&device, NOW).unwrap().unwrap();
            let (mut tree, mut model) = (open(), Model::new());
            for step in &steps {
                bench.begin("step", "a step of the test");
                match (take(&mut tree, step), meant(&model, step, &key)) {
                    (Ok(()), Some(new)) => model = new,
                    (Ok(()), None) => prop_assert!(false, "{step:?} was done, and should not have been"),
                    (Err(error), new) => {
                        // What a volume has no room for, and folders that move on ext, may be refused.
                        let refused = matches!(error, Error::NoRoom { .. } | Error::Unsupported { .. });
                        prop_assert!(new.is_none() || refused, "{step:?}: {error}");
                        bench.rollback();
                        tree = open();
                    }
                }
            }
            let mut found = Model::new();
            seen(&open(), "", &key, &mut found);
            prop_assert!(found == model, "the tree holds something else: {:?}", found.keys().collect::<Vec<_>>());
            drop(tree);
            check(&bench, &image, made.checker)
        });
        if let Err(error) = run {
            panic!("{:?}: {error}", made.tool);
        }
    }
}

/// As of a running system: a file does not grow by it, and a folder is no file for it either.
#[test]
fn a_write_of_nothing_changes_nothing_and_wants_a_file() {
    if !has(&["mke2fs", "mkfs.fat", "mkntfs", "mkfs.xfs"]) {
        return;
    }
    for made in &KINDS {
        let folder = tempfile::tempdir().unwrap();
        let storage = reformis_disk::container::open(&make(made, folder.path()), &Budget::whole()).unwrap();
        let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
        let bench = Bench::new([disk], &Budget::whole());
        let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
        bench.begin("step", "a step of the test");
        let mut tree = Tree::of(&device, NOW).unwrap().unwrap();
        tree.make_folders("/etc").unwrap();
        tree.write("/etc/tide", b"high").unwrap();
        tree.write_at("/etc/tide", 9000, b"").unwrap();
        assert_eq!(tree.read("/etc/tide", 9999).unwrap(), b"high", "{:?}", made.tool);
        assert!(matches!(tree.write_at("/etc", 0, b""), Err(Error::WrongKind { .. })), "{:?}", made.tool);
        assert!(matches!(tree.write_at("/none", 0, b""), Err(Error::NotFound { .. })), "{:?}", made.tool);
    }
}

/// A file is found by any case of its name, keeps the one that it has, and gets another when that is what is asked.
#[test]
fn a_name_keeps_its_case_where_case_tells_nothing_apart() {
    if !has(&["mkfs.fat"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = make(&KINDS[5], folder.path());
    let storage = reformis_disk::container::open(&image, &Budget::whole()).unwrap();
    let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
    let bench = Bench::new([disk], &Budget::whole());
    let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
    let mut tree = Tree::of(&device, NOW).unwrap().unwrap();
    let names = |tree: &Tree, path: &str| -> Vec<String> {
        tree.list(path).unwrap().into_iter().map(|(name, _)| String::from_utf8(name).unwrap()).collect()
    };
    tree.make_folders("/Tide/Logs").unwrap();
    tree.write("/TIDE/logs/High.txt", b"1").unwrap();
    tree.write("/tide/LOGS/HIGH.TXT", b"2").unwrap();
    assert_eq!((names(&tree, "/"), names(&tree, "/tide")), (vec!["Tide".into()], vec!["Logs".into()]));
    assert_eq!(names(&tree, "/tide/logs"), ["High.txt"]);
    assert_eq!(tree.read("/tiDE/logS/high.TXT", 9).unwrap(), b"2");
    tree.rename("/tide/logs/high.txt", "/tide/logs/HIGH.txt").unwrap();
    assert_eq!(names(&tree, "/tide/logs"), ["HIGH.txt"]);
    tree.rename("/tide/logs/high.txt", "/tide/logs/HIGH.txt").unwrap();
    tree.remove("/tide/LOGS/high.TXT").unwrap();
    assert_eq!(names(&tree, "/tide/logs"), Vec::<String>::new());
}

/// Tried on a mistake: the judge finds a cluster that is counted as free and used.
#[test]
fn the_checker_of_fat_sees_a_wrong_table() {
    if !has(&["mkfs.fat", "fsck.fat", "mcopy"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = make(&KINDS[5], folder.path());
    let file = folder.path().join("file");
    std::fs::write(&file, vec![7; 3000]).unwrap();
    assert!(Command::new("mcopy").arg("-i").arg(&image).arg(&file).arg("::file").status().unwrap().success());
    let judge = |image: &Path| Command::new("fsck.fat").arg("-n").arg(image).output().unwrap().status.success();
    assert!(judge(&image));
    let mut bytes = std::fs::read(&image).unwrap();
    // The first table begins behind the reserved sectors; the file's first cluster is number 2.
    let table = usize::from(u16::from_le_bytes([bytes[14], bytes[15]])) * 512;
    bytes[table + 4..table + 6].fill(0);
    std::fs::write(&image, bytes).unwrap();
    assert!(!judge(&image));
}

#[test]
fn a_table_that_is_too_short_for_its_volume_is_not_written_beyond() {
    if !has(&["mkfs.fat"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = make(&KINDS[5], folder.path());
    let mut bytes = std::fs::read(&image).unwrap();
    // One sector for each table: 254 clusters of one sector, and the volume has thousands.
    bytes[22..24].copy_from_slice(&1u16.to_le_bytes());
    std::fs::write(&image, bytes).unwrap();
    let storage = reformis_disk::container::open(&image, &Budget::whole()).unwrap();
    let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
    let bench = Bench::new([disk], &Budget::whole());
    let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
    let mut tree = Tree::of(&device, NOW).unwrap().unwrap();
    let error = tree.write("/large", &vec![7; 1 << 20]).unwrap_err();
    assert!(matches!(error, Error::NoRoom { .. }), "{error}");
}
