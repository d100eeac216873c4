//! Making a small optical medium (ECMA-119), with the long names of Joliet beside the plain ones.

#![expect(
    clippy::indexing_slicing,
    clippy::cast_possible_truncation,
    reason = "places are those that were laid out for these bytes, all of them below 64 MiB"
)]

use std::collections::BTreeMap;

use super::BLOCK;

/// Where the first descriptor lies, in blocks.
const FIRST: u32 = 16;
/// The most bytes of a medium that is made: it is made in memory.
const MOST: u64 = 64 << 20;

/// A folder: its files, and the folders in it.
#[derive(Default)]
struct Folder<'a> {
    files: BTreeMap<&'a str, &'a [u8]>,
    folders: BTreeMap<&'a str, Folder<'a>>,
}

/// A folder in the order of path tables: level by level.
struct Listed<'f, 'a> {
    folder: &'f Folder<'a>,
    name: &'a str,
    parent: usize,
}

/// Whose names are written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Names {
    Plain,
    Joliet,
}

fn both16(number: u16) -> [u8; 4] {
    let (little, big) = (number.to_le_bytes(), number.to_be_bytes());
    [little[0], little[1], big[0], big[1]]
}

fn both32(number: u32) -> [u8; 8] {
    let mut bytes = [0; 8];
    bytes[..4].copy_from_slice(&number.to_le_bytes());
    bytes[4..].copy_from_slice(&number.to_be_bytes());
    bytes
}

impl Names {
    /// The name of a file or a folder; `number` tells plain names apart that would be the same (ECMA-119, section 7.5).
    fn of(self, name: &str, number: usize, is_folder: bool) -> Vec<u8> {
        if self == Self::Joliet {
            return name.encode_utf16().flat_map(u16::to_be_bytes).collect();
        }
        let plain = |text: &str, most: usize| -> String {
            text.chars().filter(char::is_ascii_alphanumeric).take(most).map(|c| c.to_ascii_uppercase()).collect()
        };
        let (stem, ending) = name.rsplit_once('.').unwrap_or((name, ""));
        match is_folder {
            true => format!("{}{number:02}", plain(name, 6)).into_bytes(),
            false => format!("{}{number:02}.{};1", plain(stem, 6), plain(ending, 3)).into_bytes(),
        }
    }

    /// `text`, of `len` bytes, with spaces behind it.
    fn text(self, text: &str, len: usize) -> Vec<u8> {
        let mut bytes: Vec<u8> = match self {
            Self::Plain => text.bytes().take(len).collect(),
            Self::Joliet => text.encode_utf16().take(len / 2).flat_map(u16::to_be_bytes).collect(),
        };
        while bytes.len() < len {
            bytes.extend(if self == Self::Plain { &b" "[..] } else { &[0, b' '] });
        }
        bytes.truncate(len);
        bytes
    }
}

/// An entry of a folder (ECMA-119, section 9.1).
fn entry(name: &[u8], block: u32, len: u32, is_folder: bool) -> Vec<u8> {
    let mut bytes = vec![0, 0];
    bytes.extend(both32(block));
    bytes.extend(both32(len));
    // A time that nobody asks for.
    bytes.extend([0; 7]);
    bytes.extend([if is_folder { 2 } else { 0 }, 0, 0]);
    bytes.extend(both16(1));
    bytes.push(u8::try_from(name.len()).unwrap_or(u8::MAX));
    bytes.extend(name);
    if bytes.len() % 2 == 1 {
        bytes.push(0);
    }
    bytes[0] = u8::try_from(bytes.len()).unwrap_or(u8::MAX);
    bytes
}

/// All folders, level by level.
fn listed<'f, 'a>(root: &'f Folder<'a>) -> Vec<Listed<'f, 'a>> {
    let mut all = vec![Listed { folder: root, name: "", parent: 0 }];
    let mut at = 0;
    while at < all.len() {
        let folder = all[at].folder;
        all.extend(folder.folders.iter().map(|(name, folder)| Listed { folder, name, parent: at }));
        at += 1;
    }
    all
}

/// The path table of `all`, whose folders lie from block `first` on (ECMA-119, section 9.4).
fn path_table(all: &[Listed<'_, '_>], first: u32, names: Names, is_big: bool) -> Vec<u8> {
    let mut table = Vec::new();
    for (number, listed) in (0u32..).zip(all) {
        let name = if number == 0 { vec![0] } else { names.of(listed.name, number as usize, true) };
        let (block, parent) = (first + number, u16::try_from(listed.parent + 1).unwrap_or(1));
        table.extend([u8::try_from(name.len()).unwrap_or(u8::MAX), 0]);
        table.extend(if is_big { block.to_be_bytes() } else { block.to_le_bytes() });
        table.extend(if is_big { parent.to_be_bytes() } else { parent.to_le_bytes() });
        table.extend(&name);
        if name.len() % 2 == 1 {
            table.push(0);
        }
    }
    table
}

