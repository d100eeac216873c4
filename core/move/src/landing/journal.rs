//! What a landing in the making keeps, so that a move that was cut off goes on where it stopped: what it was made of, and a journal for
//! each disk, beside the disks.

use std::{
    ffi::OsStr,
    fs::File,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

use reformis_disk::{
    copy::journal::{Entry, Journal},
    source::Access,
};
use serde::{Deserialize, Serialize};

use crate::{
    error::{Error, Result},
    record::SourceFile,
    staging::Place,
};

/// The file that says what the landing is made of.
const HEAD: &str = "going-on.json";
/// The ending of a disk's journal.
const ENDING: &str = ".journal";
/// The longest head that is read, in bytes.
const MOST: u64 = 16 << 20;

/// What a landing is made of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Head {
    /// Version of this file.
    pub(crate) schema: u32,
    /// What is moved.
    pub(crate) target: String,
    /// Where it goes.
    pub(crate) destination: String,
    /// The files that the disks are read from, as far as is known without reading them.
    pub(crate) sources: Vec<SourceFile>,
    /// Name, shape and size in bytes of each disk.
    pub(crate) disks: Vec<(String, String, u64)>,
    /// The store that they go to.
    #[serde(default)]
    pub(crate) store: Option<String>,
    /// What the machine's own numbers are made from.
    #[serde(default)]
    pub(crate) identity: Option<uuid::Uuid>,
}

/// Version of the head.
pub(crate) const SCHEMA: u32 = 1;

impl Head {
    /// Whether what was begun with `earlier` can go on: the same disks of the same versions of the same files.
    pub(crate) fn goes_on(&self, earlier: &Self) -> bool {
        let same = |(one, other): (&SourceFile, &SourceFile)| one.path == other.path && one.is_same_version(other);
        self.sources.len() == earlier.sources.len()
            && self.sources.iter().zip(&earlier.sources).all(same)
            && self.is_of(earlier)
    }

    /// Whether `earlier` is of the same move of a disk that is now below another one: all of its files, those of `chains`, are read here
    /// too, and are the same. A disk without a machine is named by its file, and behind a snapshot that is another one.
    pub(crate) fn is_above(&self, earlier: &Self, chains: &[Vec<SourceFile>]) -> bool {
        let is_there =
            |file: &SourceFile| self.sources.iter().any(|found| found.path == file.path && found.is_same_version(file));
        let is_else = Self { target: earlier.target.clone(), ..self.clone() }.is_of(earlier);
        is_else && !chains.is_empty() && chains.iter().all(|chain| !chain.is_empty() && chain.iter().all(is_there))
    }

    /// Whether `earlier` is of the same move: the same disks of the same target, whatever is in them by now.
    pub(crate) fn is_of(&self, earlier: &Self) -> bool {
        (self.schema, &self.target, &self.destination, &self.disks, &self.store)
            == (earlier.schema, &earlier.target, &earlier.destination, &earlier.disks, &earlier.store)
    }
}

/// What an earlier run left in `folder`, where it can go on.
pub(crate) fn left(folder: &Place) -> Option<Head> {
    let file = folder.open_file(OsStr::new(HEAD)).ok()?;
    let len = file.metadata().ok()?.len();
    if len > MOST {
        return None;
    }
    let mut bytes = vec![0; reformis_disk::to_usize(len)];
    file.read_exact_at(&mut bytes, 0).ok()?;
    serde_json::from_slice(&bytes).ok()
}

/// Begins to keep: writes the head.
pub(crate) fn begin(folder: &Place, head: &Head) -> Result<()> {
    let bytes = serde_json::to_vec_pretty(head).unwrap_or_default();
    crate::staging::write_into(folder, HEAD, &bytes, Access::OWNER)
}

/// Whether `name` belongs to what is kept.
pub(crate) fn is_ours(name: &OsStr) -> bool {
    let ends = |with: &str| Path::new(name).extension().is_some_and(|ending| with.strip_prefix('.') == ending.to_str());
    name == HEAD
        || name == super::arrival::LEDGER
        || ends(ENDING)
        || ends(super::parts::ENDING)
        || name == super::ahead::MARK
        || ends(super::ahead::ENDING)
}

/// Removes what was kept, before the landing is whole. The head goes first, in one step: without it nothing is gone on with, and what a run
/// that is killed in between leaves is worth what its receipt says, or nothing. A journal that is gone would say that a disk is empty.
pub(crate) fn end(folder: &Place) -> Result<()> {
    let mut names: Vec<_> = folder.names()?.into_iter().filter(|name| is_ours(name)).collect();
    names.sort_by_key(|name| name != HEAD);
    names.iter().try_for_each(|name| folder.remove(name))
}

/// The journal of one disk.
pub(crate) struct DiskJournal {
    file: File,
    path: PathBuf,
    /// Where the next entry is read.
    at: u64,
    /// Where each entry that was read ends.
    ends: Vec<u64>,
}

impl DiskJournal {
    /// That of the disk in the file `disk`, opened or made anew.
    pub(crate) fn open(folder: &Place, disk: &str) -> Result<Self> {
        let name = format!("{disk}{ENDING}");
        let path = folder.path_of(&name);
        let file = folder.open_or_create(OsStr::new(&name), Access::OWNER)?;
        Ok(Self { file, path, at: 0, ends: Vec::new() })
    }

    fn failed(&self, action: &'static str) -> impl FnOnce(std::io::Error) -> reformis_disk::Error {
        reformis_disk::Error::io(action, self.path.to_string_lossy(), None)
    }
}

impl Journal for DiskJournal {
    fn earlier(&mut self) -> reformis_disk::Result<Option<Entry>> {
        let mut head = [0; 4];
        let Ok(()) = self.file.read_exact_at(&mut head, self.at) else { return Ok(None) };
        let len = u32::from_le_bytes(head) as usize + 8;
        if len > Entry::MOST + 8 {
            return Ok(None);
        }
        let mut bytes = vec![0; len];
        let Ok(()) = self.file.read_exact_at(&mut bytes, self.at) else { return Ok(None) };
        let Some((entry, len)) = Entry::decode(&bytes) else { return Ok(None) };
        self.at += len as u64;
        self.ends.push(self.at);
        Ok(Some(entry))
    }

    fn keep(&mut self, count: u64) -> reformis_disk::Result<()> {
        let last = count.checked_sub(1).and_then(|last| self.ends.get(reformis_disk::to_usize(last)));
        self.file.set_len(last.copied().unwrap_or(0)).map_err(self.failed("cutting"))?;
        self.at = 0;
        self.ends.clear();
        Ok(())
    }

    fn put(&mut self, entry: &Entry) -> reformis_disk::Result<()> {
        let bytes = entry.encode();
        // Behind all that was read: that is where it ends.
        self.file.write_all_at(&bytes, self.at).map_err(self.failed("writing"))?;
        self.at += bytes.len() as u64;
        Ok(())
    }
}

/// Makes `folder`, which an earlier run left, ready: keeps the disks and their journals where `goes_on`, and nothing else.
pub(crate) fn tidy(folder: &Place, disks: &[&str], goes_on: bool) -> Result<()> {
    for name in folder.names()? {
        let is_disk = disks.iter().any(|disk| name.to_str() == Some(disk));
        let stays = goes_on && (is_disk || is_ours(&name) && name != HEAD);
        if !stays {
            folder.remove(&name).map_err(|_| Error::InTheWay {
                path: folder.path_of(&name).to_string_lossy().into(),
                what: "it is not what a run of ours leaves there".into(),
            })?;
        }
    }
    Ok(())
}
