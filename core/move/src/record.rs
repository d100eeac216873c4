//! What receipts record of sources and guests, and others need to know of.

use jiff::Timestamp;
use reformis_disk::source::Access;
use reformis_guest::{Done, Evidence};
use serde::{Deserialize, Serialize};

/// A file that was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SourceFile {
    /// Absolute path; a member of an archive continues the archive's.
    pub path: String,
    /// Length in bytes.
    pub size: u64,
    /// Time of the last change of the file, or of the archive that holds it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub modified: Option<Timestamp>,
    /// Time of its last change of status (`ctime`), which nobody chooses; of a file of this machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed: Option<Timestamp>,
    /// Device and inode; of a file of this machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub inode: Option<(u64, u64)>,
    /// What a remote called this version of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
    /// Digest of its bytes; an archive has none of its own, its members have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<FileDigest>,
    /// Who may read and write the file; for the modes of what is made of it, and not recorded.
    #[serde(skip)]
    pub(crate) access: Option<Access>,
}

impl SourceFile {
    /// Whether nothing tells it apart from `other`, its digest aside.
    pub(crate) fn is_same_version(&self, other: &Self) -> bool {
        (self.size, self.modified, self.changed, self.inode, &self.tag)
            == (other.size, other.modified, other.changed, other.inode, &other.tag)
    }
}

/// A digest of a file's bytes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileDigest {
    /// `sha1`, `sha256`, `sha512` or `blake3`; `content` is the content digest over the file's bytes.
    pub algorithm: String,
    /// Hexadecimal digits.
    pub value: String,
}

impl FileDigest {
    /// The BLAKE3 digest of `bytes`.
    pub(crate) fn blake3(bytes: &[u8]) -> Self {
        Self { algorithm: "blake3".into(), value: blake3::hash(bytes).to_string() }
    }
}

/// A system and its chain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Chain {
    /// What the system says it is.
    pub system: String,
    /// The links, in order.
    pub links: Vec<Evidence>,
}

/// What was found and done inside.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct GuestRecord {
    /// The chain of each system at the destination.
    pub evidence: Vec<Chain>,
    /// The edits that changed something; their ranges are with the disks.
    pub edits: Vec<Done>,
}

impl GuestRecord {
    pub(crate) fn chains(evidence: Vec<(String, Vec<Evidence>)>) -> Vec<Chain> {
        evidence.into_iter().map(|(system, links)| Chain { system, links }).collect()
    }
}
