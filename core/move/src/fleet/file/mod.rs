//! The fleet file: the machines of a night, as a person writes them down. TOML.

mod differ;
mod row;
mod window;

use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
};

use reformis_disk::ByteSize;
use reformis_machine::explain;
use serde::{Deserialize, Serialize};

pub(crate) use row::{ANSWER, PROGRAM, is_name, patience};
pub use row::{Confirm, Hooks, Row, Spec};
pub use window::{Opening, Window, next, time_of_day};

use super::error::FleetError;
use crate::{
    brief::Size,
    error::{Error, Result},
};

/// The largest fleet file that is read, in bytes.
const MOST_BYTES: u64 = 8 << 20;
/// The most machines of a fleet.
const MOST_MACHINES: usize = 10_000;
/// The most machines that one has to wait for.
const MOST_AFTER: usize = 100;
/// The most moves at once.
const MOST_AT_ONCE: u32 = 1000;

/// A fleet file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
struct Written {
    name: Option<String>,
    limits: Limits,
    window: Option<Window>,
    failure: Failure,
    defaults: Row,
    group: Vec<Group>,
    machine: Vec<Row>,
}

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
}

/// A fleet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fleet {
    /// Its name.
    pub name: String,
    /// Whether the file gives the name itself; else it is the file's own.
    pub is_named: bool,
    /// The machine on which the file lies, and where.
    pub origin: String,
    /// What holds for all of it.
    pub rules: Rules,
    /// Its machines, in the order of the file.
    pub machines: Vec<Spec>,
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
}

