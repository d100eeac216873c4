//! What a machine file says of a disk that has landed.

use serde::{Deserialize, Serialize};

/// A disk of a machine that has landed; the machine's own `files` say by which name its file is to call it.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct LandedDisk {
    /// Its format, such as `vmdk`.
    pub format: String,
    /// Its layout, such as `stream`.
    pub layout: String,
    /// How the file is compressed as a whole, such as "gzip".
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compression: Option<String>,
    /// Guest-visible size in bytes.
    pub size: u64,
    /// Length of the file in bytes.
    pub file_size: u64,
    /// Guest bytes that hold something.
    pub used: u64,
    /// Content digest of the guest-visible bytes, in hexadecimal digits.
    pub content_digest: String,
    /// Identifier that the image carries, for hosts that compare it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image_id: Option<String>,
}
