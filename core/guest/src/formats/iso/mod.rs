//! Optical media (ISO 9660, which is ECMA-119) as far as their files are found: with the long names of Rock Ridge (IEEE P1282) or
//! Joliet where they have them. UDF (ECMA-167) is told, not read.

mod make;

use std::{collections::HashSet, sync::Arc};

use reformis_disk::{Storage, budget::Budget};

pub use make::make;

use crate::error::{Error, Result};

/// Bytes of a block; media with others are not made.
const BLOCK: u64 = 2048;
/// Where the descriptors begin (ECMA-119, section 6.2.1), in blocks, and how many are looked at.
const FIRST: u64 = 16;
const MAX_DESCRIPTORS: u64 = 32;
/// Bytes of all folders that are read, and of one area that continues an entry.
const MAX_FOLDERS: u64 = 16 << 20;
const MAX_AREA: u64 = 4096;
/// Files that are listed, and folders below one another.
const MAX_FILES: usize = 20_000;
const MAX_DEPTH: usize = 32;
/// Memory for a file beside its path.
const FILE: u64 = 96;

/// A file on the medium.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct File {
    /// Its path, with `/` between names.
    pub(crate) path: String,
    /// Where its bytes begin.
    pub(crate) at: u64,
    /// How many there are.
    pub(crate) len: u64,
}

/// What lies on a medium.
#[derive(Debug)]
pub(crate) struct Listing {
    /// Its files.
    pub(crate) files: Vec<File>,
    /// Whether there is a UDF file system too, whose files may be others.
    pub(crate) has_udf: bool,
}

/// Whose names are used.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Names {
    Plain,
    Joliet,
    RockRidge {
        /// Bytes before the fields of an entry that are another system's (SUSP, section 5.3).
        skip: usize,
    },
}

/// An entry of a folder (ECMA-119, section 9.1).
struct Entry<'a> {
    block: u32,
    len: u32,
    flags: u8,
    name: &'a [u8],
    /// What a system may add behind the name.
    fields: &'a [u8],
}

/// What the fields of Rock Ridge say of an entry.
#[derive(Default)]
struct Ridge {
    name: Option<Vec<u8>>,
    /// The folder that was moved away from here, by its block.
    moved: Option<u32>,
    /// Whether it is such a folder, in the place where it was moved to.
    is_moved: bool,
}

fn long(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(*bytes.get(at..)?.first_chunk()?))
}

impl<'a> Entry<'a> {
    /// The entry at the start of `bytes`, and its length; `None` where none is.
    fn read(bytes: &'a [u8]) -> Option<(Self, usize)> {
        let len = usize::from(*bytes.first()?);
        let whole = bytes.get(..len).filter(|_| len >= 34)?;
        let name_len = usize::from(*whole.get(32)?);
        let name = whole.get(33..33 + name_len)?;
        // Names of an even length are followed by a byte that pads them.
        let behind = 33 + name_len + usize::from(name_len % 2 == 0);
        let entry = Self {
            block: long(whole, 2)?,
            len: long(whole, 10)?,
            flags: *whole.get(25)?,
            name,
            fields: whole.get(behind..).unwrap_or_default(),
        };
        Some((entry, len))
    }

    fn is_folder(&self) -> bool {
        self.flags & 2 != 0
    }
}

struct Reader<'a> {
    storage: &'a dyn Storage,
    names: Names,
    files: Vec<File>,
    seen: HashSet<u32>,
    left: u64,
    hold: reformis_disk::budget::Hold,
}

