//! A first pass over the disks of a machine that still runs, kept beside them: a later move writes only what changed.

use std::{
    collections::BTreeSet,
    ffi::OsStr,
    fs::File,
    io::{Read, Seek, SeekFrom, Write},
    path::PathBuf,
};

use jiff::Timestamp;
use reformis_disk::{copy::changed::Touched, source::Access};
use serde::{Deserialize, Serialize};

use crate::{
    error::{Error, Result},
    record::SourceFile,
    staging::{Place, write_into},
};

/// The file that says that a first pass is whole.
pub(crate) const MARK: &str = "ahead.json";
/// The ending of the file with the numbers of a disk's blocks that second passes wrote to.
pub(crate) const ENDING: &str = ".touched";
/// The longest mark that is read, in bytes.
const MOST: u64 = 16 << 20;

/// A first pass.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FirstPass {
    /// When it began.
    pub began: Timestamp,
    /// When it ended.
    pub ended: Timestamp,
    /// Bytes that were carried.
    pub carried: u64,
}

/// What is kept of a first pass, beside its disks.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Kept {
    /// When, and how much.
    #[serde(flatten)]
    pub(crate) pass: FirstPass,
    /// The files of each disk as they were when it began: the disk's own first, then those of the disks below.
    #[serde(default)]
    pub(crate) chains: Vec<Vec<SourceFile>>,
}

/// The first pass that is kept in `folder`.
pub(crate) fn left(folder: &Place) -> Option<Kept> {
    let file = folder.open_file(OsStr::new(MARK)).ok()?;
    let mut bytes = Vec::new();
    file.take(MOST).read_to_end(&mut bytes).ok()?;
    serde_json::from_slice(&bytes).ok()
}

/// Says that the first pass is whole.
pub(crate) fn mark(folder: &Place, kept: &Kept) -> Result<()> {
    write_into(folder, MARK, &serde_json::to_vec_pretty(kept).unwrap_or_default(), Access::OWNER)
}

/// Says that no first pass is whole.
pub(crate) fn unmark(folder: &Place) -> Result<()> {
    folder.stat(OsStr::new(MARK))?.map_or(Ok(()), |_| folder.remove(OsStr::new(MARK)))
}

/// What second passes wrote to of one disk: numbers of blocks, 8 bytes each, little endian.
pub(crate) struct TouchedBlocks {
    file: File,
    path: PathBuf,
}

impl TouchedBlocks {
    /// That of the disk in the file `disk`, opened or made anew.
    pub(crate) fn open(folder: &Place, disk: &str) -> Result<Self> {
        let name = format!("{disk}{ENDING}");
        let path = folder.path_of(&name);
        let file = folder.open_or_create(OsStr::new(&name), Access::OWNER)?;
        Ok(Self { file, path })
    }

    fn failed(&self, action: &'static str) -> impl FnOnce(std::io::Error) -> reformis_disk::Error {
        reformis_disk::Error::io(action, self.path.to_string_lossy(), None)
    }
}

impl Touched for TouchedBlocks {
    fn earlier(&mut self) -> reformis_disk::Result<BTreeSet<u64>> {
        let mut bytes = Vec::new();
        let read = self.file.seek(SeekFrom::Start(0)).and_then(|_| self.file.read_to_end(&mut bytes));
        read.map_err(self.failed("reading"))?;
        let (numbers, rest) = bytes.as_chunks::<8>();
        // A number that was cut off was never written to.
        let end = (bytes.len() - rest.len()) as u64;
        let cut = self.file.set_len(end).and_then(|()| self.file.seek(SeekFrom::Start(end)));
        cut.map_err(self.failed("cutting"))?;
        Ok(numbers.iter().map(|bytes| u64::from_le_bytes(*bytes)).collect())
    }

    fn add(&mut self, block: u64) -> reformis_disk::Result<()> {
        let written = self.file.write_all(&block.to_le_bytes()).and_then(|()| self.file.sync_data());
        written.map_err(self.failed("writing"))
    }
}

/// The error of a second pass that has no first one.
pub(crate) fn none(folder: &std::path::Path, what: &str) -> Error {
    Error::NoFirstPass { path: folder.to_string_lossy().into(), what: what.into() }
}
