//! Where a fleet stands, for whoever looks.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use serde::Serialize;
use uuid::Uuid;

use super::{
    State,
    database::{Row, Value},
    lease::{HOST, parsed},
};
use crate::{
    error::Result,
    fleet::{
        error::FleetError,
        file::{Rules, Spec},
        worker::Worker,
    },
};

/// How a machine stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Stand {
    /// It was tried, and given up.
    Failed,
    /// What it comes after has not landed, or its group was stopped.
    Skipped,
    /// A person holds it back.
    Held,
    /// A worker has it.
    Running,
    /// It has not begun, or will be tried again.
    Waiting,
    /// It has landed.
    Landed,
    /// Its landing was removed.
    Undone,
    /// It is no longer in the file.
    Gone,
}

impl Stand {
    const ALL: [Self; 8] =
        [Self::Failed, Self::Skipped, Self::Held, Self::Running, Self::Waiting, Self::Landed, Self::Undone, Self::Gone];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Failed => "failed",
            Self::Skipped => "skipped",
            Self::Held => "held",
            Self::Running => "running",
            Self::Waiting => "waiting",
            Self::Landed => "landed",
            Self::Undone => "undone",
            Self::Gone => "gone",
        }
    }
}

/// A machine of a fleet, as it stands.
#[derive(Debug, Clone, Serialize)]
pub struct Machine {
    /// Its name.
    pub name: String,
    /// The job, which its landing carries.
    pub job: Option<Uuid>,
    /// Its group; empty where the fleet has none.
    pub group: String,
    /// The group's place among all.
    pub team: usize,
    /// How it stands.
    pub state: Stand,
    /// How often it was begun.
    pub tries: u64,
    /// Who has it, or had it last.
    pub worker: Option<String>,
    /// What is being done with it.
    pub stage: Option<String>,
    /// Bytes of that which are done.
    pub done: Option<u64>,
    /// All of its bytes; what was carried, of one that has landed.
    pub total: Option<u64>,
    /// Bytes that the file expects.
    pub size: Option<u64>,
    /// When it began.
    pub began: Option<Timestamp>,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// When it may be tried again.
    pub not_before: Option<Timestamp>,
    /// The stable word for what went wrong.
    pub code: Option<String>,
    /// What went wrong, as a sentence.
    pub reason: Option<String>,
    /// What helps.
    pub remedy: Option<String>,
    /// Its landing.
    pub landing: Option<String>,
    /// What it answered after it was started.
    pub answer: Option<serde_json::Value>,
    /// How far the program `before` of the last try is: `begun`, or `done` and its code.
    pub before: Option<String>,
    /// How far the program `after` is.
    pub after: Option<String>,
    /// When its first pass was made, where the rest waits.
    pub first_pass: Option<Timestamp>,
    /// What came of its rehearsal.
    pub rehearsal: Option<serde_json::Value>,
    /// Seconds that are left for it, about; of one that waits, those that it will take. Filled in by [`super::super::night::estimate`].
    pub left_seconds: Option<f64>,
    /// The machine whose worker has it or had it last.
    #[serde(skip)]
    pub host: Option<String>,
}

/// Machines by their names, with what is to be done with each; none of what another version wrote.
pub(in crate::fleet) type KnownMachines = BTreeMap<String, (Machine, Option<Spec>)>;

impl Machine {
    /// Whether its worker ran on the machine of `worker`, as far as is known.
    pub(crate) fn is_of(&self, worker: &Worker) -> bool {
        self.host.as_ref().is_none_or(|host| *host == worker.host)
    }
}

/// How many machines stand how.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Counts {
    /// All that are in the file.
    pub machines: usize,
    /// Landed.
    pub landed: usize,
    /// Running.
    pub running: usize,
    /// Waiting.
    pub waiting: usize,
    /// Failed.
    pub failed: usize,
    /// Skipped.
    pub skipped: usize,
    /// Held back.
    pub held: usize,
    /// Undone.
    pub undone: usize,
}

impl Counts {
    /// Those of `machines`.
    pub fn of(machines: &[Machine]) -> Self {
        let count = |state: Stand| machines.iter().filter(|machine| machine.state == state).count();
        Self {
            machines: machines.len() - count(Stand::Gone),
            landed: count(Stand::Landed),
            running: count(Stand::Running),
            waiting: count(Stand::Waiting),
            failed: count(Stand::Failed),
            skipped: count(Stand::Skipped),
            held: count(Stand::Held),
            undone: count(Stand::Undone),
        }
    }
}

