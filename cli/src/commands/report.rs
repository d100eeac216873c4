//! `reformis report`

use std::path::Path;

use anyhow::Result;
use jiff::tz::TimeZone;
use reformis_disk::ByteSize;
use reformis_move::{
    Severity,
    report::{self, FleetRow, Report},
    staging,
    verdict::Boots,
};

use super::{JSON_SCHEMA, fleet::Opened, quoted};
use crate::{
    Session,
    args::ReportArgs,
    exit::Exit,
    output::{STRONG, columns, emit, emit_json, heading, paint, wrapped},
    page,
};

pub(crate) fn run(args: &ReportArgs, session: &Session) -> Result<Exit> {
    let report = match &args.targets[..] {
        [fleet] if Opened::is_fleet_file(fleet) || args.state.state.is_some() => {
            let opened = Opened::new(fleet, &args.state, session)?;
            report::of_fleet(&opened.state, &opened.name, &session.context())?
        }
        targets => report::report(targets, &session.context())?,
    };
    let to_stdout = args.out.as_deref() == Some(Path::new("-"));
    if let Some(path) = args.out.as_deref().filter(|_| !to_stdout) {
        save(&report, path, &args.title, args.force)?;
    }
    if let Some(path) = &args.csv {
        staging::write(path, report::csv(&report).as_bytes(), args.force, report.access)?;
    }
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "report": report }))?;
    } else if to_stdout {
        emit(&page::page(&report, &args.title, Path::new("."), &TimeZone::system()))?;
    } else {
        emit(&show(&report, args.out.as_deref()))?;
        if let Some(path) = &args.csv {
            emit(&format!("  the table is in {}\n", quoted(&path.to_string_lossy())))?;
        }
    }
    Ok(Exit::Done)
}

/// Writes the page: whole or not at all, and for nobody who may not read the receipts.
pub(super) fn save(report: &Report, path: &Path, title: &str, force: bool) -> Result<()> {
    let folder = path.parent().filter(|parent| *parent != Path::new("")).unwrap_or(Path::new("."));
    let page = page::page(report, title, folder, &TimeZone::system());
    Ok(staging::write(path, page.as_bytes(), force, report.access)?)
}

/// The report as a person reads it on a terminal.
pub(super) fn show(report: &Report, out: Option<&Path>) -> String {
    let totals = &report.totals;
    let many = |count: usize, one: &str| if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") };
    let mut text = format!(
        "{} with {} of {}, in {}: {} by the evidence, {}\n",
        many(totals.machines, "machine"),
        many(totals.disks, "disk"),
        ByteSize(totals.size),
        page::lasted(totals.seconds),
        if totals.boot == 1 { "1 boots".to_string() } else { format!("{} boot", totals.boot) },
        if totals.need_a_hand == 1 {
            "1 needs a hand".to_string()
        } else {
            format!("{} need a hand", totals.need_a_hand)
        },
    );
    let rows: Vec<[String; 8]> = report
        .machines
        .iter()
        .map(|machine| {
            let asks = machine.findings.iter().filter(|finding| finding.severity != Severity::Note).count();
            let boots = machine.verdict.as_ref().map_or("–", |verdict| match verdict.boots {
                Boots::Yes => "yes",
                Boots::No => "no",
                Boots::Unknown => "not known",
            });
            [
                machine.name.clone(),
                boots.into(),
                machine.destination.clone(),
                ByteSize(machine.size).to_string(),
                ByteSize(machine.after).to_string(),
                page::lasted(machine.seconds),
                machine.edits.len().to_string(),
                asks.to_string(),
            ]
        })
        .collect();
    if let Some(fleet) = &report.fleet {
        text = format!("{}  {}\n{text}", paint(STRONG, &fleet.name), super::fleet::line(&fleet.counts));
        if fleet.answer + fleet.silent > 0 {
            text += &format!("{} of those that were asked answer, {} do not\n", fleet.answer, fleet.silent);
        }
        if !fleet.open.is_empty() {
            text += &heading("Not landed");
            let row = |row: &FleetRow| {
                let why = row.reason.clone().unwrap_or_default();
                [row.name.clone(), row.group.clone(), row.state.word().into(), row.tries.to_string(), why]
            };
            let rows: Vec<_> = fleet.open.iter().map(row).collect();
            text += &columns(["machine", "group", "state", "tries", "why"], &rows, &[3]);
        }
    }
    if let Some(fleet) = report.fleet.as_ref().filter(|fleet| !fleet.rehearsals.is_empty()) {
        let well = fleet.rehearsals.iter().filter(|one| one.is_well()).count();
        text += &format!("{well} of {} were rehearsed without trouble\n", fleet.rehearsals.len());
    }
    text += &heading("Machines, the most urgent first");
    text += &columns(["machine", "boots", "to", "disks", "landed", "took", "edits", "asks"], &rows, &[3, 4, 5, 6, 7]);
    if !report.unread.is_empty() {
        text += &heading("Receipts that cannot be read");
        for unread in &report.unread {
            let lines = wrapped(&reformis_disk::text::printable(&unread.why), crate::output::width() - 4);
            text += &format!("  {}\n", lines.join("\n  "));
        }
    }
    text += &heading("Next");
    text += &match out {
        Some(path) => format!("  the page is in {}: open it in a browser\n", quoted(&path.to_string_lossy())),
        None => "  add --out FILE.html to have this, and all else, as a page\n".to_string(),
    };
    text
}
