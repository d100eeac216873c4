//! A part of a guest's tree as a tar archive (POSIX.1-2017, `pax`, "pax Interchange Format"), as GNU tar and others unpack it.
//!
//! What the plain heads have no room for goes into records in front of them: times with their fractions, long names, attributes (`SCHILY.xattr.`,
//! as programs of the guest see them; access lists once more as texts, `SCHILY.acl.`, and labels as `RHT.security.selinux`), and where holes are
//! (GNU tar manual, "PAX Format, Version 1.0").

use std::{collections::HashMap, io::Write, ops::Range, path::Path, sync::Arc};

use reformis_disk::{budget::Budget, to_usize};
use reformis_guest::{Kind, Special, Spot, Stat, Tree, access_text};
use tar::{EntryType, Header};

use super::below;
use crate::error::{Error, Result};

/// Files that one archive takes.
const MAX_ENTRIES: usize = 10_000_000;
/// Bytes of a block of an archive, which a file's bytes are filled up to.
const BLOCK: u64 = 512;
static PADDING: [u8; 512] = [0; 512];
/// Memory for an entry that is still to be packed, or is remembered for its other names, beside its names.
const ENTRY: u64 = 256;
/// Bytes that a plain head has for a name.
const PLAIN_NAME: usize = 100;
/// The largest number of an owner, and of bytes, that a plain head holds in octal digits.
const PLAIN_OWNER: u32 = 0o7_777_777;
const PLAIN_SIZE: u64 = 0o77_777_777_777;
/// Holes of fewer bytes are written out.
const LEAST_HOLE: u64 = 4096;
/// What was left out that is told by name.
const TOLD: usize = 8;

/// What no archive holds.
#[derive(Debug, Default)]
pub struct LeftOut {
    /// How many sockets there are.
    pub sockets: u64,
    /// The first of their paths.
    pub some: Vec<String>,
}

/// The archive while it is written.
struct Archive<'a> {
    out: &'a mut dyn Write,
    /// The first name of each file that has more of them.
    names: HashMap<(usize, u64, u64), Vec<u8>>,
    left_out: LeftOut,
}

fn wrong(error: std::io::Error) -> Error {
    Error::io("writing", Path::new("the archive"))(error)
}

pub(super) fn write(tree: &Tree, budget: &Arc<Budget>, path: &[u8], out: &mut dyn Write) -> Result<LeftOut> {
    let steps: Vec<&[u8]> = path.split(|byte| *byte == b'/').filter(|step| !step.is_empty()).collect();
    let name = steps.last().map_or_else(|| b".".to_vec(), |name| name.to_vec());
    let mut archive = Archive { out, names: HashMap::new(), left_out: LeftOut::default() };
    let mut hold = budget.hold();
    let mut held = 0;
    let mut kept = budget.hold();
    let mut count = 0;
    let mut todo = vec![(tree.spot(path, false)?, name)];
    while let Some((spot, name)) = todo.pop() {
        count += 1;
        held -= (name.len() as u64 + ENTRY).min(held);
        hold.shrink_to(held);
        if count > MAX_ENTRIES {
            return Err(Error::TooMany { path: String::from_utf8_lossy(&name).into(), most: MAX_ENTRIES });
        }
        if spot.stat.kind != Kind::Folder && spot.stat.links > 1 && !archive.names.contains_key(&spot.identity()) {
            kept.grow(name.len() as u64 + ENTRY).map_err(reformis_guest::Error::from)?;
        }
        archive.add(&spot, &name)?;
        if spot.stat.kind == Kind::Folder {
            for (entry, spot) in tree.inside(&spot)?.into_iter().rev() {
                check(&entry)?;
                let name = below(&name, &entry);
                hold.grow(name.len() as u64 + ENTRY).map_err(reformis_guest::Error::from)?;
                held += name.len() as u64 + ENTRY;
                todo.push((spot, name));
            }
        }
    }
    // Two empty blocks end it.
    archive.out.write_all(&PADDING).and_then(|()| archive.out.write_all(&PADDING)).map_err(wrong)?;
    Ok(archive.left_out)
}

/// Refuses a name that no file can have: a stranger's folder may hold one, and whoever unpacks it would follow it out of its place.
fn check(name: &[u8]) -> Result<()> {
    let is_one = !name.is_empty() && name != b"." && name != b".." && !name.iter().any(|byte| matches!(byte, b'/' | 0));
    if is_one {
        return Ok(());
    }
    let path = reformis_disk::text::printable(&String::from_utf8_lossy(name));
    Err(reformis_guest::Error::WrongKind { path, wanted: "name that a file can have" }.into())
}

/// A record of the pax format: its own length, a key, a value.
fn record(key: &[u8], value: &[u8]) -> Vec<u8> {
    let rest = [b" ", key, b"=", value, b"\n"].concat();
    let mut len = rest.len() + 1;
    // The digits count too.
    while len != rest.len() + len.to_string().len() {
        len = rest.len() + len.to_string().len();
    }
    [len.to_string().as_bytes(), &rest].concat()
}

