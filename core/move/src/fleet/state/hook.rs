//! How far the site's programs for a machine are: whoever comes after a worker that ended knows what was begun.

use std::fmt;

/// Which program of a machine's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hook {
    /// That before the source is opened.
    Before,
    /// That once the machine has landed.
    After,
}

/// How far a program is; one that was not begun has no state.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HookState {
    /// It was started, and nobody knows how it ended.
    Begun,
    /// It ended with this code; none where it could not be started, or was ended.
    Done(Option<i32>),
}

impl HookState {
    /// The one that `text` is of.
    pub(super) fn parse(text: &str) -> Option<Self> {
        match text.split_once(' ') {
            None if text == "begun" => Some(Self::Begun),
            Some(("done", code)) => Some(Self::Done(code.parse().ok())),
            _ => None,
        }
    }
}

impl fmt::Display for HookState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Begun => f.write_str("begun"),
            Self::Done(Some(code)) => write!(f, "done {code}"),
            Self::Done(None) => f.write_str("done -"),
        }
    }
}
