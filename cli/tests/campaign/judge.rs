//! One case from its beginning to its end.

use std::{
    ffi::OsStr,
    fs::{self, File},
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    process::{Command, Output},
};

use rustix::io::Errno;

use crate::{
    case::{Case, Hand, Order, bytes, path},
    hands,
    kinds::{Family, Kind},
    layers::{Disk, copy_file},
    orders::{self, Kernel},
    plain,
    seen::{self, Tree, What},
};

/// The program: the built one, or another that `REFORMIS_PROGRAM` names.
fn program() -> Command {
    Command::new(std::env::var_os("REFORMIS_PROGRAM").unwrap_or_else(|| env!("CARGO_BIN_EXE_reformis").into()))
}

pub(crate) fn text(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr)
}

fn ran(command: &mut Command) {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", text(&output));
}

/// A mount, until it is dropped.
pub(crate) struct Mount(PathBuf);

impl Mount {
    pub(crate) fn new(image: &Path, place: &Path, tool: &str, options: &str) -> Result<Self, String> {
        fs::create_dir_all(place).unwrap();
        let output = Command::new(tool).args(["-o", options]).arg(image).arg(place).output().unwrap();
        if output.status.success() { Ok(Self(place.into())) } else { Err(text(&output)) }
    }
}

impl Drop for Mount {
    fn drop(&mut self) {
        for _ in 0..200 {
            if Command::new("umount").arg(&self.0).output().is_ok_and(|output| output.status.success()) {
                return;
            }
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        panic!("{} stays mounted", self.0.display());
    }
}

fn options(family: Family) -> &'static str {
    match family {
        Family::Xfs => "loop,nodev,nosuid,nouuid",
        Family::Btrfs => "loop,nodev,nosuid,user_subvol_rm_allowed",
        _ => "loop,nodev,nosuid",
    }
}

fn mount(kind: &Kind, image: &Path, place: &Path) -> Mount {
    Mount::new(image, place, "mount", options(kind.family))
        .unwrap_or_else(|why| panic!("the kernel does not mount it: {why}"))
}

/// Bytes that a volume has left for those who write to it.
fn left_on(place: &Path) -> u64 {
    rustix::fs::statvfs(place).map(|room| room.f_bavail * room.f_frsize).unwrap()
}

fn expect_sound(kind: &Kind, image: &Path, when: &str) {
    if let Some(complaint) = kind.complaint(image) {
        panic!("{when}, the checker says: {complaint}");
    }
}

/// Changes what is there once more, and stops in the middle of it; files that were open until then.
fn tear(place: &Path) -> Vec<File> {
    drop(File::open(place).map(rustix::fs::syncfs));
    let mut open = Vec::new();
    for number in 0..8 {
        let at = place.join(format!("torn{number}"));
        drop(fs::write(&at, bytes(number, 5000 << (number % 4))));
        let file = File::options().read(true).write(true).open(&at);
        match number % 4 {
            // Deleted while it is in use, cut short, gone.
            0 => drop(fs::remove_file(&at)),
            1 => drop(file.as_ref().map(|file| file.set_len(100))),
            2 => drop(fs::remove_file(place.join(format!("torn{}", number - 1)))),
            _ => {}
        }
        if let Ok(file) = file {
            drop(file.sync_all());
            open.push(file);
        }
    }
    stop(place);
    open
}

/// Stops the file system as a machine that loses its power does, what it has noted on its disk.
fn stop(place: &Path) {
    drop(Command::new("xfs_io").args(["-x", "-c", "shutdown -f"]).arg(place).output());
}

/// What the program says to `patch`, or why not.
pub(crate) fn patch(disk: &Disk, out: &Path, options: &[std::ffi::OsString]) -> Result<(), String> {
    let mut command = program();
    command.arg("patch").arg(&disk.path).args(["--from", "raw", "--as", "raw/thin", "--volume", &disk.volume]);
    let output = command.args(&disk.more).args(options).arg("--out").arg(out).arg("--quiet").output().unwrap();
    let said = text(&output);
    assert!(!said.contains("panicked"), "{said}");
    match output.status.code() {
        Some(0) => Ok(()),
        Some(1) => Err(said),
        code => panic!("patch ended with {code:?}: {said}"),
    }
}

/// The archive of all that the volume holds.
pub(crate) fn archive(disk: &Disk, out: &Path) -> Output {
    let mut command = program();
    command.arg("peek").arg(&disk.path).arg("/").args(["--volume", &disk.volume]).args(&disk.more);
    command.arg("--tar").arg(out).output().unwrap()
}

/// Where GNU tar unpacks to: XFS takes every attribute, time and length that any other file system has.
struct Bay {
    mount: Mount,
    image: PathBuf,
}

