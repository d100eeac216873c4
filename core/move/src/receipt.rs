//! The record of a move. Its fields are documented in `docs/receipt.md`, and only ever added to.

use std::{path::Path, sync::Arc};

use jiff::Timestamp;
use reformis_disk::{Facts, Storage, budget::Budget, overlay::Edit, source::FileStorage};
use reformis_machine::{Lost, Machine};
use serde::{Deserialize, Serialize};

use crate::{
    error::{Error, Result},
    finding::FindingRecord,
    record::{FileDigest, GuestRecord, SourceFile},
    verdict::Verdict,
};

/// Version of the receipt's schema that this version writes, and the newest that it reads.
pub const SCHEMA: u32 = 1;

/// The largest receipt that is read: each edit of a guest takes some hundred bytes.
const MAX_BYTES: u64 = 64 << 20;

/// The name of the receipt in a landing.
pub const FILE_NAME: &str = "receipt.json";

/// What was done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// A machine was moved; the receipt lies in its landing.
    #[default]
    Carry,
    /// A disk was recast; its result is named by its whole path.
    Recast,
}

/// The record of a move.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Receipt {
    /// Version of this schema.
    pub schema: u32,
    /// Name and version of the tool.
    pub tool: String,
    /// What was done.
    #[serde(default)]
    pub kind: Kind,
    /// When the move began.
    pub started: Timestamp,
    /// When it ended.
    pub finished: Timestamp,
    /// What was moved, as the person named it.
    pub target: String,
    /// Name of the destination; empty for a disk alone.
    pub destination: String,
    /// The site's file that was taken; `None` where there was none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
    /// Every file that was read.
    pub sources: Vec<SourceFile>,
    /// Every disk.
    pub disks: Vec<DiskRecord>,
    /// The machine before and after; `None` for a disk alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<MachineRecord>,
    /// Whether the guest will boot where it goes; `None` for a disk that was not made ready.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verdict: Option<Verdict>,
    /// What was found and changed inside the guest; `None` when nothing was looked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub guest: Option<GuestRecord>,
    /// What the person should know.
    pub findings: Vec<FindingRecord>,
    /// What a cloud made of it; `None` where it went to none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cloud: Option<CloudRecord>,
    /// What the guest wrote before it was carried, while its disks were lent; `None` where they were not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lent: Option<LentRecord>,
    /// The job of a fleet that the move was; `None` for one that was made by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<uuid::Uuid>,
    /// That its disks were brought near while it ran, and only what changed was moved while it was off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ahead: Option<AheadRecord>,
}

/// What told the second pass of a move what had changed since the first: of several disks, what made it read the most.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Told {
    /// The map of a block device.
    Bitmap,
    /// The delta above a snapshot, below which nothing was written.
    Delta,
    /// The digests of the first pass: all of the disk was read.
    #[default]
    Digests,
}

/// A move in two passes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AheadRecord {
    /// When the first pass began.
    pub began: Timestamp,
    /// When it ended.
    pub ended: Timestamp,
    /// Bytes that it carried.
    pub carried: u64,
    /// Bytes of the blocks that had changed when the machine was off, those of edits among them.
    pub changed: u64,
    /// What told of changes.
    #[serde(default)]
    pub told: Told,
    /// Seconds from when the machine was stopped until it had landed.
    pub off: f64,
    /// What of each disk was read once more.
    #[serde(default)]
    pub disks: Vec<SecondRead>,
}

/// What the second pass read of a disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SecondRead {
    /// The disk's file in the landing.
    pub disk: String,
    /// What told of changes.
    pub told: Told,
    /// Why all of it was read, where it was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reread: Option<Reread>,
}

/// Why the second pass read all of a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reread {
    /// A file that the first pass read has changed since.
    Written,
    /// A write since might not show in what is known of its files: their file system, a memory map, a clock, a remote's tag.
    NotSure,
    /// The first pass read other files.
    OtherDisk,
    /// What changed is in more pieces than are kept.
    TooMuch,
}

impl AheadRecord {
    pub(crate) fn new(
        first: &crate::landing::ahead::FirstPass,
        (changed, told, disks): (u64, Told, Vec<SecondRead>),
        off_since: Timestamp,
        landed: Timestamp,
    ) -> Self {
        let off = landed.duration_since(off_since).as_secs_f64().max(0.0);
        Self { began: first.began, ended: first.ended, carried: first.carried, changed, told, off, disks }
    }
}

/// What a cloud made of a landing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CloudRecord {
    /// The cloud's name in the site's file.
    pub cloud: String,
    /// What the cloud calls the import.
    pub import: String,
    /// What the cloud calls the image.
    pub image: String,
    /// The name of the instance, where one was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instance: Option<String>,
    /// How the instance was when the move ended: `stopped`, `starting`, `running`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// Its address, where the cloud knew it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
}

