//! What the kernel sees in a tree: all of it.

use std::{
    collections::BTreeMap,
    fs::{self, File},
    io::Read,
    os::unix::{
        ffi::OsStrExt,
        fs::{FileTypeExt, MetadataExt},
    },
    path::Path,
};

use rustix::fs::{lgetxattr, llistxattr};

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum What {
    Folder,
    /// Length, and the digest of the bytes.
    File(u64, blake3::Hash),
    Link(Vec<u8>),
    Fifo,
    Socket,
    Character(u64),
    Block(u64),
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Thing {
    pub(crate) what: What,
    pub(crate) mode: u32,
    pub(crate) owner: (u32, u32),
    /// Of what is no folder.
    pub(crate) links: u64,
    /// The first path of the same file.
    pub(crate) first: Vec<u8>,
    pub(crate) attributes: BTreeMap<Vec<u8>, Vec<u8>>,
    pub(crate) time: (i64, i64),
}

pub(crate) type Tree = BTreeMap<Vec<u8>, Thing>;

pub(crate) fn tree(root: &Path) -> Tree {
    let mut found = Tree::new();
    below(root, root, &mut found, &mut BTreeMap::new());
    found
}

fn digest(path: &Path) -> blake3::Hash {
    let mut hasher = blake3::Hasher::new();
    let mut file = File::open(path).unwrap();
    let mut piece = vec![0; 1 << 20];
    loop {
        match file.read(&mut piece).unwrap() {
            0 => return hasher.finalize(),
            len => hasher.update(&piece[..len]),
        };
    }
}

fn attributes(path: &Path) -> BTreeMap<Vec<u8>, Vec<u8>> {
    let mut names = vec![0; 1 << 16];
    let len = llistxattr(path, &mut names[..]).unwrap_or(0);
    let split = names[..len].split(|byte| *byte == 0).filter(|name| !name.is_empty());
    split
        .filter(|name| !name.starts_with(b"btrfs."))
        .map(|name| {
            let mut value = vec![0; 1 << 16];
            let len = lgetxattr(path, name, &mut value[..]).unwrap();
            (name.to_vec(), value[..len].to_vec())
        })
        .collect()
}

fn below(root: &Path, folder: &Path, found: &mut Tree, first: &mut BTreeMap<(u64, u64), Vec<u8>>) {
    let mut paths: Vec<_> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    for path in paths {
        let name = path.strip_prefix(root).unwrap().as_os_str().as_bytes().to_vec();
        if name == b"lost+found" {
            continue;
        }
        let metadata = path.symlink_metadata().unwrap();
        let kind = metadata.file_type();
        let what = if kind.is_dir() {
            What::Folder
        } else if kind.is_symlink() {
            What::Link(fs::read_link(&path).unwrap().as_os_str().as_bytes().into())
        } else if kind.is_fifo() {
            What::Fifo
        } else if kind.is_socket() {
            What::Socket
        } else if kind.is_char_device() {
            What::Character(metadata.rdev())
        } else if kind.is_block_device() {
            What::Block(metadata.rdev())
        } else {
            What::File(metadata.len(), digest(&path))
        };
        let is_folder = what == What::Folder;
        let own = (metadata.dev(), metadata.ino());
        // What stands for a subvolume that a snapshot does not have is made up by Btrfs, with the time of the day.
        let is_made_up = is_folder && own.1 == 2;
        let thing = Thing {
            what,
            mode: metadata.mode() & 0o7777,
            owner: (metadata.uid(), metadata.gid()),
            links: if is_folder { 1 } else { metadata.nlink() },
            first: if is_folder { name.clone() } else { first.entry(own).or_insert_with(|| name.clone()).clone() },
            attributes: attributes(&path),
            time: if is_made_up { (0, 0) } else { (metadata.mtime(), metadata.mtime_nsec()) },
        };
        found.insert(name, thing);
        if is_folder {
            below(root, &path, found, first);
        }
    }
}

/// How two trees differ, in a few lines.
pub(crate) fn difference(wanted: &Tree, found: &Tree) -> Option<String> {
    let mut told = Vec::new();
    let shown = |name: &[u8]| String::from_utf8_lossy(name).into_owned();
    for (name, thing) in wanted {
        match found.get(name) {
            None => told.push(format!("'{}' is missing: {:?}", shown(name), thing.what)),
            Some(other) if other != thing => {
                told.push(format!("'{}' is to be {}\n   and is {}", shown(name), brief(thing), brief(other)));
            }
            Some(_) => {}
        }
    }
    let more = found.keys().filter(|name| !wanted.contains_key(*name));
    told.extend(more.map(|name| format!("'{}' should not be there", shown(name))));
    (!told.is_empty()).then(|| {
        let count = told.len();
        told.truncate(6);
        format!("{count} things differ:\n{}", told.join("\n"))
    })
}

/// A thing in one line, long values by their length.
fn brief(thing: &Thing) -> String {
    let attributes: Vec<_> = thing
        .attributes
        .iter()
        .map(|(name, value)| {
            let name = String::from_utf8_lossy(name).into_owned();
            if value.len() > 60 {
                format!("{name}={} bytes {}", value.len(), blake3::hash(value).to_hex().get(..8).unwrap_or_default())
            } else {
                format!("{name}={value:x?}")
            }
        })
        .collect();
    let first = String::from_utf8_lossy(&thing.first).into_owned();
    format!(
        "{:?} {:o} {:?} {} links, first '{first}', {:?}, {}",
        thing.what,
        thing.mode,
        thing.owner,
        thing.links,
        thing.time,
        attributes.join(", ")
    )
}
