//! A report as a page: one file that needs nothing else, no script and no network, and that can be printed. All texts in it may come from
//! strangers.

mod night;
mod strip;
mod time_line;

use std::path::{Component, Path};

use jiff::{Timestamp, tz::TimeZone};
use maud::{DOCTYPE, Markup, PreEscaped, html};
use reformis_disk::{ByteSize, text::printable};
use reformis_guest::State;
use reformis_move::{
    Severity,
    finding::FindingRecord,
    report::{DiskReport, MachineReport, Report, Urgency},
    verdict::{Boots, Verdict},
};

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_encode};

use crate::commands::quoted;

/// How the page looks; it is in the page.
const STYLE: &str = include_str!("style.css");
/// Machines whose sections are open at once; of more, a browser would draw for too long.
const FEW: usize = 12;
/// What stands for something else in a link (RFC 3986, section 2.3, the other way round).
const IN_A_LINK: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');
/// Nothing but its own style is loaded or run, whatever a name in it says.
const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; base-uri 'none'; form-action 'none'";

/// The page of `report`, which will lie in `folder`; times are those of `zone`.
pub(crate) fn page(report: &Report, title: &str, folder: &Path, zone: &TimeZone) -> String {
    let title = printable(title);
    // Where a fleet has a zone of its own, its people live by that.
    let own = report.fleet.as_ref().and_then(|fleet| fleet.zone.as_ref());
    let own = own.and_then(|name| TimeZone::get(name).ok());
    let zone = own.as_ref().unwrap_or(zone);
    html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta http-equiv="Content-Security-Policy" content=(POLICY);
                meta name="color-scheme" content="light dark";
                title { (title) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                header {
                    h1 { (title) }
                    p.when { (span(report.totals.began, report.totals.ended, zone)) }
                }
                main {
                    (at_a_glance(report))
                    // What did not go well comes first.
                    @if let Some(fleet) = &report.fleet { (night::open(fleet)) }
                    @if report.machines.len() > 1 {
                        section {
                            h2 { "When each was moved" }
                            (time_line::chart(&report.machines, report.fleet.as_ref(), zone))
                        }
                    }
                    @if let Some(fleet) = &report.fleet { (night::rehearsals(fleet, report.machines.is_empty())) }
                    (table(report))
                    (unread(report))
                    @for (index, machine) in report.machines.iter().enumerate() {
                        (one(machine, index, report.machines.len() <= FEW, folder, zone))
                    }
                }
                footer { "Made by reformis " (env!("CARGO_PKG_VERSION")) ", " (when(Timestamp::now(), zone)) "." }
            }
        }
    }
    .into_string()
}

/// A moment as people of the zone tell it.
fn when(time: Timestamp, zone: &TimeZone) -> String {
    time.to_zoned(zone.clone()).strftime("%Y-%m-%d %H:%M:%S %Z").to_string()
}

fn span(began: Option<Timestamp>, ended: Option<Timestamp>, zone: &TimeZone) -> String {
    match (began, ended) {
        (Some(began), Some(ended)) => format!("{} to {}", when(began, zone), when(ended, zone)),
        _ => "no move is in it".into(),
    }
}

/// A length of time in words.
pub(crate) fn lasted(seconds: f64) -> String {
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a time that is told")]
    let whole = seconds.round() as u64;
    match whole {
        0..10 => format!("{seconds:.1} s"),
        10..120 => format!("{whole} s"),
        120..7200 => format!("{} min {} s", whole / 60, whole % 60),
        _ => format!("{} h {} min", whole / 3600, whole / 60 % 60),
    }
}

/// A size whose unit stays beside its number.
fn size(bytes: u64) -> String {
    ByteSize(bytes).to_string().replace(' ', "\u{a0}")
}

fn at_a_glance(report: &Report) -> Markup {
    let totals = &report.totals;
    let landed = report.fleet.as_ref().map(night::tiles).unwrap_or_default();
    let tiles = [
        ("machines", totals.machines.to_string()),
        ("boot by the evidence", totals.boot.to_string()),
        ("need a hand", totals.need_a_hand.to_string()),
        ("disks", format!("{}, {}", totals.disks, size(totals.size))),
        ("files, before and after", format!("{} → {}", size(totals.before), size(totals.after))),
        ("from first to last", lasted(totals.seconds)),
    ];
    html! {
        section.tiles aria-label="At a glance" {
            // How many there are, a fleet says itself.
            @for (what, value) in landed.iter().cloned().chain(tiles.into_iter().skip(usize::from(!landed.is_empty()))) {
                div.tile { div.value { (value) } div.what { (what) } }
            }
        }
    }
}

/// The word for an urgency, and the class of its colour.
pub(crate) fn urgency(urgency: Urgency) -> (&'static str, &'static str) {
    match urgency {
        Urgency::Stands => ("does not boot", "bad"),
        Urgency::Doubtful => ("not known", "doubt"),
        Urgency::Asks => ("needs a hand", "warn"),
        Urgency::Fine => ("well", "good"),
    }
}

