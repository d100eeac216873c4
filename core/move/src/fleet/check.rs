//! Everything that a night would refuse, before it.

use std::{collections::BTreeMap, path::PathBuf};

use reformis_disk::source::Links;
use reformis_machine::Site;
use serde::Serialize;

use super::{
    doubt::{Doubt, doubts_of},
    error::FleetError,
    file::{Fleet, Spec},
    look::{each, goes, look},
    night::free,
    state::{Stand, State},
};
use crate::{
    error::{Error, Result},
    finding::{Finding, FindingRecord},
    observer::Context,
    verdict::Verdict,
};

/// A machine of a fleet, looked at.
#[derive(Debug, Clone, Serialize)]
pub struct Checked {
    /// Its name.
    pub name: String,
    /// Its group; empty where the fleet has none.
    pub group: String,
    /// Whether a carry would begin.
    pub goes: bool,
    /// Whether its landing is there already.
    pub landed: bool,
    /// Bytes that will be carried, where that is known.
    pub bytes: Option<u64>,
    /// Whether it boots where it goes.
    pub verdict: Option<Verdict>,
    /// What there is to say.
    pub findings: Vec<FindingRecord>,
    /// The stable word for what stops it, and the sentence.
    pub error: Option<(String, String)>,
    /// What helps.
    pub remedy: Option<String>,
    /// What does not fit between its row and what has become of it.
    pub doubts: Vec<Doubt>,
}

/// The room in a folder for landings.
#[derive(Debug, Clone, Serialize)]
pub struct Room {
    /// The folder.
    pub folder: PathBuf,
    /// Bytes that are free there.
    pub free: u64,
    /// Bytes that the landings may take, and those that stay free.
    pub needed: u64,
}

/// A fleet, looked at.
#[derive(Debug, Clone, Serialize)]
pub struct Check {
    /// Its machines, in the order of the file.
    pub machines: Vec<Checked>,
    /// Where landings are made on this machine's file systems.
    pub rooms: Vec<Room>,
}

impl Check {
    /// Whether nothing stands in the way.
    pub fn goes(&self) -> bool {
        self.machines.iter().all(|machine| machine.goes) && self.rooms.iter().all(|room| room.free >= room.needed)
    }
}

/// Looks at every machine of `fleet`, `at_once` at the same time; `state` is what earlier runs left, where there were some.
///
/// # Errors
/// Interrupted; [`FleetError::State`]. What is wrong with a machine is told of it.
pub fn check(
    fleet: &Fleet,
    state: Option<&State>,
    site: &Site,
    at_once: usize,
    context: &Context<'_>,
) -> Result<Check> {
    let known = state.map(|state| state.known(&fleet.name)).transpose()?.unwrap_or_default();
    let doubts = doubts_of(fleet, &known);
    let rows: Vec<_> = fleet.machines.iter().zip(doubts).collect();
    let machines = each(&rows, at_once, |(spec, doubts)| {
        let is_taken = doubts.iter().any(|doubt| matches!(doubt, Doubt::Exists { .. }));
        let said = known.get(&spec.row.name).is_some_and(|(machine, _)| machine.state == Stand::Landed);
        // A landing that is nobody else's is one that its worker could not speak of any more.
        let landed = said || !is_taken && spec.landing().exists();
        let mut checked = match landed || is_taken {
            true => unread(fleet, spec, landed),
            false => of_machine(fleet, spec, site, context),
        };
        checked.doubts.clone_from(doubts);
        checked.goes &= doubts.is_empty();
        checked
    });
    context.check()?;
    Ok(Check { rooms: rooms(fleet, &machines), machines })
}

/// A machine of which nothing is read.
fn unread(fleet: &Fleet, spec: &Spec, landed: bool) -> Checked {
    let group = fleet.rules.groups.get(fleet.group_of(&spec.row)).map(|group| group.name.clone());
    Checked {
        name: spec.row.name.clone(),
        group: group.unwrap_or_default(),
        goes: landed,
        landed,
        bytes: None,
        verdict: None,
        findings: Vec::new(),
        error: None,
        remedy: None,
        doubts: Vec::new(),
    }
}

fn of_machine(fleet: &Fleet, spec: &Spec, site: &Site, context: &Context<'_>) -> Checked {
    let mut checked = unread(fleet, spec, false);
    let links = if spec.row.trust_links { Links::Trusted } else { Links::OwnFolder };
    let wrong = |what: String| Error::from(FleetError::File { file: fleet.name.clone(), what });
    let seen = spec.order(context.wires).map_err(wrong).and_then(|order| look(&order, site, links, true, context));
    let error = match seen {
        Ok(seen) => {
            checked.bytes = seen.bytes;
            checked.verdict = seen.verdict;
            checked.findings = seen.findings.iter().map(Finding::record).collect();
            checked.goes = goes(&seen.findings, &spec.row.accept);
            return checked;
        }
        Err(error) => error,
    };
    if let Error::Refused { findings } = &error {
        checked.findings = findings.iter().map(Finding::record).collect();
    }
    checked.remedy = error.remedy().map(str::to_string);
    checked.error = Some((error.code().into(), error.to_string()));
    checked
}

/// What lands in each folder of this machine, and what is free there.
fn rooms(fleet: &Fleet, machines: &[Checked]) -> Vec<Room> {
    let mut needed: BTreeMap<PathBuf, u64> = BTreeMap::new();
    for (spec, checked) in fleet.machines.iter().zip(machines) {
        if spec.stores().is_empty() && !checked.landed {
            let bytes = checked.bytes.or(spec.row.size.map(|size| size.0)).unwrap_or(0);
            let sum = needed.entry(spec.into()).or_default();
            *sum = sum.saturating_add(bytes);
        }
    }
    let stays = fleet.rules.limits.room.map_or(0, |room| room.0);
    let room = |(folder, needed): (PathBuf, u64)| {
        let free = free(&folder)?;
        Some(Room { folder, free, needed: needed.saturating_add(stays) })
    };
    needed.into_iter().filter_map(room).collect()
}
