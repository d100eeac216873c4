//! What becomes of a machine besides its move: what it answers, how its rehearsal went, and that its landing is taken back, or was made by
//! somebody else.

use super::{State, database::Value};
use crate::{error::Result, fleet::worker::Worker, receipt::Receipt};

/// The word for a machine whose landing is being taken back.
pub(in crate::fleet) const UNDOING: &str = "undoing";

impl State {
    /// Notes what a machine that landed answered, as JSON.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn answered(&self, fleet: &str, name: &str, answer: &str) -> Result<()> {
        let values = [Value::from(fleet), name.into(), answer.into()];
        let statement = "UPDATE reformis_machine SET answer = $3 WHERE fleet = $1 AND name = $2 AND state = 'landed'";
        self.change(|session| session.execute(statement, &values).map(drop))
    }

    /// Notes that a landing is being taken back.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn undoing(&self, fleet: &str, name: &str) -> Result<()> {
        let values = [Value::from(fleet), name.into(), UNDOING.into()];
        let statement = "UPDATE reformis_machine SET code = $3, reason = 'its landing is being removed'
             WHERE fleet = $1 AND name = $2 AND state <> 'running'";
        self.change(|session| session.execute(statement, &values).map(drop))
    }

    /// Notes that a landing was taken back.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn undone(&self, fleet: &str, name: &str) -> Result<()> {
        let values = [Value::from(fleet), name.into()];
        let statement =
            "UPDATE reformis_machine SET state = 'undone', code = NULL, reason = 'its landing was removed', answer = NULL
             WHERE fleet = $1 AND name = $2 AND state <> 'running'";
        self.change(|session| session.execute(statement, &values).map(drop))
    }

    /// Notes how the rehearsal of a machine went, as JSON.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn rehearsed(&self, fleet: &str, name: &str, told: &str) -> Result<()> {
        let values = [Value::from(fleet), name.into(), told.into()];
        let statement = "UPDATE reformis_machine SET rehearsal = $3 WHERE fleet = $1 AND name = $2";
        self.change(|session| session.execute(statement, &values).map(drop))
    }

    /// Notes that a machine has landed in `landing`, whose files are told as JSON, by a move that was none of this fleet's, by its `receipt`; whether it was noted: not of one
    /// that a worker has, or that has landed.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn taken_in(
        &self,
        fleet: &str,
        name: &str,
        landing: (&str, &str),
        receipt: &Receipt,
        worker: &Worker,
    ) -> Result<bool> {
        let text = serde_json::to_string(receipt).unwrap_or_default();
        let bytes = receipt.disks.iter().map(|disk| disk.after.virtual_size).fold(0, u64::saturating_add);
        let values = [
            Value::from(fleet),
            name.into(),
            landing.0.into(),
            Value::from(&text),
            bytes.into(),
            receipt.started.as_millisecond().into(),
            receipt.finished.as_millisecond().into(),
            Value::from(&worker.host),
            landing.1.into(),
        ];
        let statement = "UPDATE reformis_machine SET state = 'landed', landing = $3, receipt = $4, total = $5, done = $5, began = $6, ended = $7,
                host = $8, landed_files = $9, code = NULL, reason = NULL, remedy = NULL, stage = NULL, answer = NULL
             WHERE fleet = $1 AND name = $2 AND state NOT IN ('running', 'landed', 'gone')";
        self.change(|session| Ok(session.execute(statement, &values)? == 1))
    }
}
