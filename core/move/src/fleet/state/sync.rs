//! A fleet file brought into the state: what is new in it, what changed, and what is gone. What has landed stays landed.

use std::collections::{BTreeMap, BTreeSet};

use reformis_disk::text::printable;
use uuid::Uuid;

use super::{
    State,
    claim::take_over,
    database::{Result as Done, Row, Session, Trouble, Value},
    ended::{AFTER_LANDING, skip},
    lease::{HOST, parsed},
    notice::begin_anew,
};
use crate::{
    error::Result,
    fleet::{
        doubt::is_there,
        error::FleetError,
        file::{Ahead, Fleet, Rules, Spec},
        worker::Worker,
    },
};

/// Rows that are put in at once: their values stay below what a statement may have.
const AT_ONCE: usize = 500;
/// What every machine counts against.
pub(super) const ALL: &str = "all";

/// What a fleet file changed in the state.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Synced {
    /// How many machines are new.
    pub new: usize,
    /// How many machines are tried again, after they failed or were held back or left out.
    pub again: usize,
    /// Machines that have landed and whose program `after` did not end well: it is asked once more.
    pub after: Vec<String>,
    /// Machines that are no longer in the file, and had not landed.
    pub gone: Vec<String>,
}

impl State {
    /// Brings `fleet` into the state, as `worker` sees it. What failed, was skipped or was held back waits again, and so does what a worker
    /// had that has ended; `again` names machines that were undone, or whose landings are gone, and are to be moved once more. With `only`, it
    /// is those alone that wait again.
    ///
    /// # Errors
    /// [`FleetError::RowInWork`], [`FleetError::OtherFleet`], [`FleetError::StillLanded`]: nothing was changed then.
    /// [`FleetError::State`].
    pub fn sync(
        &self,
        fleet: &Fleet,
        again: &[String],
        only: Option<&BTreeSet<String>>,
        worker: &Worker,
    ) -> Result<Synced> {
        let synced = self.change(|session| {
            let known = match known(session, fleet, self.is_shared, worker)? {
                Ok(known) => known,
                Err(refused) => return Ok(Err(refused)),
            };
            if let Some(refused) = fleet.machines.iter().find_map(|spec| refused(&known, spec, again, worker)) {
                return Ok(Err(refused));
            }
            Ok(Ok(sync(session, fleet, again, only, known)?))
        })?;
        Ok(synced?)
    }
}

/// A machine as the state has it.
struct Known {
    /// What is to be done; none where another version wrote it.
    spec: Option<Spec>,
    spec_text: Option<String>,
    state: String,
    place: Option<i64>,
    team: Option<i64>,
    worker: String,
    host: Option<String>,
    landing: Option<String>,
    code: Option<String>,
    programs: Option<i64>,
    goes_on: bool,
}

fn text(value: &impl serde::Serialize) -> Done<String> {
    serde_json::to_string(value).map_err(|error| Trouble { what: error.to_string(), again: false })
}

/// The machines of the fleet that are known, once those of workers that have ended wait again.
fn known(
    session: &mut dyn Session,
    fleet: &Fleet,
    is_shared: bool,
    worker: &Worker,
) -> Done<std::result::Result<BTreeMap<String, Known>, FleetError>> {
    let name = Value::from(&fleet.name);
    let rows =
        session.query("SELECT origin, rules FROM reformis_fleet WHERE name = $1", std::slice::from_ref(&name))?;
    let Some(row) = rows.first() else { return Ok(Ok(BTreeMap::new())) };
    if let Some(origin) = row.text(0).filter(|origin| is_shared && !fleet.is_named && *origin != fleet.origin) {
        return Ok(Err(FleetError::OtherFleet { name: fleet.name.clone(), origin: printable(&origin) }));
    }
    if let Ok(rules) = parsed(&row.text(1).unwrap_or_default()) {
        let now = session.now()?;
        take_over(session, &fleet.name, &rules, worker, now, true)?;
    }
    let rows = session.query(
        "SELECT name, spec, state, place, team, worker, host, landing, code, programs, fence FROM reformis_machine WHERE fleet = $1",
        std::slice::from_ref(&name),
    )?;
    let known = |row: Row| {
        let spec_text = row.text(1);
        let known = Known {
            spec: spec_text.as_ref().and_then(|text| parsed(text).ok()),
            spec_text,
            state: row.text(2).unwrap_or_default(),
            place: row.int(3),
            team: row.int(4),
            worker: row.text(5).unwrap_or_default(),
            host: row.text(6),
            landing: row.text(7),
            code: row.text(8),
            programs: row.int(9),
            goes_on: row.count(10).unwrap_or(0) > 0,
        };
        (row.text(0).unwrap_or_default(), known)
    };
    Ok(Ok(rows.into_iter().map(known).collect()))
}

