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

/// What stands for the start of an attribute's name.
pub(crate) mod name_space {
    pub(crate) const USER: u8 = 1;
    /// The access list; it has no more of a name.
    pub(crate) const ACCESS: u8 = 2;
    /// The access list of what is made in a folder; it has no more of a name.
    pub(crate) const DEFAULT: u8 = 3;
    pub(crate) const TRUSTED: u8 = 4;
    pub(crate) const SECURITY: u8 = 6;
    pub(crate) const SYSTEM: u8 = 7;
}

/// An extended attribute, its value as the guest's programs see it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attribute {
    /// What stands for the start of its name: one of [`name_space`].
    pub(crate) index: u8,
    /// The rest of its name.
    pub(crate) name: Vec<u8>,
    /// Its bytes.
    pub(crate) value: Vec<u8>,
}

impl Attribute {
    /// The label that SELinux goes by.
    pub(crate) fn is_label(&self) -> bool {
        self.index == name_space::SECURITY && self.name == b"selinux"
    }

    /// What a program of this file may do beyond its user's rights; whoever writes to the file takes it away (`capabilities(7)`).
    pub(crate) fn is_capability(&self) -> bool {
        self.index == name_space::SECURITY && self.name == b"capability"
    }

    /// The name as programs know it.
    pub(crate) fn full_name(&self) -> Vec<u8> {
        let start = match self.index {
            name_space::USER => "user.",
            name_space::ACCESS => "system.posix_acl_access",
            name_space::DEFAULT => "system.posix_acl_default",
            name_space::TRUSTED => "trusted.",
            name_space::SECURITY => "security.",
            name_space::SYSTEM => "system.",
            _ => "",
        };
        [start.as_bytes(), &self.name].concat()
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

/// What [`Kind::Other`] is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase", tag = "kind")]
pub enum Special {
    /// A pipe that has a name.
    Fifo,
    /// A socket that has a name.
    Socket,
    /// A device of characters.
    Character(Device),
    /// A device of blocks.
    Block(Device),
}

/// The numbers of a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Device {
    /// Which driver.
    pub major: u32,
    /// Which of its devices.
    pub minor: u32,
}

impl Device {
    /// From the form of 32 bits that file systems store (Linux, `include/linux/kdev_t.h`, `new_decode_dev`).
    pub(crate) fn of(stored: u32) -> Self {
        Self { major: stored >> 8 & 0xfff, minor: stored & 0xff | stored >> 12 & 0xf_ff00 }
    }

    /// From the older form of 16 bits (`old_decode_dev`).
    pub(crate) fn of_old(stored: u16) -> Self {
        Self { major: u32::from(stored >> 8), minor: u32::from(stored & 0xff) }
    }
}

/// What a mode of a Unix file system says something is, with the device that it stands for.
pub(crate) fn kind_of(mode: u32, device: impl FnOnce() -> Device) -> (Kind, Option<Special>) {
    match mode & 0o170_000 {
        0o100_000 => (Kind::File, None),
        0o040_000 => (Kind::Folder, None),
        0o120_000 => (Kind::Link, None),
        0o010_000 => (Kind::Other, Some(Special::Fifo)),
        0o140_000 => (Kind::Other, Some(Special::Socket)),
        0o020_000 => (Kind::Other, Some(Special::Character(device()))),
        0o060_000 => (Kind::Other, Some(Special::Block(device()))),
        _ => (Kind::Other, None),
    }
}

/// What is known of a file, a folder or a link.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Stat {
    /// What it is.
    pub kind: Kind,
    /// What it is, where it is a device, a pipe or a socket.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub special: Option<Special>,
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
    /// Nanoseconds of that time, where the file system keeps them.
    pub nanoseconds: u32,
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
