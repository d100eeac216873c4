//! A report as a table for a spreadsheet: CSV (RFC 4180), a row for each machine.

use jiff::Timestamp;
use reformis_disk::text::printable;

use super::{FleetRow, MachineReport, Report};
use crate::{finding::Severity, fleet::Stand, verdict::Boots};

/// The headings, in their order.
const HEADINGS: [&str; 18] = [
    "machine",
    "group",
    "state",
    "boots",
    "source",
    "destination",
    "receipt",
    "began",
    "ended",
    "seconds",
    "disk-bytes",
    "landed-bytes",
    "edits",
    "asks",
    "answers",
    "code",
    "reason",
    "remedy",
];

/// The report as a table: those that landed, then those that did not. Sizes are bytes, times are those of RFC 3339.
pub fn csv(report: &Report) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let landed = report.machines.iter().map(of_landed);
    let open = report.fleet.iter().flat_map(|fleet| &fleet.open).map(of_open);
    writer.write_record(HEADINGS).ok();
    for row in landed.chain(open) {
        writer.write_record(row.map(|cell| safe(&cell))).ok();
    }
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}

/// A cell that no spreadsheet takes for a formula, whoever wrote it.
fn safe(cell: &str) -> String {
    let cell = printable(cell);
    match cell.starts_with(['=', '+', '-', '@']) {
        true => format!("'{cell}"),
        false => cell,
    }
}

fn time(time: Option<Timestamp>) -> String {
    time.map_or(String::new(), |time| time.to_string())
}

fn of_landed(machine: &MachineReport) -> [String; 18] {
    let asks = machine.findings.iter().filter(|finding| finding.severity != Severity::Note).count();
    let boots = machine.verdict.as_ref().map_or("", |verdict| match verdict.boots {
        Boots::Yes => "yes",
        Boots::No => "no",
        Boots::Unknown => "not known",
    });
    let answers = machine.answer.as_ref().map_or("", |answer| if answer.answers { "yes" } else { "no" });
    [
        machine.name.clone(),
        machine.group.clone().unwrap_or_default(),
        Stand::Landed.word().into(),
        boots.into(),
        machine.target.clone(),
        machine.destination.clone(),
        machine.receipt.to_string_lossy().into_owned(),
        time(Some(machine.began)),
        time(Some(machine.ended)),
        format!("{:.1}", machine.seconds),
        machine.size.to_string(),
        machine.after.to_string(),
        machine.edits.len().to_string(),
        asks.to_string(),
        answers.into(),
        String::new(),
        machine.afterwards.clone().unwrap_or_default(),
        String::new(),
    ]
}

fn of_open(row: &FleetRow) -> [String; 18] {
    let text = |text: &Option<String>| text.clone().unwrap_or_default();
    let mut cells = [const { String::new() }; 18];
    let known = [
        (0, row.name.clone()),
        (1, row.group.clone()),
        (2, row.state.word().into()),
        (7, time(row.began)),
        (8, time(row.ended)),
        (15, text(&row.code)),
        (16, text(&row.reason)),
        (17, text(&row.remedy)),
    ];
    for (place, cell) in known {
        if let Some(found) = cells.get_mut(place) {
            *found = cell;
        }
    }
    cells
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_cell_is_a_formula() {
        for (cell, expected) in [
            ("=cmd|' /C calc'!A0", "'=cmd|' /C calc'!A0"),
            ("+1", "'+1"),
            ("@SUM(A1)", "'@SUM(A1)"),
            ("-2", "'-2"),
            ("tidelog", "tidelog"),
            ("\t=1", "\\t=1"),
        ] {
            assert_eq!(safe(cell), expected);
        }
    }
}
