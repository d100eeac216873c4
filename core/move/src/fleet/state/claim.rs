//! Taking machines, keeping them, and saying how they went.

use std::time::Duration;

use uuid::Uuid;

use super::{
    State,
    database::{Result as Done, Row, Session, Trouble, Value},
};
use crate::{
    error::Result,
    fleet::file::{Rules, Spec, Then},
};

/// What a worker takes.
#[derive(Debug, Clone, Copy)]
pub struct Claim<'a> {
    /// Of which fleet.
    pub fleet: &'a str,
    /// Its own name.
    pub worker: &'a str,
    /// For how long a machine is its own until it must renew.
    pub lease: Duration,
    /// The largest machine that will be done in time, in bytes; none where there is time enough.
    pub most: Option<u64>,
    /// Whether a machine whose size is not known may begin.
    pub takes_unknown: bool,
}

/// What a worker got.
#[derive(Debug)]
pub enum Claimed {
    /// A machine.
    Machine(Box<Lease>),
    /// Nothing now: others run, or wait for another try.
    Later,
    /// Somebody paused the fleet.
    Paused,
    /// What waits would not be done in time.
    NoTime,
    /// Nothing is left to begin.
    Over,
}

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
}

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
    /// The worker was asked to stop.
    Stopped,
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

fn millis(time: Duration) -> i64 {
    i64::try_from(time.as_millis()).unwrap_or(i64::MAX)
}

impl State {
    /// Takes the next machine that may begin.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn claim(&self, claim: &Claim<'_>) -> Result<Claimed> {
        self.change(|session| take(session, claim))
    }

    /// Renews what is held; the names of those that are held no longer.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn renew(&self, fleet: &str, beats: &[Beat], lease: Duration) -> Result<Vec<String>> {
        self.change(|session| {
            let until = session.now()? + millis(lease);
            let mut lost = Vec::new();
            for beat in beats {
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
        self.change(|session| {
            let until = session.now()? + millis(time);
            let renewed = session.execute(
                "UPDATE reformis_machine SET lease_until = $4, stage = 'landing'
                 WHERE fleet = $1 AND name = $2 AND fence = $3 AND state = 'running'",
                &[Value::from(&lease.fleet), Value::from(&lease.name), lease.fence.into(), until.into()],
            )?;
            Ok(renewed == 1)
        })
    }

    /// Writes down how `lease` ended.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn end(&self, lease: &Lease, ended: &Ended) -> Result<Pressed> {
        self.change(|session| end(session, lease, ended))
    }

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

    /// Notes what a machine that landed answered, as JSON.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn answered(&self, fleet: &str, name: &str, answer: &str) -> Result<()> {
        let values = [Value::from(fleet), name.into(), answer.into()];
        let statement = "UPDATE reformis_machine SET answer = $3 WHERE fleet = $1 AND name = $2 AND state = 'landed'";
        self.change(|session| session.execute(statement, &values).map(drop))
    }

    /// Notes that a landing was taken back.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn undone(&self, fleet: &str, name: &str) -> Result<()> {
        let values = [Value::from(fleet), name.into()];
        let statement =
            "UPDATE reformis_machine SET state = 'undone', reason = 'its landing was removed', answer = NULL
             WHERE fleet = $1 AND name = $2 AND state <> 'running'";
        self.change(|session| session.execute(statement, &values).map(drop))
    }
}

/// The rules of a fleet, and whether it is paused.
fn rules(session: &mut dyn Session, fleet: &str) -> Done<(Rules, bool)> {
    let rows = session.query("SELECT rules, paused FROM reformis_fleet WHERE name = $1", &[fleet.into()])?;
    let row = rows.first().ok_or_else(|| broken(&format!("there is no fleet '{fleet}'")))?;
    Ok((parsed(&row.text(0).unwrap_or_default())?, row.int(1) == Some(1)))
}

fn broken(what: &str) -> Trouble {
    Trouble { what: what.into(), again: false }
}

pub(super) fn parsed<T: serde::de::DeserializeOwned>(text: &str) -> Done<T> {
    serde_json::from_str(text)
        .map_err(|error| broken(&format!("what is in it was not written by this version: {error}")))
}

