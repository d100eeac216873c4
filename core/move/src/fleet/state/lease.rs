//! A machine that a worker holds, how it is kept, and what is read of the state before it is changed.

use std::time::Duration;

use uuid::Uuid;

use super::{
    State,
    database::{Result as Done, Session, Trouble, Value},
    hook::HookState,
};
use crate::{
    error::Result,
    fleet::file::{Rules, Spec},
};

/// What is in front of a host's name, where its machines are counted.
pub(super) const HOST: &str = "host ";

/// A machine that a worker holds.
#[derive(Debug, Clone)]
pub struct Lease {
    /// The fleet.
    pub fleet: String,
    /// The machine.
    pub name: String,
    /// The number that nobody else got.
    pub fence: u64,
    /// The job, which is the same however often it is tried.
    pub job: Uuid,
    /// Which try this is, from 1.
    pub tries: u32,
    /// What is to be done.
    pub spec: Spec,
    /// Whether an earlier try may have left something.
    pub goes_on: bool,
    /// How far the program `after` of an earlier try came.
    pub after: Option<HookState>,
    /// Whether only its first pass is to be made now.
    pub only_ahead: bool,
}

/// How far a machine is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Beat {
    /// The machine.
    pub name: String,
    /// Its fence.
    pub fence: u64,
    /// What is being done, as a person would say it.
    pub stage: String,
    /// Bytes of that which are done.
    pub done: u64,
    /// All of its bytes.
    pub total: u64,
}

impl State {
    /// Renews what is held; the names of those that are held no longer.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn renew(&self, fleet: &str, beats: &[Beat], lease: Duration) -> Result<Vec<String>> {
        // In one order, so that two who do so do not wait for each other.
        let mut beats: Vec<&Beat> = beats.iter().collect();
        beats.sort_by(|one, other| one.name.cmp(&other.name));
        self.touch(|session| {
            let until = session.now()? + millis(lease);
            let mut lost = Vec::new();
            for beat in &beats {
                let renewed = session.execute(
                    "UPDATE reformis_machine SET lease_until = $4, stage = $5, done = $6, total = $7
                     WHERE fleet = $1 AND name = $2 AND fence = $3 AND state = 'running'",
                    &[
                        fleet.into(),
                        Value::from(&beat.name),
                        beat.fence.into(),
                        until.into(),
                        Value::from(&beat.stage),
                        beat.done.into(),
                        beat.total.into(),
                    ],
                )?;
                if renewed == 0 {
                    lost.push(beat.name.clone());
                }
            }
            Ok(lost)
        })
    }

    /// Whether `lease` still holds, for its whole time from now on: then its machine may land.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn may_land(&self, lease: &Lease, time: Duration) -> Result<bool> {
        self.touch(|session| {
            let until = session.now()? + millis(time);
            let renewed = session.execute(
                "UPDATE reformis_machine SET lease_until = $4, stage = 'landing'
                 WHERE fleet = $1 AND name = $2 AND fence = $3 AND state = 'running'",
                &[Value::from(&lease.fleet), Value::from(&lease.name), lease.fence.into(), until.into()],
            )?;
            Ok(renewed == 1)
        })
    }
}

pub(super) fn millis(time: Duration) -> i64 {
    i64::try_from(time.as_millis()).unwrap_or(i64::MAX)
}

/// The rules of a fleet, and whether it is paused.
pub(super) fn rules(session: &mut dyn Session, fleet: &str) -> Done<(Rules, bool)> {
    let rows = session.query("SELECT rules, paused FROM reformis_fleet WHERE name = $1", &[fleet.into()])?;
    let row = rows.first().ok_or_else(|| broken(&format!("there is no fleet '{fleet}'")))?;
    Ok((parsed(&row.text(0).unwrap_or_default())?, row.int(1) == Some(1)))
}

pub(super) fn broken(what: &str) -> Trouble {
    Trouble { what: what.into(), again: false }
}

pub(super) fn parsed<T: serde::de::DeserializeOwned>(text: &str) -> Done<T> {
    serde_json::from_str(text)
        .map_err(|error| broken(&format!("what is in it was not written by this version: {error}")))
}
