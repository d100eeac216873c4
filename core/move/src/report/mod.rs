//! What moves came to: the figures of a receipt, or of all receipts of a night, for whoever shows them. Nothing here is measured anew but
//! where the disks that landed hold data.

mod fleet;
mod map;
mod table;

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
};

use jiff::Timestamp;
use reformis_disk::{source::Access, text::in_order};
use serde::Serialize;

pub use fleet::{FleetReport, FleetRow, GroupReport, of_fleet};
pub use map::Map;
pub use table::csv;

use crate::{
    error::{Error, Result},
    finding::{FindingRecord, Severity},
    fleet::confirm::Answer,
    observer::Context,
    receipt::{self, AheadRecord, CloudRecord, DiskFacts, DiskRecord, LentRecord, Receipt},
    record::Chain,
    staging::parent,
    verdict::{Boots, Verdict},
};

/// Folders that are looked into below one that was named.
const FOLDERS: usize = 10_000;

/// What moves came to.
#[derive(Debug, Clone, Serialize)]
pub struct Report {
    /// All of them together.
    pub totals: Totals,
    /// One for each receipt: those that need a hand first.
    pub machines: Vec<MachineReport>,
    /// Receipts that cannot be read, and why.
    pub unread: Vec<Unread>,
    /// The fleet that they were; `None` for moves that were made one by one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fleet: Option<FleetReport>,
    /// Who may read all of the receipts: nobody else gets to read what is made of this.
    #[serde(skip)]
    pub access: Access,
}

/// All moves of a report together.
#[derive(Debug, Clone, Default, Serialize)]
pub struct Totals {
    /// Machines.
    pub machines: usize,
    /// Machines that boot where they went, by the evidence.
    pub boot: usize,
    /// Machines with a finding that asks for a hand, or that do not boot by the evidence.
    pub need_a_hand: usize,
    /// Disks.
    pub disks: usize,
    /// Bytes of all disks as guests see them.
    pub size: u64,
    /// Bytes of the files that they were read from.
    pub before: u64,
    /// Bytes of the files that landed.
    pub after: u64,
    /// When the first move began.
    pub began: Option<Timestamp>,
    /// When the last one ended.
    pub ended: Option<Timestamp>,
    /// Seconds from the one to the other.
    pub seconds: f64,
}

/// A receipt that cannot be read.
#[derive(Debug, Clone, Serialize)]
pub struct Unread {
    /// Its path.
    pub path: PathBuf,
    /// Why, as a sentence.
    pub why: String,
}

/// How much a machine needs a hand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Urgency {
    /// It does not boot, by the evidence, or was moved in spite of a blocker.
    Stands,
    /// Whether it boots cannot be told.
    Doubtful,
    /// It boots, and something asks for a hand.
    Asks,
    /// Nothing is to be done.
    Fine,
}

/// One move.
#[derive(Debug, Clone, Serialize)]
pub struct MachineReport {
    /// Its name after the move.
    pub name: String,
    /// What was moved.
    pub target: String,
    /// The destination; empty for a disk alone.
    pub destination: String,
    /// The receipt that says so.
    pub receipt: PathBuf,
    /// How much it needs a hand.
    pub urgency: Urgency,
    /// Whether it boots.
    pub verdict: Option<Verdict>,
    /// When the move began.
    pub began: Timestamp,
    /// When it ended.
    pub ended: Timestamp,
    /// Seconds that it took.
    pub seconds: f64,
    /// Bytes of its disks as the guest sees them.
    pub size: u64,
    /// Bytes of the files that they were read from.
    pub before: u64,
    /// Bytes of the files that landed.
    pub after: u64,
    /// Bytes of the disks a second, holes among them.
    pub rate: Option<u64>,
    /// What was changed inside.
    pub edits: Vec<EditReport>,
    /// What the person should know, the most urgent first.
    pub findings: Vec<FindingRecord>,
    /// The chain of boot evidence of each system, after the edits; what was broken before is told as mended.
    pub evidence: Vec<Chain>,
    /// Its disks.
    pub disks: Vec<DiskReport>,
    /// What a cloud made of it.
    pub cloud: Option<CloudRecord>,
    /// That it ran on lent disks before.
    pub lent: Option<LentRecord>,
    /// That it was moved in two passes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ahead: Option<AheadRecord>,
    /// Its group in the fleet.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
    /// Whether it answered after it was started, where it was asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub answer: Option<Answer>,
    /// What went wrong after it had landed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub afterwards: Option<String>,
}

/// One edit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct EditReport {
    /// Its name.
    pub name: String,
    /// Why it was made; empty where it changed no byte of a disk.
    pub reason: String,
    /// Bytes of the disks that it wrote.
    pub bytes: u64,
    /// What it changed, a sentence for each thing.
    pub changes: Vec<String>,
}

/// One disk.
#[derive(Debug, Clone, Serialize)]
pub struct DiskReport {
    /// Its name in the machine file.
    pub id: String,
    /// File in the landing, or place in a store.
    pub result: String,
    /// Shape and sizes before; `None` for one that started empty.
    pub before: Option<DiskFacts>,
    /// Shape and sizes after.
    pub after: DiskFacts,
    /// Bytes that edits wrote.
    pub edited: u64,
    /// Where it holds data, and where it was edited.
    pub map: Map,
}