/// Why the machine's row cannot be taken as it is now, where it cannot.
fn refused(known: &BTreeMap<String, Known>, spec: &Spec, again: &[String], worker: &Worker) -> Option<FleetError> {
    let (name, known) = (&spec.row.name, known.get(&spec.row.name)?);
    match known.state.as_str() {
        "running" => {
            let differs = known.spec.as_ref().map_or_else(|| vec!["all of it".into()], |was| was.differences(spec));
            let (name, worker) = (name.clone(), printable(&known.worker));
            (!differs.is_empty()).then(|| FleetError::RowInWork { name, worker, what: differs.join("; ") })
        }
        "landed" if again.contains(name) && !is_gone(known, worker) => {
            let landing = printable(known.landing.as_deref().unwrap_or("another worker's machine"));
            Some(FleetError::StillLanded { name: name.clone(), landing })
        }
        _ => None,
    }
}

/// Whether the machine's landing was made here, and is not there any more.
fn is_gone(known: &Known, worker: &Worker) -> bool {
    let is_here = known.host.as_ref().is_none_or(|host| *host == worker.host);
    is_here && known.landing.as_ref().is_some_and(|landing| !is_there(landing.as_ref()))
}

fn sync(
    session: &mut dyn Session,
    fleet: &Fleet,
    again: &[String],
    only: Option<&BTreeSet<String>>,
    mut known: BTreeMap<String, Known>,
) -> Done<Synced> {
    let name = Value::from(&fleet.name);
    let was = session.query("SELECT rules FROM reformis_fleet WHERE name = $1", std::slice::from_ref(&name))?;
    let was: Option<Rules> = was.first().and_then(|row| parsed(&row.text(0).unwrap_or_default()).ok());
    session.execute(
        "INSERT INTO reformis_fleet (name, rules, origin) VALUES ($1, $2, $3)
         ON CONFLICT (name) DO UPDATE SET rules = $2, origin = $3, paused = 0",
        &[name.clone(), Value::from(&text(&fleet.rules)?), Value::from(&fleet.origin)],
    )?;
    let mut synced = Synced::default();
    let mut new = Vec::new();
    let tells_anew = fleet.rules.tell.machine.is_some() && was.is_none_or(|was| was.tell.machine.is_none());
    for (place, spec) in fleet.machines.iter().enumerate() {
        // What signs a link stays in the file.
        let (spec_text, team) = (text(&spec.without_secrets())?, fleet.group_of(&spec.row));
        let size = Value::from(spec.row.size.map(|size| size.0));
        let Some(known) = known.remove(&spec.row.name) else {
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
                spec.row.has_hooks().into(),
                (spec.row.ahead == Ahead::Early).into(),
            ]);
            continue;
        };
        let key = [name.clone(), Value::from(&spec.row.name)];
        let is_same = known.place == i64::try_from(place).ok() && known.team == i64::try_from(team).ok();
        if !is_same {
            let values = [&key[..], &[place.into(), team.into()]].concat();
            session
                .execute("UPDATE reformis_machine SET place = $3, team = $4 WHERE fleet = $1 AND name = $2", &values)?;
        }
        let is_again = again.contains(&spec.row.name);
        let is_meant = only.is_none_or(|only| only.contains(&spec.row.name));
        let begins_anew = match known.state.as_str() {
            "failed" | "skipped" | "held" => is_meant,
            "gone" => true,
            // A landing that is there is refused before.
            "undone" | "landed" => is_again,
            _ => false,
        };
        let is_other = known.spec.as_ref().is_none_or(|was| !was.other_landing(spec).is_empty());
        // Of what has landed, only what is done around it may be another thing now.
        let may_change = begins_anew || known.state == "waiting" || known.state == "landed" && !is_other;
        let has_hooks = i64::from(spec.row.has_hooks());
        if may_change && (known.spec_text.as_ref() != Some(&spec_text) || known.programs != Some(has_hooks)) {
            let is_early = spec.row.ahead == Ahead::Early;
            let values = [&key[..], &[Value::from(&spec_text), size, has_hooks.into(), is_early.into()]].concat();
            let statement = "UPDATE reformis_machine SET spec = $3, size = $4, programs = $5, early = $6 WHERE fleet = $1 AND name = $2";
            session.execute(statement, &values)?;
        }
        // What was undone, or is to become another landing, is another job: what an earlier one left is none of it.
        let is_new_job =
            begins_anew && is_again || is_other && (begins_anew || known.state == "waiting" && known.goes_on);
        if is_new_job {
            let job = Value::from(&Uuid::new_v4().to_string());
            let values = [&key[..], &[job]].concat();
            let statement = "UPDATE reformis_machine SET job = $3, landing = NULL, after_hook = NULL, first_pass = NULL, landed_files = NULL WHERE fleet = $1 AND name = $2";
            session.execute(statement, &values)?;
        }
        if begins_anew {
            synced.again += 1;
            session.execute(
                "UPDATE reformis_machine SET state = 'waiting', tries = 0, not_before = 0, began = NULL, ended = NULL, code = NULL,
                    reason = NULL, remedy = NULL, stage = NULL, done = NULL, total = NULL, receipt = NULL, answer = NULL
                 WHERE fleet = $1 AND name = $2",
                &key,
            )?;
        } else if known.state == "landed" && known.code.as_deref() == Some(AFTER_LANDING) && !is_other {
            // Whoever takes it finds its landing, and asks the program once more.
            synced.after.push(spec.row.name.clone());
            session.execute(
                "UPDATE reformis_machine SET state = 'waiting', tries = 0, not_before = 0, code = NULL, reason = NULL, after_hook = NULL
                 WHERE fleet = $1 AND name = $2",
                &key,
            )?;
        }
    }
    synced.new = new.len();
    put(session, "reformis_machine (fleet, name, place, team, job, spec, size, state, programs, early)", &new)?;
    for (left, known) in known {
        if matches!(known.state.as_str(), "waiting" | "failed" | "skipped" | "held") {
            let values = [name.clone(), Value::from(&left)];
            session.execute("UPDATE reformis_machine SET state = 'gone' WHERE fleet = $1 AND name = $2", &values)?;
            synced.gone.push(left);
        }
    }
    relations(session, fleet, &name)?;
    skip(session, &fleet.name)?;
    let groups: Vec<String> = fleet.rules.groups.iter().map(|group| group.name.clone()).collect();
    begin_anew(session, &fleet.name, &groups, tells_anew)?;
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
        let rules = &fleet.rules;
        let has_rate = |what: &String| {
            let is_told = |host: &str| limits.rate.contains_key(host) || rules.quiet.contains_key(host);
            what.strip_prefix(HOST).is_some_and(is_told)
        };
        uses.extend(used(spec).iter().filter(|what| most.contains_key(*what) || has_rate(what)).map(row));
    }
    put(session, "reformis_needs (fleet, name, other)", &needs)?;
    put(session, "reformis_uses (fleet, name, what)", &uses)
}

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