impl Rules {
    /// What becomes of the others when a machine of the group at `place` fails.
    pub(crate) fn then(&self, place: usize) -> Then {
        self.groups.get(place).and_then(|group| group.then).unwrap_or(self.failure.then)
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

impl Fleet {
    /// Reads the fleet file at `path`, and the briefs that it names.
    ///
    /// # Errors
    /// [`FleetError::File`], with the line where it is known; those of the briefs.
    pub fn read(path: &Path) -> Result<Self> {
        let len = path.metadata().map_err(Error::io("reading", path))?.len();
        let file = path.to_string_lossy();
        if len > MOST_BYTES {
            let what = format!("it has {len} bytes, and {MOST_BYTES} are the most");
            return Err(FleetError::File { file: file.into(), what }.into());
        }
        let text = std::fs::read_to_string(path).map_err(Error::io("reading", path))?;
        let folder = crate::staging::parent(path);
        let folder = std::path::absolute(&folder).unwrap_or(folder);
        let stem = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
        let mut fleet = Self::parse(&text, &file, &stem, &folder)?;
        for spec in &mut fleet.machines {
            let Some(brief) = &spec.row.brief else { continue };
            let path = folder.join(brief);
            let text = std::fs::read_to_string(&path).map_err(Error::io("reading", &path))?;
            spec.brief = Some(crate::brief::read(&text, &path.to_string_lossy())?);
        }
        fleet.check_landings(&file)?;
        Ok(fleet)
    }

    /// The fleet in `text`, a file called `file` in messages and `stem` where it gives no name, whose paths begin in `folder`. Briefs
    /// are not read.
    ///
    /// # Errors
    /// [`FleetError::File`].
    pub fn parse(text: &str, file: &str, stem: &str, folder: &Path) -> Result<Self> {
        let wrong = |what: String| Error::from(FleetError::File { file: file.into(), what });
        let written: Written = toml::from_str(text).map_err(|error| wrong(explain(text, &error)))?;
        let Written { name, limits, window, failure, defaults, group, machine } = written;
        let is_named = name.is_some();
        let name = name.unwrap_or_else(|| stem.into());
        let node = rustix::system::uname().nodename().to_string_lossy().into_owned();
        let base = Path::new(file).file_name().unwrap_or_default();
        let origin = format!("{node}:{}", folder.join(base).display());
        if !is_name(&name) {
            return Err(wrong(format!("'{name}' is no name of a fleet: it takes letters, digits, dots and dashes")));
        }
        check_limits(&limits).map_err(wrong)?;
        window.as_ref().map_or(Ok(()), Window::check).map_err(|what| wrong(format!("window: {what}")))?;
        if !(1..=100).contains(&failure.tries) {
            return Err(wrong("'tries' is not from 1 to 100".into()));
        }
        if defaults.is_of_one() {
            return Err(wrong(
                "defaults: name, source, brief, machine, after, size and confirm are each machine's own".into(),
            ));
        }
        if machine.is_empty() || machine.len() > MOST_MACHINES {
            return Err(wrong(format!("it has {} machines, and 1 to {MOST_MACHINES} are taken", machine.len())));
        }
        let rows: Vec<Row> = machine.into_iter().map(|row| row.over(&defaults)).collect();
        let groups = groups(group, &rows).map_err(wrong)?;
        for row in &rows {
            row.check().map_err(|what| wrong(format!("machine '{}': {what}", row.name)))?;
        }
        check_order(&rows, &groups).map_err(wrong)?;
        let machines = rows.into_iter().map(|row| Spec { row, brief: None, folder: folder.into() }).collect();
        let fleet = Self { name, is_named, origin, rules: Rules { limits, window, failure, groups }, machines };
        Ok(fleet)
    }

    /// Two machines that land at the same place would replace each other.
    fn check_landings(&self, file: &str) -> Result<()> {
        let mut seen = BTreeMap::new();
        for spec in &self.machines {
            if let Some(other) = seen.insert(spec.landing(), &spec.row.name) {
                let what = format!("'{other}' and '{}' land at the same place", spec.row.name);
                return Err(FleetError::File { file: file.into(), what }.into());
            }
        }
        Ok(())
    }

    /// The place of the group of `row`.
    pub(crate) fn group_of(&self, row: &Row) -> usize {
        let name = row.group.as_deref().unwrap_or_default();
        self.rules.groups.iter().position(|group| group.name == name).unwrap_or(0)
    }

    /// The programs that the file names, each once.
    pub fn programs(&self) -> Vec<String> {
        let all = self.machines.iter().flat_map(|spec| spec.row.programs()).map(|program| program.join(" "));
        all.collect::<BTreeSet<_>>().into_iter().collect()
    }
}

impl Row {
    fn is_of_one(&self) -> bool {
        let own = [&self.source, &self.brief, &self.machine];
        !self.name.is_empty()
            || own.into_iter().any(Option::is_some)
            || !self.after.is_empty()
            || self.size.is_some()
            || self.confirm.is_some()
    }
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

/// The groups: those that are written down, else those that rows name, in the order of the rows.
fn groups(written: Vec<Group>, rows: &[Row]) -> Result<Vec<Group>, String> {
    let mut seen = BTreeSet::new();
    for group in &written {
        if !is_name(&group.name) || !seen.insert(&group.name) {
            return Err(format!("'{}' is no name of a group, or is there twice", group.name));
        }
    }
    if written.is_empty() {
        let mut names: Vec<&str> = Vec::new();
        for row in rows {
            let name = row.group.as_deref().unwrap_or_default();
            if !name.is_empty() && !is_name(name) {
                return Err(format!("'{name}' is no name of a group"));
            }
            if !names.contains(&name) {
                names.push(name);
            }
        }
        return Ok(names.into_iter().map(|name| Group { name: name.into(), then: None }).collect());
    }
    for row in rows {
        match &row.group {
            Some(name) if seen.contains(name) => {}
            Some(name) => return Err(format!("machine '{}': there is no group '{name}'", row.name)),
            None => return Err(format!("machine '{}' is in no group, and the file has some", row.name)),
        }
    }
    Ok(written)
}

/// Names are there once, and nobody waits for what comes later, or for itself.
fn check_order(rows: &[Row], groups: &[Group]) -> Result<(), String> {
    let place = |row: &Row| {
        let name = row.group.as_deref().unwrap_or_default();
        groups.iter().position(|group| group.name == name).unwrap_or(0)
    };
    let mut by_name: BTreeMap<&str, &Row> = BTreeMap::new();
    for row in rows {
        if !is_name(&row.name) {
            return Err(format!(
                "'{}' is no name of a machine: it takes up to 60 letters, digits, dots, dashes and underscores, and begins and ends with one of the first two",
                reformis_disk::text::printable(&row.name)
            ));
        }
        if by_name.insert(&row.name, row).is_some() {
            return Err(format!("machine '{}' is there twice", row.name));
        }
    }
    let mut open: BTreeMap<&str, usize> = BTreeMap::new();
    let mut behind: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for row in rows {
        if row.after.len() > MOST_AFTER {
            return Err(format!("machine '{}' waits for more than {MOST_AFTER} others", row.name));
        }
        let before: BTreeSet<&str> = row.after.iter().map(String::as_str).collect();
        for name in &before {
            let Some(other) = by_name.get(name) else {
                return Err(format!("machine '{}' waits for '{name}', which is not in the file", row.name));
            };
            if place(other) > place(row) {
                return Err(format!("machine '{}' waits for '{name}', whose group comes later", row.name));
            }
            behind.entry(name).or_default().push(&row.name);
        }
        open.insert(&row.name, before.len());
    }
    // Those that wait for nobody go, and let others go; what is left waits in a circle.
    let mut free: Vec<&str> = open.iter().filter(|(_, count)| **count == 0).map(|(name, _)| *name).collect();
    let mut gone = 0;
    while let Some(name) = free.pop() {
        gone += 1;
        for other in behind.get(name).into_iter().flatten() {
            if let Some(count) = open.get_mut(other) {
                *count -= 1;
                if *count == 0 {
                    free.push(other);
                }
            }
        }
    }
    if gone == rows.len() {
        return Ok(());
    }
    let stuck: Vec<&str> = open.iter().filter(|(_, count)| **count > 0).map(|(name, _)| *name).take(5).collect();
    Err(format!("machines wait for each other in a circle: {}", stuck.join(", ")))
}

#[cfg(test)]
mod tests;
