//! Printing: the only place that writes results to stdout.

use std::{
    fmt::{Display, Write as _},
    io::{self, IsTerminal, Write},
};

use anstyle::{AnsiColor, Style};
use comfy_table::{ContentArrangement, Table, presets};
use reformis_disk::text::printable;
use reformis_move::{Severity, finding::FindingRecord};

use crate::hints::with_option;

/// Headings and results.
pub(crate) const STRONG: Style = Style::new().bold();
/// What is less important.
pub(crate) const FAINT: Style = Style::new().dimmed();
/// What is as it should be.
pub(crate) const GOOD: Style = AnsiColor::Green.on_default().bold();
/// What is not.
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
/// What asks for a look.
pub(crate) const WARN: Style = AnsiColor::Yellow.on_default().bold();

/// Text in a style.
pub(crate) fn paint(style: Style, text: impl Display) -> String {
    format!("{style}{text}{style:#}")
}

/// The width for text: the terminal's, and 100 where there is none.
pub(crate) fn width() -> usize {
    terminal_size::terminal_size().map_or(100, |(width, _)| usize::from(width.0)).clamp(60, 140)
}

/// Writes a result to stdout. A reader who has seen enough ends it quietly.
pub(crate) fn emit(text: &str) -> io::Result<()> {
    let mut out = anstream::stdout().lock();
    match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
        result => result,
    }
}

/// Writes one JSON document to stdout.
pub(crate) fn emit_json(value: &impl serde::Serialize) -> anyhow::Result<()> {
    Ok(emit(&(serde_json::to_string_pretty(value)? + "\n"))?)
}

/// Writes to stderr; there is nowhere left to tell of an error in that.
pub(crate) fn say(text: &str) {
    anstream::stderr().lock().write_all(text.as_bytes()).ok();
}

/// Columns under headings, indented by two, as wide as the terminal; elsewhere each row is one line. Texts may come from strangers.
pub(crate) fn columns<const N: usize>(headings: [&str; N], rows: &[[String; N]], right: &[usize]) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    // Whoever reads a pipe looks for a sentence in a line: there is no width to fit it into.
    if io::stdout().is_terminal() {
        table.set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(u16::try_from(width()).unwrap_or(u16::MAX) - 2);
    }
    table.set_header(headings.map(str::to_string));
    for row in rows {
        table.add_row(row.iter().map(|cell| printable(cell)).collect::<Vec<_>>());
    }
    for &index in right {
        if let Some(column) = table.column_mut(index) {
            column.set_cell_alignment(comfy_table::CellAlignment::Right);
        }
    }
    let mut text = String::new();
    for (index, line) in table.to_string().lines().enumerate() {
        let line = line.trim_end();
        let line = if index == 0 { paint(FAINT, line) } else { line.to_string() };
        writeln!(text, " {line}").ok();
    }
    text
}

/// Names and values, aligned, indented by two. Texts may come from strangers.
pub(crate) fn pairs(pairs: &[(&str, String)]) -> String {
    let longest = pairs.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
    let mut text = String::new();
    let hanging = " ".repeat(longest + 4);
    for (name, value) in pairs {
        let value = printable(value);
        let lines = wrapped(&value, width() - hanging.len() - 2);
        writeln!(text, "  {}  {}", paint(FAINT, format!("{name:longest$}")), lines.join(&format!("\n{hanging}"))).ok();
    }
    text
}

/// `text` in lines of `width` characters, broken at spaces alone: a code or an address is looked for as it stands.
pub(crate) fn wrapped(text: &str, width: usize) -> Vec<String> {
    let options = textwrap::Options::new(width.max(1))
        .word_separator(textwrap::WordSeparator::AsciiSpace)
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::wrap(text, options).into_iter().map(std::borrow::Cow::into_owned).collect()
}

/// Findings, the worst first, each with its remedy below.
pub(crate) fn findings(records: &[FindingRecord]) -> String {
    let mut records: Vec<_> = records.iter().collect();
    records.sort_by_key(|record| record.severity);
    let mut text = String::new();
    for record in records {
        let style = match record.severity {
            Severity::Blocker => BAD,
            Severity::Caution => WARN,
            Severity::Note => FAINT,
        };
        let hanging = " ".repeat(11);
        let wrap = |line: &str| wrapped(line, width() - 13).join(&format!("\n{hanging}"));
        let head = wrap(&format!("{} [{}]", upper_first(&printable(&record.sentence)), record.code));
        writeln!(text, "  {}  {head}", paint(style, format!("{:7}", record.severity.name()))).ok();
        let remedy = wrap(&with_option(&record.code, &record.remedy));
        for line in remedy.lines().map(str::trim) {
            writeln!(text, "{hanging}{}", paint(FAINT, line)).ok();
        }
    }
    text
}

/// `text` starting with a capital letter.
pub(crate) fn upper_first(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

/// A heading on a line of its own, after an empty one.
pub(crate) fn heading(text: &str) -> String {
    format!("\n{}\n", paint(STRONG, printable(text)))
}