/// That a guest ran on lent disks before it was carried.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LentRecord {
    /// Absolute path of the folder in which what it wrote was kept.
    pub kept: String,
    /// When the disks were first lent.
    pub since: Timestamp,
    /// Bytes of the guest's disks that it wrote, in whole blocks of 4 KiB.
    pub written: u64,
}

/// A disk of the move.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiskRecord {
    /// Its name in the machine file.
    pub id: String,
    /// Absolute paths of the files it was read from: none for a disk that starts empty, several for one in pieces.
    pub source: Vec<String>,
    /// How that file is packed as a whole, where it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub packed: Option<String>,
    /// File in the landing.
    pub result: String,
    /// Shape and sizes before; `None` for a disk that starts empty.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<DiskFacts>,
    /// Shape and sizes after.
    pub after: DiskFacts,
    /// Content digest of the result's guest-visible bytes.
    pub content_digest: String,
    /// What was changed on the way, and where.
    pub edits: Vec<Edit>,
}

impl DiskRecord {
    /// Whether its edits lie in the disk; says what does not, as the end of a sentence.
    fn check(&self) -> Result<(), String> {
        for edit in &self.edits {
            for range in &edit.ranges {
                let (start, end, size) = (range.start, range.end, self.after.virtual_size);
                if start >= end || end > size {
                    let (edit, id) = (&edit.name, &self.id);
                    return Err(format!("edit '{edit}' of disk '{id}' covers bytes {start} to {end} of {size}"));
                }
            }
        }
        Ok(())
    }
}

/// What is recorded of an image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiskFacts {
    /// Format and layout.
    pub shape: String,
    /// The format's own name for it.
    pub variant: String,
    /// Guest-visible size in bytes.
    pub virtual_size: u64,
    /// Length of the file in bytes.
    pub file_size: u64,
}

impl From<&Facts> for DiskFacts {
    fn from(facts: &Facts) -> Self {
        Self {
            shape: facts.shape.to_string(),
            variant: facts.variant.clone(),
            virtual_size: facts.virtual_size,
            file_size: facts.file_size,
        }
    }
}

/// The machine before and after.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MachineRecord {
    /// As its file described it.
    pub before: Machine,
    /// As it landed.
    pub after: Machine,
    /// Kind of the machine file that was written.
    pub kind: String,
    /// Its name in the landing.
    pub file: String,
    /// Its digest.
    pub digest: FileDigest,
    /// Other files that belong to it: a manifest, a script's descriptor, the firmware's variables.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<LandedFile>,
    /// Settings that it has no word for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lost: Vec<Lost>,
}

/// A file of the landing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LandedFile {
    /// Its name in the landing.
    pub file: String,
    /// Its digest.
    pub digest: FileDigest,
}

impl Receipt {
    /// Reads the receipt at `path`, which a stranger may have written; what it takes is counted against `budget`.
    ///
    /// # Errors
    /// [`Error::Receipt`] when it is not one, was written by a newer version, or says what cannot be; what the system says.
    pub fn read(path: &Path, budget: &Arc<Budget>) -> Result<Self> {
        Self::read_up_to(path, MAX_BYTES, budget)
    }

    /// Reads the receipt at `path` when it has at most `most` bytes.
    pub(crate) fn read_up_to(path: &Path, most: u64, budget: &Arc<Budget>) -> Result<Self> {
        let storage = FileStorage::open(path, budget)?;
        let wrong = |what: String| Error::Receipt { path: path.to_string_lossy().into(), what };
        if storage.len() > most {
            return Err(wrong(format!("it has {} bytes, and a receipt has at most {most}", storage.len())));
        }
        let bytes = crate::target::read_text(&storage, most)?;
        let over = reformis_disk::Error::memory(storage.name(), "what it says");
        let _hold = budget.take(reformis_machine::json_memory(&bytes)).map_err(over)?;
        Self::parse(&bytes).map_err(wrong)
    }

    /// Reads a receipt; the error is the end of a sentence.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(bytes: &[u8]) -> Result<Self, String> {
        #[derive(Deserialize)]
        struct Version {
            schema: Option<u64>,
        }
        // The parser goes 128 levels deep at the most.
        let version: Version = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
        match version.schema {
            Some(schema) if schema <= u64::from(SCHEMA) => {}
            Some(schema) => return Err(format!("its schema is {schema}, and this version reads up to {SCHEMA}")),
            None => return Err("it has no schema number".into()),
        }
        let receipt: Self = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
        receipt.disks.iter().try_for_each(DiskRecord::check)?;
        Ok(receipt)
    }

    /// As it is written.
    pub(crate) fn to_json(&self) -> Vec<u8> {
        // All keys are strings and no value refuses to be written, so there is no error to report.
        let mut bytes = serde_json::to_vec_pretty(self).unwrap_or_default();
        bytes.push(b'\n');
        bytes
    }
}
