//! What stands in the way of reading a disk whose metadata is sound.

use serde::Serialize;

/// What stands in the way of reading a disk whose metadata is sound.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, thiserror::Error)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Trouble {
    /// Its data is encrypted.
    #[error("'{file}' is encrypted ({method}), and its key is with the host that made it")]
    Encrypted {
        /// The image.
        file: String,
        /// How.
        method: String,
    },
    /// Its last writer found it to be damaged.
    #[error("'{file}' says of itself that its tables are corrupt")]
    Corrupt {
        /// The image.
        file: String,
    },
    /// The disk below is not the one that the delta was made of.
    #[error(
        "'{file}' is a delta of a disk with {what} {wanted}, and '{parent}' has {found}: it was written or replaced since"
    )]
    WrongParent {
        /// The delta.
        file: String,
        /// The disk below.
        parent: String,
        /// What tells them apart: "CID", "UUID".
        what: String,
        /// What the delta says.
        wanted: String,
        /// What was found.
        found: String,
    },
}
