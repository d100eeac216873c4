//! Looking at a guest's files without starting it.

use std::{io::Write, path::Path, sync::Arc};

use jiff::Timestamp;
use reformis_disk::{
    budget::Budget,
    source::{Access, Links},
    to_usize,
};
use reformis_guest::{
    Guest, Kind, Stat, Stream, Tree,
    nt::{
        keys::{self, KeyFacts},
        text,
    },
};
use serde::Serialize;

use crate::{
    change::tree_of,
    error::{Error, Result},
    target::{self, Opening, Unpack},
};

/// Files that one archive takes.
const MAX_ENTRIES: usize = 10_000_000;

/// Bytes of a block of an archive, which a file's bytes are filled up to.
const BLOCK: u64 = 512;
static PADDING: [u8; 512] = [0; 512];

/// Memory for an entry that is still to be packed, beside its names.
const ENTRY: u64 = 128;

/// A guest that was opened for looking.
pub struct Peek {
    tree: Tree,
    /// The system or the volume that paths begin on.
    pub name: String,
    /// Who may read what the guest's files are read from.
    pub access: Access,
    /// Whether streams beside files are told.
    pub with_streams: bool,
    /// The boot store, where it was asked for: the tree that holds it, and its path.
    boot_store: Option<(Tree, String)>,
    budget: Arc<Budget>,
}

/// What is to be opened.
#[derive(Debug, Clone, Copy, Default)]
pub struct Wanted<'a> {
    /// The volume that paths begin on; the root of the first system unless it is said.
    pub volume: Option<&'a str>,
    /// The registry hive that is asked for.
    pub hive: Option<&'a str>,
}

/// An entry of a folder, or a file by itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Item {
    /// Its name; bytes that are no UTF-8 are replaced.
    pub name: String,
    /// What is known of it.
    #[serde(flatten)]
    pub stat: Stat,
    /// Where a symbolic link leads.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// Streams beside its bytes, where they were asked for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub streams: Vec<Stream>,
}

/// Opens the guest at `path`: a machine with its disks, or a disk.
///
/// # Errors
/// Those of opening; [`Error::NoSystem`], [`Error::NoSuchVolume`], [`Error::VolumeNotRead`], [`Error::NoBootStore`].
pub fn open(path: &Path, wanted: Wanted<'_>, links: Links, unpack: Unpack<'_>) -> Result<Peek> {
    let target = target::open(
        path,
        &Opening { unpack: Some(unpack), ..Opening::new(links, unpack.context.budget, unpack.context.wires) },
    )?;
    let now = Timestamp::now().as_second();
    let access = target.disks.iter().map(target::TargetDisk::access).reduce(Access::and).unwrap_or(Access::ANYBODY);
    let disks = crate::inside::readable_disks(&target);
    if disks.is_empty() {
        return Err(Error::NoSystem { path: path.to_string_lossy().into() });
    }
    let disks = disks.into_iter().map(|disk| unpack.context.stoppable(disk));
    let mut guest = Guest::open_with(disks, unpack.context.keys, now, unpack.context.budget)?;
    let boot_store = match wanted.hive.filter(|hive| keys::is_boot_store(hive)) {
        Some(_) => {
            let none = || Error::NoBootStore { path: path.to_string_lossy().into() };
            Some(keys::boot_store(&mut guest, now)?.ok_or_else(none)?)
        }
        None => None,
    };
    let (tree, name) = tree_of(&mut guest, wanted.volume, &path.to_string_lossy(), now)?;
    Ok(Peek { tree, name, access, with_streams: false, boot_store, budget: unpack.context.budget.clone() })
}

impl Peek {
    fn item(&self, name: &[u8], path: &[u8], stat: Stat) -> Result<Item> {
        let target = match stat.kind {
            Kind::Link => Some(String::from_utf8_lossy(&self.tree.link_target(path)?).into_owned()),
            _ => None,
        };
        let streams = if self.with_streams { self.tree.streams(path)? } else { Vec::new() };
        Ok(Item { name: String::from_utf8_lossy(name).into_owned(), stat, target, streams })
    }

    /// What is in the folder at `path`; what else is there is told by itself.
    ///
    /// # Errors
    /// Those of the file system.
    pub fn list(&self, path: &str) -> Result<Vec<Item>> {
        if !self.tree.is_folder(path) {
            let stat = self.tree.stat_link(path)?;
            return Ok(vec![self.item(path.as_bytes(), path.as_bytes(), stat)?]);
        }
        let entries = self.tree.list(path)?;
        entries.into_iter().map(|(name, stat)| self.item(&name, &below(path.as_bytes(), &name), stat)).collect()
    }

    /// What is in the key `key` of a registry hive, which is called by its name or its path.
    ///
    /// # Errors
    /// Those of the hive.
    pub fn key(&self, hive: &str, key: &str) -> Result<KeyFacts> {
        let now = Timestamp::now().as_second();
        Ok(match &self.boot_store {
            Some((tree, path)) => keys::look(tree, path, key, now)?,
            None => keys::look(&self.tree, hive, key, now)?,
        })
    }

