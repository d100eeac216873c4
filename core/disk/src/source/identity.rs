//! What tells bytes apart from changed ones.

use std::time::SystemTime;

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
    /// The time of a file's last change.
    Modified(SystemTime),
    /// What a remote calls this version of them, such as a strong entity tag (RFC 9110, 8.8.3).
    Tag(String),
    /// Nothing that means anything, as for a block device.
    Unknown,
}
