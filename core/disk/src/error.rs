//! Everything that can go wrong with a disk: what was done, to which file, at which byte, what was found, what helps.

use std::io;

use crate::text::Quoted;

/// Result of this crate.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// An error with a whole sentence as its message; [`Error::remedy`] says what the person can do.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The operating system refused.
    #[error("{action} {}{}: {}", Quoted(path), at(*offset), io_sentence(source))]
    Io {
        /// What was being done, such as "reading".
        action: &'static str,
        /// The file, as the person named it.
        path: String,
        /// Byte position in the file.
        offset: Option<u64>,
        /// The system's error.
        source: io::Error,
    },
    /// The file breaks a rule of its own format.
    #[error("{} is damaged{}: {what}", Quoted(path), at(*offset))]
    Damaged {
        /// The file.
        path: String,
        /// Byte position of the broken structure.
        offset: Option<u64>,
        /// What was found and what was expected.
        what: String,
    },
    /// The file ends before something that it refers to.
    #[error("{} is cut short: {what} needs bytes {start} to {end}, and the file has {len}", Quoted(path))]
    CutShort {
        /// The file.
        path: String,
        /// The structure that was read.
        what: String,
        /// First byte needed.
        start: u64,
        /// First byte not needed any more.
        end: u64,
        /// Length of the file in bytes.
        len: u64,
    },
    /// A sound image whose disk is not to be had.
    #[error("{0}")]
    Trouble(crate::trouble::Trouble),
    /// A sound file that uses something we do not read or write.
    #[error("{} cannot be read: {what}", Quoted(path))]
    Unsupported {
        /// The file.
        path: String,
        /// What it uses.
        what: String,
    },
    /// What a stranger's file has to be kept of is more than the run may take.
    #[error("{} cannot be read: {what} would take more than {} of memory", Quoted(path), crate::ByteSize(over.most))]
    Memory {
        /// The file.
        path: String,
        /// What would be kept.
        what: String,
        /// The budget.
        over: crate::budget::OverBudget,
    },
    /// A result that its format cannot hold.
    #[error("{} cannot be written: {what}", Quoted(path))]
    Unwritable {
        /// The file.
        path: String,
        /// The limit and what exceeds it.
        what: String,
    },
    /// Neither a known format, nor anything that looks like a bare disk.
    #[error("{} is not a disk image I recognise: {what}", Quoted(path))]
    NotAnImage {
        /// The file.
        path: String,
        /// What its start looks like.
        what: String,
    },
    /// A source was written while it was read.
    #[error("{} changed while it was read ({what}): what was copied cannot be trusted", Quoted(path))]
    Changed {
        /// The file.
        path: String,
        /// Which property differs.
        what: String,
    },
    /// The archive has no such member.
    #[error("{} holds no member {}", Quoted(archive), Quoted(member))]
    NoMember {
        /// The archive.
        archive: String,
        /// The name that was asked for.
        member: String,
    },
    /// A name in a file points where it may not.
    #[error("{} names {}, which is refused: {why}", Quoted(path), Quoted(name))]
    UnsafeName {
        /// The file that holds the name.
        path: String,
        /// The name.
        name: String,
        /// Why it is refused.
        why: String,
        /// Whether the person may allow it.
        trustable: bool,
    },
    /// A disk that is called raw begins like an image that names another file.
    #[error(
        "{} is called a raw disk, begins like an image of another format, and names {}: a guest may have written that",
        Quoted(path),
        Quoted(name)
    )]
    GuessedName {
        /// The file.
        path: String,
        /// The name in it.
        name: String,
    },
    /// The result's place is taken.
    #[error("{} exists already", Quoted(path))]
    Exists {
        /// The place.
        path: String,
    },
    /// A file or a folder that is to be ours, and that somebody else could have put there, or may write to.
    #[error("{} is not taken for ours: {what}", Quoted(path))]
    NotOurs {
        /// The file or the folder.
        path: String,
        /// What is wrong with it, as the end of a sentence.
        what: &'static str,
    },
    /// Another run is writing the same result.
    #[error("another run is writing {} at this moment", Quoted(path))]
    Busy {
        /// The place.
        path: String,
    },
    /// A shape that does not exist.
    #[error("{0}")]
    Shape(#[from] crate::shape::ShapeError),
    /// A read outside the disk: a caller's mistake, or a table that lies about the size.
    #[error("a read of {len} bytes at byte {offset} leaves the disk of {size} bytes")]
    OutOfRange {
        /// Start of the read.
        offset: u64,
        /// Length of the read.
        len: u64,
        /// Size of the disk.
        size: u64,
    },
    /// What lies at the other end of a network could not be had.
    #[error(transparent)]
    Wire(#[from] WireError),
    /// The person or the system asked us to stop.
    #[error("interrupted")]
    Interrupted,
}

/// Why bytes could not be had over a network. It holds no secrets: a link in it has lost its query.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{action} {}{}: {what}", Quoted(place), at(*offset))]
pub struct WireError {
    /// What was being done, such as "reading".
    pub action: &'static str,
    /// The link, or the name of a host.
    pub place: String,
    /// Byte position, where one was read.
    pub offset: Option<u64>,
    /// What was found, and what was expected.
    pub what: String,
    /// Which kind of trouble it is.
    pub kind: WireKind,
}

/// The kinds of trouble on a network.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WireKind {
    /// Nobody answers, or the connection breaks again and again.
    Unreachable,
    /// The other end is not who it should be: its certificate or its key is not one that is trusted.
    Untrusted,
    /// The other end does not let us in.
    Denied,
    /// A link is no longer good, and could not be renewed.
    Expired,
    /// There is nothing of this name.
    Absent,
    /// The other end breaks the rules of its protocol.
    Protocol,
    /// It can do what is asked of it, and is told not to, or it is not able to.
    Refused,
    /// Our own settings do not fit.
    Settings,
}