fn take(session: &mut dyn Session, claim: &Claim<'_>) -> Done<Claimed> {
    let fleet = Value::from(claim.fleet);
    let (rules, is_paused) = rules(session, claim.fleet)?;
    let now = session.now()?;
    take_over(session, claim.fleet, &rules, now)?;
    if is_paused {
        return Ok(Claimed::Paused);
    }
    let most = claim.most.map_or(i64::MAX, |most| i64::try_from(most).unwrap_or(i64::MAX));
    let found = session.query(
        "SELECT m.name, m.spec, m.job, m.tries, m.fence FROM reformis_machine m
         WHERE m.fleet = $1 AND m.state = 'waiting' AND m.not_before <= $2
           AND m.team = (SELECT min(team) FROM reformis_machine WHERE fleet = $1 AND state IN ('waiting', 'running'))
           AND (m.size <= $3 OR m.size IS NULL AND CAST($4 AS BIGINT) = 1)
           AND NOT EXISTS (
               SELECT 1 FROM reformis_needs n JOIN reformis_machine o ON o.fleet = n.fleet AND o.name = n.other
               WHERE n.fleet = $1 AND n.name = m.name AND o.state <> 'landed')
           AND NOT EXISTS (
               SELECT 1 FROM reformis_uses u WHERE u.fleet = $1 AND u.name = m.name AND u.what IN (
                   SELECT l.what FROM reformis_limit l WHERE l.fleet = $1 AND l.most <= (
                       SELECT count(*) FROM reformis_machine r JOIN reformis_uses v ON v.fleet = r.fleet AND v.name = r.name
                       WHERE r.fleet = $1 AND r.state = 'running' AND v.what = l.what)))
         ORDER BY m.place LIMIT 1",
        &[fleet.clone(), now.into(), most.into(), claim.takes_unknown.into()],
    )?;
    let Some(row) = found.first() else { return nothing(session, &fleet, now, claim) };
    let lease = lease(row, claim.fleet)?;
    session.execute(
        "UPDATE reformis_machine SET state = 'running', fence = $3, tries = $4, worker = $5, lease_until = $6, stage = 'beginning',
            done = 0, total = 0, began = COALESCE(began, $7), ended = NULL, code = NULL, reason = NULL, remedy = NULL
         WHERE fleet = $1 AND name = $2",
        &[
            fleet,
            Value::from(&lease.name),
            lease.fence.into(),
            u64::from(lease.tries).into(),
            claim.worker.into(),
            (now + millis(claim.lease)).into(),
            now.into(),
        ],
    )?;
    Ok(Claimed::Machine(Box::new(lease)))
}

fn lease(row: &Row, fleet: &str) -> Done<Lease> {
    let job = row.text(2).and_then(|job| job.parse().ok()).ok_or_else(|| broken("a job has no number"))?;
    let (tries, fence) = (row.count(3).unwrap_or(0), row.count(4).unwrap_or(0));
    Ok(Lease {
        fleet: fleet.into(),
        name: row.text(0).unwrap_or_default(),
        fence: fence + 1,
        job,
        tries: u32::try_from(tries).unwrap_or(u32::MAX).saturating_add(1),
        spec: parsed(&row.text(1).unwrap_or_default())?,
        // A fence above none was once somebody's.
        goes_on: fence > 0,
    })
}

/// Why there is nothing to take.
fn nothing(session: &mut dyn Session, fleet: &Value, now: i64, claim: &Claim<'_>) -> Done<Claimed> {
    let rows = session.query(
        "SELECT CAST(COALESCE(sum(CASE WHEN state = 'running' THEN 1 ELSE 0 END), 0) AS BIGINT),
            CAST(COALESCE(sum(CASE WHEN state = 'waiting' AND not_before > $2 THEN 1 ELSE 0 END), 0) AS BIGINT),
            CAST(COALESCE(sum(CASE WHEN state = 'waiting' THEN 1 ELSE 0 END), 0) AS BIGINT)
         FROM reformis_machine WHERE fleet = $1 AND state IN ('running', 'waiting')",
        &[fleet.clone(), now.into()],
    )?;
    let count = |place| rows.first().and_then(|row| row.count(place)).unwrap_or(0);
    Ok(match (count(0), count(1), count(2)) {
        (0, 0, 0) => Claimed::Over,
        // Nothing runs, nothing waits for another try: only the time can be in the way.
        (0, 0, _) if claim.most.is_some() => Claimed::NoTime,
        (0, 0, _) => Claimed::Over,
        _ => Claimed::Later,
    })
}

