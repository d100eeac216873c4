//! Exit codes: a promise to scripts, the same for every command.

use std::process::ExitCode;

/// How a command ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Exit {
    /// Done.
    Done,
    /// It failed; the message says why.
    Failed,
    /// The command line was not understood.
    Usage,
    /// Refused because of a blocker.
    Refused,
    /// A proof did not hold.
    NotProved,
    /// Stopped by the person or the system.
    Interrupted,
}

impl Exit {
    /// The number that the system sees.
    pub(crate) fn number(self) -> u8 {
        match self {
            Self::Done => 0,
            Self::Failed => 1,
            Self::Usage => 2,
            Self::Refused => 3,
            Self::NotProved => 4,
            Self::Interrupted => 130,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.number())
    }
}