/// Its urgency in words: a blocker that was accepted is not the same as no way to boot.
fn mark(machine: &MachineReport) -> Markup {
    let (mut word, class) = urgency(machine.urgency);
    if machine.urgency == Urgency::Stands && machine.verdict.as_ref().is_none_or(|verdict| verdict.boots != Boots::No) {
        word = "blocker accepted";
    }
    html! { span class={ "mark " (class) } { (word) } }
}

/// A verdict in a few words.
fn short(verdict: Option<&Verdict>) -> String {
    let Some(verdict) = verdict else { return "not looked for".into() };
    match verdict.boots {
        Boots::Yes => "yes".into(),
        Boots::No => "no".into(),
        Boots::Unknown => "not known".into(),
    }
}

fn table(report: &Report) -> Markup {
    let has_groups = report.machines.iter().any(|machine| machine.group.is_some());
    html! {
        @if !report.machines.is_empty() { section {
            h2 { "Machines, the most urgent first" }
            div.wide { table {
                thead { tr {
                    th { "machine" }
                    @if has_groups { th { "group" } }
                    th { "state" } th { "boots" } th { "to" }
                    th.number { "disks" } th.number { "before" } th.number { "after" }
                    th.number { "took" } th.number { "rate" } th.number { "edits" } th.number { "asks" }
                } }
                tbody {
                    @for (index, machine) in report.machines.iter().enumerate() {
                        @let asks = machine.findings.iter().filter(|finding| finding.severity != Severity::Note).count();
                        tr {
                            td { a href={ "#m" (index) } { (printable(&machine.name)) } }
                            @if has_groups { td { (printable(machine.group.as_deref().unwrap_or_default())) } }
                            td { (mark(machine)) }
                            td { (short(machine.verdict.as_ref())) }
                            td { (printable(&machine.destination)) }
                            td.number { (machine.disks.len()) " · " (size(machine.size)) }
                            td.number { (size(machine.before)) }
                            td.number { (size(machine.after)) }
                            td.number { (lasted(machine.seconds)) }
                            td.number { @if let Some(rate) = machine.rate { (size(rate)) "/s" } @else { "–" } }
                            td.number { (machine.edits.len()) }
                            td.number { (asks) }
                        }
                    }
                }
            } }
            p.legend { "Rate: bytes of the disks a second, holes among them. Asks: cautions, and blockers that were accepted." }
        } }
    }
}

fn unread(report: &Report) -> Markup {
    html! {
        @if !report.unread.is_empty() {
            section {
                h2 { "Receipts that cannot be read" }
                ul { @for unread in &report.unread { li { (printable(&unread.why)) } } }
            }
        }
    }
}

/// All of one machine; the row of the table that leads there opens it.
fn one(machine: &MachineReport, index: usize, is_open: bool, folder: &Path, zone: &TimeZone) -> Markup {
    let receipt = link_to(&machine.receipt, folder);
    let shown = printable(&machine.receipt.to_string_lossy());
    html! {
        details.machine open[is_open] {
            summary { h2 { (printable(&machine.name)) " " (mark(machine)) } }
            p id={ "m" (index) } {
                (printable(&machine.target))
                @if !machine.destination.is_empty() { " → " (printable(&machine.destination)) }
                ", " (when(machine.began, zone)) ", " (lasted(machine.seconds)) ". "
                a href=(receipt) { "receipt" }
            }
            @if let Some(verdict) = &machine.verdict { p.verdict { (printable(&verdict.to_string())) } }
            @if let Some(after) = &machine.afterwards { p.warn { "After it had landed: " (printable(after)) "." } }
            @if let Some(answer) = &machine.answer { (night::answer(answer, zone)) }
            (findings(&machine.findings))
            @if let Some(cloud) = &machine.cloud {
                p {
                    "In " (printable(&cloud.cloud)) ": the image " (printable(&cloud.image))
                    @if let Some(instance) = &cloud.instance { ", the instance " (printable(instance)) }
                    @if let Some(state) = &cloud.state { ", " (printable(state)) }
                    @if let Some(address) = &cloud.address { ", at " (printable(address)) }
                    "."
                }
            }
            @if let Some(ahead) = &machine.ahead {
                p { "Off for " b { (lasted(ahead.off)) } ": " (size(ahead.carried)) " were brought near while it ran, in " (lasted(ahead.ended.duration_since(ahead.began).as_secs_f64())) ", and " (size(ahead.changed)) " had changed." }
            }
            @if let Some(lent) = &machine.lent {
                p { "It ran on lent disks since " (when(lent.since, zone)) ", and wrote " (size(lent.written)) "; that is in the landing." }
            }
            h3 { "Disks" }
            @for disk in &machine.disks { (of_disk(disk)) }
            (edits(machine))
            (evidence(machine))
            h3 { "Next" }
            ul {
                li { "Before the first start: " code { "reformis prove " (quoted(&machine.receipt.to_string_lossy())) } }
                li { "The source at " (printable(&machine.target)) " is as it was: leave it off, and do not remove it before the new machine has been in use." }
            }
            p.path { (shown) }
        }
    }
}

