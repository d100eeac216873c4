//! Taking machines: which one may begin, and why none may.

use std::{collections::BTreeSet, time::Duration};

use jiff::Timestamp;
use serde::Serialize;

use super::{
    State,
    database::{Result as Done, Row, Session, Value},
    ended::{give_up, stop_others},
    hook::HookState,
    lease::{HOST, Lease, broken, millis, parsed, rules},
};
use crate::{
    error::Result,
    fleet::{
        file::{Gate, Rules, is_name},
        worker::Worker,
    },
};

/// What a worker takes.
#[derive(Debug, Clone, Copy)]
pub struct Claim<'a> {
    /// Of which fleet.
    pub fleet: &'a str,
    /// Who takes it.
    pub worker: &'a Worker,
    /// For how long a machine is its own until it must renew.
    pub lease: Duration,
    /// The largest machine that will be done in time, in bytes; none where there is time enough.
    pub most: Option<u64>,
    /// Whether a machine whose size is not known may begin.
    pub takes_unknown: bool,
    /// Whether it may run the programs of machines that have some; else it takes none of those.
    pub programs: bool,
    /// Machines besides which none begins, and whose groups alone count; none where all may begin.
    pub only: Option<&'a BTreeSet<String>>,
    /// Whether moves may begin; else only first passes may, which need not wait for their turn.
    pub moves: bool,
    /// Whether machines are taken over whose leases have run out; not where the database was away just now, for everybody.
    pub takes_over: bool,
}

/// What a worker got.
#[derive(Debug)]
pub enum Claimed {
    /// A machine.
    Machine(Box<Lease>),
    /// Nothing now: others run, or wait for another try. Those that others have are named.
    Later(Vec<Held>),
    /// Somebody paused the fleet.
    Paused,
    /// The gate of the group whose turn it is, is shut.
    Gate(Shut),
    /// What waits is on hosts that are left alone just now.
    Quiet {
        /// One of them.
        host: String,
        /// Until then.
        until: Timestamp,
    },
    /// What waits would not be done in time.
    NoTime,
    /// Nothing is left to begin.
    Over,
}

/// A gate that is shut.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Shut {
    /// The group behind it.
    pub group: String,
    /// What opens it besides a person.
    pub gate: Gate,
    /// Of the group before, the machines that do not answer yet, or have not landed.
    pub silent: Vec<String>,
}

/// A machine that a worker has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Held {
    /// The machine.
    pub name: String,
    /// The worker.
    pub worker: String,
    /// How long it stays the worker's own without a word.
    pub left: Duration,
}

impl State {
    /// Takes the next machine that may begin.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn claim(&self, claim: &Claim<'_>) -> Result<Claimed> {
        self.change(|session| take(session, claim))
    }

    /// The gate at which `fleet` stands, where it stands at one: what is before it is over, and it is shut.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn shut_gate(&self, fleet: &str) -> Result<Option<Shut>> {
        self.look(|session| {
            let (rules, _) = rules(session, fleet)?;
            match team(session, &fleet.into(), None)? {
                Some(team) => shut(session, fleet, &rules, team),
                None => Ok(None),
            }
        })
    }
}

