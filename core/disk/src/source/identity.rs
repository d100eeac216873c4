//! What tells bytes apart from changed ones.

use std::{os::unix::fs::MetadataExt, time::SystemTime};

use super::Access;

/// What is known of the bytes in a file, a device or at a remote without reading them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// Length in bytes.
    pub len: u64,
    /// What changes with them.
    pub version: Version,
    /// Who may read and write them; `None` where nobody says so, as for a file without a name.
    pub access: Option<Access>,
}

/// What is another one as soon as the bytes are others.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Version {
    /// That of a file of this machine.
    File(Stamp),
    /// The time of the last change of a file elsewhere.
    Modified(SystemTime),
    /// What a remote calls this version of them, such as a strong entity tag (RFC 9110, 8.8.3).
    Tag(String),
    /// Nothing that means anything, as for a block device.
    Unknown,
}

/// Which file of this machine it is, and when it was changed: whoever writes to it may set the time of its last change back
/// (utimensat(2)), or put another file in its place, but nobody chooses the time of its change of status.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// The device of its file system.
    pub device: u64,
    /// Its inode there.
    pub inode: u64,
    /// When its bytes were changed (`mtime`, inode(7)), as whoever writes to it lets us see.
    pub modified: SystemTime,
    /// When its bytes or anything about it was changed (`ctime`, inode(7)).
    pub changed: SystemTime,
}

impl Stamp {
    /// That of the file that `metadata` is of.
    pub fn of(metadata: &std::fs::Metadata) -> Self {
        let time = |seconds: i64, nanos: i64| {
            let nanos = std::time::Duration::from_nanos(nanos.unsigned_abs());
            let whole = std::time::Duration::from_secs(seconds.unsigned_abs());
            let epoch = SystemTime::UNIX_EPOCH;
            let from = if seconds < 0 { epoch.checked_sub(whole) } else { epoch.checked_add(whole) };
            from.and_then(|time| time.checked_add(nanos)).unwrap_or(epoch)
        };
        Self {
            device: metadata.dev(),
            inode: metadata.ino(),
            modified: time(metadata.mtime(), metadata.mtime_nsec()),
            changed: time(metadata.ctime(), metadata.ctime_nsec()),
        }
    }
}
