//! Volumes that this kernel does not mount: what the other tools see of names and bytes.

use std::{ffi::OsStr, fs, os::unix::ffi::OsStrExt, path::Path, process::Command};

use crate::{
    case::{Case, Hand, NAMES, Order, Place},
    hands,
    judge::{Mount, patch, text},
    kinds::Family,
    layers::Disk,
    orders::{self, Kernel},
    seen::{self, Tree},
};

/// Names that every file system takes, and that differ in more than case.
fn is_plain(place: &Place) -> bool {
    let fits = |name: &[u8]| name.iter().all(|byte| byte.is_ascii_lowercase() || *byte == b'.' || *byte == b' ');
    place.iter().all(|name| fits(NAMES[usize::from(*name) % NAMES.len()]))
}

fn plain_hand(hand: &Hand) -> bool {
    matches!(hand, Hand::File(place, _) | Hand::Folder(place) | Hand::Remove(place) | Hand::Fill(place, ..) if is_plain(place))
}

fn plain_order(order: &Order) -> bool {
    matches!(order, Order::Remove(place) | Order::Folder(place) | Order::Put(place, ..) if is_plain(place))
}

/// What there is, without what such a volume has no word for.
fn things(root: &Path) -> Tree {
    let mut tree = seen::tree(root);
    tree.values_mut().for_each(|thing| {
        thing.mode = 0;
        thing.owner = (0, 0);
        thing.attributes.clear();
        thing.time = (0, 0);
        thing.links = 1;
    });
    tree
}

fn ran(command: &mut Command) {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", text(&output));
}

/// The volume's tree, by the other tools.
fn theirs(family: Family, image: &Path, folder: &Path) -> Tree {
    let out = folder.join("theirs");
    fs::create_dir_all(&out).unwrap();
    if family == Family::Ntfs {
        let mounted = Mount::new(image, &out, "ntfs-3g", "ro").unwrap();
        let tree = things(&out);
        drop(mounted);
        return tree;
    }
    fs::remove_dir_all(&out).unwrap();
    fs::create_dir(&out).unwrap();
    let listed = Command::new("mdir").args(["-b", "-i"]).arg(image).arg("::").output().unwrap();
    if !String::from_utf8_lossy(&listed.stdout).trim().is_empty() {
        ran(Command::new("mcopy").args(["-s", "-n", "-Q", "-i"]).arg(image).arg("::*").arg(&out));
    }
    things(&out)
}

pub(crate) fn judge(case: &Case, image: &Path, folder: &Path) {
    let family = case.kind.family;
    let model = folder.join("model");
    fs::create_dir(&model).unwrap();
    case.hands.iter().filter(|hand| plain_hand(hand)).for_each(|hand| hands::does(&model, hand));
    let entries: Vec<_> = fs::read_dir(&model).unwrap().map(|entry| entry.unwrap().path()).collect();
    if family == Family::Ntfs {
        let mounted = Mount::new(image, &folder.join("place"), "ntfs-3g", "rw").unwrap();
        for entry in &entries {
            ran(Command::new("cp").arg("-r").arg(entry).arg(folder.join("place")));
        }
        drop(mounted);
    } else if !entries.is_empty() {
        ran(Command::new("mcopy").args(["-s", "-Q", "-i"]).arg(image).args(&entries).arg("::"));
    }
    let disk = Disk::around(image, case.layer, folder);
    for (number, orders) in case.rounds.iter().enumerate() {
        let orders: Vec<Order> = orders.iter().filter(|order| plain_order(order)).cloned().collect();
        let here = folder.join(format!("here{number}"));
        orders::prepare(&orders, &here);
        let kernel = Kernel::new(&model);
        // A folder of this machine has room for all.
        let Some(taken) = crate::judge::followed(&kernel, &orders, &here) else { continue };
        let after = folder.join(format!("after{number}.raw"));
        patch(&disk, &after, &orders::options(&taken, &here)).unwrap_or_else(|why| panic!("refused: {why}\n{taken:?}"));
        let result = folder.join("result");
        disk.volume_of(&after, &result);
        if let Some(complaint) = case.kind.complaint(&result) {
            panic!("after a patch, the checker says: {complaint}\n{taken:?}");
        }
        if let Some(difference) = seen::difference(&things(&model), &theirs(family, &result, folder)) {
            panic!("after a patch the other tools see other things: {difference}\n{taken:?}");
        }
        fs::rename(&after, &disk.path).unwrap();
        if family == Family::Ntfs {
            goes_on(&result, &taken, folder);
            if let Some(complaint) = case.kind.complaint(&result) {
                panic!("after the other driver went on, the checker says: {complaint}\n{taken:?}");
            }
        }
    }
}

/// The other driver renames and removes what was put in.
fn goes_on(image: &Path, taken: &[(usize, Order)], folder: &Path) {
    let place = folder.join("place");
    let mounted = Mount::new(image, &place, "ntfs-3g", "rw").unwrap();
    for (_, order) in taken {
        let Order::Put(at, ..) = order else { continue };
        let at = place.join(OsStr::from_bytes(&crate::case::path(at)));
        if at.is_file() {
            let other = at.with_file_name("another name of it.text");
            fs::rename(&at, &other).unwrap_or_else(|error| panic!("{}: {error}", at.display()));
            fs::remove_file(&other).unwrap_or_else(|error| panic!("{}: {error}", at.display()));
        }
    }
    drop(mounted);
}
