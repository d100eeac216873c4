//! The first draft of a fleet file: one row for each machine that is there, with what stands in its way.

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt::Write,
    path::{Path, PathBuf},
};

use jiff::Timestamp;
use reformis_disk::{
    source::Links,
    text::{in_order, printable},
};
use reformis_machine::Site;
use reformis_wire::Wires;
use serde::Serialize;

use super::{
    file::{Fleet, Spec, is_name},
    inventory::{Entry, quoted},
    look::{Seen, each, look},
};
use crate::{
    brief::Size,
    error::{Error, Result},
    finding::{FindingRecord, Severity},
    observer::Context,
    prepare::Order,
    propose::Choices,
    target::{self, Opening, Part},
    verdict::{Boots, Verdict},
};

/// Folders below one that was named, which are looked into.
const MOST_FOLDERS: usize = 10_000;

/// What is gathered.
#[derive(Debug, Clone)]
pub struct Options {
    /// Hosts (`NAME:`), machines of them, folders, machine files, archives, disks.
    pub targets: Vec<PathBuf>,
    /// Where they go.
    pub destination: String,
    /// The folder in which landings are made, as the fleet file is to say it.
    pub into: PathBuf,
    /// What the site adds.
    pub site: Site,
    /// Where names in files may lead.
    pub links: Links,
    /// Machines that are looked at at the same time.
    pub at_once: usize,
    /// Machines of an inventory, besides.
    pub inventory: Vec<Entry>,
    /// The group of all that say none themselves.
    pub group: Option<String>,
    /// The fleet that they are added to: what it has is not gathered again.
    pub existing: Option<Fleet>,
}

/// How ready a machine is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ready {
    /// Nothing asks for a hand.
    Ready,
    /// Something does.
    Asks,
    /// It cannot go as it is.
    Blocked,
}

/// A machine that was found.
#[derive(Debug, Clone, Serialize)]
pub struct Gathered {
    /// Its name in the fleet.
    pub name: String,
    /// Where it is.
    pub source: String,
    /// Its name there, where the source describes several.
    pub machine: Option<String>,
    /// How ready it is.
    pub ready: Ready,
    /// Bytes that will be carried, where that is known.
    pub size: Option<u64>,
    /// Whether it boots where it goes.
    pub verdict: Option<Verdict>,
    /// What there is to say.
    pub findings: Vec<FindingRecord>,
    /// Why nothing more is known of it.
    pub error: Option<String>,
    /// What an inventory says of it: keys of its row, with their values as TOML.
    #[serde(skip)]
    pub keys: Vec<(&'static str, String)>,
}

/// Where a machine was found.
#[derive(Debug, Clone, Default)]
struct Found {
    source: String,
    machine: Option<String>,
    /// What an inventory says of it.
    entry: Entry,
}

impl Found {
    fn at(source: String) -> Self {
        Self { source, ..Self::default() }
    }

