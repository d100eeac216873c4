//! A fleet file brought into the state: what is new in it, what changed, and what is gone. What has landed stays landed.

use std::collections::BTreeMap;

use uuid::Uuid;

use super::{
    State,
    database::{Result as Done, Session, Trouble, Value},
    ended::skip,
};
use crate::{
    error::Result,
    fleet::file::{Fleet, Spec},
};

/// Rows that are put in at once: their values stay below what a statement may have.
const AT_ONCE: usize = 500;
/// What every machine counts against.
pub(super) const ALL: &str = "all";

/// What a fleet file changed in the state.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Synced {
    /// Machines that are new.
    pub new: usize,
    /// Machines that are tried again, after they failed or were held back or left out.
    pub again: usize,
    /// Machines that are no longer in the file, and had not landed.
    pub gone: usize,
}

impl State {
    /// Brings `fleet` into the state. What failed, was skipped or was held back waits again; `again` names machines that were undone and
    /// are to be moved once more.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    pub fn sync(&self, fleet: &Fleet, again: &[String]) -> Result<Synced> {
        self.change(|session| sync(session, fleet, again))
    }
}

fn text(value: &impl serde::Serialize) -> Done<String> {
    serde_json::to_string(value).map_err(|error| Trouble { what: error.to_string(), again: false })
}

fn sync(session: &mut dyn Session, fleet: &Fleet, again: &[String]) -> Done<Synced> {
    let name = Value::from(&fleet.name);
    session.execute(
        "INSERT INTO reformis_fleet (name, rules) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET rules = $2, paused = 0",
        &[name.clone(), Value::from(&text(&fleet.rules)?)],
    )?;
    let rows = session.query(
        "SELECT name, spec, state, place, team FROM reformis_machine WHERE fleet = $1",
        std::slice::from_ref(&name),
    )?;
    let mut known: BTreeMap<String, _> = rows.into_iter().map(|row| (row.text(0).unwrap_or_default(), row)).collect();
    let mut synced = Synced::default();
    let mut new = Vec::new();
    for (place, spec) in fleet.machines.iter().enumerate() {
        let (spec_text, team) = (text(spec)?, fleet.group_of(&spec.row));
        let size = Value::from(spec.row.size.map(|size| size.0));
        let Some(row) = known.remove(&spec.row.name) else {
            let job = Uuid::new_v4().to_string();
            new.push(vec![
                name.clone(),
                Value::from(&spec.row.name),
                place.into(),
                team.into(),
                Value::from(&job),
                Value::from(&spec_text),
                size,
                "waiting".into(),
            ]);
            continue;
        };
        let state = row.text(2).unwrap_or_default();
        let begins_anew = match state.as_str() {
            "failed" | "skipped" | "held" | "gone" => true,
            "undone" => again.contains(&spec.row.name),
            _ => false,
        };
        let key = [name.clone(), Value::from(&spec.row.name)];
        let is_same = row.int(3) == i64::try_from(place).ok() && row.int(4) == i64::try_from(team).ok();
        if !is_same {
            let values = [&key[..], &[place.into(), team.into()]].concat();
            session
                .execute("UPDATE reformis_machine SET place = $3, team = $4 WHERE fleet = $1 AND name = $2", &values)?;
        }
        if begins_anew || state == "waiting" && row.text(1).as_ref() != Some(&spec_text) {
            let values = [&key[..], &[Value::from(&spec_text), size]].concat();
            session
                .execute("UPDATE reformis_machine SET spec = $3, size = $4 WHERE fleet = $1 AND name = $2", &values)?;
        }
        if begins_anew {
            synced.again += 1;
            // What was undone is another job: its old landing is none of it.
            let job = (state == "undone").then(|| Uuid::new_v4().to_string());
            session.execute(
                "UPDATE reformis_machine SET state = 'waiting', tries = 0, not_before = 0, began = NULL, ended = NULL, code = NULL,
                    reason = NULL, remedy = NULL, stage = NULL, done = NULL, total = NULL, receipt = NULL, landing = NULL,
                    answer = NULL, job = COALESCE(CAST($3 AS TEXT), job)
                 WHERE fleet = $1 AND name = $2",
                &[&key[..], &[Value::from(job.as_ref())]].concat(),
            )?;
        }
    }
    synced.new = new.len();
    put(session, "reformis_machine (fleet, name, place, team, job, spec, size, state)", &new)?;
    for (left, row) in known {
        if matches!(row.text(2).as_deref(), Some("waiting" | "failed" | "skipped" | "held")) {
            let values = [name.clone(), Value::from(&left)];
            session.execute("UPDATE reformis_machine SET state = 'gone' WHERE fleet = $1 AND name = $2", &values)?;
            synced.gone += 1;
        }
    }
    relations(session, fleet, &name)?;
    skip(session, &fleet.name)?;
    Ok(synced)
}

