//! What a page says of a fleet: what has not landed and why, and who answers.

use jiff::tz::TimeZone;
use maud::{Markup, html};
use reformis_disk::text::printable;
use reformis_move::{
    Severity,
    fleet::{Stand, confirm::Answer, rehearse::Rehearsed},
    report::{FleetReport, FleetRow},
};

use super::{lasted, short, size, when};

/// What a fleet adds at a glance.
pub(super) fn tiles(fleet: &FleetReport) -> Vec<(&'static str, String)> {
    let counts = &fleet.counts;
    let mut tiles = vec![("machines landed", format!("{} of {}", counts.landed, counts.machines))];
    let open = [(counts.failed, "failed"), (counts.skipped + counts.held, "left out")];
    tiles.extend(open.into_iter().filter(|(count, _)| *count > 0).map(|(count, word)| (word, count.to_string())));
    if fleet.answer + fleet.silent > 0 {
        tiles.push(("answer after their start", format!("{} of {}", fleet.answer, fleet.answer + fleet.silent)));
    }
    tiles
}

/// The class of a state's colour.
pub(super) fn class(state: Stand) -> &'static str {
    match state {
        Stand::Failed => "bad",
        Stand::Skipped | Stand::Held => "warn",
        Stand::Landed => "good",
        Stand::Running | Stand::Waiting => "doubt",
        Stand::Undone | Stand::Gone => "note",
    }
}

/// The machines that have not landed.
pub(super) fn open(fleet: &FleetReport) -> Markup {
    html! {
        @if !fleet.open.is_empty() {
            section {
                h2 { "Not landed" }
                div.wide { table {
                    thead { tr { th { "machine" } th { "group" } th { "state" } th.number { "tries" } th { "why" } } }
                    tbody { @for row in &fleet.open { (one(row)) } }
                } }
                p.legend { "Their sources are as they were. What helps stands below each reason; then the same command goes on." }
            }
        }
    }
}

fn one(row: &FleetRow) -> Markup {
    html! {
        tr {
            td { (printable(&row.name)) }
            td { (printable(&row.group)) }
            td { span class={ "mark " (class(row.state)) } { (row.state.word()) } }
            td.number { (row.tries) }
            td {
                (printable(row.reason.as_deref().unwrap_or("–")))
                @if let Some(remedy) = &row.remedy { br; span.remedy { (printable(remedy)) } }
                @if let Some(code) = &row.code { " " span.code { (printable(code)) } }
            }
        }
    }
}

/// How the machines did that were rehearsed; open where nothing has landed yet.
pub(super) fn rehearsals(fleet: &FleetReport, is_open: bool) -> Markup {
    let well = fleet.rehearsals.iter().filter(|one| one.is_well()).count();
    html! {
        @if !fleet.rehearsals.is_empty() {
            details open[is_open] {
                summary { h2 { "Rehearsal: " (well) " of " (fleet.rehearsals.len()) " without trouble" } }
                @if let Some(seconds) = fleet.rehearsed_seconds {
                    p { "What is left takes about " (lasted(seconds)) " by these figures, one machine after the other." }
                }
                div.wide { table {
                    thead { tr {
                        th { "machine" } th { "goes" } th { "boots" } th { "came up" }
                        th.number { "data" } th.number { "read at" } th.number { "takes" } th { "what was said" }
                    } }
                    tbody { @for one in &fleet.rehearsals { (rehearsal(one)) } }
                } }
            }
        }
    }
}

fn rehearsal(one: &Rehearsed) -> Markup {
    let mark = |is_good: bool, yes: &str, no: &str| {
        html! { span class={ "mark " (if is_good { "good" } else { "bad" }) } { (if is_good { yes } else { no }) } }
    };
    let blockers = one.findings.iter().filter(|finding| finding.severity == Severity::Blocker);
    html! {
        tr {
            td { (printable(&one.name)) }
            td { (mark(one.goes, "goes", "stays")) }
            td { (short(one.verdict.as_ref())) }
            td { @if let Some(came_up) = &one.came_up { (mark(came_up.well, "yes", "no")) } @else { "–" } }
            td.number { (one.bytes.map_or("–".into(), size)) }
            td.number { (one.rate.map_or("–".into(), |rate| format!("{}/s", size(rate)))) }
            td.number { (one.estimate.map_or("–".into(), |seconds| format!("about {}", lasted(seconds)))) }
            td {
                @if let Some(came_up) = &one.came_up { (printable(&came_up.said)) " " }
                @if let Some((code, sentence)) = &one.error { (printable(sentence)) " " span.code { (printable(code)) } }
                @else { @for blocker in blockers { (printable(&blocker.sentence)) " " span.code { (printable(&blocker.code)) } " " } }
            }
        }
    }
}

/// Whether a machine answered.
pub(super) fn answer(answer: &Answer, zone: &TimeZone) -> Markup {
    let (word, class) = if answer.answers { ("answers", "good") } else { ("does not answer", "bad") };
    html! {
        p {
            span class={ "mark " (class) } { (word) } " "
            (printable(&answer.asked)) ": " (printable(&answer.what)) ", after " (lasted(answer.seconds)) ", "
            (when(answer.at, zone)) "."
        }
    }
}
