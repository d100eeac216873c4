//! How a try ended, and what that means for the others.

use std::time::Duration;

use super::{
    State,
    database::{Result as Done, Session, Value},
    lease::{Lease, millis, rules},
};
use crate::{
    error::Result,
    fleet::file::{Rules, Then},
};

/// How a try ended.
#[derive(Debug, Clone)]
pub enum Ended {
    /// The machine has landed.
    Landed {
        /// The folder.
        landing: String,
        /// Its receipt, as JSON.
        receipt: String,
        /// Bytes that were carried.
        bytes: u64,
        /// What went wrong afterwards, where something did.
        after: Option<String>,
    },
    /// It failed.
    Failed {
        /// The stable word for what went wrong.
        code: String,
        /// The sentence.
        reason: String,
        /// What helps.
        remedy: Option<String>,
        /// After how long it is tried again, where that may help.
        again: Option<Duration>,
    },
    /// Its first pass was made; the rest waits for its turn.
    Near {
        /// Bytes that were carried.
        bytes: u64,
    },
    /// The worker was asked to stop.
    Stopped,
    /// Another run, which is none of this fleet's, holds what it would write to: it waits for that.
    Busy {
        /// What is in the way, as a sentence.
        reason: String,
        /// When it is looked again.
        again: Duration,
    },
}

/// What became of a machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pressed {
    /// It is written down.
    Noted,
    /// It is written down, and will be tried again.
    Again,
    /// Another worker holds the machine.
    Lost,
}

impl State {
    /// Writes down how `lease` ended.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn end(&self, lease: &Lease, ended: &Ended) -> Result<Pressed> {
        match ended {
            // A failure decides about other machines, too.
            Ended::Failed { .. } => self.change(|session| end(session, lease, ended)),
            Ended::Landed { .. } | Ended::Near { .. } | Ended::Stopped | Ended::Busy { .. } => {
                self.touch(|session| end(session, lease, ended))
            }
        }
    }
}

/// The word for what went wrong once a machine had landed.
pub(super) const AFTER_LANDING: &str = "after-landing";

/// Writes down that a machine is given up.
pub(super) fn give_up(
    session: &mut dyn Session,
    key: &[Value; 2],
    code: &str,
    reason: &str,
    remedy: Option<&str>,
    now: i64,
) -> Done<()> {
    let rest = [code.into(), reason.into(), Value::from(remedy), now.into()];
    session.execute(
        "UPDATE reformis_machine SET state = 'failed', code = $3, reason = $4, remedy = $5, ended = $6, stage = NULL
         WHERE fleet = $1 AND name = $2",
        &[&key[..], &rest].concat(),
    )?;
    Ok(())
}

/// After a failure in the group at `team`: lets no other begin that the rules stop, and none that comes after what did not land.
pub(super) fn stop_others(session: &mut dyn Session, fleet: &str, rules: &Rules, team: u64) -> Done<()> {
    let then = rules.then(usize::try_from(team).unwrap_or(usize::MAX));
    let (first, last) = match then {
        Then::GoOn => return skip(session, fleet),
        Then::StopGroup => (Value::from(team), Value::from(team)),
        Then::StopAll => (Value::from(0u64), Value::from(u64::MAX)),
    };
    session.execute(
        "UPDATE reformis_machine SET state = 'skipped', code = 'stopped', reason = 'another machine failed, and the fleet file stops the others then'
         WHERE fleet = $1 AND state = 'waiting' AND team >= $2 AND team <= $3",
        &[fleet.into(), first, last],
    )?;
    skip(session, fleet)
}

/// What comes after a machine that will not land now is skipped, and what comes after that.
pub(super) fn skip(session: &mut dyn Session, fleet: &str) -> Done<()> {
    let statement = "UPDATE reformis_machine SET state = 'skipped', code = 'needs-other', reason = 'what it comes after has not landed'
         WHERE fleet = $1 AND state = 'waiting' AND EXISTS (
             SELECT 1 FROM reformis_needs n JOIN reformis_machine o ON o.fleet = n.fleet AND o.name = n.other
             WHERE n.fleet = reformis_machine.fleet AND n.name = reformis_machine.name
               AND o.state IN ('failed', 'skipped', 'held', 'gone', 'undone'))";
    while session.execute(statement, &[fleet.into()])? > 0 {}
    Ok(())
}