impl Reader<'_> {
    fn damaged(&self, what: impl Into<String>) -> Error {
        Error::Damaged { volume: self.storage.name().into(), what: what.into() }
    }

    fn bytes(&mut self, at: u64, len: u64, what: &str) -> Result<Vec<u8>> {
        self.left = self.left.checked_sub(len).ok_or_else(|| self.damaged("its folders take more than 16 MiB"))?;
        Ok(reformis_disk::source::read_vec(self.storage, at, reformis_disk::to_usize(len), what)?.to_vec())
    }

    /// What Rock Ridge says in the fields of an entry.
    fn ridge(&mut self, fields: &[u8], skip: usize) -> Result<Ridge> {
        let mut ridge = Ridge::default();
        let mut area = fields.get(skip..).unwrap_or_default().to_vec();
        // An area may continue in another one; a chain of more than a few says nothing that is used.
        for _ in 0..8 {
            let mut next = None;
            let mut rest = area.as_slice();
            while let [a, b, len, _, ..] = rest {
                let (field, body) = ([*a, *b], rest.get(4..usize::from(*len)));
                let Some(body) = body else { break };
                match &field {
                    b"NM" => {
                        let name = ridge.name.get_or_insert_default();
                        name.extend(body.get(1..).unwrap_or_default());
                        if name.len() > 1024 {
                            return Err(self.damaged("a name on it has more than 1024 bytes"));
                        }
                    }
                    b"CL" => ridge.moved = long(body, 0),
                    b"RE" => ridge.is_moved = true,
                    b"CE" => next = long(body, 0).zip(long(body, 8)).zip(long(body, 16)),
                    b"ST" => break,
                    _ => {}
                }
                rest = rest.get(usize::from(*len).max(4)..).unwrap_or_default();
            }
            let Some(((block, at), len)) = next else { break };
            let len = u64::from(len).min(MAX_AREA);
            area = self.bytes(u64::from(block) * BLOCK + u64::from(at), len, "the rest of an entry")?;
        }
        Ok(ridge)
    }

    /// The name of an entry, by whoever's names are used.
    fn name(&self, entry: &Entry<'_>, ridge: &Ridge) -> String {
        if let Some(name) = &ridge.name {
            return String::from_utf8_lossy(name).into_owned();
        }
        let name = if self.names == Names::Joliet {
            let units: Vec<u16> = entry.name.as_chunks().0.iter().copied().map(u16::from_be_bytes).collect();
            String::from_utf16_lossy(&units)
        } else {
            entry.name.iter().copied().map(char::from).collect()
        };
        // A version follows, and a dot where nothing follows that.
        let name = name.split_once(';').map_or(name.as_str(), |(name, _)| name);
        name.strip_suffix('.').unwrap_or(name).into()
    }

    fn folder(&mut self, block: u32, len: u32, path: &str, depth: usize) -> Result<()> {
        if depth > MAX_DEPTH || !self.seen.insert(block) {
            return Err(self.damaged(format!("its folder {path:?} lies below itself")));
        }
        let bytes = self.bytes(u64::from(block) * BLOCK, u64::from(len), "a folder")?;
        let mut folders = Vec::new();
        let mut at = 0;
        // A file may be longer than an entry can say: then several follow one another.
        let mut before: Option<File> = None;
        while at < bytes.len() {
            let Some((entry, len)) = bytes.get(at..).and_then(Entry::read) else {
                // No entry crosses the end of a block: what is left of it is zero.
                at = (at / 2048 + 1) * 2048;
                continue;
            };
            at += len;
            if matches!(entry.name, [0] | [1]) {
                continue;
            }
            let ridge = match self.names {
                Names::RockRidge { skip } => self.ridge(entry.fields, skip)?,
                _ => Ridge::default(),
            };
            let name = self.name(&entry, &ridge);
            if ridge.is_moved || name.is_empty() || name.contains(['/', '\\', '\0']) || name == ".." || name == "." {
                continue;
            }
            let path = if path.is_empty() { name } else { format!("{path}/{name}") };
            self.hold.grow(path.len() as u64 + FILE)?;
            if self.files.len() + folders.len() >= MAX_FILES {
                return Err(self.damaged(format!("it has more than {MAX_FILES} files")));
            }
            if let Some(block) = ridge.moved {
                // The folder's own entry there tells its length.
                let first = self.bytes(u64::from(block) * BLOCK, BLOCK, "a folder")?;
                let own = Entry::read(&first).map(|(entry, _)| entry.len);
                folders.push((block, own.unwrap_or_default(), path));
            } else if entry.is_folder() {
                folders.push((entry.block, entry.len, path));
            } else {
                let (start, len) = (u64::from(entry.block) * BLOCK, u64::from(entry.len));
                let file = match before.take() {
                    Some(file) if file.path == path && file.at + file.len == start => {
                        File { len: file.len + len, ..file }
                    }
                    Some(file) if file.path == path => {
                        return Err(self.damaged(format!("the parts of {path} do not follow one another")));
                    }
                    _ => File { path, at: start, len },
                };
                if entry.flags & 0x80 != 0 {
                    before = Some(file);
                } else {
                    self.files.push(file);
                }
            }
        }
        for (block, len, path) in folders {
            self.folder(block, len, &path, depth + 1)?;
        }
        Ok(())
    }
}

