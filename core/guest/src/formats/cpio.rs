//! Archives of the "newc" kind: a header of 110 hexadecimal digits, a name, and bytes, each padded to four bytes.

use reformis_disk::to_usize;
use std::{
    collections::BTreeMap,
    io::{self, Read},
    sync::Arc,
};

use reformis_disk::budget::{Budget, Hold};

const HEADER: usize = 110;
const TRAILER: &str = "TRAILER!!!";
const MAX_ENTRIES: usize = 1 << 20;

/// What an entry is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Kind {
    File,
    Folder,
    Link(String),
    Other,
}

/// Files of an early boot image whose bytes are of interest, and the longest that is kept.
pub(crate) const KEPT: [&str; 6] = [
    "etc/mdadm/mdadm.conf",
    "etc/mdadm.conf",
    "cryptroot/crypttab",
    "etc/crypttab",
    "etc/lvm/lvm.conf",
    "etc/lvm/devices/system.devices",
];
/// The settings of LVM come with all their explanations.
const MAX_KEPT: u64 = 512 << 10;

/// What was read of archives, counted against a budget.
#[derive(Debug)]
pub(super) struct Entries {
    kinds: BTreeMap<String, Kind>,
    /// Bytes of the files that are kept.
    kept: BTreeMap<String, Vec<u8>>,
    hold: Hold,
}

/// Bytes of an entry beside its names.
const OVERHEAD: u64 = 96;

impl Entries {
    pub(super) fn new(budget: &Arc<Budget>) -> Self {
        Self { kinds: BTreeMap::new(), kept: BTreeMap::new(), hold: budget.hold() }
    }

    fn insert(&mut self, name: String, kind: Kind) -> io::Result<()> {
        if !self.kinds.contains_key(&name) {
            let target = if let Kind::Link(target) = &kind { target.len() } else { 0 };
            self.hold.grow((name.len() + target) as u64 + OVERHEAD).map_err(io::Error::other)?;
        }
        self.kinds.insert(name, kind);
        Ok(())
    }

    pub(super) fn get(&self, path: &str) -> Option<&Kind> {
        self.kinds.get(path)
    }

    /// The bytes of a file that is one of those that are kept.
    pub(super) fn kept(&self, path: &str) -> Option<&[u8]> {
        self.kept.get(path).map(Vec::as_slice)
    }

    pub(super) fn paths(&self) -> impl Iterator<Item = &str> {
        self.kinds.keys().map(String::as_str)
    }
}

fn wrong(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.to_string())
}

fn skip(reader: &mut dyn Read, len: u64) -> io::Result<()> {
    let copied = io::copy(&mut reader.take(len), &mut io::sink())?;
    if copied == len { Ok(()) } else { Err(wrong("it is cut short")) }
}

/// Reads one archive into `entries`, up to its end. `left` is what may still be unpacked.
pub(super) fn read(reader: &mut dyn Read, entries: &mut Entries, left: &mut u64) -> io::Result<()> {
    loop {
        let mut header = [0; HEADER];
        reader.read_exact(&mut header)?;
        if !header.starts_with(b"070701") && !header.starts_with(b"070702") {
            return Err(wrong("an entry does not begin with its mark"));
        }
        let field = |index: usize| {
            let digits = header.get(6 + index * 8..14 + index * 8).and_then(|digits| std::str::from_utf8(digits).ok());
            digits
                .and_then(|digits| u32::from_str_radix(digits, 16).ok())
                .ok_or_else(|| wrong("an entry has something else where a number belongs"))
        };
        let (mode, size, name_len) = (field(1)?, u64::from(field(6)?), field(11)? as usize);
        if !(1..=4097).contains(&name_len) || entries.kinds.len() >= MAX_ENTRIES {
            return Err(wrong("a name is too long, or there are too many"));
        }
        let mut name = vec![0; name_len];
        reader.read_exact(&mut name)?;
        skip(reader, ((HEADER + name_len).next_multiple_of(4) - HEADER - name_len) as u64)?;
        name.pop();
        let name = String::from_utf8_lossy(&name).into_owned();
        if name == TRAILER {
            return Ok(());
        }
        *left = left.checked_sub(size + HEADER as u64).ok_or_else(|| wrong("it unpacks to too much"))?;
        let padded = size.next_multiple_of(4);
        let parts: Vec<&str> = name.split('/').filter(|part| !part.is_empty() && *part != ".").collect();
        let path = parts.join("/");
        // What stood there before is gone, whatever comes.
        entries.kept.remove(&path);
        let kind = match mode & 0o170_000 {
            0o120_000 if size <= 4096 => {
                let mut target = vec![0; to_usize(size)];
                reader.read_exact(&mut target)?;
                skip(reader, padded - size)?;
                Kind::Link(String::from_utf8_lossy(&target).into_owned())
            }
            0o100_000 if size <= MAX_KEPT && KEPT.contains(&path.as_str()) => {
                let mut bytes = vec![0; to_usize(size)];
                reader.read_exact(&mut bytes)?;
                skip(reader, padded - size)?;
                entries.hold.grow(size).map_err(io::Error::other)?;
                entries.kept.insert(path.clone(), bytes);
                Kind::File
            }
            other => {
                skip(reader, padded)?;
                match other {
                    0o100_000 => Kind::File,
                    0o040_000 => Kind::Folder,
                    _ => Kind::Other,
                }
            }
        };
        entries.insert(path, kind)?;
    }
}

/// Writes an archive.
pub(crate) struct Writer {
    bytes: Vec<u8>,
    number: u32,
    modified: u32,
}

impl Writer {
    /// An archive whose entries were all changed at `modified`, in seconds since 1970.
    pub(crate) fn new(modified: i64) -> Self {
        Self { bytes: Vec::new(), number: 0, modified: u32::try_from(modified).unwrap_or(0) }
    }

    #[expect(clippy::cast_possible_truncation, reason = "members that we make ourselves, of some MiB")]
    fn entry(&mut self, name: &str, mode: u32, links: u32, content: &[u8]) {
        self.number += 1;
        let fields =
            [self.number, mode, 0, 0, links, self.modified, content.len() as u32, 0, 0, 0, 0, name.len() as u32 + 1, 0];
        self.bytes.extend(b"070701");
        for field in fields {
            self.bytes.extend(format!("{field:08X}").bytes());
        }
        self.bytes.extend(name.bytes());
        self.bytes.push(0);
        self.pad();
        self.bytes.extend(content);
        self.pad();
    }

    fn pad(&mut self) {
        self.bytes.resize(self.bytes.len().next_multiple_of(4), 0);
    }

    /// Adds a folder.
    pub(crate) fn folder(&mut self, name: &str) {
        self.entry(name, 0o040_755, 2, &[]);
    }

    /// Adds a file with the permissions `mode`.
    pub(crate) fn file(&mut self, name: &str, content: &[u8], mode: u32) {
        self.entry(name, 0o100_000 | mode, 1, content);
    }

    /// Adds a symbolic link.
    #[cfg(test)]
    pub(super) fn link(&mut self, name: &str, target: &str) {
        self.entry(name, 0o120_777, 1, target.as_bytes());
    }

    /// The archive, with its end.
    pub(crate) fn finish(mut self) -> Vec<u8> {
        self.entry(TRAILER, 0, 1, &[]);
        self.bytes
    }
}
