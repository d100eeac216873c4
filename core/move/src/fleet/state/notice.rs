//! What the site's programs are told of a night, each end once: whoever tells it says so before, and how that went behind it. Where its
//! process ends in between, somebody else tells it, so that a program may hear of an end twice, and never not at all.

use std::time::Duration;

use super::{
    State,
    database::{Result as Done, Row, Session, Value},
    lease::{millis, rules},
};
use crate::{
    error::Result,
    fleet::{file::Tell, worker::Worker},
};

/// What has ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Subject {
    /// A machine: it has landed, failed, or was left out.
    Machine(String),
    /// All machines of a group.
    Group(String),
    /// All machines, or the time for them.
    Night,
}

impl Subject {
    /// The word for it in the state.
    fn word(&self) -> String {
        match self {
            Self::Machine(name) => format!("{MACHINE}{name}"),
            Self::Group(name) => format!("{GROUP}{name}"),
            Self::Night => NIGHT.into(),
        }
    }
}

const MACHINE: &str = "machine ";
const GROUP: &str = "group ";
const NIGHT: &str = "night";

/// Who tells, and of what.
#[derive(Debug, Clone, Copy)]
pub struct Notice<'a> {
    /// Of which fleet.
    pub fleet: &'a str,
    /// Who tells.
    pub worker: &'a Worker,
    /// The programs that are told.
    pub tell: &'a Tell,
    /// After this time, who began to tell is taken to have been lost.
    pub patience: Duration,
    /// Whether the night is over for this worker, also where machines still wait.
    pub night_is_over: bool,
}

impl State {
    /// What is to be told next; it is this worker's to tell from then on.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn next_notice(&self, notice: &Notice<'_>) -> Result<Option<Subject>> {
        self.change(|session| {
            let (fleet, now) = (Value::from(notice.fleet), session.now()?);
            forget_lost(session, &fleet, notice.worker, now)?;
            let Some(subject) = due(session, &fleet, notice)? else { return Ok(None) };
            let values = [
                fleet,
                Value::from(&subject.word()),
                Value::from(&notice.worker.host),
                notice.worker.process().into(),
                (now + millis(notice.patience)).into(),
            ];
            let statement =
                "INSERT INTO reformis_notice (fleet, what, host, process, until) VALUES ($1, $2, $3, $4, $5)";
            session.execute(statement, &values)?;
            Ok(Some(subject))
        })
    }

    /// Notes that `subject` was told.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn noticed(&self, fleet: &str, subject: &Subject) -> Result<()> {
        let values = [Value::from(fleet), Value::from(&subject.word())];
        let statement = "UPDATE reformis_notice SET done = 1 WHERE fleet = $1 AND what = $2";
        self.change(|session| session.execute(statement, &values).map(drop))
    }
}

/// Forgets what those began to tell who have ended, or are silent for too long.
fn forget_lost(session: &mut dyn Session, fleet: &Value, worker: &Worker, now: i64) -> Done<()> {
    let rows = session.query(
        "SELECT what, host, process, until FROM reformis_notice WHERE fleet = $1 AND done = 0",
        std::slice::from_ref(fleet),
    )?;
    let is_lost = |row: &Row| {
        let process = row.text(2).filter(|_| row.text(1).as_ref() == Some(&worker.host));
        row.int(3).is_none_or(|until| until < now) || process.is_some_and(|process| worker.has_ended(&process))
    };
    for row in rows.iter().filter(|row| is_lost(row)) {
        let values = [fleet.clone(), Value::from(&row.text(0).unwrap_or_default())];
        session.execute("DELETE FROM reformis_notice WHERE fleet = $1 AND what = $2", &values)?;
    }
    Ok(())
}

fn is_known(session: &mut dyn Session, fleet: &Value, subject: &Subject) -> Done<bool> {
    let values = [fleet.clone(), Value::from(&subject.word())];
    Ok(!session.query("SELECT 1 FROM reformis_notice WHERE fleet = $1 AND what = $2", &values)?.is_empty())
}

fn due(session: &mut dyn Session, fleet: &Value, notice: &Notice<'_>) -> Done<Option<Subject>> {
    if notice.tell.machine.is_some() {
        let rows = session.query(
            "SELECT m.name FROM reformis_machine m WHERE m.fleet = $1 AND m.state IN ('landed', 'failed', 'skipped')
               AND NOT EXISTS (SELECT 1 FROM reformis_notice n WHERE n.fleet = m.fleet AND n.what = 'machine ' || m.name)
             ORDER BY m.team, m.place LIMIT 1",
            std::slice::from_ref(fleet),
        )?;
        if let Some(name) = rows.first().and_then(|row| row.text(0)) {
            return Ok(Some(Subject::Machine(name)));
        }
    }
    let open = open_teams(session, fleet)?;
    if notice.tell.group.is_some() {
        let rules = rules(session, notice.fleet)?.0;
        for (team, group) in rules.groups.iter().enumerate().filter(|(_, group)| !group.name.is_empty()) {
            let subject = Subject::Group(group.name.clone());
            if !open.contains(&(team as u64)) && !is_known(session, fleet, &subject)? {
                return Ok(Some(subject));
            }
        }
    }
    if notice.tell.night.is_some() && notice.night_is_over && !is_known(session, fleet, &Subject::Night)? {
        let statement = "SELECT 1 FROM reformis_machine WHERE fleet = $1 AND state = 'running' LIMIT 1";
        // The last worker tells of it.
        if session.query(statement, std::slice::from_ref(fleet))?.is_empty() {
            return Ok(Some(Subject::Night));
        }
    }
    Ok(None)
}

/// The groups of which a machine waits or runs.
fn open_teams(session: &mut dyn Session, fleet: &Value) -> Done<Vec<u64>> {
    let rows = session.query(
        "SELECT DISTINCT team FROM reformis_machine WHERE fleet = $1 AND state IN ('waiting', 'running')",
        std::slice::from_ref(fleet),
    )?;
    Ok(rows.iter().filter_map(|row| row.count(0)).collect())
}

/// What is not over any more is told once more when it is; with `is_new`, programs were named that are not told of what ended before.
pub(super) fn begin_anew(session: &mut dyn Session, fleet: &str, groups: &[String], is_new: bool) -> Done<()> {
    let name = Value::from(fleet);
    if is_new {
        session.execute(
            "INSERT INTO reformis_notice (fleet, what, until, done)
             SELECT fleet, 'machine ' || name, 0, 1 FROM reformis_machine WHERE fleet = $1 AND state IN ('landed', 'failed')
             ON CONFLICT (fleet, what) DO NOTHING",
            std::slice::from_ref(&name),
        )?;
    }
    session.execute(
        "DELETE FROM reformis_notice WHERE fleet = $1 AND what IN (
             SELECT 'machine ' || name FROM reformis_machine WHERE fleet = $1 AND state IN ('waiting', 'running', 'gone'))",
        std::slice::from_ref(&name),
    )?;
    let open = open_teams(session, &name)?;
    let open_groups = groups.iter().enumerate().filter(|(team, _)| open.contains(&(*team as u64)));
    let mut over: Vec<Subject> = open_groups.map(|(_, group)| Subject::Group(group.clone())).collect();
    if !open.is_empty() {
        over.push(Subject::Night);
    }
    for subject in over {
        let values = [name.clone(), Value::from(&subject.word())];
        session.execute("DELETE FROM reformis_notice WHERE fleet = $1 AND what = $2", &values)?;
    }
    Ok(())
}
