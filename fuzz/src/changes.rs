//! Any changes to a sound volume, beside a model of what it then holds; and changes to a damaged one.

use std::{
    collections::{BTreeMap, HashMap},
    fs,
    os::unix::fs::FileExt,
    process::{Command, Stdio},
    sync::{Arc, LazyLock, Mutex},
};

use reformis_disk::{Disk, Format, budget::Budget, format, overlay::Overlay, source::MemoryStorage};
use reformis_guest::{Bench, Device, Error, Kind, Tree};

const NOW: i64 = 1_780_000_000;

/// What a tree holds below its root: a folder, or the bytes of a file. FAT takes letters of either case for the same.
type Model = BTreeMap<String, Option<Vec<u8>>>;

const NAMES: [&str; 12] = [
    "a",
    "B",
    "tide.txt",
    "TIDE~1.TXT",
    "a name that needs more than one entry.conf",
    "a name that needs more than two entries, since it goes on and on.conf",
    "Grüße",
    ".hidden",
    "two  spaces",
    "dots.in.it",
    "EFI",
    "BOOTX64.EFI",
];

/// Numbers from the input, and zeros after its end.
struct Numbers<'a>(&'a [u8]);

impl Numbers<'_> {
    fn next(&mut self) -> usize {
        let Some((first, rest)) = self.0.split_first() else { return 0 };
        self.0 = rest;
        usize::from(*first)
    }

    fn path(&mut self) -> String {
        let depth = 1 + self.next() % 3;
        (0..depth).map(|_| format!("/{}", NAMES[self.next() % NAMES.len()])).collect()
    }

    fn content(&mut self) -> Vec<u8> {
        let (len, seed) = (self.next() * [0, 1, 37, 600][self.next() % 4], self.next());
        (0..len).map(|at| (at * 31 + seed) as u8).collect()
    }
}

/// What says whether a volume is sound.
pub enum Checker {
    /// A program, to which the path of an image is added. It ends with 0 where all is well.
    Program(&'static [&'static str]),
    /// A function, which gives what is wrong.
    Function(fn(&[u8]) -> Vec<String>),
}

/// A kind of file system: how its empty volumes are made, and what checks them.
pub struct FileSystem {
    /// Empty volumes of several shapes.
    pub volumes: LazyLock<Vec<Arc<[u8]>>>,
    /// What checks them.
    pub checker: Checker,
    /// Whether `a` and `A` are the same name.
    pub folds_case: bool,
    /// Volumes that hold much, which are only ever damaged; and whether structures lie anywhere in a volume.
    pub filled: Option<LazyLock<Vec<Arc<[u8]>>>>,
}

/// Stretches of a volume that hold something are found in units of this many bytes.
const SECTOR: usize = 512;

/// Where a volume that structures lie anywhere in holds something, found once for each.
fn used(volume: &Arc<[u8]>) -> Arc<[usize]> {
    static KNOWN: LazyLock<Mutex<HashMap<usize, Arc<[usize]>>>> = LazyLock::new(Mutex::default);
    let find = || {
        let all = volume.chunks(SECTOR).enumerate();
        all.filter(|(_, sector)| sector.iter().any(|byte| *byte != 0)).map(|(number, _)| number * SECTOR).collect()
    };
    KNOWN.lock().expect("no panic while it is held").entry(volume.as_ptr() as usize).or_insert_with(find).clone()
}

/// Reads what a damaged volume holds.
fn look(tree: &Tree, folder: &[u8], left: &mut usize) {
    for (name, stat) in tree.list(folder).unwrap_or_default() {
        if *left == 0 {
            return;
        }
        *left -= 1;
        let path = [folder, b"/", &name].concat();
        drop((tree.read(&path, 1 << 20), tree.link_target(&path), tree.attributes(&path), tree.stat(&path)));
        if stat.kind == Kind::Folder && path.len() < 200 {
            look(tree, &path, left);
        }
    }
}

impl FileSystem {
    fn key(&self, path: &str) -> String {
        if self.folds_case { path.to_lowercase() } else { path.into() }
    }