impl Bay {
    fn new(folder: &Path) -> Self {
        let image = folder.join("bay");
        File::create(&image).unwrap().set_len(8 << 30).unwrap();
        ran(Command::new("mkfs.xfs").args(["-q", "-i", "size=1024"]).arg(&image));
        let mount = Mount::new(&image, &folder.join("unpacked"), "mount", "loop,nodev,nosuid").unwrap();
        Self { mount, image }
    }
}

impl Drop for Bay {
    fn drop(&mut self) {
        drop(fs::remove_file(&self.image));
    }
}

/// Compares what `peek --tar` wrote with what the kernel sees.
fn unpacked(disk: &Disk, wanted: &Tree, folder: &Path, when: &str) {
    let tar = folder.join("all.tar");
    let output = archive(disk, &tar);
    assert!(output.status.success(), "{when}, peek --tar: {}", text(&output));
    let bay = Bay::new(folder);
    let out = bay.mount.0.join("out");
    fs::create_dir(&out).unwrap();
    let mut command = Command::new("tar");
    command.args(["--xattrs", "--xattrs-include=*", "--acls", "--numeric-owner", "-xpf"]).arg(&tar).arg("-C").arg(&out);
    let told = command.output().unwrap();
    assert!(told.status.success(), "{when}, tar: {}", text(&told));
    let mut found = seen::tree(&out);
    let mut wanted = wanted.clone();
    // No archive holds sockets: the program says so.
    let sockets = wanted.values().filter(|thing| thing.what == What::Socket).count();
    assert_eq!(sockets > 0, String::from_utf8_lossy(&output.stderr).contains("socket"), "{when}: {}", text(&output));
    wanted.retain(|_, thing| thing.what != What::Socket);
    // The first folder of the mount stands for itself.
    found.remove(&b"."[..]);
    if let Some(difference) = seen::difference(&wanted, &found) {
        panic!("{when}, what was packed is not what the kernel sees: {difference}");
    }
    let stored: u64 = found.values().map(|_| 12_000).sum::<u64>()
        + walk_blocks(&out)
        + wanted.values().flat_map(|thing| thing.attributes.values()).map(|value| 2 * value.len() as u64).sum::<u64>();
    let len = fs::metadata(&tar).unwrap().len();
    assert!(len <= stored + (1 << 20), "{when}, holes are written out: {len} bytes, and {stored} would do");
    fs::remove_file(tar).unwrap();
}

/// Bytes that files have on the disk that they lie on.
fn walk_blocks(folder: &Path) -> u64 {
    let mut sum = 0;
    for entry in fs::read_dir(folder).unwrap() {
        let metadata = fs::symlink_metadata(entry.as_ref().unwrap().path()).unwrap();
        sum += std::os::unix::fs::MetadataExt::blocks(&metadata) * 512;
        if metadata.is_dir() {
            sum += walk_blocks(&entry.unwrap().path());
        }
    }
    sum
}

/// Takes out of both what cannot be compared: the time of what was changed, which both must have set, and the labels that the program gives and a
/// kernel without a policy does not.
fn level(before: &Tree, wanted: &mut Tree, found: &mut Tree) {
    for (name, thing) in wanted.iter_mut() {
        let Some(other) = found.get_mut(name) else { continue };
        let old = before.get(name).map(|old| old.time);
        let has_changed = |time: (i64, i64)| old != Some(time);
        // Within a second, a time without a fraction may be what it was.
        let is_coarse = old.is_some_and(|old| old.1 == 0);
        if is_coarse || has_changed(thing.time) && has_changed(other.time) {
            thing.time = other.time;
        }
        // A hard link's other names have been removed, or it is new in the place of an old one.
        let label = &b"security.selinux"[..];
        if !thing.attributes.contains_key(label) {
            other.attributes.remove(label);
        }
    }
}

/// The orders that the kernel can follow, in the order in which the program takes them. One that it has followed in part leaves nothing that could be
/// compared: `None`.
pub(crate) fn followed(kernel: &Kernel, orders: &[Order], here: &Path) -> Option<Vec<(usize, Order)>> {
    let rank = |order: &Order| match order {
        Order::Remove(_) => 0,
        Order::Folder(_) => 1,
        Order::Put(..) | Order::PutFolder(..) => 2,
        Order::Link(..) => 3,
    };
    let mut all: Vec<(usize, &Order)> = orders.iter().enumerate().collect();
    all.sort_by_key(|(_, order)| rank(order));
    let mut taken = Vec::new();
    for (number, order) in all {
        match kernel.does(order, &here.join(number.to_string())) {
            Ok(()) => taken.push((number, order.clone())),
            Err(Errno::NOSPC | Errno::DQUOT | Errno::IO) => return None,
            Err(_) if matches!(order, Order::PutFolder(..)) => return None,
            Err(_) => {}
        }
    }
    Some(taken).filter(|taken| !taken.is_empty())
}