/// How fast machines of a fleet have landed.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Pace {
    /// Machines that landed.
    pub machines: u64,
    /// Bytes that were carried for them.
    pub bytes: u64,
    /// Seconds that all of them took, added up.
    pub seconds: f64,
}

const COLUMNS: &str = "name, team, state, tries, worker, stage, done, total, size, began, ended, not_before, code, reason, remedy, landing, answer, job, before_hook, after_hook, host, first_pass, rehearsal";

fn machine(row: &Row, rules: &Rules) -> Machine {
    let time = |place| row.int(place).filter(|time| *time > 0).and_then(|time| Timestamp::from_millisecond(time).ok());
    let team = row.count(1).and_then(|team| usize::try_from(team).ok()).unwrap_or(0);
    let word = row.text(2).unwrap_or_default();
    let state = Stand::ALL.into_iter().find(|state| state.word() == word).unwrap_or(Stand::Gone);
    Machine {
        name: row.text(0).unwrap_or_default(),
        job: row.text(17).and_then(|job| job.parse().ok()),
        group: rules.groups.get(team).map(|group| group.name.clone()).unwrap_or_default(),
        team,
        state,
        tries: row.count(3).unwrap_or(0),
        worker: row.text(4),
        stage: row.text(5),
        done: row.count(6),
        total: row.count(7),
        size: row.count(8),
        began: time(9),
        ended: time(10),
        not_before: time(11).filter(|_| state == Stand::Waiting),
        code: row.text(12),
        reason: row.text(13),
        remedy: row.text(14),
        landing: row.text(15),
        answer: row.text(16).and_then(|text| serde_json::from_str(&text).ok()),
        before: row.text(18),
        after: row.text(19),
        host: row.text(20),
        first_pass: time(21).filter(|_| state == Stand::Waiting),
        rehearsal: row.text(22).and_then(|text| serde_json::from_str(&text).ok()),
        left_seconds: None,
    }
}

impl State {
    /// The names of all fleets.
    ///
    /// # Errors
    /// [`FleetError::State`].
    pub fn fleets(&self) -> Result<Vec<String>> {
        let rows = self.look(|session| session.query("SELECT name FROM reformis_fleet ORDER BY name", &[]))?;
        Ok(rows.iter().filter_map(|row| row.text(0)).collect())
    }

    /// The rules of `fleet`, and whether it is paused.
    ///
    /// # Errors
    /// [`FleetError::NoFleet`], [`FleetError::State`].
    pub fn rules(&self, fleet: &str) -> Result<(Rules, bool)> {
        let found = self.look(|session| {
            let rows = session.query("SELECT rules, paused FROM reformis_fleet WHERE name = $1", &[fleet.into()])?;
            let Some(row) = rows.first() else { return Ok(None) };
            Ok(Some((parsed(&row.text(0).unwrap_or_default())?, row.int(1) == Some(1))))
        })?;
        Ok(found.ok_or_else(|| FleetError::NoFleet { name: fleet.into(), place: self.place.clone() })?)
    }

    /// All machines of `fleet` in the order of its file, those that are gone from it last.
    ///
    /// # Errors
    /// [`FleetError::NoFleet`], [`FleetError::State`].
    pub fn machines(&self, fleet: &str) -> Result<Vec<Machine>> {
        let (rules, _) = self.rules(fleet)?;
        let statement = format!(
            "SELECT {COLUMNS} FROM reformis_machine WHERE fleet = $1 ORDER BY CASE WHEN state = 'gone' THEN 1 ELSE 0 END, team, place, name"
        );
        let rows = self.look(|session| session.query(&statement, &[fleet.into()]))?;
        Ok(rows.iter().map(|row| machine(row, &rules)).collect())
    }

    /// All machines of `fleet`, with what is to be done with each; none of what another version wrote.
    ///
    /// # Errors
    /// [`FleetError::State`]; a fleet that is not there has no machines.
    pub(in crate::fleet) fn known(&self, fleet: &str) -> Result<KnownMachines> {
        let rules = match self.rules(fleet) {
            Ok((rules, _)) => rules,
            Err(crate::Error::Fleet(FleetError::NoFleet { .. })) => return Ok(BTreeMap::new()),
            Err(error) => return Err(error),
        };
        let statement = format!("SELECT {COLUMNS}, spec FROM reformis_machine WHERE fleet = $1");
        let rows = self.look(|session| session.query(&statement, &[fleet.into()]))?;
        let known = |row: &Row| {
            let spec = row.text(COLUMNS.split(", ").count()).and_then(|text| parsed(&text).ok());
            let machine = machine(row, &rules);
            (machine.name.clone(), (machine, spec))
        };
        Ok(rows.iter().map(known).collect())
    }

