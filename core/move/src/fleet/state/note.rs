//! What a worker notes of a machine in the middle of a try.

use super::{
    State,
    database::Value,
    hook::{Hook, HookState},
    lease::Lease,
};
use crate::error::Result;

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

    /// Notes that the machine that `lease` holds has landed in `folder`, before its program `after` runs; `files` are those of the landing,
    /// as JSON.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn note_landing(&self, lease: &Lease, folder: &str, files: &str) -> Result<()> {
        self.note(lease, "landed_files", files)?;
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