fn end(session: &mut dyn Session, lease: &Lease, ended: &Ended) -> Done<Pressed> {
    let key = [Value::from(&lease.fleet), Value::from(&lease.name), lease.fence.into()];
    let now = session.now()?;
    let set = |session: &mut dyn Session, columns: &str, values: &[Value]| {
        // The row says itself whether it is still ours.
        let statement = format!(
            "UPDATE reformis_machine SET {columns}, stage = NULL WHERE fleet = $1 AND name = $2 AND fence = $3 AND state = 'running'"
        );
        session.execute(&statement, &[&key[..], values].concat()).map(|changed| changed == 1)
    };
    let is_set = match ended {
        Ended::Landed { landing, receipt, bytes, after } => set(
            session,
            "state = 'landed', landing = $4, receipt = $5, total = $6, done = $6, ended = $7, code = $8, reason = $9",
            &[
                Value::from(landing),
                Value::from(receipt),
                (*bytes).into(),
                now.into(),
                Value::from(after.as_ref().map(|_| AFTER_LANDING)),
                Value::from(after.as_ref()),
            ],
        )?,
        // When the move itself begins, and how often it is tried, is another matter.
        Ended::Near { .. } => set(
            session,
            "state = 'waiting', tries = 0, not_before = 0, began = NULL, done = NULL, total = NULL, first_pass = $4",
            &[now.into()],
        )?,
        // Nor is it one that somebody else was there first.
        Ended::Busy { reason, again } => set(
            session,
            "state = 'waiting', tries = tries - 1, code = 'busy', reason = $4, not_before = $5",
            &[Value::from(reason), Value::from(now + millis(*again))],
        )?,
        // That a person stopped it is no try.
        Ended::Stopped => set(session, "state = 'waiting', tries = tries - 1, not_before = 0", &[])?,
        Ended::Failed { code, reason, remedy, again } => {
            let (rules, _) = rules(session, &lease.fleet)?;
            let told = [Value::from(code), Value::from(reason), Value::from(remedy.as_ref())];
            match again.filter(|_| lease.tries < rules.failure.tries) {
                Some(wait) => {
                    let until = [Value::from(now + millis(wait))];
                    let columns = "state = 'waiting', code = $4, reason = $5, remedy = $6, not_before = $7";
                    set(session, columns, &[&told[..], &until].concat())?
                }
                None => {
                    let columns = "state = 'failed', code = $4, reason = $5, remedy = $6, ended = $7";
                    let is_set = set(session, columns, &[&told[..], &[now.into()]].concat())?;
                    if is_set {
                        let rows = session.query(
                            "SELECT team FROM reformis_machine WHERE fleet = $1 AND name = $2",
                            &[Value::from(&lease.fleet), Value::from(&lease.name)],
                        )?;
                        let team = rows.first().and_then(|row| row.count(0)).unwrap_or(0);
                        stop_others(session, &lease.fleet, &rules, team)?;
                    }
                    is_set
                }
            }
        }
    };
    let rows = session.query(
        "SELECT state, fence FROM reformis_machine WHERE fleet = $1 AND name = $2",
        &[Value::from(&lease.fleet), Value::from(&lease.name)],
    )?;
    let state = rows.first().filter(|row| row.count(1) == Some(lease.fence)).and_then(|row| row.text(0));
    // The answer to what we said before may have been lost: then it is as we said.
    Ok(match (ended, state.as_deref()) {
        (_, None) | (_, Some("running")) => Pressed::Lost,
        (Ended::Failed { .. } | Ended::Busy { .. }, Some("waiting")) => Pressed::Again,
        (Ended::Landed { .. }, Some("landed")) | (Ended::Failed { .. }, Some("failed")) => Pressed::Noted,
        (Ended::Stopped | Ended::Near { .. }, _) => Pressed::Noted,
        _ if is_set => Pressed::Noted,
        _ => Pressed::Lost,
    })
}
