//! What a file, a folder or a link of a guest is, whichever file system holds it.

use serde::Serialize;

pub use crate::fs::ext::Attribute;

/// What something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A device, a pipe or a socket.
    Other,
}

/// What is known of a file, a folder or a link.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Stat {
    /// What it is.
    pub kind: Kind,
    /// Length in bytes.
    pub size: u64,
    /// Permissions, without the bits of the kind.
    pub mode: u16,
    /// Number of the owner.
    pub uid: u32,
    /// Number of the group.
    pub gid: u32,
    /// Time of the last change in seconds since 1970.
    pub modified: i64,
    /// Number of names.
    pub links: u32,
    /// Number in its file system; 0 where it has none.
    #[serde(skip)]
    pub(crate) id: u32,
}

/// Something to be made.
#[derive(Debug, Clone, Copy)]
pub enum New<'a> {
    /// A file with these bytes.
    File(&'a [u8]),
    /// An empty folder.
    Folder,
    /// A symbolic link that leads there.
    Link(&'a [u8]),
}

/// Whose it is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Owner {
    /// Number of the owner.
    pub uid: u32,
    /// Number of the group.
    pub gid: u32,
    /// Permissions.
    pub mode: u16,
    /// Time of the last change in seconds since 1970; now, when it is not said.
    pub modified: Option<i64>,
    /// Extended attributes.
    pub attributes: Vec<Attribute>,
}

impl Owner {
    /// The superuser's, with `mode`.
    pub fn root(mode: u16) -> Self {
        Self { mode, ..Self::default() }
    }
}
