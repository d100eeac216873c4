//! A disk in its place.

use reformis_disk::copy::Copied;

/// A disk that was written.
pub(crate) struct Written {
    pub(crate) copied: Copied,
    /// SHA-256 of the file, where a manifest needs it.
    pub(crate) digest: Option<String>,
    /// Length of the file in bytes, where it is a member of an archive.
    pub(crate) len: u64,
    /// Bytes of the blocks that had changed since a first pass, where there was one.
    pub(crate) changed: Option<u64>,
    /// Whether it is in its store already.
    pub(crate) is_sent: bool,
}
