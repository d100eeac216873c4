//! The morning's report of a fleet: what landed, what did not and why, and who answers.

use std::path::PathBuf;

use jiff::Timestamp;
use reformis_disk::{source::Access, text::in_order};
use serde::Serialize;

use super::{MachineReport, Report, Unread, Urgency, of_receipt, of_record, sorted};
use crate::{
    error::{Error, Result},
    fleet::{Counts, Machine, Stand, State, rehearse::Rehearsed},
    observer::Context,
    receipt::{self, Receipt},
};

/// A fleet, as its state tells.
#[derive(Debug, Clone, Serialize)]
pub struct FleetReport {
    /// Its name.
    pub name: String,
    /// How many machines stand how.
    pub counts: Counts,
    /// Its groups, in their order.
    pub groups: Vec<GroupReport>,
    /// Machines that have not landed, those that failed first.
    pub open: Vec<FleetRow>,
    /// Machines that answered after they were started.
    pub answer: usize,
    /// Machines that were asked, and did not.
    pub silent: usize,
    /// The zone of its hours, by its name in the IANA time zone database.
    pub zone: Option<String>,
    /// How the rehearsals went, in the order of the file; empty where there were none.
    pub rehearsals: Vec<Rehearsed>,
    /// Seconds that the rehearsals told for the machines that have not landed, added up; none where one of them tells nothing.
    pub rehearsed_seconds: Option<f64>,
}

/// A group.
#[derive(Debug, Clone, Serialize)]
pub struct GroupReport {
    /// Its name; empty where the fleet has none.
    pub name: String,
    /// Machines in it.
    pub machines: usize,
    /// Those that have landed.
    pub landed: usize,
    /// When the first of them began.
    pub began: Option<Timestamp>,
    /// When the last of them ended.
    pub ended: Option<Timestamp>,
}

/// A machine that has not landed.
#[derive(Debug, Clone, Serialize)]
pub struct FleetRow {
    /// Its name.
    pub name: String,
    /// Its group.
    pub group: String,
    /// How it stands.
    pub state: Stand,
    /// How often it was begun.
    pub tries: u64,
    /// When it began.
    pub began: Option<Timestamp>,
    /// When it was given up.
    pub ended: Option<Timestamp>,
    /// The stable word for what went wrong.
    pub code: Option<String>,
    /// What went wrong.
    pub reason: Option<String>,
    /// What helps.
    pub remedy: Option<String>,
}

/// The report on `fleet`: its receipts are read where they landed, or as their workers wrote them into the state.
///
/// # Errors
/// Those of the state. A receipt that cannot be read is in [`Report::unread`].
pub fn of_fleet(state: &State, fleet: &str, context: &Context<'_>) -> Result<Report> {
    let all: Vec<Machine> = state.machines(fleet)?.into_iter().filter(|machine| machine.state != Stand::Gone).collect();
    let (mut machines, mut unread) = (Vec::new(), Vec::new());
    for machine in all.iter().filter(|machine| machine.state == Stand::Landed) {
        match of_machine(state, fleet, machine, context) {
            Ok(report) => machines.push(report),
            Err(error) if error.is_interrupted() => return Err(error),
            Err(error) => {
                let path = PathBuf::from(machine.landing.clone().unwrap_or_default()).join(receipt::FILE_NAME);
                unread.push(Unread { path, why: format!("{}: {error}", machine.name) });
            }
        }
    }
    let asked: Vec<bool> =
        machines.iter().filter_map(|machine| machine.answer.as_ref()).map(|answer| answer.answers).collect();
    let answer = asked.iter().filter(|answers| **answers).count();
    let mut open: Vec<FleetRow> =
        all.iter().filter(|machine| machine.state != Stand::Landed).map(FleetRow::of).collect();
    open.sort_by(|one, other| one.state.cmp(&other.state).then_with(|| in_order(&one.name, &other.name)));
    let (counts, groups, silent) = (Counts::of(&all), groups(&all), asked.len() - answer);
    let rehearsed = |machine: &Machine| serde_json::from_value::<Rehearsed>(machine.rehearsal.clone()?).ok();
    let left = all.iter().filter(|machine| matches!(machine.state, Stand::Waiting | Stand::Running));
    let left: Option<Vec<f64>> = left.map(|machine| rehearsed(machine)?.estimate).collect();
    let name = fleet.to_string();
    let fleet = FleetReport {
        name: name.clone(),
        counts,
        groups,
        open,
        answer,
        silent,
        zone: state.rules(&name)?.0.window.and_then(|window| window.zone),
        rehearsals: all.iter().filter_map(rehearsed).collect(),
        rehearsed_seconds: left.filter(|left| !left.is_empty()).map(|left| left.iter().sum()),
    };
    let mut report = Report { fleet: Some(fleet), ..sorted(machines, unread) };
    // Who may read a receipt that lies elsewhere, nobody knows here.
    if report.machines.iter().any(|machine| !machine.receipt.is_file()) {
        report.access = Access::OWNER;
    }
    Ok(report)
}

fn of_machine(state: &State, fleet: &str, machine: &Machine, context: &Context<'_>) -> Result<MachineReport> {
    let path = PathBuf::from(machine.landing.clone().unwrap_or_default()).join(receipt::FILE_NAME);
    let is_its = |report: &Receipt| report.job.is_some() && report.job == machine.job;
    let here = Receipt::read(&path, context.budget).ok().filter(is_its);
    let mut report = match here {
        Some(_) => of_receipt(&path, context)?,
        // It landed on another machine.
        None => {
            let text = state.receipt(fleet, &machine.name)?.unwrap_or_default();
            let wrong = |what: String| Error::Receipt { path: path.to_string_lossy().into(), what };
            of_record(Receipt::parse(text.as_bytes()).map_err(wrong)?, &path, context)?
        }
    };
    report.group = Some(machine.group.clone()).filter(|group| !group.is_empty());
    report.answer = machine.answer.clone().and_then(|answer| serde_json::from_value(answer).ok());
    // What went wrong after it had landed, and a machine that does not answer, ask for a hand.
    if report.answer.as_ref().is_some_and(|answer| !answer.answers) {
        report.urgency = report.urgency.min(Urgency::Asks);
    }
    if let Some(reason) = &machine.reason {
        report.urgency = report.urgency.min(Urgency::Asks);
        report.afterwards = Some(reason.clone());
    }
    Ok(report)
}

impl FleetRow {
    fn of(machine: &Machine) -> Self {
        Self {
            name: machine.name.clone(),
            group: machine.group.clone(),
            state: machine.state,
            tries: machine.tries,
            began: machine.began,
            ended: machine.ended,
            code: machine.code.clone(),
            reason: machine.reason.clone(),
            remedy: machine.remedy.clone(),
        }
    }
}

fn groups(machines: &[Machine]) -> Vec<GroupReport> {
    let mut groups: Vec<GroupReport> = Vec::new();
    for machine in machines {
        let place = groups.iter().position(|group| group.name == machine.group).unwrap_or_else(|| {
            let name = machine.group.clone();
            groups.push(GroupReport { name, machines: 0, landed: 0, began: None, ended: None });
            groups.len() - 1
        });
        let Some(group) = groups.get_mut(place) else { continue };
        group.machines += 1;
        group.landed += usize::from(machine.state == Stand::Landed);
        group.began = group.began.into_iter().chain(machine.began).min();
        group.ended = group.ended.into_iter().chain(machine.ended).max();
    }
    groups
}
