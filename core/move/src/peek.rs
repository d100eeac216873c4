//! Looking at a guest's files without starting it.

mod archive;

use std::{io::Write, path::Path, sync::Arc};

use jiff::Timestamp;
use reformis_disk::{
    budget::Budget,
    source::{Access, Links},
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

pub use archive::LeftOut;

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
    // What a key opened is for whoever has the key.
    let access = if unpack.context.keys.is_empty() { access } else { access.and(Access::OWNER) };
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
    pub fn list(&self, path: &[u8]) -> Result<Vec<Item>> {
        if !self.tree.is_folder(path) {
            let stat = self.tree.stat_link(path)?;
            return Ok(vec![self.item(path, path, stat)?]);
        }
        let entries = self.tree.list(path)?;
        entries.into_iter().map(|(name, stat)| self.item(&name, &below(path, &name), stat)).collect()
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
    pub fn is_folder(&self, path: &[u8]) -> bool {
        self.tree.is_folder(path)
    }

    /// Writes the bytes of the file at `path` into `out`.
    ///
    /// # Errors
    /// Those of the file system and of `out`.
    pub fn copy(&self, path: &[u8], out: &mut dyn Write) -> Result<u64> {
        Ok(self.tree.copy(path, out)?)
    }

    /// Writes what is at `path`, with all that is below it, as a tar archive: owners, modes, times, links, devices, and extended attributes.
    /// What no archive holds is told.
    ///
    /// # Errors
    /// Those of the file system and of `out`.
    pub fn archive(&self, path: &[u8], out: &mut dyn Write) -> Result<LeftOut> {
        archive::write(&self.tree, &self.budget, path, out)
    }
}

fn below(folder: &[u8], name: &[u8]) -> Vec<u8> {
    let folder = folder.strip_suffix(b"/").unwrap_or(folder);
    [folder, b"/", name].concat()
}