/// The report on all receipts at `paths`: receipts, landings, and folders of landings.
///
/// # Errors
/// A receipt that was named and cannot be read; a folder without one. What cannot be read below a folder is in [`Report::unread`].
pub fn report(paths: &[PathBuf], context: &Context<'_>) -> Result<Report> {
    let (mut machines, mut unread) = (Vec::new(), Vec::new());
    // Each receipt is small enough by itself; all of them are kept here.
    let mut holds = Vec::new();
    let mut of_receipt = |path: &Path| {
        let len = path.metadata().map_or(0, |metadata| metadata.len());
        let name = path.to_string_lossy();
        let over = reformis_disk::Error::memory(&name, "what all receipts say");
        let hold = context.budget.take(len).map_err(over)?;
        let machine = of_receipt(path, context)?;
        holds.push(hold);
        Ok::<_, Error>(machine)
    };
    for path in paths {
        if !path.is_dir() {
            machines.push(of_receipt(path)?);
            continue;
        }
        let found = receipts_in(path)?;
        if found.is_empty() {
            let what = "neither it nor a folder in it has a receipt.json".into();
            return Err(Error::Receipt { path: path.to_string_lossy().into(), what });
        }
        for path in found {
            match of_receipt(&path) {
                Ok(machine) => machines.push(machine),
                Err(error) if error.is_interrupted() => return Err(error),
                Err(error) => unread.push(Unread { path, why: error.to_string() }),
            }
        }
    }
    Ok(sorted(machines, unread))
}

/// The report on `machines`, those that need a hand first.
fn sorted(mut machines: Vec<MachineReport>, unread: Vec<Unread>) -> Report {
    machines.sort_by(|one, other| {
        let by_name = || in_order(&one.name, &other.name);
        one.urgency.cmp(&other.urgency).then_with(by_name).then_with(|| one.began.cmp(&other.began))
    });
    let access =
        machines.iter().filter_map(|machine| machine.receipt.metadata().ok()).map(|metadata| Access::of(&metadata));
    let access = access.fold(Access::ANYBODY, Access::and);
    Report { totals: Totals::of(&machines), machines, unread, fleet: None, access }
}

/// The receipt of the landing `folder`, or those of all landings in it.
fn receipts_in(folder: &Path) -> Result<Vec<PathBuf>> {
    let own = folder.join(receipt::FILE_NAME);
    if own.is_file() {
        return Ok(vec![own]);
    }
    let entries = std::fs::read_dir(folder).map_err(Error::io("listing", folder))?;
    // What is hidden is being made.
    let is_hidden = |path: &Path| path.file_name().is_some_and(|name| name.as_encoded_bytes().starts_with(b"."));
    let folders = entries.flatten().map(|entry| entry.path()).filter(|path| !is_hidden(path)).take(FOLDERS);
    let mut found: Vec<PathBuf> =
        folders.map(|path| path.join(receipt::FILE_NAME)).filter(|path| path.is_file()).collect();
    found.sort();
    Ok(found)
}

fn of_receipt(path: &Path, context: &Context<'_>) -> Result<MachineReport> {
    of_record(Receipt::read(path, context.budget)?, path, context)
}

/// The report on `receipt`, which lies, or lay, at `path`.
fn of_record(receipt: Receipt, path: &Path, context: &Context<'_>) -> Result<MachineReport> {
    let folder = parent(path);
    let mut disks = Vec::new();
    for record in &receipt.disks {
        if context.is_cancelled() {
            return Err(reformis_disk::Error::Interrupted.into());
        }
        disks.push(disk(record, &folder, receipt.kind, context));
    }
    let sum = |of: fn(&DiskReport) -> u64| disks.iter().map(of).fold(0, u64::saturating_add);
    let size = sum(|disk| disk.after.virtual_size);
    let seconds = receipt.finished.duration_since(receipt.started).as_secs_f64().max(0.0);
    let mut findings = receipt.findings.clone();
    findings.sort_by_key(|finding| urgency_of(finding.severity));
    let named = receipt.machine.as_ref().map(|machine| machine.after.name.to_string());
    let alone = || Path::new(&receipt.target).file_name().map(|name| name.to_string_lossy().into_owned());
    Ok(MachineReport {
        name: named.or_else(alone).unwrap_or_else(|| receipt.target.clone()),
        urgency: urgency(receipt.verdict.as_ref(), &findings),
        began: receipt.started,
        ended: receipt.finished,
        seconds,
        size,
        before: sum(|disk| disk.before.as_ref().map_or(0, |before| before.file_size)),
        after: sum(|disk| disk.after.file_size),
        rate: rate(size, seconds),
        edits: edits(&receipt),
        findings,
        evidence: receipt.guest.map(|guest| guest.evidence).unwrap_or_default(),
        disks,
        verdict: receipt.verdict,
        target: receipt.target,
        destination: receipt.destination,
        receipt: path.into(),
        cloud: receipt.cloud,
        lent: receipt.lent,
        ahead: receipt.ahead,
        group: None,
        answer: None,
        afterwards: None,
    })
}