fn findings(findings: &[FindingRecord]) -> Markup {
    html! {
        @if !findings.is_empty() {
            h3 { "Findings" }
            ul.findings {
                @for finding in findings {
                    @let class = match finding.severity {
                        Severity::Blocker => "bad",
                        Severity::Caution => "warn",
                        Severity::Note => "note",
                    };
                    li {
                        span class={ "mark " (class) } { (finding.severity.name()) } " "
                        (printable(&finding.sentence)) ". "
                        span.remedy { (printable(&finding.remedy)) } " "
                        span.code { (printable(&finding.code)) }
                    }
                }
            }
        }
    }
}

fn of_disk(disk: &DiskReport) -> Markup {
    let before = disk.before.as_ref().map_or_else(
        || "it started empty".to_string(),
        |before| format!("{}, {} in files", printable(&before.shape), size(before.file_size)),
    );
    html! {
        figure {
            figcaption {
                b { (printable(&disk.id)) } ": " (size(disk.after.virtual_size)) " · " (before) " → "
                (printable(&disk.after.shape)) ", " (size(disk.after.file_size)) " · " (printable(&disk.result))
            }
            (strip::chart(disk))
        }
    }
}

fn edits(machine: &MachineReport) -> Markup {
    html! {
        h3 { "Changed inside" }
        @if machine.edits.is_empty() { p { "Nothing." } }
        @else {
            ul {
                @for edit in &machine.edits {
                    li {
                        b { (printable(&edit.name)) }
                        @if !edit.reason.is_empty() { ": " (printable(&edit.reason)) }
                        @if edit.bytes > 0 { " (" (size(edit.bytes)) ")" }
                        @if !edit.changes.is_empty() {
                            ul { @for change in &edit.changes { li { (printable(change)) } } }
                        }
                    }
                }
            }
        }
    }
}

fn evidence(machine: &MachineReport) -> Markup {
    html! {
        @for chain in machine.evidence.iter().filter(|chain| !chain.links.is_empty()) {
            h3 { "Boot evidence: " (printable(&chain.system)) }
            div.wide { table.chain {
                thead { tr { th { "link" } th { "of" } th { "before" } th { "after" } th { "seen" } } }
                tbody {
                    @for link in &chain.links {
                        @let (before, after) = before_and_after(link.state);
                        tr {
                            td { (link.link.name()) }
                            td { (printable(&link.about)) }
                            td { span class={ "mark " (before.1) } { (before.0) } }
                            td { span class={ "mark " (after.1) } { (after.0) } }
                            td {
                                (printable(&link.seen))
                                @if let Some(edit) = &link.edit { " (" (printable(edit)) ")" }
                            }
                        }
                    }
                }
            } }
        }
    }
}

/// How a link of the chain was before the edits and is after them, and the classes of these words' colours.
fn before_and_after(state: State) -> ((&'static str, &'static str), (&'static str, &'static str)) {
    let (holds, broken, unknown) = (("holds", "good"), ("broken", "bad"), ("unknown", "doubt"));
    match state {
        State::Holds => (holds, holds),
        State::Mended => (broken, holds),
        State::Broken => (broken, broken),
        State::Unknown => (unknown, unknown),
    }
}

/// A link from a page in `folder` to the file at `path`: relative, so that both can be moved together, and never one of another scheme.
fn link_to(path: &Path, folder: &Path) -> String {
    let absolute = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.into());
    let (path, folder) = (absolute(path), absolute(folder));
    let mut from = folder.components().peekable();
    let mut to = path.components().peekable();
    while from.peek().is_some() && from.peek() == to.peek() {
        from.next();
        to.next();
    }
    let mut link = String::from("./");
    from.for_each(|_| link += "../");
    let names = to.filter_map(|part| match part {
        Component::Normal(name) => Some(percent_encode(name.as_encoded_bytes(), IN_A_LINK).to_string()),
        _ => None,
    });
    link + &names.collect::<Vec<_>>().join("/")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_are_relative_and_of_no_other_scheme() {
        for (path, folder, expected) in [
            ("/a/b/receipt.json", "/a", "./b/receipt.json"),
            ("/a/b/receipt.json", "/a/c/d", "./../../b/receipt.json"),
            ("/a/javascript:x()/receipt.json", "/a", "./javascript%3Ax%28%29/receipt.json"),
            ("/a/ü \"<#?%/receipt.json", "/a", "./%C3%BC%20%22%3C%23%3F%25/receipt.json"),
        ] {
            assert_eq!(link_to(Path::new(path), Path::new(folder)), expected);
        }
    }

    #[test]
    fn times_are_told_as_people_do() {
        for (seconds, expected) in
            [(0.04, "0.0 s"), (9.44, "9.4 s"), (61.0, "61 s"), (130.2, "2 min 10 s"), (7265.0, "2 h 1 min")]
        {
            assert_eq!(lasted(seconds), expected);
        }
    }
}