fn take(session: &mut dyn Session, claim: &Claim<'_>) -> Done<Claimed> {
    let fleet = Value::from(claim.fleet);
    let (rules, is_paused) = rules(session, claim.fleet)?;
    let now = session.now()?;
    take_over(session, claim.fleet, &rules, claim.worker, now, claim.takes_over)?;
    if is_paused {
        // Where nothing is left, there is nothing to wait for.
        let over = matches!(nothing(session, &fleet, now, claim)?, Claimed::Over)
            && team(session, &fleet, claim.only)?.is_none();
        return Ok(if over { Claimed::Over } else { Claimed::Paused });
    }
    let Some(team) = team(session, &fleet, claim.only)? else { return nothing(session, &fleet, now, claim) };
    let shut = shut(session, claim.fleet, &rules, team)?;
    let quiet = rules.quiet_at(Timestamp::from_millisecond(now).unwrap_or_default());
    // Few limits are full at a time, and no machine that needs one of them is looked at.
    let mut full = full(session, &fleet)?;
    full.extend(quiet.iter().map(|(host, _)| format!("{HOST}{host}")));
    if claim.moves && shut.is_none() {
        let order = "AND m.team = $7 AND NOT EXISTS (
            SELECT 1 FROM reformis_needs n JOIN reformis_machine o ON o.fleet = n.fleet AND o.name = n.other
            WHERE n.fleet = $1 AND n.name = m.name AND o.state <> 'landed')";
        if let Some(row) = first(session, claim, now, order, &[team.into()], &full)? {
            return grant(session, claim, now, lease(&row, claim.fleet, false)?);
        }
    }
    if let Some(row) = first(session, claim, now, "AND m.early = 1 AND m.first_pass IS NULL", &[], &full)? {
        return grant(session, claim, now, lease(&row, claim.fleet, true)?);
    }
    if let Some(shut) = shut.filter(|_| claim.moves) {
        return Ok(Claimed::Gate(shut));
    }
    match nothing(session, &fleet, now, claim)? {
        Claimed::Over | Claimed::NoTime if !quiet.is_empty() => left_alone(session, claim, now, &quiet),
        other => Ok(other),
    }
}

/// The first machine, in the order of groups and of the file, that may begin and of which `order` holds too, whose values are `more`; none
/// that uses what is `full`.
fn first(
    session: &mut dyn Session,
    claim: &Claim<'_>,
    now: i64,
    order: &str,
    more: &[Value],
    full: &[String],
) -> Done<Option<Row>> {
    let most = claim.most.map_or(i64::MAX, |most| i64::try_from(most).unwrap_or(i64::MAX));
    let mut values = vec![Value::from(claim.fleet), now.into(), most.into(), claim.takes_unknown.into()];
    values.extend([Value::from(claim.programs), Value::from(&claim.worker.host)]);
    values.extend_from_slice(more);
    let mut free = String::new();
    if !full.is_empty() {
        let places: Vec<String> =
            (values.len() + 1..=values.len() + full.len()).map(|place| format!("${place}")).collect();
        free = format!(
            "AND NOT EXISTS (SELECT 1 FROM reformis_uses u WHERE u.fleet = $1 AND u.name = m.name AND u.what IN ({}))",
            places.join(", ")
        );
        values.extend(full.iter().map(Value::from));
    }
    let only = among(claim.only, "m.name", &mut values);
    let statement = format!(
        "SELECT m.name, m.spec, m.job, m.tries, m.fence, m.after_hook FROM reformis_machine m
         WHERE m.fleet = $1 AND m.state = 'waiting' AND m.not_before <= $2
           AND (CAST($5 AS BIGINT) = 1 OR m.programs = 0)
           AND (m.landing IS NULL OR m.host = $6)
           AND (m.size <= $3 OR m.size IS NULL AND CAST($4 AS BIGINT) = 1)
           {order} {free} {only}
         ORDER BY m.team, m.place LIMIT 1"
    );
    Ok(session.query(&statement, &values)?.into_iter().next())
}

/// Gives a machine to who asked for one.
fn grant(session: &mut dyn Session, claim: &Claim<'_>, now: i64, lease: Lease) -> Done<Claimed> {
    session.execute(
        "UPDATE reformis_machine SET state = 'running', fence = $3, tries = $4, worker = $5, lease_until = $6, stage = 'beginning',
            done = 0, total = 0, began = COALESCE(began, $7), ended = NULL, code = NULL, reason = NULL, remedy = NULL,
            host = $8, process = $9, before_hook = NULL
         WHERE fleet = $1 AND name = $2",
        &[
            Value::from(claim.fleet),
            Value::from(&lease.name),
            lease.fence.into(),
            u64::from(lease.tries).into(),
            Value::from(&claim.worker.name),
            (now + millis(claim.lease)).into(),
            now.into(),
            Value::from(&claim.worker.host),
            claim.worker.process().into(),
        ],
    )?;
    Ok(Claimed::Machine(Box::new(lease)))
}