/// The name of an attribute in a key, which ends at the first `=` (GNU tar, `xattrs.c`).
fn in_key(name: &[u8]) -> Vec<u8> {
    let escaped = |byte: &u8| match byte {
        b'%' => b"%25".to_vec(),
        b'=' => b"%3D".to_vec(),
        byte => vec![*byte],
    };
    name.iter().flat_map(escaped).collect()
}

/// A time with its fraction, which has the sign of the whole.
fn time(stat: &Stat) -> String {
    let (mut seconds, mut nanoseconds) = (i128::from(stat.modified), i128::from(stat.nanoseconds));
    let is_negative = seconds < 0;
    if is_negative && nanoseconds > 0 {
        seconds += 1;
        nanoseconds = 1_000_000_000 - nanoseconds;
    }
    format!("{}{}.{nanoseconds:09}", if is_negative { "-" } else { "" }, seconds.abs())
}

impl Archive<'_> {
    fn add(&mut self, spot: &Spot, name: &[u8]) -> Result<()> {
        let stat = &spot.stat;
        let mut records = Vec::new();
        let mut header = Header::new_ustar();
        let mut note = |key: &[u8], value: &[u8]| records.extend(record(key, value));
        note(b"mtime", time(stat).as_bytes());
        header.set_mtime(u64::try_from(stat.modified).unwrap_or(0).min(PLAIN_SIZE));
        header.set_mode(stat.mode.into());
        for (key, id) in [(b"uid", stat.uid), (b"gid", stat.gid)] {
            if id > PLAIN_OWNER {
                note(key, id.to_string().as_bytes());
            }
        }
        header.set_uid(stat.uid.min(PLAIN_OWNER).into());
        header.set_gid(stat.gid.min(PLAIN_OWNER).into());
        header.set_size(0);
        let has_others = stat.kind != Kind::Folder && stat.links > 1;
        if has_others && let Some(first) = self.names.get(&spot.identity()) {
            header.set_entry_type(EntryType::Link);
            let first = first.clone();
            return self.head(header, records, name, Some(&first));
        }
        if stat.special == Some(Special::Socket) {
            self.left_out.sockets += 1;
            if self.left_out.some.len() < TOLD {
                self.left_out.some.push(String::from_utf8_lossy(name).into_owned());
            }
            return Ok(());
        }
        for (key, value) in spot.attributes()? {
            note(&[b"SCHILY.xattr.", in_key(&key).as_slice()].concat(), &value);
            match key.as_slice() {
                b"security.selinux" => note(b"RHT.security.selinux", value.strip_suffix(b"\0").unwrap_or(&value)),
                b"system.posix_acl_access" | b"system.posix_acl_default" => {
                    let kind = key.strip_prefix(b"system.posix_acl_").unwrap_or_default();
                    if let Some(text) = access_text(&value) {
                        note(&[b"SCHILY.acl.", kind].concat(), text.as_bytes());
                    }
                }
                _ => {}
            }
        }
        match (stat.kind, stat.special) {
            (Kind::Folder, _) => {
                header.set_entry_type(EntryType::Directory);
                self.head(header, records, &[name, b"/"].concat(), None)?;
            }
            (Kind::Link, _) => {
                header.set_entry_type(EntryType::Symlink);
                self.head(header, records, name, Some(&spot.link_target()?))?;
            }
            (Kind::File, _) => {
                header.set_entry_type(EntryType::Regular);
                self.file(spot, header, records, name)?;
            }
            (Kind::Other, Some(Special::Character(device) | Special::Block(device))) => {
                let is_block = matches!(stat.special, Some(Special::Block(_)));
                header.set_entry_type(if is_block { EntryType::Block } else { EntryType::Char });
                header
                    .set_device_major(device.major)
                    .and_then(|()| header.set_device_minor(device.minor))
                    .map_err(wrong)?;
                self.head(header, records, name, None)?;
            }
            (Kind::Other, Some(Special::Fifo)) => {
                header.set_entry_type(EntryType::Fifo);
                self.head(header, records, name, None)?;
            }
            // What the file system itself does not know has no bytes and no word here.
            (Kind::Other, _) => {
                let (path, wanted) = (String::from_utf8_lossy(name).into(), "file, folder, link, device or pipe");
                return Err(reformis_guest::Error::WrongKind { path, wanted }.into());
            }
        }
        if has_others {
            self.names.insert(spot.identity(), name.to_vec());
        }
        Ok(())
    }

    /// Writes the head of an entry, behind its records.
    fn head(&mut self, mut header: Header, mut records: Vec<u8>, name: &[u8], target: Option<&[u8]>) -> Result<()> {
        let short = |text: &[u8]| text.iter().copied().take(PLAIN_NAME).collect::<Vec<u8>>();
        // Beyond a plain head are names that are long, and those that would not be taken as they are.
        if name.len() > PLAIN_NAME || !name.is_ascii() {
            records.extend(record(b"path", name));
        }
        put(&mut header.as_old_mut().name, &short(name));
        if let Some(target) = target {
            if target.len() > PLAIN_NAME || !target.is_ascii() {
                records.extend(record(b"linkpath", target));
            }
            put(&mut header.as_old_mut().linkname, &short(target));
        }
        header.set_cksum();
        let mut before = Header::new_ustar();
        before.set_entry_type(EntryType::XHeader);
        put(&mut before.as_old_mut().name, b"records");
        before.set_mode(0o644);
        before.set_uid(0);
        before.set_gid(0);
        before.set_mtime(0);
        before.set_size(records.len() as u64);
        before.set_cksum();
        self.put(before.as_bytes())?;
        self.put(&records)?;
        self.fill(records.len() as u64)?;
        self.put(header.as_bytes())
    }

    /// Writes a file: all of it, or what is stored of it, behind a map of that.
    fn file(&mut self, spot: &Spot, mut header: Header, mut records: Vec<u8>, name: &[u8]) -> Result<()> {
        let size = spot.stat.size;
        let stored = spot.stored()?;
        let data: u64 = stored.iter().map(|range| range.end - range.start).sum();
        let has_holes = data.saturating_add(LEAST_HOLE) < size;
        let (ranges, map) = if has_holes { (stored, true) } else { (std::iter::once(0..size).collect(), false) };
        let map = if map { map_of(&ranges, size) } else { Vec::new() };
        let len = map.len() as u64 + ranges.iter().map(|range| range.end - range.start).sum::<u64>();
        if len > PLAIN_SIZE {
            records.extend(record(b"size", len.to_string().as_bytes()));
        }
        header.set_size(len.min(PLAIN_SIZE));
        if has_holes {
            records.extend(record(b"GNU.sparse.major", b"1"));
            records.extend(record(b"GNU.sparse.minor", b"0"));
            records.extend(record(b"GNU.sparse.name", name));
            records.extend(record(b"GNU.sparse.realsize", size.to_string().as_bytes()));
        }
        self.head(header, records, name, None)?;
        self.put(&map)?;
        for range in ranges {
            let wanted = range.end - range.start;
            let copied = spot.copy(range, self.out)?;
            if copied != wanted {
                return Err(Error::Shorter { path: String::from_utf8_lossy(name).into(), size: wanted, copied });
            }
        }
        self.fill(len)
    }

    fn put(&mut self, bytes: &[u8]) -> Result<()> {
        self.out.write_all(bytes).map_err(wrong)
    }

    /// Fills the last block of `len` bytes.
    fn fill(&mut self, len: u64) -> Result<()> {
        let rest = to_usize(len.next_multiple_of(BLOCK) - len);
        self.put(PADDING.get(..rest).unwrap_or_default())
    }
}

