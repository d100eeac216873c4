//! What can be wrong with a machine file.

/// Result of this crate.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// An error with a whole sentence as its message.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// Not well-formed, or larger than anything a host writes.
    #[error("'{file}' is not valid XML: {what}")]
    Xml {
        /// The file.
        file: String,
        /// What the parser says, with line and column.
        what: String,
    },
    /// No launch JSON.
    #[error("'{file}' is not valid launch JSON: {what}")]
    Json {
        /// The file.
        file: String,
        /// What is wrong, with line and column.
        what: String,
    },
    /// Sound XML that breaks a rule of its kind.
    #[error("'{file}' line {line}: {what}")]
    Invalid {
        /// The file.
        file: String,
        /// Line, from 1.
        line: u32,
        /// What was found and what was expected.
        what: String,
    },
    /// Something that is allowed, and that this version does not handle.
    #[error("'{file}': {what}")]
    Unsupported {
        /// The file.
        file: String,
        /// What it uses.
        what: String,
    },
    /// A destination file that cannot be read.
    #[error("the destination '{file}' cannot be read: {what}")]
    Destination {
        /// The file.
        file: String,
        /// What the TOML reader says.
        what: String,
    },
    /// A site's file that cannot be read.
    #[error("the site's file '{file}' cannot be read: {what}")]
    Site {
        /// The file.
        file: String,
        /// What is wrong, with its line.
        what: String,
    },
    /// No destination of that name.
    #[error("no destination is called '{name}'; there are {}", known.join(", "))]
    NoDestination {
        /// The name.
        name: String,
        /// The names that exist.
        known: Vec<String>,
    },
}

impl Error {
    /// The stable word for its kind, for scripts.
    pub fn code(&self) -> &'static str {
        match self {
            Self::Xml { .. } => "bad-xml",
            Self::Json { .. } => "bad-launch-json",
            Self::Invalid { .. } => "bad-machine-file",
            Self::Unsupported { .. } => "not-supported",
            Self::Destination { .. } => "bad-destination",
            Self::Site { .. } => "bad-site-file",
            Self::NoDestination { .. } => "no-such-destination",
        }
    }
}