/// Who waits for whom, who uses what, and how much of that there may be.
fn relations(session: &mut dyn Session, fleet: &Fleet, name: &Value) -> Done<()> {
    for table in ["reformis_needs", "reformis_uses", "reformis_limit"] {
        session.execute(&format!("DELETE FROM {table} WHERE fleet = $1"), std::slice::from_ref(name))?;
    }
    let limits = &fleet.rules.limits;
    let hosts = limits.host.iter().map(|(host, most)| (format!("{HOST}{host}"), *most));
    let stores = limits.store.iter().map(|(store, most)| (format!("store {store}"), *most));
    let all = limits.at_once.map(|most| (ALL.to_string(), most));
    let most: BTreeMap<String, u32> = hosts.chain(stores).chain(all).collect();
    let row = |(what, most): (&String, &u32)| vec![name.clone(), Value::from(what), Value::from(u64::from(*most))];
    put(session, "reformis_limit (fleet, what, most)", &most.iter().map(row).collect::<Vec<_>>())?;
    let (mut needs, mut uses) = (Vec::new(), Vec::new());
    for spec in &fleet.machines {
        let row = |what: &String| vec![name.clone(), Value::from(&spec.row.name), Value::from(what)];
        let others: std::collections::BTreeSet<&String> = spec.row.after.iter().collect();
        needs.extend(others.into_iter().map(row));
        let has_rate = |what: &String| what.strip_prefix(HOST).is_some_and(|host| limits.rate.contains_key(host));
        uses.extend(used(spec).iter().filter(|what| most.contains_key(*what) || has_rate(what)).map(row));
    }
    put(session, "reformis_needs (fleet, name, other)", &needs)?;
    put(session, "reformis_uses (fleet, name, what)", &uses)
}

/// What is in front of a host's name, where its machines are counted.
pub(super) const HOST: &str = "host ";

/// What a move counts against, where that is limited.
fn used(spec: &Spec) -> Vec<String> {
    let host = spec.host().map(|host| format!("{HOST}{host}"));
    let stores = spec.stores().into_iter().map(|store| format!("store {store}"));
    let mut used: Vec<String> = host.into_iter().chain(stores).chain([ALL.to_string()]).collect();
    used.sort();
    used.dedup();
    used
}

/// Puts many rows into `table (columns)`.
fn put(session: &mut dyn Session, table: &str, rows: &[Vec<Value>]) -> Done<()> {
    for rows in rows.chunks(AT_ONCE) {
        let width = rows.first().map_or(0, Vec::len);
        let row = |row: usize| {
            let places: Vec<String> = (1..=width).map(|place| format!("${}", row * width + place)).collect();
            format!("({})", places.join(", "))
        };
        let all: Vec<String> = (0..rows.len()).map(row).collect();
        session.execute(&format!("INSERT INTO {table} VALUES {}", all.join(", ")), &rows.concat())?;
    }
    Ok(())
}