/// The map in front of a file's bytes: how many parts there are, the place and length of each, in whole blocks.
fn map_of(ranges: &[Range<u64>], size: u64) -> Vec<u8> {
    // A file ends with a part, be it an empty one.
    let last = ranges.last().is_none_or(|range| range.end != size).then_some(size..size);
    let all: Vec<&Range<u64>> = ranges.iter().chain(&last).collect();
    let mut text = format!("{}\n", all.len());
    for range in all {
        text += &format!("{}\n{}\n", range.start, range.end - range.start);
    }
    let mut bytes = text.into_bytes();
    bytes.resize(bytes.len().next_multiple_of(to_usize(BLOCK)), 0);
    bytes
}

/// Fills a field.
fn put(field: &mut [u8], bytes: &[u8]) {
    field.fill(0);
    field.iter_mut().zip(bytes).for_each(|(to, from)| *to = *from);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_lead_elsewhere_are_refused() {
        for name in [&b""[..], b".", b"..", b"../etc", b"/etc", b"a/b", b"a\0b"] {
            assert!(check(name).is_err(), "{name:?}");
        }
        for name in [&b"a"[..], b"...", b".a", b"\xff", b"a\nb", b"-rf"] {
            assert!(check(name).is_ok(), "{name:?}");
        }
    }

    #[test]
    fn a_record_counts_its_own_digits() {
        // As the standard's own example has it.
        assert_eq!(record(b"path", b"/foo/bar/baz"), b"21 path=/foo/bar/baz\n");
        for len in 0..1200 {
            let made = record(b"key", &vec![b'v'; len]);
            let stated: String =
                made.iter().take_while(|byte| byte.is_ascii_digit()).map(|byte| char::from(*byte)).collect();
            assert_eq!(stated, made.len().to_string());
        }
    }
}