/// Machines whose workers do not renew any more wait again; those that were tried often enough have failed.
fn take_over(session: &mut dyn Session, fleet: &str, rules: &Rules, now: i64) -> Done<()> {
    let rows = session.query(
        "SELECT name, tries, team, worker FROM reformis_machine WHERE fleet = $1 AND state = 'running' AND lease_until < $2",
        &[fleet.into(), now.into()],
    )?;
    for row in rows {
        let name = row.text(0).unwrap_or_default();
        let key = [Value::from(fleet), Value::from(&name)];
        if row.count(1).unwrap_or(0) >= u64::from(rules.failure.tries) {
            let reason = format!(
                "its worker ({}) ended or lost the database, for the {}. time",
                row.text(3).unwrap_or_default(),
                row.count(1).unwrap_or(0)
            );
            give_up(session, &key, "worker-lost", &reason, None, now)?;
            stop_others(session, fleet, rules, row.count(2).unwrap_or(0))?;
            continue;
        }
        session.execute(
            "UPDATE reformis_machine SET state = 'waiting', stage = NULL, not_before = 0 WHERE fleet = $1 AND name = $2",
            &key,
        )?;
    }
    Ok(())
}

fn give_up(
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
fn stop_others(session: &mut dyn Session, fleet: &str, rules: &Rules, team: u64) -> Done<()> {
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
    let key = [Value::from(&lease.fleet), Value::from(&lease.name)];
    let rows = session.query("SELECT state, fence, team FROM reformis_machine WHERE fleet = $1 AND name = $2", &key)?;
    let row = rows.first().ok_or_else(|| broken("its row is gone"))?;
    let is_ours = row.count(1) == Some(lease.fence);
    match row.text(0).as_deref() {
        Some("running") if is_ours => {}
        // The answer to what we said before was lost.
        Some("landed") if is_ours => return Ok(Pressed::Noted),
        _ => return Ok(Pressed::Lost),
    }
    let now = session.now()?;
    match ended {
        Ended::Landed { landing, receipt, bytes, after } => {
            let rest = [
                Value::from(landing),
                Value::from(receipt),
                (*bytes).into(),
                now.into(),
                Value::from(after.as_ref().map(|_| "after-landing")),
                Value::from(after.as_ref()),
            ];
            session.execute(
                "UPDATE reformis_machine SET state = 'landed', landing = $3, receipt = $4, total = $5, done = $5, ended = $6, code = $7,
                    reason = $8, stage = NULL
                 WHERE fleet = $1 AND name = $2",
                &[&key[..], &rest].concat(),
            )?;
            Ok(Pressed::Noted)
        }
        Ended::Stopped => {
            // That a person stopped it is no try.
            session.execute(
                "UPDATE reformis_machine SET state = 'waiting', tries = tries - 1, stage = NULL, not_before = 0 WHERE fleet = $1 AND name = $2",
                &key,
            )?;
            Ok(Pressed::Noted)
        }
        Ended::Failed { code, reason, remedy, again } => {
            let (rules, _) = rules(session, &lease.fleet)?;
            if let Some(wait) = again.filter(|_| lease.tries < rules.failure.tries) {
                let rest =
                    [(now + millis(wait)).into(), Value::from(code), Value::from(reason), Value::from(remedy.as_ref())];
                session.execute(
                    "UPDATE reformis_machine SET state = 'waiting', stage = NULL, not_before = $3, code = $4, reason = $5, remedy = $6
                     WHERE fleet = $1 AND name = $2",
                    &[&key[..], &rest].concat(),
                )?;
                return Ok(Pressed::Again);
            }
            give_up(session, &key, code, reason, remedy.as_deref(), now)?;
            stop_others(session, &lease.fleet, &rules, row.count(2).unwrap_or(0))?;
            Ok(Pressed::Noted)
        }
    }
}