/// What the program refuses for a reason that it says, and that holds for the whole volume.
fn is_refused(why: &str) -> bool {
    [
        "it keeps quotas",
        "it allocates in clusters",
        "fast commits",
        "it was not unmounted",
        "is a subvolume",
        "attributes in inodes of their own",
    ]
    .iter()
    .any(|reason| why.contains(reason))
}

/// Judges a case; false where there is no such volume.
pub(crate) fn judge(case: &Case) -> bool {
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    let image = folder.join("volume");
    if !case.kind.make(&image) {
        return false;
    }
    if matches!(case.kind.family, Family::Fat | Family::Ntfs) {
        plain::judge(case, &image, folder);
        return true;
    }
    let place = folder.join("place");
    let Ok(mounted) = Mount::new(&image, &place, "mount", options(case.kind.family)) else { return false };
    case.hands.iter().for_each(|hand| hands::does(&place, hand));
    let open = case.torn.then(|| tear(&place));
    drop(open);
    drop(mounted);
    // The truth: what the kernel makes of it.
    let mut truth = folder.join("truth");
    copy_file(&image, &truth);
    let mut before = {
        let mounted = mount(&case.kind, &truth, &place);
        let tree = seen::tree(&mounted.0);
        drop(mounted);
        tree
    };
    // Without a journal, Linux calls an ext volume clean when it lets go of it, even one that was stopped in the middle (`ext4_put_super`); a
    // machine that loses its power leaves none like that.
    if case.torn && case.kind.complaint(&truth).is_some() {
        return false;
    }
    let disk = Disk::around(&image, case.layer, folder);
    unpacked(&disk, &before, folder, "before");
    for (number, orders) in case.rounds.iter().enumerate() {
        let here = folder.join(format!("here{number}"));
        orders::prepare(orders, &here);
        let reference = folder.join(format!("reference{number}"));
        copy_file(&truth, &reference);
        let (taken, mut wanted, left) = {
            let mounted = mount(&case.kind, &reference, &place);
            let kernel = Kernel::new(&mounted.0);
            let taken = followed(&kernel, orders, &here);
            drop(kernel);
            (taken, seen::tree(&mounted.0), left_on(&mounted.0))
        };
        let Some(taken) = taken else { continue };
        let options = orders::options(&taken, &here);
        let after = folder.join(format!("after{number}.raw"));
        if let Err(why) = patch(&disk, &after, &options) {
            let is_full = case.hands.iter().any(|hand| matches!(hand, Hand::Full(_))) || case.kind.mib <= 64;
            let puts = taken.iter().any(|(_, order)| !matches!(order, Order::Remove(_)));
            assert!(is_refused(&why) || is_full && puts && why.contains("room"), "refused: {why}\n{taken:?}");
            assert!(!after.exists(), "a result that failed lies there");
            continue;
        }
        let result = folder.join(format!("result{number}"));
        disk.volume_of(&after, &result);
        // Where clusters are allocated nothing is changed but the journal, and files that were deleted while they were in use are left to the
        // kernel, as by a crash; the checker does not look for them as long as it may not write.
        let keeps_orphans = case.torn && case.kind.options.iter().any(|option| option.contains("bigalloc"));
        if keeps_orphans {
            let let_go = folder.join("let-go");
            copy_file(&result, &let_go);
            drop(mount(&case.kind, &let_go, &place));
            expect_sound(&case.kind, &let_go, "after a patch and a mount");
        } else {
            expect_sound(&case.kind, &result, "after a patch");
        }
        let mounted = mount(&case.kind, &result, &place);
        let mut found = seen::tree(&mounted.0);
        let now = left_on(&mounted.0);
        assert!(now > 0 || left < 1 << 20, "the guest has nothing left, and {left} bytes if it does this itself");
        let as_it_is = found.clone();
        level(&before, &mut wanted, &mut found);
        if let Some(difference) = seen::difference(&wanted, &found) {
            panic!("after a patch the kernel sees other things than it made itself: {difference}\n{taken:?}");
        }
        drop(mounted);
        fs::rename(&after, &disk.path).unwrap();
        unpacked(&disk, &as_it_is, folder, "after a patch");
        (before, truth) = (as_it_is, result);
        // The kernel goes on with a copy.
        let on = folder.join("on");
        copy_file(&truth, &on);
        let mounted = mount(&case.kind, &on, &place);
        case.hands
            .iter()
            .rev()
            .filter(|hand| !matches!(hand, Hand::Full(_)))
            .for_each(|hand| hands::does(&place, hand));
        for (_, order) in &taken {
            if let Order::Put(place, ..) | Order::Link(place, _) = order {
                drop(fs::remove_file(mounted.0.join(OsStr::from_bytes(&path(place)))));
            }
        }
        drop(mounted);
        expect_sound(&case.kind, &on, "after the kernel went on");
    }
    true
}