/// The gate of the group at `team`, where it is shut.
fn shut(session: &mut dyn Session, fleet: &str, rules: &Rules, team: u64) -> Done<Option<Shut>> {
    let place = usize::try_from(team).unwrap_or(usize::MAX);
    let (gate, group) =
        (rules.gate(place), rules.groups.get(place).map(|group| group.name.clone()).unwrap_or_default());
    if gate == Gate::Landed {
        return Ok(None);
    }
    let key = [Value::from(fleet), Value::from(&group)];
    if !session.query("SELECT 1 FROM reformis_gate WHERE fleet = $1 AND name = $2", &key)?.is_empty() {
        return Ok(None);
    }
    let mut silent = Vec::new();
    if gate == Gate::Confirmed {
        let before = [Value::from(fleet), Value::from(team.saturating_sub(1))];
        let statement = "SELECT name, state, answer FROM reformis_machine WHERE fleet = $1 AND team = $2 AND state <> 'gone' ORDER BY place";
        let answers = |row: &Row| {
            let answer: Option<serde_json::Value> = row.text(2).and_then(|text| serde_json::from_str(&text).ok());
            row.text(1).as_deref() == Some("landed")
                && answer.is_some_and(|answer| answer.get("answers") == Some(&true.into()))
        };
        let rows = session.query(statement, &before)?;
        silent = rows.iter().filter(|row| !answers(row)).filter_map(|row| row.text(0)).collect();
        if silent.is_empty() {
            return Ok(None);
        }
    }
    Ok(Some(Shut { group, gate, silent }))
}

/// Whether something waits for hosts that are `quiet`.
fn left_alone(session: &mut dyn Session, claim: &Claim<'_>, now: i64, quiet: &[(&str, Timestamp)]) -> Done<Claimed> {
    for (host, until) in quiet {
        let mut values = vec![Value::from(claim.fleet), Value::from(&format!("{HOST}{host}"))];
        let only = among(claim.only, "m.name", &mut values);
        let statement = format!(
            "SELECT 1 FROM reformis_machine m JOIN reformis_uses u ON u.fleet = m.fleet AND u.name = m.name
             WHERE m.fleet = $1 AND m.state = 'waiting' AND u.what = $2 {only} LIMIT 1"
        );
        if !session.query(&statement, &values)?.is_empty() {
            return Ok(Claimed::Quiet { host: (*host).into(), until: *until });
        }
    }
    nothing(session, &Value::from(claim.fleet), now, claim)
}

fn lease(row: &Row, fleet: &str, only_ahead: bool) -> Done<Lease> {
    let job = row.text(2).and_then(|job| job.parse().ok()).ok_or_else(|| broken("a job has no number"))?;
    let (tries, fence) = (row.count(3).unwrap_or(0), row.count(4).unwrap_or(0));
    let name = row.text(0).unwrap_or_default();
    // It becomes a path here, whoever wrote it there.
    if !is_name(&name) {
        return Err(broken("a machine has a name that is none"));
    }
    Ok(Lease {
        fleet: fleet.into(),
        name,
        fence: fence + 1,
        job,
        tries: u32::try_from(tries).unwrap_or(u32::MAX).saturating_add(1),
        spec: parsed(&row.text(1).unwrap_or_default())?,
        // A fence above none was once somebody's.
        goes_on: fence > 0,
        after: row.text(5).and_then(|text| HookState::parse(&text)),
        only_ahead,
    })
}

/// The condition that `column` is one of `only`, whose values are added to `values`; nothing where all are meant.
fn among(only: Option<&BTreeSet<String>>, column: &str, values: &mut Vec<Value>) -> String {
    let Some(only) = only else { return String::new() };
    let places: Vec<String> = (1..=only.len()).map(|place| format!("${}", values.len() + place)).collect();
    values.extend(only.iter().map(Value::from));
    format!("AND {column} IN ({})", places.join(", "))
}

