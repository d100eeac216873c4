//! What a file, a folder or a link of a guest is, whichever file system holds it.

use serde::Serialize;

use crate::error::{Error, Result};

/// What a file system calls a file or a folder by. Only the file system that it came from understands it, and only as long as
/// the file is where it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct Node {
    /// Which of several trees of the volume, where it has subvolumes; 0 elsewhere.
    pub(crate) tree: u64,
    /// Its number: of an inode, of a record, or the place of its entry.
    pub(crate) number: u64,
    /// Which stream beside a file's bytes; 0 for the bytes themselves.
    pub(crate) stream: u32,
}

impl Node {
    /// A node of a file system with one tree.
    pub(crate) fn of(number: impl Into<u64>) -> Self {
        Self { tree: 0, number: number.into(), stream: 0 }
    }
}

/// An entry of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Entry {
    /// Its name.
    pub(crate) name: Vec<u8>,
    /// What it stands for.
    pub(crate) node: Node,
}

/// A stream beside a file's bytes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Stream {
    /// Its name.
    pub name: String,
    /// Bytes.
    pub size: u64,
}

/// What a file system is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Facts {
    /// Its identity as `/dev/disk/by-uuid` has it: a UUID, or the serial number of FAT.
    pub(crate) identity: Option<String>,
    /// Its label; empty when it has none.
    pub(crate) label: String,
}

/// Refuses what no file of a Unix file system is called.
///
/// # Errors
/// [`Error::WrongKind`].
pub(crate) fn check_name(name: &[u8]) -> Result<()> {
    let fits = !name.is_empty() && name.len() <= 255 && !name.contains(&b'/') && !name.contains(&0);
    if fits && name != b"." && name != b".." {
        return Ok(());
    }
    Err(Error::WrongKind { path: String::from_utf8_lossy(name).into(), wanted: "name" })
}

/// What is set of something that is there; `None` stays as it is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Meta {
    /// Numbers of owner and group.
    pub(crate) owner: Option<(u32, u32)>,
    /// Permissions.
    pub(crate) mode: Option<u16>,
    /// Time of the last change in seconds since 1970.
    pub(crate) modified: Option<i64>,
}

/// An extended attribute.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attribute {
    /// What stands for the start of its name: 1 `user.`, 2 and 3 access lists, 4 `trusted.`, 6 `security.`, 7 `system.`.
    pub(crate) index: u8,
    /// The rest of its name.
    pub(crate) name: Vec<u8>,
    /// Its bytes.
    pub(crate) value: Vec<u8>,
}

impl Attribute {
    /// The label that SELinux goes by.
    pub(crate) fn is_label(&self) -> bool {
        self.index == 6 && self.name == b"selinux"
    }

    /// The name as programs know it.
    pub(crate) fn full_name(&self) -> String {
        let start = match self.index {
            1 => "user.",
            2 => "system.posix_acl_access",
            3 => "system.posix_acl_default",
            4 => "trusted.",
            6 => "security.",
            7 => "system.",
            _ => "",
        };
        format!("{start}{}", String::from_utf8_lossy(&self.name))
    }
}

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
    pub(crate) id: u64,
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