    /// Reads the input: which volume; whether it is damaged first, and how; and what is done to it.
    ///
    /// # Panics
    /// When the volume that results is not what it should be.
    pub fn change(&self, input: &[u8]) {
        let mut numbers = Numbers(input);
        let filled: &[Arc<[u8]>] = self.filled.as_ref().map_or(&[], |filled| filled);
        let number = numbers.next() % (self.volumes.len() + filled.len());
        let sound = self.volumes.get(number);
        let volume = sound.unwrap_or_else(|| &filled[number - self.volumes.len()]).clone();
        // Half of them are sound; of large ones few, since their checker takes its time.
        let is_large = self.filled.is_some();
        let mut damages = if is_large { numbers.next() % 32 } else { numbers.next().saturating_sub(128) % 32 };
        if sound.is_none() {
            damages = damages.max(1);
        }
        let used = if is_large { used(&volume) } else { Arc::default() };
        let size = volume.len();
        let storage = Arc::new(MemoryStorage::new("fuzz", volume));
        let disk = format::open(storage, Some(Format::Raw)).expect("any bytes are a raw disk").disk;
        let bench = Bench::new([disk], &Budget::whole());
        let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
        bench.begin("damage", "what a stranger made of it");
        for _ in 0..damages {
            let at = if is_large {
                let (sector, inside) = (numbers.next() | numbers.next() << 8, numbers.next() | numbers.next() << 8);
                used[sector % used.len()] + inside % SECTOR
            } else {
                // The structures are at the start, as a rule.
                (numbers.next() | numbers.next() << 8 | (numbers.next() & 15) << 16) % size
            };
            device.write(at as u64, &[numbers.next() as u8]).expect("a place in the volume");
        }
        let open = || Tree::of(&device, NOW);
        let Ok(Some(mut tree)) = open() else {
            assert!(damages > 0, "a sound volume is opened");
            return;
        };
        if damages > 0 {
            look(&tree, b"", &mut 100);
        }
        let mut model = Model::new();
        for _ in 0..12 {
            if numbers.0.is_empty() {
                break;
            }
            bench.begin("step", "a step of the fuzzer");
            let outcome = self.step(&mut tree, &mut model, &mut numbers, damages > 0);
            if outcome.is_err() {
                bench.rollback();
                let Ok(Some(again)) = open() else {
                    assert!(damages > 0, "what was taken back is opened again");
                    return;
                };
                tree = again;
            }
        }
        if damages > 0 {
            return;
        }
        let mut seen = Model::new();
        self.read(&open().expect("a sound volume").expect("a known file system"), "", &mut seen);
        assert_eq!(seen, model);
        drop(tree);
        self.check(&bench.take().pop().expect("one disk"));
    }

    /// Does one step to the tree, and to the model when it is done.
    fn step(&self, tree: &mut Tree, model: &mut Model, numbers: &mut Numbers<'_>, damaged: bool) -> Result<(), Error> {
        let what = numbers.next() % 7;
        let path = numbers.path();
        let key = self.key(&path);
        let above = key.rfind('/').map_or("", |end| &key[..end]).to_string();
        let in_folder = above.is_empty() || model.get(&above) == Some(&None);
        let (outcome, allowed, done): (_, _, Box<dyn FnOnce(&mut Model)>) = match what {
            0 | 1 => {
                let content = numbers.content();
                let allowed = in_folder && !matches!(model.get(&key), Some(None));
                let outcome = tree.write(&path, &content);
                (outcome, allowed, Box::new(move |model| drop(model.insert(key, Some(content)))))
            }
            2 => {
                let more = numbers.content();
                let allowed = matches!(model.get(&key), Some(Some(_)));
                let outcome = tree.append(&path, &more);
                let add = move |model: &mut Model| {
                    if let Some(Some(content)) = model.get_mut(&key) {
                        content.extend(more);
                    }
                };
                (outcome, allowed, Box::new(add))
            }
            3 => {
                let all: Vec<String> =
                    key.match_indices('/').skip(1).map(|(at, _)| key[..at].into()).chain([key.clone()]).collect();
                let allowed = all.iter().all(|path| !matches!(model.get(path), Some(Some(_))));
                let outcome = tree.make_folders(&path);
                (outcome, allowed, Box::new(move |model| model.extend(all.into_iter().map(|path| (path, None)))))
            }
            4 => {
                let (at, bytes) = (numbers.next() * 37, numbers.content());
                let allowed = matches!(model.get(&key), Some(Some(_)));
                let outcome = tree.write_at(&path, at as u64, &bytes);
                let put = move |model: &mut Model| {
                    // A write of nothing lets nothing grow.
                    if let Some(Some(content)) = model.get_mut(&key).filter(|_| !bytes.is_empty()) {
                        content.resize(content.len().max(at + bytes.len()), 0);
                        content[at..at + bytes.len()].copy_from_slice(&bytes);
                    }
                };
                (outcome, allowed, Box::new(put))
            }
            5 => {
                let size = numbers.next() * 61;
                let allowed = matches!(model.get(&key), Some(Some(_)));
                let outcome = tree.truncate(&path, size as u64);
                let cut = move |model: &mut Model| {
                    if let Some(Some(content)) = model.get_mut(&key) {
                        content.resize(size, 0);
                    }
                };
                (outcome, allowed, Box::new(cut))
            }
            _ => {
                let allowed = model.contains_key(&key);
                let outcome = tree.remove(&path);
                let below = format!("{key}/");
                let remove = move |model: &mut Model| {
                    model.retain(|name, _| *name != key && !name.starts_with(&below));
                };
                (outcome, allowed, Box::new(remove))
            }
        };
        match outcome {
            Ok(()) => {
                assert!(allowed || damaged, "step {what} at {path} was done, and should not have been");
                done(model);
                Ok(())
            }
            Err(error) => {
                let full = matches!(error, Error::NoRoom { .. });
                assert!(!allowed || full || damaged, "step {what} at {path} was not done: {error}");
                Err(error)
            }
        }
    }