/// Whether the storage is such a medium, be it one of UDF.
///
/// # Errors
/// What reading says.
pub(crate) fn is_medium(storage: &dyn Storage) -> Result<bool> {
    if storage.len() < (FIRST + 1) * BLOCK {
        return Ok(false);
    }
    let mut head = [0; 6];
    storage.read_at(FIRST * BLOCK, &mut head)?;
    Ok(matches!(&head[1..], b"CD001" | b"BEA01"))
}

/// Lists the files of a medium.
///
/// # Errors
/// [`Error::Unsupported`] for one of UDF alone; [`Error::Damaged`]; [`Error::Memory`]; those of reading.
pub(crate) fn list(storage: &dyn Storage, budget: &Arc<Budget>) -> Result<Listing> {
    let (mut primary, mut joliet, mut has_udf) = (None, None, false);
    for index in 0..MAX_DESCRIPTORS {
        let at = (FIRST + index) * BLOCK;
        if at + BLOCK > storage.len() {
            break;
        }
        let mut bytes = vec![0; 2048];
        storage.read_at(at, &mut bytes)?;
        match bytes.get(1..6) {
            Some(b"CD001") => {
                // The root's entry (section 8.4.18), and the escape sequences that tell UCS-2 (Joliet, section 4.2).
                let root = bytes.get(156..190).and_then(Entry::read).map(|(entry, _)| (entry.block, entry.len));
                let is_joliet = matches!(bytes.get(88..91), Some(b"%/@" | b"%/C" | b"%/E"));
                match bytes.first() {
                    Some(1) => primary = primary.or(root),
                    Some(2) if is_joliet => joliet = joliet.or(root),
                    _ => {}
                }
            }
            Some(b"NSR02" | b"NSR03") => has_udf = true,
            Some(b"BEA01" | b"TEA01" | b"BOOT2") => {}
            _ => break,
        }
    }
    let name = storage.name();
    let Some(root) = primary else {
        return Err(match has_udf {
            true => Error::Unsupported {
                volume: name.into(),
                action: "read",
                what: "it is a medium of UDF alone; copy its files into a folder".into(),
            },
            false => Error::Damaged { volume: name.into(), what: "it has no volume descriptor".into() },
        });
    };
    let mut reader = Reader {
        storage,
        names: Names::Plain,
        files: Vec::new(),
        seen: HashSet::new(),
        left: MAX_FOLDERS,
        hold: budget.hold(),
    };
    // The first field of the root's own entry tells whether there are fields of such systems at all (SUSP, section 5.3).
    let first = reader.bytes(u64::from(root.0) * BLOCK, BLOCK, "the first folder")?;
    let skip = Entry::read(&first).and_then(|(entry, _)| match entry.fields {
        [b'S', b'P', 7, 1, 0xbe, 0xef, skip, ..] => Some(usize::from(*skip)),
        _ => None,
    });
    let (root, names) = match (skip, joliet) {
        (Some(skip), _) => (root, Names::RockRidge { skip }),
        (None, Some(joliet)) => (joliet, Names::Joliet),
        (None, None) => (root, Names::Plain),
    };
    reader.names = names;
    reader.folder(root.0, root.1, "", 0)?;
    Ok(Listing { files: reader.files, has_udf })
}