    /// The key `key` of a registry hive with all below it, as the bytes of a `.reg` text.
    ///
    /// # Errors
    /// Those of the hive.
    pub fn key_text(&self, hive: &str, key: &str) -> Result<Vec<u8>> {
        let now = Timestamp::now().as_second();
        Ok(match &self.boot_store {
            Some((tree, path)) => text::text(tree, path, key, now)?,
            None => text::text(&self.tree, hive, key, now)?,
        })
    }

    /// Whether a folder is at `path`.
    pub fn is_folder(&self, path: &str) -> bool {
        self.tree.is_folder(path)
    }

    /// Writes the bytes of the file at `path` into `out`.
    ///
    /// # Errors
    /// Those of the file system and of `out`.
    pub fn copy(&self, path: &str, out: &mut dyn Write) -> Result<u64> {
        Ok(self.tree.copy(path, out)?)
    }

    /// Writes what is at `path`, with all that is below it, as a tar archive: owners, modes, times, links and extended
    /// attributes.
    ///
    /// # Errors
    /// Those of the file system and of `out`.
    pub fn archive(&self, path: &str, out: &mut dyn Write) -> Result<()> {
        let wrong = |error| Error::io("writing", Path::new("the archive"))(error);
        let mut builder = tar::Builder::new(out);
        let name = path.trim_matches('/').rsplit('/').next().unwrap_or_default().to_string();
        let name = if name.is_empty() { ".".to_string() } else { name };
        let mut todo = vec![(path.as_bytes().to_vec(), name.into_bytes())];
        let memory = |path: &[u8], name: &[u8]| (path.len() + name.len()) as u64 + ENTRY;
        let mut hold = self.budget.hold();
        let mut held = 0;
        let mut count = 0;
        while let Some((path, name)) = todo.pop() {
            count += 1;
            held -= memory(&path, &name).min(held);
            hold.shrink_to(held);
            if count > MAX_ENTRIES {
                return Err(Error::TooMany { path: String::from_utf8_lossy(&path).into(), most: MAX_ENTRIES });
            }
            let stat = self.tree.stat_link(&path)?;
            self.append(&mut builder, &path, &name, &stat)?;
            if stat.kind == Kind::Folder {
                for (entry, _) in self.tree.list(&path)?.into_iter().rev() {
                    let (path, name) = (below(&path, &entry), below(&name, &entry));
                    hold.grow(memory(&path, &name)).map_err(reformis_guest::Error::from)?;
                    held += memory(&path, &name);
                    todo.push((path, name));
                }
            }
        }
        builder.finish().map_err(wrong)
    }

    fn append(&self, builder: &mut tar::Builder<&mut dyn Write>, path: &[u8], name: &[u8], stat: &Stat) -> Result<()> {
        use std::os::unix::ffi::OsStrExt;
        let wrong = |error| Error::io("writing", Path::new("the archive"))(error);
        let as_path = |bytes: &[u8]| Path::new(std::ffi::OsStr::from_bytes(bytes)).to_path_buf();
        let attributes = self.tree.attributes(path)?;
        if !attributes.is_empty() {
            let named: Vec<(String, Vec<u8>)> =
                attributes.into_iter().map(|(name, value)| (format!("SCHILY.xattr.{name}"), value)).collect();
            builder
                .append_pax_extensions(named.iter().map(|(key, value)| (key.as_str(), value.as_slice())))
                .map_err(wrong)?;
        }
        let mut header = tar::Header::new_gnu();
        header.set_mode(stat.mode.into());
        header.set_uid(stat.uid.into());
        header.set_gid(stat.gid.into());
        header.set_mtime(u64::try_from(stat.modified).unwrap_or(0));
        header.set_size(0);
        match stat.kind {
            Kind::Folder => {
                header.set_entry_type(tar::EntryType::Directory);
                builder.append_data(&mut header, as_path(name), std::io::empty()).map_err(wrong)
            }
            Kind::Link => {
                header.set_entry_type(tar::EntryType::Symlink);
                let target = as_path(&self.tree.link_target(path)?);
                builder.append_link(&mut header, as_path(name), target).map_err(wrong)
            }
            Kind::File => {
                header.set_entry_type(tar::EntryType::Regular);
                header.set_size(stat.size);
                // The archive's builder would copy in small pieces: it writes the head alone.
                builder.append_data(&mut header, as_path(name), std::io::empty()).map_err(wrong)?;
                let out = builder.get_mut();
                let copied = self.tree.copy(path, out)?;
                if copied != stat.size {
                    let path = String::from_utf8_lossy(path).into_owned();
                    return Err(Error::Shorter { path, size: stat.size, copied });
                }
                let rest = copied.next_multiple_of(BLOCK) - copied;
                out.write_all(PADDING.get(..to_usize(rest)).unwrap_or_default()).map_err(wrong)
            }
            // Devices and sockets of a system that is off are nothing to take out.
            Kind::Other => Ok(()),
        }
    }
}

fn below(folder: &[u8], name: &[u8]) -> Vec<u8> {
    let folder = folder.strip_suffix(b"/").unwrap_or(folder);
    [folder, b"/", name].concat()
}