impl Error {
    /// The stable word for its kind, for scripts.
    pub fn code(&self) -> &'static str {
        match self {
            Self::Io { .. } => "io",
            Self::Damaged { .. } => "damaged",
            Self::CutShort { .. } => "cut-short",
            Self::Trouble(_) => "image-in-trouble",
            Self::Unsupported { .. } => "not-supported",
            Self::Memory { .. } => "too-much-memory",
            Self::Unwritable { .. } => "not-writable",
            Self::NotAnImage { .. } => "not-an-image",
            Self::Changed { .. } => "source-changed",
            Self::NoMember { .. } => "no-such-member",
            Self::UnsafeName { .. } => "unsafe-name",
            Self::GuessedName { .. } => "guessed-name",
            Self::Exists { .. } => "exists",
            Self::NotOurs { .. } => "not-ours",
            Self::Busy { .. } => "busy",
            Self::Shape(_) => "no-such-shape",
            Self::OutOfRange { .. } => "out-of-range",
            Self::Wire(error) => error.kind.code(),
            Self::Interrupted => "interrupted",
        }
    }

    /// An [`Error::Io`]; a shorthand for `map_err`.
    pub fn io(action: &'static str, path: impl Into<String>, offset: Option<u64>) -> impl FnOnce(io::Error) -> Self {
        let path = path.into();
        move |source| Self::Io { action, path, offset, source }
    }

    /// An [`Error::Memory`] for `what`, a structure of the file `path`; a shorthand for `map_err`.
    pub fn memory(path: &str, what: &str) -> impl FnOnce(crate::budget::OverBudget) -> Self {
        move |over| Self::Memory { path: path.into(), what: what.into(), over }
    }

    /// An [`Error::Damaged`].
    pub fn damaged(path: &str, offset: impl Into<Option<u64>>, what: impl Into<String>) -> Self {
        Self::Damaged { path: path.into(), offset: offset.into(), what: what.into() }
    }

    /// What the person can do about it, as a sentence; `None` when the message says it all.
    pub fn remedy(&self) -> Option<&'static str> {
        Some(match self {
            Self::Io { source, .. } => match source.kind() {
                io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
                    "Free some room there or choose another place; the source is untouched."
                }
                io::ErrorKind::PermissionDenied => "Check the permissions, or run as a user who may.",
                io::ErrorKind::NotFound => "Check the name and the folder.",
                _ => return None,
            },
            Self::Damaged { .. } => "Export or copy the file again from its host, and compare its digest.",
            Self::CutShort { .. } => {
                "The copy or the download stopped early: fetch the file again, and compare its size."
            }
            Self::Memory { .. } => {
                "Few sound files need that much. If this one is sound, handle its disks one at a time, or consolidate its chain."
            }
            Self::NotAnImage { .. } => "If these are the raw bytes of a disk, say so.",
            Self::Changed { .. } => "Shut the guest down, see that nothing writes to the file, and run again.",
            Self::NoMember { .. } => "`reformis survey` on the archive lists its members.",
            Self::UnsafeName { trustable: true, .. } => "If you know where it leads and want it, allow it.",
            Self::GuessedName { .. } => "Say that it is a raw disk, or its format if it is not.",
            Self::Exists { .. } => "Choose another name, or let it be replaced.",
            Self::Shape(crate::shape::ShapeError::NotInName { .. }) => "Name the shape that you want.",
            Self::NotOurs { .. } => {
                "See who put it there. If it is yours, let nobody else write to it (chmod go-w), nor to the folders that it lies in."
            }
            Self::Busy { .. } => "Wait for it to end, or choose another name.",
            Self::Wire(error) => return error.kind.remedy(),
            _ => return None,
        })
    }
}

impl WireKind {
    /// The stable word for it, for scripts.
    pub fn code(self) -> &'static str {
        match self {
            Self::Unreachable => "unreachable",
            Self::Untrusted => "not-trusted",
            Self::Denied => "denied",
            Self::Expired => "link-expired",
            Self::Absent => "not-there",
            Self::Protocol => "protocol",
            Self::Refused => "refused-there",
            Self::Settings => "link-settings",
        }
    }

    fn remedy(self) -> Option<&'static str> {
        Some(match self {
            Self::Unreachable => {
                "See that the host is up and the network leads there, then run the same command again."
            }
            Self::Untrusted => {
                "If it is the right host, name its authority in reformis.toml (authorities), or put its key into known_hosts."
            }
            Self::Denied => "Give the credential in reformis.toml: a token, a header, a key or a client certificate.",
            Self::Expired => "Ask the host for a new link.",
            Self::Absent => "Check the name, and list what is beside it.",
            Self::Protocol | Self::Refused => return None,
            Self::Settings => "Mend the entry in reformis.toml.",
        })
    }
}

fn at(offset: Option<u64>) -> String {
    offset.map(|o| format!(" at byte {o}")).unwrap_or_default()
}

/// The system's own sentence without the number that Rust appends.
#[expect(clippy::string_slice, reason = "cut where the mark was found")]
fn io_sentence(error: &io::Error) -> String {
    let full = error.to_string();
    match full.find(" (os error") {
        Some(cut) => full[..cut].to_string(),
        None => full,
    }
}

/// Fails when `len` bytes at `offset` do not lie inside `size`.
///
/// # Errors
/// [`Error::OutOfRange`].
pub fn check_range(offset: u64, len: usize, size: u64) -> Result<()> {
    match offset.checked_add(len as u64) {
        Some(end) if end <= size => Ok(()),
        _ => Err(Error::OutOfRange { offset, len: len as u64, size }),
    }
}
