//! A machine that a worker holds, and what is read of the state before it is changed.

use std::time::Duration;

use uuid::Uuid;

use super::{
    database::{Result as Done, Session, Trouble},
    hook::HookState,
};
use crate::fleet::file::{Rules, Spec};

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
