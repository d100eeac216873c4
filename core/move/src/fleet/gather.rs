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
    file::is_name,
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
}

/// Where a machine was found.
#[derive(Debug, Clone)]
struct Found {
    source: String,
    machine: Option<String>,
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
    let seen = each(&found, options.at_once, |found| look_at(found, options, context));
    context.check()?;
    let mut names = BTreeSet::new();
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
        let found = |row: &reformis_wire::hosts::Row| Found { source: format!("{host}:{}", row.name), machine: None };
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
        Err(Error::Several { names, .. }) => {
            Ok(names.into_iter().map(|name| Found { source: source.clone(), machine: Some(name) }).collect())
        }
        Err(error) if error.is_interrupted() => Err(error),
        _ => Ok(vec![Found { source, machine: None }]),
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
                found.push((Found { source, machine: None }, None));
            }
            Ok(target) => {
                let first = target.disks.first().and_then(|disk| disk.parts.first()).map(Part::place);
                found.push((Found { source, machine: None }, first));
            }
            Err(Error::Several { names, .. }) => {
                let rows = names.into_iter().map(|name| Found { source: source.clone(), machine: Some(name) });
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
        destination: options.destination.clone(),
        into: options.into.clone(),
        choices: Box::new(Choices::default()),
    };
    look(&order, &options.site, options.links, false, context)
}

fn row(found: &Found, seen: Result<Seen>, names: &mut BTreeSet<String>) -> Gathered {
    let (source, machine) = (found.source.clone(), found.machine.clone());
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
            Gathered { name: only(seen.name, names), source, machine, ready, size, verdict, findings, error: None }
        }
        Err(error) => {
            let findings = match &error {
                Error::Refused { findings } => findings.iter().map(crate::Finding::record).collect(),
                _ => Vec::new(),
            };
            let last = machine.as_deref().unwrap_or_else(|| source.rsplit(['/', ':']).next().unwrap_or_default());
            let plain: String = last.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
            let name = only(plain.trim_matches('-').chars().take(50).collect(), names);
            let error = Some(error.to_string());
            Gathered { name, source, machine, ready: Ready::Blocked, size: None, verdict: None, findings, error }
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
    // Every string of JSON is one of TOML, on one line, but for the character DEL.
    let quoted = |text: &str| serde_json::Value::from(text).to_string().replace('\u{7f}', "\\u007f");
    let line = |text: &str| printable(text).replace(['\n', '\r'], " ");
    let mut text = format!(
        "# Gathered on {}. Read it, change it; then\n#   reformis fleet check {file}\n#   reformis fleet run {file}\n\
         # docs/fleet.md shows every key.\n\n[limits]\nat-once = {}\n\n[defaults]\ndestination = {}\ninto = {}\n",
        now.strftime("%Y-%m-%d"),
        options.at_once,
        quoted(&options.destination),
        quoted(&options.into.to_string_lossy()),
    );
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
        text += "\n";
        if let Some(error) = &row.error {
            writeln!(text, "# {}", line(error)).ok();
        }
        let telling = row.findings.iter().filter(|finding| finding.severity != Severity::Note);
        for finding in telling {
            writeln!(text, "# {} {}: {}", finding.severity.name(), finding.code, line(&finding.sentence)).ok();
        }
        writeln!(text, "[[machine]]\nname = {}\nsource = {}", quoted(&row.name), quoted(&row.source)).ok();
        if let Some(machine) = &row.machine {
            writeln!(text, "machine = {}", quoted(machine)).ok();
        }
        if let Some(size) = row.size {
            writeln!(text, "size = {}", quoted(&Size(size.next_multiple_of(1 << 20)).to_string())).ok();
        }
    }
    text
}