    /// One machine.
    ///
    /// # Errors
    /// [`FleetError::NoMachine`], [`FleetError::NoFleet`], [`FleetError::State`].
    pub fn machine(&self, fleet: &str, name: &str) -> Result<(Machine, Spec)> {
        let (rules, _) = self.rules(fleet)?;
        let statement = format!("SELECT {COLUMNS}, spec FROM reformis_machine WHERE fleet = $1 AND name = $2");
        let found = self.look(|session| {
            let rows = session.query(&statement, &[fleet.into(), name.into()])?;
            let Some(row) = rows.first() else { return Ok(None) };
            let spec = parsed(&row.text(COLUMNS.split(", ").count()).unwrap_or_default())?;
            Ok(Some((machine(row, &rules), spec)))
        })?;
        Ok(found.ok_or_else(|| FleetError::NoMachine { name: name.into() })?)
    }

    /// The programs of all machines that are still to be moved, each once.
    ///
    /// # Errors
    /// [`FleetError::NoFleet`], [`FleetError::State`].
    pub fn programs(&self, fleet: &str) -> Result<Vec<String>> {
        let (told, _) = self.rules(fleet)?;
        let found = self.look(|session| {
            let rows = session.query(
                "SELECT spec FROM reformis_machine WHERE fleet = $1 AND state IN ('waiting', 'running') AND COALESCE(programs, 1) = 1",
                &[fleet.into()],
            )?;
            let mut found: BTreeSet<String> = BTreeSet::new();
            found.extend(told.tell.programs().map(|program| program.join(" ")));
            for row in rows {
                let spec: Spec = parsed(&row.text(0).unwrap_or_default())?;
                found.extend(spec.row.hook_programs().map(|program| program.join(" ")));
            }
            Ok(found)
        })?;
        Ok(found.into_iter().collect())
    }

    /// The receipt of a machine that has landed, as JSON.
    ///
    /// # Errors
    /// [`FleetError::State`].
    pub fn receipt(&self, fleet: &str, name: &str) -> Result<Option<String>> {
        let statement = "SELECT receipt FROM reformis_machine WHERE fleet = $1 AND name = $2";
        let rows = self.look(|session| session.query(statement, &[fleet.into(), Value::from(name)]))?;
        Ok(rows.first().and_then(|row| row.text(0)))
    }

    /// The files of a machine's landing as they were when it landed, as JSON; none where nobody noted them.
    ///
    /// # Errors
    /// [`FleetError::State`].
    pub(in crate::fleet) fn landed_files(&self, fleet: &str, name: &str) -> Result<Option<String>> {
        let statement = "SELECT landed_files FROM reformis_machine WHERE fleet = $1 AND name = $2";
        let rows = self.look(|session| session.query(statement, &[fleet.into(), Value::from(name)]))?;
        Ok(rows.first().and_then(|row| row.text(0)))
    }

    /// How many workers move machines of each host just now; of hosts whose rate or number at once is limited.
    ///
    /// # Errors
    /// [`FleetError::State`].
    pub(in crate::fleet) fn workers_by_host(&self, fleet: &str) -> Result<BTreeMap<String, u64>> {
        let statement = "SELECT u.what, count(DISTINCT m.worker) FROM reformis_machine m
             JOIN reformis_uses u ON u.fleet = m.fleet AND u.name = m.name
             WHERE m.fleet = $1 AND m.state = 'running' GROUP BY u.what";
        let rows = self.look(|session| session.query(statement, &[fleet.into()]))?;
        let of_host = |row: &Row| Some((row.text(0)?.strip_prefix(HOST)?.to_string(), row.count(1)?));
        Ok(rows.iter().filter_map(of_host).collect())
    }

    /// How fast machines of `fleet` have landed so far.
    ///
    /// # Errors
    /// [`FleetError::State`].
    pub fn pace(&self, fleet: &str) -> Result<Pace> {
        let statement =
            "SELECT count(*), CAST(COALESCE(sum(total), 0) AS BIGINT), CAST(COALESCE(sum(ended - began), 0) AS BIGINT)
             FROM reformis_machine WHERE fleet = $1 AND state = 'landed' AND ended >= began";
        let rows = self.look(|session| session.query(statement, &[fleet.into()]))?;
        let count = |place| rows.first().and_then(|row| row.count(place)).unwrap_or(0);
        #[expect(clippy::cast_precision_loss, reason = "an estimate")]
        Ok(Pace { machines: count(0), bytes: count(1), seconds: count(2) as f64 / 1000.0 })
    }
}
