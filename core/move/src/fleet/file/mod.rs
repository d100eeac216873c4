//! The fleet file: the machines of a night, as a person writes them down. TOML.

mod differ;
mod row;
mod rules;
mod window;

use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
};

use reformis_disk::{ground, source::check_within};
use reformis_machine::explain;
use serde::Deserialize;

pub(crate) use row::{ANSWER, PROGRAM, is_name, patience};
pub use row::{Ahead, Confirm, Hooks, Row, Spec};
pub use rules::{Failure, Gate, Group, Limits, Rehearsal, Rules, Tell, Then, With, rate};
pub use window::{Opening, Window, next, time_of_day};

use super::error::FleetError;
use crate::error::{Error, Result};

/// The largest fleet file that is read, in bytes.
const MOST_BYTES: u64 = 8 << 20;
/// The most keys, tables, values and dots of one: thirty for each of the most machines.
const MOST_SIGNS: usize = 300_000;
/// The most machines of a fleet.
const MOST_MACHINES: usize = 10_000;
/// The most machines that one has to wait for.
const MOST_AFTER: usize = 100;

/// A fleet file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
struct Written {
    name: Option<String>,
    limits: Limits,
    window: Option<Window>,
    quiet: BTreeMap<String, Window>,
    failure: Failure,
    tell: Tell,
    rehearsal: Rehearsal,
    defaults: Row,
    group: Vec<Group>,
    machine: Vec<Row>,
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

impl Fleet {
    /// Reads the fleet file at `path`, and the briefs that it names.
    ///
    /// # Errors
    /// [`FleetError::File`], with the line where it is known; those of the briefs.
    pub fn read(path: &Path) -> Result<Self> {
        Self::read_as(path, false)
    }

    /// As [`Fleet::read`]; with `is_trusted`, names in the file may lead anywhere, whoever has written it.
    ///
    /// # Errors
    /// As those of [`Fleet::read`].
    pub fn read_as(path: &Path, is_trusted: bool) -> Result<Self> {
        let file = path.to_string_lossy();
        let open = ground::open_plain(path)?;
        let len = open.metadata().map_err(Error::io("reading", path))?.len();
        if len > MOST_BYTES {
            let what = format!("it has {len} bytes, and {MOST_BYTES} are the most");
            return Err(FleetError::File { file: file.into(), what }.into());
        }
        let is_own = is_trusted || ground::is_own(&open, path)?;
        let text = ground::read_text(open, path, MOST_BYTES)?;
        let folder = crate::staging::parent(path);
        let folder = std::path::absolute(&folder).unwrap_or(folder);
        let stem = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
        let mut fleet = Self::parse(&text, &file, &stem, &folder)?;
        if let Some(spec) = fleet.machines.iter().find(|spec| !is_own && spec.row.trust_links) {
            let name = &spec.row.name;
            let what = format!(
                "machine '{name}' says 'trust-links', and somebody else has written this file, or may write to it"
            );
            return Err(FleetError::File { file: file.into(), what }.into());
        }
        for spec in &mut fleet.machines {
            spec.confined_to = (!is_own).then(|| folder.clone());
            let Some(brief) = &spec.row.brief else { continue };
            let path = folder.join(brief);
            if let Some(home) = &spec.confined_to {
                check_within(Some(home), &file, &path)?;
            }
            let (text, is_brief_own) = crate::brief::text_of(&path)?;
            spec.brief = Some(crate::brief::read(&text, &path.to_string_lossy())?);
            if !is_brief_own && is_own && !is_trusted {
                spec.confined_to = Some(crate::staging::parent(&path));
            }
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
        // What is parsed takes a hundred times its own bytes.
        let told = text.lines().filter(|line| !line.trim_start().starts_with('#'));
        let signs = told.flat_map(str::bytes).filter(|byte| matches!(byte, b'=' | b'[' | b'{' | b',' | b'.')).count();
        if signs > MOST_SIGNS {
            return Err(wrong(format!("it says {signs} things, and {MOST_SIGNS} are the most")));
        }
        let written: Written = toml::from_str(text).map_err(|error| wrong(explain(text, &error)))?;
        let Written { name, limits, window, quiet, failure, tell, rehearsal, defaults, group, machine } = written;
        let is_named = name.is_some();
        let name = name.unwrap_or_else(|| stem.into());
        let node = rustix::system::uname().nodename().to_string_lossy().into_owned();
        let base = Path::new(file).file_name().unwrap_or_default();
        let origin = format!("{node}:{}", folder.join(base).display());
        if !is_name(&name) {
            return Err(wrong(format!("'{name}' is no name of a fleet: it takes letters, digits, dots and dashes")));
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
        check_gates(&rows, &groups).map_err(wrong)?;
        let rules = Rules { limits, window, failure, groups, quiet, tell, rehearsal, folder: folder.into() };
        rules.check().map_err(wrong)?;
        let machines =
            rows.into_iter().map(|row| Spec { row, brief: None, folder: folder.into(), confined_to: None }).collect();
        Ok(Self { name, is_named, origin, rules, machines })
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
        let all = self.machines.iter().flat_map(|spec| spec.row.programs()).chain(self.rules.programs());
        all.map(|program| program.join(" ")).collect::<BTreeSet<_>>().into_iter().collect()
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
        return Ok(names.into_iter().map(|name| Group { name: name.into(), ..Group::default() }).collect());
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

/// A gate that asks for answers has somebody before it who can give one.
fn check_gates(rows: &[Row], groups: &[Group]) -> Result<(), String> {
    for (before, group) in groups.iter().zip(groups.iter().skip(1)) {
        let is_silent = |row: &&Row| row.group.as_ref() == Some(&before.name) && row.confirm.is_none();
        if group.after == Gate::Confirmed
            && let Some(row) = rows.iter().find(is_silent)
        {
            return Err(format!(
                "group '{}' begins when those of '{}' answer, and machine '{}' does not say how it is asked ('confirm')",
                group.name, before.name, row.name
            ));
        }
    }
    Ok(())
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