/// The bytes of a medium called `label` with `files`, each by its path with `/` between names; `None` for more than a small one holds, and
/// for a path that is none or is there twice.
pub fn make(label: &str, files: &[(&str, &[u8])]) -> Option<Vec<u8>> {
    let sum: u64 = files.iter().map(|(_, bytes)| bytes.len() as u64 + BLOCK).sum();
    if sum > MOST || files.len() > 40 {
        return None;
    }
    let mut root = Folder::default();
    for (path, bytes) in files {
        let (folders, name) = path.rsplit_once('/').map_or(("", *path), |(folders, name)| (folders, name));
        let mut folder = &mut root;
        for part in folders.split('/').filter(|part| !part.is_empty()) {
            folder = folder.folders.entry(part).or_default();
        }
        if name.is_empty() || name.len() > 60 || folder.files.insert(name, bytes).is_some() {
            return None;
        }
    }
    let all = listed(&root);
    // Descriptors, four path tables, folders by their plain names, folders by Joliet's, files.
    let tables = FIRST + 3;
    let count = u32::try_from(all.len()).ok().filter(|count| *count < 40)?;
    let (plain, joliet) = (tables + 4, tables + 4 + count);
    let mut next = joliet + count;
    let mut places: BTreeMap<(usize, &str), u32> = BTreeMap::new();
    let mut data: Vec<(u32, &[u8])> = Vec::new();
    for (number, listed) in all.iter().enumerate() {
        for (name, bytes) in &listed.folder.files {
            places.insert((number, name), next);
            data.push((next, bytes));
            next += u32::try_from((bytes.len() as u64).div_ceil(BLOCK)).ok()?;
        }
    }
    let block = usize::try_from(BLOCK).ok()?;
    let mut medium = vec![0; block * next as usize];
    let mut put = |at: u32, bytes: &[u8]| {
        let start = at as usize * block;
        medium[start..start + bytes.len()].copy_from_slice(bytes);
    };
    for (at, bytes) in data {
        put(at, bytes);
    }
    for (index, (names, first)) in [(Names::Plain, plain), (Names::Joliet, joliet)].into_iter().enumerate() {
        let (low, high) = (tables + 2 * index as u32, tables + 2 * index as u32 + 1);
        let table = path_table(&all, first, names, false);
        put(low, &table);
        put(high, &path_table(&all, first, names, true));
        for (number, listed) in (0u32..).zip(&all) {
            let own = entry(&[0], first + number, BLOCK as u32, true);
            let mut entries = [own, entry(&[1], first + listed.parent as u32, BLOCK as u32, true)].concat();
            let mut below: Vec<(Vec<u8>, u32, u32, bool)> = Vec::new();
            for (child, folder) in (0u32..).zip(&all).skip(1).filter(|(_, other)| other.parent == number as usize) {
                below.push((names.of(folder.name, child as usize, true), first + child, BLOCK as u32, true));
            }
            for (index, (name, bytes)) in listed.folder.files.iter().enumerate() {
                let at = places.get(&(number as usize, *name)).copied().unwrap_or(0);
                below.push((names.of(name, index, false), at, u32::try_from(bytes.len()).ok()?, false));
            }
            below.sort();
            for (name, at, len, is_folder) in below {
                entries.extend(entry(&name, at, len, is_folder));
            }
            if entries.len() as u64 > BLOCK {
                return None;
            }
            put(first + number, &entries);
        }
        put(FIRST + index as u32, &descriptor(label, names, (next, table.len() as u32, low, high), first));
    }
    put(FIRST + 2, b"\xffCD001\x01");
    Some(medium)
}

/// A volume descriptor (ECMA-119, sections 8.4 and 8.5; Joliet Specification, "SVD"). `sizes` are the medium's blocks, the bytes of a path table, and
/// where its two forms lie.
fn descriptor(label: &str, names: Names, sizes: (u32, u32, u32, u32), root: u32) -> Vec<u8> {
    let (blocks, table, low, high) = sizes;
    let mut bytes = vec![if names == Names::Plain { 1 } else { 2 }];
    bytes.extend(b"CD001\x01\0");
    bytes.extend(names.text("", 32));
    bytes.extend(names.text(label, 32));
    bytes.extend([0; 8]);
    bytes.extend(both32(blocks));
    let mut escape = [0; 32];
    if names == Names::Joliet {
        escape[..3].copy_from_slice(b"%/E");
    }
    bytes.extend(escape);
    bytes.extend([both16(1), both16(1), both16(BLOCK as u16)].concat());
    bytes.extend(both32(table));
    bytes.extend(low.to_le_bytes());
    bytes.extend([0; 4]);
    bytes.extend(high.to_be_bytes());
    bytes.extend([0; 4]);
    bytes.extend(entry(&[0], root, BLOCK as u32, true));
    for _ in 0..4 {
        bytes.extend(names.text("", 128));
    }
    for _ in 0..3 {
        bytes.extend(names.text("", 37));
    }
    for _ in 0..4 {
        bytes.extend(b"0000000000000000\0");
    }
    bytes.extend([1, 0]);
    bytes
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use reformis_disk::{budget::Budget, source::MemoryStorage};

    use super::*;

    #[test]
    fn what_is_made_is_read_again() {
        let long = vec![7; 5000];
        let files: [(&str, &[u8]); 5] = [
            ("meta-data", b"instance-id: i\n"),
            ("meta_data", b"another one"),
            ("user-data", &long),
            ("openstack/latest/meta_data.json", b"{}"),
            ("openstack/latest/none", b""),
        ];
        let medium = make("cidata", &files).unwrap();
        let storage: Arc<dyn reformis_disk::Storage> = Arc::new(MemoryStorage::new("seed.iso", medium.clone()));
        let listing = super::super::list(storage.as_ref(), &Budget::whole()).unwrap();
        assert_eq!(listing.files.len(), files.len());
        for (path, bytes) in files {
            let found = listing.files.iter().find(|file| file.path == path).unwrap_or_else(|| panic!("{path}"));
            assert_eq!(&medium[found.at as usize..(found.at + found.len) as usize], bytes, "{path}");
        }
        assert!(make("x", &[("a/", b"")]).is_none() && make("x", &[("a", b""), ("a", b"")]).is_none());
    }
}