    fn read(&self, tree: &Tree, folder: &str, into: &mut Model) {
        for (name, stat) in tree.list(folder).expect("a folder that is there") {
            let path = format!("{folder}/{}", String::from_utf8(name).expect("a name of ours"));
            if path == "/lost+found" {
                continue;
            }
            if stat.kind == Kind::Folder {
                into.insert(self.key(&path), None);
                self.read(tree, &path, into);
            } else {
                into.insert(self.key(&path), Some(tree.read(&path, 1 << 20).expect("a file that is there")));
            }
        }
    }

    fn check(&self, disk: &Overlay) {
        let file = tempfile::NamedTempFile::new().expect("a temporary file");
        file.as_file().set_len(disk.size()).expect("room");
        let mut piece = vec![0; 16 << 10];
        for at in (0..disk.size()).step_by(piece.len()) {
            let len = piece.len().min((disk.size() - at) as usize);
            disk.read_at(at, &mut piece[..len]).expect("memory");
            if piece[..len].iter().any(|&byte| byte != 0) {
                file.as_file().write_all_at(&piece[..len], at).expect("room");
            }
        }
        let program = match &self.checker {
            Checker::Function(check) => {
                let wrong = check(&fs::read(file.path()).expect("a volume"));
                assert!(wrong.is_empty(), "the checker finds: {wrong:?}");
                return;
            }
            Checker::Program(program) => program,
        };
        let mut checker = Command::new(program[0]);
        let output = checker.args(&program[1..]).arg(file.path()).stdin(Stdio::null()).output();
        let output = output.expect("the checker of this file system is installed");
        assert!(output.status.success(), "the checker finds: {}", String::from_utf8_lossy(&output.stdout));
    }
}

/// Empty volumes by mke2fs: its options, and a size in KiB.
pub fn ext_volumes(kinds: &[(&[&str], u64)]) -> Vec<Arc<[u8]>> {
    let make = |(options, size): &(&[&str], u64)| {
        let file = tempfile::NamedTempFile::new().expect("a temporary file");
        file.as_file().set_len(size << 10).expect("room");
        let done = Command::new("mke2fs").args(["-q", "-F", "-m", "0"]).args(*options).arg(file.path()).status();
        assert!(done.expect("mke2fs is installed").success());
        fs::read(file.path()).expect("a volume").into()
    };
    kinds.iter().map(make).collect()
}

/// Empty volumes by mkfs.fat: bits of an entry of their tables, and a size in KiB.
pub fn fat_volumes(kinds: &[(u32, u64)]) -> Vec<Arc<[u8]>> {
    kinds.iter().map(|&(bits, size)| fat_volume(bits, size).into()).collect()
}

/// Empty volumes by mkntfs: bytes of a cluster and of a sector, and a size in KiB.
pub fn ntfs_volumes(kinds: &[(u32, u32, u64)]) -> Vec<Arc<[u8]>> {
    let make = |&(cluster, sector, size): &(u32, u32, u64)| {
        let file = tempfile::NamedTempFile::new().expect("a temporary file");
        file.as_file().set_len(size << 10).expect("room");
        let mut maker = Command::new("mkntfs");
        maker.args(["-q", "-F", "-Q", "-c", &cluster.to_string(), "-s", &sector.to_string()]);
        assert!(maker.arg(file.path()).output().expect("mkntfs is installed").status.success());
        fs::read(file.path()).expect("a volume").into()
    };
    kinds.iter().map(make).collect()
}

/// A volume by mkfs.xfs of so many KiB, after a script worked in it; when it cannot be mounted, as it was made.
pub fn xfs_volume(options: &[&str], kib: u64, script: &str) -> Arc<[u8]> {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let (image, place) = (folder.path().join("volume"), folder.path().join("place"));
    fs::create_dir(&place).expect("a temporary folder");
    fs::File::create(&image).and_then(|file| file.set_len(kib << 10)).expect("room");
    let quiet = |program: &str| {
        let mut command = Command::new(program);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        command
    };
    let made = quiet("mkfs.xfs").args(["--unsupported", "-q", "-f"]).args(options).arg(&image).status();
    assert!(made.expect("mkfs.xfs is installed").success());
    if !script.is_empty()
        && quiet("mount").args(["-o", "loop"]).arg(&image).arg(&place).status().is_ok_and(|s| s.success())
    {
        drop(quiet("bash").arg("-c").arg(script).current_dir(&place).status());
        drop(quiet("umount").arg(&place).status());
    }
    fs::read(image).expect("a volume").into()
}

/// An empty volume by mkfs.fat, with clusters of one sector.
pub fn fat_volume(bits: u32, kib: u64) -> Vec<u8> {
    let file = tempfile::NamedTempFile::new().expect("a temporary file");
    file.as_file().set_len(kib << 10).expect("room");
    let done = Command::new("mkfs.fat").args(["-F", &bits.to_string(), "-s", "1"]).arg(file.path()).output();
    assert!(done.expect("mkfs.fat is installed").status.success());
    fs::read(file.path()).expect("a volume")
}
