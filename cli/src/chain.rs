//! The chain of boot evidence and the edits inside a guest, as a person reads them.

use std::fmt::Write;

use reformis_disk::text::printable;
use reformis_guest::{Done, State};
use reformis_move::{
    record::Chain,
    verdict::{Boots, Verdict},
};

use crate::output::{BAD, FAINT, GOOD, WARN, heading, paint, width, wrapped};

/// The columns before the text: indent, state, link.
const BEFORE: usize = 2 + 8 + 11;

/// Whether the guest will boot, in one line; nothing where that was not asked.
pub(crate) fn verdict(verdict: Option<&Verdict>) -> String {
    let Some(verdict) = verdict else { return String::new() };
    let style = match verdict.boots {
        Boots::Yes => GOOD,
        Boots::No => BAD,
        Boots::Unknown => WARN,
    };
    let lines = wrapped(&printable(&verdict.to_string()), width());
    lines.into_iter().map(|line| format!("{}\n", paint(style, line))).collect()
}

/// The links of each system; nothing when there are none.
pub(crate) fn evidence(chains: &[Chain]) -> String {
    let mut text = String::new();
    for chain in chains.iter().filter(|chain| !chain.links.is_empty()) {
        text += &heading(&format!("Boot evidence: {}", chain.system));
        for link in &chain.links {
            let style = match link.state {
                State::Holds => FAINT,
                State::Mended => GOOD,
                State::Broken => BAD,
                State::Unknown => WARN,
            };
            let by = match (&link.edit, link.state) {
                (Some(edit), State::Mended) => format!(" [{edit}]"),
                _ => String::new(),
            };
            let told = printable(&format!("{}: {}{by}", link.about, link.seen));
            let lines = wrapped(&told, width() - BEFORE - 2);
            let state = paint(style, format!("{:8}", link.state.name()));
            let hanging = format!("\n{}", " ".repeat(BEFORE));
            writeln!(text, "  {state}{:11}{}", link.link.name(), lines.join(&hanging)).ok();
        }
    }
    text
}

/// What was changed, or will be.
pub(crate) fn edits(done: &[Done], title: &str) -> String {
    if done.is_empty() {
        return String::new();
    }
    let mut text = heading(title);
    let longest = done.iter().map(|edit| edit.name.len()).max().unwrap_or(0);
    let hanging = " ".repeat(longest + 4);
    for edit in done {
        for (number, change) in edit.changes.iter().enumerate() {
            let name = if number == 0 { edit.name.as_str() } else { "" };
            let lines = wrapped(&printable(change), width() - hanging.len() - 2);
            let name = paint(FAINT, format!("{name:longest$}"));
            writeln!(text, "  {name}  {}", lines.join(&format!("\n{hanging}"))).ok();
        }
    }
    text
}
