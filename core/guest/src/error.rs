//! What can go wrong inside a guest.

/// Result of this crate.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// An error with a whole sentence as its message.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// From the disk below.
    #[error(transparent)]
    Disk(#[from] reformis_disk::Error),
    /// A volume breaks a rule of its own format.
    #[error("{volume} is damaged: {what}")]
    Damaged {
        /// The volume.
        volume: String,
        /// What was found and what was expected.
        what: String,
    },
    /// A sound volume that uses something we do not read or write.
    #[error("{volume} cannot be {action}: {what}")]
    Unsupported {
        /// The volume.
        volume: String,
        /// `read`, `changed`, `made`, `removed`, or the like.
        action: &'static str,
        /// What it uses.
        what: String,
    },
    /// Nothing is there.
    #[error("there is no {path} in the guest")]
    NotFound {
        /// The path.
        path: String,
    },
    /// Something else than what was asked for is there.
    #[error("{path} is not a {wanted}")]
    WrongKind {
        /// The path.
        path: String,
        /// What it should be: `file`, `folder`, `link`.
        wanted: &'static str,
    },
    /// The place is taken.
    #[error("{path} exists already in the guest")]
    Exists {
        /// The path.
        path: String,
    },
    /// The volume is full.
    #[error("{volume} has no room: {needed} {unit} are needed, and {free} are free")]
    NoRoom {
        /// The volume.
        volume: String,
        /// What is short: `blocks of ... bytes`, `inodes`.
        unit: String,
        /// How many are needed.
        needed: u64,
        /// How many are free.
        free: u64,
    },
    /// A file that is larger than what is taken into memory.
    #[error("{path} has {size} bytes, more than the {most} that are read")]
    TooLarge {
        /// The path.
        path: String,
        /// Its size in bytes.
        size: u64,
        /// The largest that is read.
        most: u64,
    },
    /// More would be held in memory than a stranger may make us hold.
    #[error(transparent)]
    Memory(#[from] reformis_disk::budget::OverBudget),
    /// More would be done than a stranger may make us do.
    #[error(transparent)]
    Work(#[from] reformis_disk::budget::OverWork),
    /// Links that lead in a circle.
    #[error("{path} leads through too many links")]
    LinkLoop {
        /// The path.
        path: String,
    },
}

impl Error {
    /// The stable word for its kind, for scripts.
    pub fn code(&self) -> &'static str {
        match self {
            Self::Disk(error) => error.code(),
            Self::Damaged { .. } => "guest-damaged",
            Self::Unsupported { .. } => "guest-not-supported",
            Self::NotFound { .. } => "no-such-path",
            Self::WrongKind { .. } => "wrong-kind",
            Self::Exists { .. } => "path-exists",
            Self::NoRoom { .. } => "guest-full",
            Self::TooLarge { .. } => "too-large",
            Self::Memory(_) => "too-much-memory",
            Self::Work(_) => "too-much-work",
            Self::LinkLoop { .. } => "link-loop",
        }
    }

    /// Whether it only says that something is not there, or is of another kind.
    pub(crate) fn is_absence(&self) -> bool {
        matches!(self, Self::NotFound { .. } | Self::WrongKind { .. } | Self::LinkLoop { .. })
    }

    /// What the person can do about it, as a sentence.
    pub fn remedy(&self) -> Option<&'static str> {
        match self {
            Self::Disk(error) => error.remedy(),
            Self::Damaged { .. } => {
                Some("Start the guest where it is, let it check its file systems, and shut it down again.")
            }
            Self::Work(_) => Some("If you know that it is sound, allow more work (--work 10)."),
            Self::NoRoom { .. } => Some("Make room in the guest where it is, and shut it down again."),
            _ => None,
        }
    }
}