    fn one_of(source: &str, machine: String) -> Self {
        Self { source: source.into(), machine: Some(machine), ..Self::default() }
    }
}

/// Looks for machines, and at each; those that are ready come first.
///
/// # Errors
/// A host or a folder that cannot be listed. What is wrong with one machine is told in its row.
pub fn gather(options: &Options, context: &Context<'_>) -> Result<Vec<Gathered>> {
    let mut found = Vec::new();
    for target in &options.targets {
        found.extend(machines_of(target, options, context)?);
    }
    for entry in &options.inventory {
        let (source, machine) = (entry.source.clone(), entry.machine.clone());
        found.push(Found { source, machine, entry: entry.clone() });
    }
    let mut names = BTreeSet::new();
    if let Some(fleet) = &options.existing {
        let has = |found: &Found| {
            let is_it = |spec: &Spec| spec.is_of(&found.source, found.machine.as_deref());
            fleet.machines.iter().any(is_it)
        };
        found.retain(|found| !has(found));
        names.extend(fleet.machines.iter().map(|spec| spec.row.name.clone()));
    }
    let seen = each(&found, options.at_once, |found| look_at(found, options, context));
    context.check()?;
    let mut rows = Vec::new();
    for (found, seen) in found.iter().zip(seen) {
        rows.push(row(found, seen, &mut names));
    }
    rows.sort_by(|one, other| one.ready.cmp(&other.ready).then_with(|| in_order(&one.name, &other.name)));
    Ok(rows)
}

fn machines_of(target: &Path, options: &Options, context: &Context<'_>) -> Result<Vec<Found>> {
    let text = target.to_string_lossy().into_owned();
    if let Some((host, "")) = context.wires.host_of(&text) {
        let rows = context.wires.machines(host)?;
        let found = |row: &reformis_wire::hosts::Row| Found::at(format!("{host}:{}", row.name));
        return Ok(rows.iter().map(found).collect());
    }
    if context.wires.is_named(&text) || Wires::is_link(target) || !target.is_dir() {
        return several(text, options, context);
    }
    let mut found = in_folder(target, options, context)?;
    let entries = std::fs::read_dir(target).map_err(Error::io("listing", target))?;
    let visible = entries.flatten().filter(|entry| !entry.file_name().as_encoded_bytes().starts_with(b"."));
    let mut folders: Vec<PathBuf> =
        visible.map(|entry| entry.path()).filter(|path| path.is_dir()).take(MOST_FOLDERS).collect();
    folders.sort();
    for folder in folders {
        context.check()?;
        found.extend(in_folder(&folder, options, context)?);
    }
    match found.is_empty() {
        true => Err(Error::NothingHere { folder: text }),
        false => Ok(found),
    }
}

/// The machines that one thing holds; one where it cannot be told.
fn several(source: String, options: &Options, context: &Context<'_>) -> Result<Vec<Found>> {
    let opening = Opening::new(options.links, context.budget, context.wires);
    match target::open(Path::new(&source), &opening) {
        Err(Error::Several { names, .. }) => Ok(names.into_iter().map(|name| Found::one_of(&source, name)).collect()),
        Err(error) if error.is_interrupted() => Err(error),
        _ => Ok(vec![Found::at(source)]),
    }
}

/// The machines whose files lie in `folder` itself; a disk that one of them has is none of its own.
fn in_folder(folder: &Path, options: &Options, context: &Context<'_>) -> Result<Vec<Found>> {
    let opening = Opening::new(options.links, context.budget, context.wires);
    let mut owned = BTreeSet::new();
    let mut found: Vec<(Found, Option<String>)> = Vec::new();
    for path in target::files_in(folder, context.wires)?.unwrap_or_default() {
        context.check()?;
        let source = path.to_string_lossy().into_owned();
        match target::open(&path, &opening) {
            Ok(target) if target.described.is_some() => {
                let parts = target.disks.iter().flat_map(|disk| disk.parts.iter().map(Part::place));
                let below = target.disks.iter().flat_map(|disk| disk.image.iter().flat_map(|image| &image.files));
                owned.extend(parts.chain(below.map(|file| target::place_of(file.as_ref()))));
                found.push((Found::at(source), None));
            }
            Ok(target) => {
                let first = target.disks.first().and_then(|disk| disk.parts.first()).map(Part::place);
                found.push((Found::at(source), first));
            }
            Err(Error::Several { names, .. }) => {
                let rows = names.into_iter().map(|name| Found::one_of(&source, name));
                found.extend(rows.map(|found| (found, None)));
            }
            Err(error) if error.is_interrupted() => return Err(error),
            // In a folder much lies that is no machine.
            Err(error) => tracing::info!(path = %path.display(), %error, "passed over"),
        }
    }
    let is_free = |disk: &Option<String>| disk.as_ref().is_none_or(|disk| !owned.contains(disk));
    Ok(found.into_iter().filter(|(_, disk)| is_free(disk)).map(|(found, _)| found).collect())
}

fn look_at(found: &Found, options: &Options, context: &Context<'_>) -> Result<Seen> {
    let order = Order::Target {
        path: found.source.clone().into(),
        machine: found.machine.clone(),
        destination: found.entry.destination.clone().unwrap_or_else(|| options.destination.clone()),
        into: options.into.clone(),
        choices: Box::new(Choices::default()),
    };
    look(&order, &options.site, options.links, false, context)
}

fn row(found: &Found, seen: Result<Seen>, names: &mut BTreeSet<String>) -> Gathered {
    let (source, machine) = (found.source.clone(), found.machine.clone());
    let mut keys = found.entry.keys.clone();
    keys.extend(found.entry.destination.iter().map(|name| ("destination", quoted(name))));
    // A name that was given is taken as it is, and is wrong where it is: who gave it looks for it.
    let given = found.entry.name.clone();
    names.extend(given.clone());
    match seen {
        Ok(seen) => {
            let worst = seen.findings.iter().map(crate::Finding::severity).min();
            let ready = match (worst, seen.verdict.as_ref().map(|verdict| verdict.boots)) {
                (Some(Severity::Blocker), _) => Ready::Blocked,
                (Some(Severity::Caution), _) | (_, Some(Boots::No | Boots::Unknown)) => Ready::Asks,
                _ => Ready::Ready,
            };
            let findings = seen.findings.iter().map(crate::Finding::record).collect();
            let (size, verdict) = (seen.bytes, seen.verdict);
            let name = given.unwrap_or_else(|| only(seen.name, names));
            Gathered { name, source, machine, ready, size, verdict, findings, error: None, keys }
        }
        Err(error) => {
            let findings = match &error {
                Error::Refused { findings } => findings.iter().map(crate::Finding::record).collect(),
                _ => Vec::new(),
            };
            let last = machine.as_deref().unwrap_or_else(|| source.rsplit(['/', ':']).next().unwrap_or_default());
            let plain: String = last.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
            let name = given.unwrap_or_else(|| only(plain.trim_matches('-').chars().take(50).collect(), names));
            let error = Some(error.to_string());
            let (ready, size, verdict) = (Ready::Blocked, None, None);
            Gathered { name, source, machine, ready, size, verdict, findings, error, keys }
        }
    }
}

/// `name`, with a number where another machine has it.
fn only(name: String, names: &mut BTreeSet<String>) -> String {
    let name = if is_name(&name) { name } else { "machine".to_string() };
    let numbered = (2..).map(|number| format!("{}-{number}", name.chars().take(52).collect::<String>()));
    let free = std::iter::once(name.clone()).chain(numbered).find(|name| !names.contains(name)).unwrap_or(name);
    names.insert(free.clone());
    free
}

/// The fleet file for `rows`. Texts in it may come from strangers: comments are one line each, and strings are quoted.
pub fn write(rows: &[Gathered], options: &Options, file: &str, now: Timestamp) -> String {
    let mut text = format!(
        "# Gathered on {}. Read it, change it; then\n#   reformis fleet check {file}\n#   reformis fleet run {file}\n\
         # docs/fleet.md shows every key.\n\n[limits]\nat-once = {}\n\n[defaults]\ndestination = {}\ninto = {}\n",
        now.strftime("%Y-%m-%d"),
        options.at_once,
        quoted(&options.destination),
        quoted(&options.into.to_string_lossy()),
    );
    put(&mut text, rows, options, &[]);
    text
}

/// The fleet file `text`, which a person may have changed, with `rows` behind all that is in it; each says itself where it goes.
///
/// # Errors
/// [`crate::fleet::FleetError::File`]: what came of it would be none, as where the file has groups and the rows are in none.
pub fn added(text: &str, rows: &[Gathered], options: &Options, file: &Path, now: Timestamp) -> Result<String> {
    let mut text = text.to_string();
    if !text.is_empty() && !text.ends_with('\n') {
        text.push('\n');
    }
    write!(text, "\n# --- added on {} ---\n", now.strftime("%Y-%m-%d")).ok();
    let own = [("destination", quoted(&options.destination)), ("into", quoted(&options.into.to_string_lossy()))];
    put(&mut text, rows, options, &own);
    let folder = crate::staging::parent(file);
    let stem = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    Fleet::parse(&text, &file.to_string_lossy(), &stem, &folder)?;
    Ok(text)
}

/// Puts `rows` behind `text`, each with the keys of `own` that it does not have.
fn put(text: &mut String, rows: &[Gathered], options: &Options, own: &[(&'static str, String)]) {
    let line = |text: &str| printable(text).replace(['\n', '\r'], " ");
    let mut counts: BTreeMap<Ready, usize> = BTreeMap::new();
    rows.iter().for_each(|row| *counts.entry(row.ready).or_default() += 1);
    let mut last = None;
    for row in rows {
        if last != Some(row.ready) {
            let count = counts.get(&row.ready).copied().unwrap_or(0);
            let words = match row.ready {
                Ready::Ready => "ready",
                Ready::Asks => "go, and ask for a hand",
                Ready::Blocked => "do not go as they are",
            };
            write!(text, "\n# --- {count} of {}: {words} ---\n", rows.len()).ok();
            last = Some(row.ready);
        }
        text.push('\n');
        if let Some(error) = &row.error {
            writeln!(text, "# {}", line(error)).ok();
        }
        let telling = row.findings.iter().filter(|finding| finding.severity != Severity::Note);
        for finding in telling {
            writeln!(text, "# {} {}: {}", finding.severity.name(), finding.code, line(&finding.sentence)).ok();
        }
        writeln!(text, "[[machine]]\nname = {}\nsource = {}", quoted(&row.name), quoted(&row.source)).ok();
        let mut keys = row.keys.clone();
        let has = |keys: &[(&str, String)], name: &str| keys.iter().any(|(key, _)| *key == name);
        let group = options.group.iter().map(|group| ("group", quoted(group)));
        let machine = row.machine.iter().map(|machine| ("machine", quoted(machine)));
        let size = row.size.map(|size| ("size", quoted(&Size(size.next_multiple_of(1 << 20)).to_string())));
        for (key, value) in machine.chain(own.iter().cloned()).chain(group).chain(size) {
            if !has(&keys, key) {
                keys.push((key, value));
            }
        }
        for (key, value) in keys {
            writeln!(text, "{key} = {value}").ok();
        }
    }
}
