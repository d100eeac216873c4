//! Everything that a night would refuse, before it.

use std::{collections::BTreeMap, path::PathBuf};

use reformis_disk::source::Links;
use reformis_machine::Site;
use serde::Serialize;

use super::{
    error::FleetError,
    file::{Fleet, Spec},
    look::{each, look},
    night::free,
};
use crate::{
    error::{Error, Result},
    finding::{Finding, FindingRecord, Severity},
    observer::Context,
    receipt::{self, Receipt},
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
    /// Programs that the file names and that are not there.
    pub programs: Vec<String>,
}

impl Check {
    /// Whether nothing stands in the way.
    pub fn goes(&self) -> bool {
        self.machines.iter().all(|machine| machine.goes)
            && self.rooms.iter().all(|room| room.free >= room.needed)
            && self.programs.is_empty()
    }
}

/// Looks at every machine of `fleet`, `at_once` at the same time.
///
/// # Errors
/// Interrupted. What is wrong with a machine is told of it.
pub fn check(fleet: &Fleet, site: &Site, at_once: usize, context: &Context<'_>) -> Result<Check> {
    let machines = each(&fleet.machines, at_once, |spec| of_machine(fleet, spec, site, context));
    context.check()?;
    Ok(Check { rooms: rooms(fleet, &machines), programs: programs_missing(fleet), machines })
}

fn of_machine(fleet: &Fleet, spec: &Spec, site: &Site, context: &Context<'_>) -> Checked {
    let group = fleet.rules.groups.get(fleet.group_of(&spec.row)).map(|group| group.name.clone());
    let mut checked = Checked {
        name: spec.row.name.clone(),
        group: group.unwrap_or_default(),
        goes: false,
        landed: spec.landing().exists(),
        bytes: None,
        verdict: None,
        findings: Vec::new(),
        error: None,
        remedy: None,
    };
    if checked.landed {
        let receipt = Receipt::read(&spec.landing().join(receipt::FILE_NAME), context.budget);
        checked.goes = receipt.is_ok_and(|receipt| receipt.job.is_some());
        if !checked.goes {
            let taken = Error::from(reformis_disk::Error::Exists { path: spec.landing().to_string_lossy().into() });
            checked.remedy = taken.remedy().map(str::to_string);
            checked.error = Some((taken.code().into(), taken.to_string()));
        }
        return checked;
    }
    let links = if spec.row.trust_links { Links::Trusted } else { Links::OwnFolder };
    let wrong = |what: String| Error::from(FleetError::File { file: fleet.name.clone(), what });
    let seen = spec.order(context.wires).map_err(wrong).and_then(|order| look(&order, site, links, true, context));
    let error = match seen {
        Ok(seen) => {
            checked.bytes = seen.bytes;
            checked.verdict = seen.verdict;
            checked.findings = seen.findings.iter().map(Finding::record).collect();
            let is_open = |finding: &&Finding| {
                finding.severity() == Severity::Blocker
                    && (!spec.row.accept.iter().any(|code| code == finding.code()) || !finding.is_acceptable())
            };
            checked.goes = !seen.findings.iter().any(|finding| is_open(&finding));
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

/// Programs with a path that are not there; where one without is found, only its machine's own search tells.
fn programs_missing(fleet: &Fleet) -> Vec<String> {
    let mut missing = Vec::new();
    for spec in &fleet.machines {
        for program in spec.row.programs().filter_map(|program| program.first()) {
            if program.contains('/') && !spec.folder.join(program).is_file() && !missing.contains(program) {
                missing.push(program.clone());
            }
        }
    }
    missing
}