/// Bytes a second; none where that took no time.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_precision_loss,
    clippy::cast_sign_loss,
    reason = "a rate that is told"
)]
fn rate(bytes: u64, seconds: f64) -> Option<u64> {
    (seconds > 0.0).then(|| (bytes as f64 / seconds) as u64)
}

/// The place of a severity in a list.
fn urgency_of(severity: Severity) -> u8 {
    match severity {
        Severity::Blocker => 0,
        Severity::Caution => 1,
        Severity::Note => 2,
    }
}

fn urgency(verdict: Option<&Verdict>, findings: &[FindingRecord]) -> Urgency {
    let has = |severity| findings.iter().any(|finding| finding.severity == severity);
    match verdict.map(|verdict| verdict.boots) {
        Some(Boots::No) => Urgency::Stands,
        _ if has(Severity::Blocker) => Urgency::Stands,
        Some(Boots::Unknown) => Urgency::Doubtful,
        _ if has(Severity::Caution) => Urgency::Asks,
        _ => Urgency::Fine,
    }
}

/// All edits of a move: those that changed something inside, and those that wrote to a disk.
fn edits(receipt: &Receipt) -> Vec<EditReport> {
    let mut edits: BTreeMap<String, EditReport> = BTreeMap::new();
    for done in receipt.guest.iter().flat_map(|guest| &guest.edits) {
        named(&mut edits, &done.name).changes.extend(done.changes.iter().cloned());
    }
    for edit in receipt.disks.iter().flat_map(|disk| &disk.edits) {
        let found = named(&mut edits, &edit.name);
        found.bytes = found.bytes.saturating_add(bytes_of(edit));
        found.reason.clone_from(&edit.reason);
    }
    edits.into_values().collect()
}

fn named<'e>(edits: &'e mut BTreeMap<String, EditReport>, name: &str) -> &'e mut EditReport {
    let new = || EditReport { name: name.into(), reason: String::new(), bytes: 0, changes: Vec::new() };
    edits.entry(name.into()).or_insert_with(new)
}

/// Bytes that an edit wrote.
fn bytes_of(edit: &reformis_disk::overlay::Edit) -> u64 {
    edit.ranges.iter().map(|range| range.end - range.start).fold(0, u64::saturating_add)
}

fn disk(record: &DiskRecord, folder: &Path, kind: receipt::Kind, context: &Context<'_>) -> DiskReport {
    DiskReport {
        id: record.id.clone(),
        result: record.result.clone(),
        before: record.before.clone(),
        after: record.after.clone(),
        edited: record.edits.iter().map(bytes_of).fold(0, u64::saturating_add),
        map: Map::of(record, folder, kind, context),
    }
}

impl Totals {
    fn of(machines: &[MachineReport]) -> Self {
        let sum = |of: fn(&MachineReport) -> u64| machines.iter().map(of).fold(0, u64::saturating_add);
        let began = machines.iter().map(|machine| machine.began).min();
        let ended = machines.iter().map(|machine| machine.ended).max();
        let boots = |machine: &&MachineReport| machine.verdict.as_ref().is_some_and(|v| v.boots == Boots::Yes);
        Self {
            machines: machines.len(),
            boot: machines.iter().filter(boots).count(),
            need_a_hand: machines.iter().filter(|machine| machine.urgency != Urgency::Fine).count(),
            disks: machines.iter().map(|machine| machine.disks.len()).sum(),
            size: sum(|machine| machine.size),
            before: sum(|machine| machine.before),
            after: sum(|machine| machine.after),
            began,
            ended,
            seconds: began.zip(ended).map_or(0.0, |(began, ended)| ended.duration_since(began).as_secs_f64().max(0.0)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn finding(severity: Severity) -> FindingRecord {
        FindingRecord { severity, code: "c".into(), sentence: "s".into(), remedy: "r".into() }
    }

    fn verdict(boots: Boots) -> Verdict {
        Verdict { on: "virtio-host".into(), boots, edits: 0, why: None }
    }

    #[test]
    fn what_stands_comes_before_what_asks() {
        let of = |boots, severity| urgency(Some(&verdict(boots)), &[finding(severity)]);
        assert_eq!(of(Boots::Yes, Severity::Note), Urgency::Fine);
        assert_eq!(of(Boots::Yes, Severity::Caution), Urgency::Asks);
        assert_eq!(of(Boots::Unknown, Severity::Caution), Urgency::Doubtful);
        assert_eq!(of(Boots::No, Severity::Note), Urgency::Stands);
        assert_eq!(of(Boots::Yes, Severity::Blocker), Urgency::Stands);
        assert_eq!(urgency(None, &[]), Urgency::Fine, "a disk alone");
        assert!(
            Urgency::Stands < Urgency::Doubtful && Urgency::Doubtful < Urgency::Asks && Urgency::Asks < Urgency::Fine
        );
    }

    #[test]
    fn no_time_has_no_rate() {
        assert_eq!((rate(100, 0.0), rate(100, 0.5), rate(0, 1.0)), (None, Some(200), Some(0)));
    }
}
