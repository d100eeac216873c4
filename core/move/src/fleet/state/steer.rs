//! What a person says to a night from any terminal.

use super::{State, database::Value, ended::skip};
use crate::error::Result;

impl State {
    /// Holds back a machine that waits; whether it did.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn hold_back(&self, fleet: &str, name: &str) -> Result<bool> {
        self.change(|session| {
            let held = session.execute(
                "UPDATE reformis_machine SET state = 'held', reason = 'a person holds it back' WHERE fleet = $1 AND name = $2 AND state = 'waiting'",
                &[fleet.into(), name.into()],
            )?;
            skip(session, fleet)?;
            Ok(held == 1)
        })
    }

    /// Lets no machine begin, or lets them begin again.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn pause(&self, fleet: &str, paused: bool) -> Result<()> {
        let values = [Value::from(fleet), paused.into()];
        self.change(|session| {
            session.execute("UPDATE reformis_fleet SET paused = $2 WHERE name = $1", &values).map(drop)
        })
    }

    /// Lets the group `group` begin, whatever its gate asks for.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn open_gate(&self, fleet: &str, group: &str) -> Result<()> {
        let values = [Value::from(fleet), group.into()];
        let statement = "INSERT INTO reformis_gate (fleet, name) VALUES ($1, $2) ON CONFLICT (fleet, name) DO NOTHING";
        self.change(|session| session.execute(statement, &values).map(drop))
    }
}
