//! How far the site's programs for a machine are: whoever comes after a worker that ended knows what was begun.

use std::fmt;

use super::{State, database::Value, lease::Lease};
use crate::error::Result;

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

impl State {
    /// Notes how far a program of the machine that `lease` holds is.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn note_hook(&self, lease: &Lease, hook: Hook, state: HookState) -> Result<()> {
        let column = match hook {
            Hook::Before => "before_hook",
            Hook::After => "after_hook",
        };
        self.note(lease, column, &state.to_string())
    }

    /// Notes that the machine that `lease` holds has landed in `folder`, before its program `after` runs.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn note_landing(&self, lease: &Lease, folder: &str) -> Result<()> {
        self.note(lease, "landing", folder)
    }

    fn note(&self, lease: &Lease, column: &str, text: &str) -> Result<()> {
        let statement = format!(
            "UPDATE reformis_machine SET {column} = $4 WHERE fleet = $1 AND name = $2 AND fence = $3 AND state = 'running'"
        );
        let values = [Value::from(&lease.fleet), Value::from(&lease.name), lease.fence.into(), text.into()];
        self.touch(|session| session.execute(&statement, &values).map(drop))
    }
}