/// The group whose turn it is: the first of which a machine waits or runs.
fn team(session: &mut dyn Session, fleet: &Value, only: Option<&BTreeSet<String>>) -> Done<Option<u64>> {
    let mut first = None;
    // One by one, each is the first entry of an index.
    for state in ["waiting", "running"] {
        let mut values = vec![fleet.clone(), state.into()];
        let only = among(only, "name", &mut values);
        let statement = format!("SELECT min(team) FROM reformis_machine WHERE fleet = $1 AND state = $2 {only}");
        let rows = session.query(&statement, &values)?;
        first = first.into_iter().chain(rows.first().and_then(|row| row.count(0))).min();
    }
    Ok(first)
}

/// The limits of which nothing is left.
fn full(session: &mut dyn Session, fleet: &Value) -> Done<Vec<String>> {
    let rows = session.query(
        "SELECT l.what FROM reformis_limit l WHERE l.fleet = $1 AND l.most <= (
             SELECT count(*) FROM reformis_machine r JOIN reformis_uses v ON v.fleet = r.fleet AND v.name = r.name
             WHERE r.fleet = $1 AND r.state = 'running' AND v.what = l.what)",
        std::slice::from_ref(fleet),
    )?;
    Ok(rows.iter().filter_map(|row| row.text(0)).collect())
}

/// Why there is nothing to take.
fn nothing(session: &mut dyn Session, fleet: &Value, now: i64, claim: &Claim<'_>) -> Done<Claimed> {
    let mut values = vec![fleet.clone(), now.into()];
    let only = among(claim.only, "name", &mut values);
    let statement = format!(
        "SELECT count(*), CAST(COALESCE(sum(CASE WHEN state = 'waiting' AND not_before > $2 THEN 1 ELSE 0 END), 0) AS BIGINT)
         FROM reformis_machine WHERE fleet = $1 AND state IN ('running', 'waiting') {only}"
    );
    let rows = session.query(&statement, &values)?;
    let count = |place| rows.first().and_then(|row| row.count(place)).unwrap_or(0);
    // Whatever runs may be in the way, also what is not meant here.
    let held = held(session, fleet, now)?;
    Ok(match (count(0), held.len(), count(1)) {
        (0, _, _) => Claimed::Over,
        // Nothing runs, nothing waits for another try: only the time can be in the way.
        (_, 0, 0) if claim.most.is_some() => Claimed::NoTime,
        (_, 0, 0) => Claimed::Over,
        _ => Claimed::Later(held),
    })
}

/// The machines that workers have.
fn held(session: &mut dyn Session, fleet: &Value, now: i64) -> Done<Vec<Held>> {
    let rows = session.query(
        "SELECT name, worker, lease_until FROM reformis_machine WHERE fleet = $1 AND state = 'running' ORDER BY place",
        std::slice::from_ref(fleet),
    )?;
    let held = |row: &Row| Held {
        name: row.text(0).unwrap_or_default(),
        worker: row.text(1).unwrap_or_default(),
        left: Duration::from_millis(row.int(2).unwrap_or(now).saturating_sub(now).try_into().unwrap_or(0)),
    };
    Ok(rows.iter().map(held).collect())
}

/// Machines whose workers do not renew any more, or have ended as `worker` can see, wait again; those that were tried often enough have
/// failed.
pub(super) fn take_over(
    session: &mut dyn Session,
    fleet: &str,
    rules: &Rules,
    worker: &Worker,
    now: i64,
    by_lease: bool,
) -> Done<()> {
    let rows = session.query(
        "SELECT name, tries, team, worker, lease_until, process, host FROM reformis_machine WHERE fleet = $1 AND state = 'running'",
        &[fleet.into()],
    )?;
    let is_left = |row: &Row| {
        let is_late = row.int(4).is_none_or(|until| until < now);
        let process = row.text(5).filter(|_| row.text(6).as_ref() == Some(&worker.host));
        is_late && by_lease || process.is_some_and(|process| worker.has_ended(&process))
    };
    for row in rows.into_iter().filter(is_left) {
        let name = row.text(0).unwrap_or_default();
        let key = [Value::from(fleet), Value::from(&name)];
        if row.count(1).unwrap_or(0) >= u64::from(rules.failure.tries) {
            let reason = format!(
                "its worker ({}) ended, or lost the database, {} times",
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
