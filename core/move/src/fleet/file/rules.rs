//! What holds for all of a fleet: how much is done at once, when, and what becomes of failures.

use std::{collections::BTreeMap, path::PathBuf};

use jiff::Timestamp;
use reformis_disk::ByteSize;
use serde::{Deserialize, Serialize};

use super::{
    row::{PROGRAM, check_program, patience},
    window::{Opening, Window},
};
use crate::brief::Size;

/// The most moves at once.
const MOST_AT_ONCE: u32 = 1000;

/// How much is done at once.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Limits {
    /// Machines at once, of all workers together.
    pub at_once: Option<u32>,
    /// Machines at once from a host, by its name in the site's file, or by the name of the machine in links.
    pub host: BTreeMap<String, u32>,
    /// Machines at once into a store or a cloud.
    pub store: BTreeMap<String, u32>,
    /// Bytes a second that all workers together take from a host: `50MiB/s`.
    pub rate: BTreeMap<String, String>,
    /// Bytes that stay free where landings are made.
    pub room: Option<Size>,
}

/// What becomes of the others when a machine fails.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Then {
    /// They go on; those that come after it do not begin.
    #[default]
    GoOn,
    /// Of its group, none begins any more.
    StopGroup,
    /// None begins any more.
    StopAll,
}

/// What is done about failures.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Failure {
    /// What becomes of the others.
    pub then: Then,
    /// How often a machine is tried where another try may help.
    pub tries: u32,
}

impl Default for Failure {
    fn default() -> Self {
        Self { then: Then::GoOn, tries: 3 }
    }
}

/// Machines that are moved before those of the next group.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Group {
    /// Its name.
    pub name: String,
    /// What becomes of the others of the group when one fails, where that is another thing than in the whole fleet.
    pub then: Option<Then>,
    /// What must be so before it begins.
    pub after: Gate,
}

/// What must be so before a group begins, besides that those before it are over.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Gate {
    /// Nothing else.
    #[default]
    Landed,
    /// All machines of the group before it have landed and answer, or a person said so.
    Confirmed,
    /// A person said so.
    Go,
}

/// Programs of the site's that are told how the night goes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Tell {
    /// Of the end of each machine.
    pub machine: Option<Vec<String>>,
    /// Of the end of each group.
    pub group: Option<Vec<String>>,
    /// Of the end of the night.
    pub night: Option<Vec<String>>,
    /// How long one may take: `10 min`.
    pub patience: Option<String>,
}

impl Tell {
    /// All programs.
    pub(crate) fn programs(&self) -> impl Iterator<Item = &Vec<String>> {
        [&self.machine, &self.group, &self.night].into_iter().flatten()
    }
}

/// How machines are tried before the night.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Rehearsal {
    /// What starts a machine there and says, by how it ends, whether it came up.
    pub program: Option<Vec<String>>,
    /// What it is given.
    pub with: With,
    /// How long it may take: `10 min`.
    pub patience: Option<String>,
}

/// What the program of a rehearsal is given.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum With {
    /// The disks, lent at a socket of this machine: nothing is copied.
    #[default]
    Lent,
    /// A whole landing in a folder apart, which is removed afterwards.
    Copy,
}

/// What holds for all of a fleet, wherever its workers run.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Rules {
    /// How much is done at once.
    pub limits: Limits,
    /// When moves may begin.
    pub window: Option<Window>,
    /// What is done about failures.
    pub failure: Failure,
    /// The groups, in their order; one without a name where the file has none.
    pub groups: Vec<Group>,
    /// Hours in which no machine of a host begins: it is needed for something else then.
    #[serde(default)]
    pub quiet: BTreeMap<String, Window>,
    /// Programs that are told how the night goes.
    #[serde(default)]
    pub tell: Tell,
    /// How machines are tried before the night.
    #[serde(default)]
    pub rehearsal: Rehearsal,
    /// The folder in which the paths of these programs begin: that of the fleet file.
    #[serde(default)]
    pub folder: PathBuf,
}

impl Rules {
    /// What becomes of the others when a machine of the group at `place` fails.
    pub(crate) fn then(&self, place: usize) -> Then {
        self.groups.get(place).and_then(|group| group.then).unwrap_or(self.failure.then)
    }

    /// The gate of the group at `place`.
    pub(crate) fn gate(&self, place: usize) -> Gate {
        self.groups.get(place).map(|group| group.after).unwrap_or_default()
    }

    /// The hosts that are left alone at `now`, and until when each is.
    pub(crate) fn quiet_at(&self, now: Timestamp) -> Vec<(&str, Timestamp)> {
        let until = |window: &Window| match window.at(now) {
            Ok(Opening::Until(until)) => Some(until),
            _ => None,
        };
        self.quiet.iter().filter_map(|(host, window)| Some((host.as_str(), until(window)?))).collect()
    }

    /// The programs that it names.
    pub(crate) fn programs(&self) -> impl Iterator<Item = &Vec<String>> {
        self.tell.programs().chain(&self.rehearsal.program)
    }

    /// # Errors
    /// As the end of a sentence.
    pub(super) fn check(&self) -> Result<(), String> {
        check_limits(&self.limits)?;
        self.window.as_ref().map_or(Ok(()), Window::check).map_err(|what| format!("window: {what}"))?;
        for (host, window) in &self.quiet {
            window.check().map_err(|what| format!("quiet.{host}: {what}"))?;
        }
        if !(1..=100).contains(&self.failure.tries) {
            return Err("'tries' is not from 1 to 100".into());
        }
        patience(self.tell.patience.as_ref(), PROGRAM).map_err(|what| format!("tell: {what}"))?;
        patience(self.rehearsal.patience.as_ref(), PROGRAM).map_err(|what| format!("rehearsal: {what}"))?;
        if self.gate(0) == Gate::Confirmed {
            return Err("the first group has none before it that could answer ('after')".into());
        }
        self.programs().try_for_each(|program| check_program(program))
    }

    /// Bytes a second from `host`.
    pub(crate) fn rate(&self, host: &str) -> Option<u64> {
        self.limits.rate.get(host).and_then(|text| rate(text).ok())
    }
}

/// Bytes a second: a size, with or without `/s` behind it.
///
/// # Errors
/// As a sentence: it is none, or too slow for anything.
pub fn rate(text: &str) -> Result<u64, String> {
    let wrong = || format!("'{text}' is no rate such as 50MiB/s");
    let size: ByteSize = text.strip_suffix("/s").unwrap_or(text).parse().map_err(|_| wrong())?;
    if size.0 < 1024 { Err("a rate is 1 KiB/s at least".into()) } else { Ok(size.0) }
}

fn check_limits(limits: &Limits) -> Result<(), String> {
    let named = limits.host.iter().chain(&limits.store).map(|(name, count)| (name.as_str(), *count));
    for (name, count) in named.chain(limits.at_once.map(|count| ("at-once", count))) {
        if !(1..=MOST_AT_ONCE).contains(&count) {
            return Err(format!("limits: '{name}' is {count}, which is not from 1 to {MOST_AT_ONCE}"));
        }
    }
    limits.rate.values().try_for_each(|text| rate(text).map(drop).map_err(|what| format!("limits: {what}")))
}
