//! `reformis draft`

use std::path::Path;

use anyhow::Result;
use reformis_disk::source::Access;
use reformis_move::{
    Finding, Severity, brief,
    draft::{self, Draft, Row},
    staging,
};

use super::{JSON_SCHEMA, carry::quoted, links, order};
use crate::{
    Session,
    args::DraftArgs,
    chain,
    exit::Exit,
    output::{self, FAINT, STRONG, emit, emit_json, heading, paint, say, width},
};

/// Where a landing is made when nothing is said: in the working folder.
const INTO: &str = "landing";

pub(crate) fn run(args: &DraftArgs, session: &Session) -> Result<Exit> {
    let order = order::order(&args.order, Some(INTO))?;
    let draft = draft::draft(&order, &session.site, links(args.order.trust_links), &session.context())?;
    let text = brief::write(&draft.brief, &draft.notes);
    let to_stdout = args.out.as_deref() == Some(Path::new("-"));
    if let Some(path) = args.out.as_deref().filter(|_| !to_stdout) {
        save(path, &text, args.force)?;
    }
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "draft": draft }))?;
    } else if to_stdout {
        emit(&text)?;
        // The brief is the result here; what there is to say goes beside it.
        say(&output::findings(&draft.findings.iter().map(Finding::record).collect::<Vec<_>>()));
    } else {
        emit(&show(&draft, args.out.as_deref()))?;
    }
    Ok(Exit::Done)
}

/// Writes the brief: whole or not at all, and over nothing that a person may have changed.
pub(crate) fn save(path: &Path, text: &str, force: bool) -> Result<()> {
    Ok(staging::write(path, text.as_bytes(), force, Access::ANYBODY)?)
}

/// The draft as a person reads it: what is now and what will be.
pub(crate) fn show(draft: &Draft, out: Option<&Path>) -> String {
    let journey = &draft.brief.journey;
    let shown = |text: &str| reformis_disk::text::printable(text);
    let mut text = format!(
        "{}  {} → {}\n",
        paint(STRONG, shown(&draft.brief.machine.name)),
        shown(&journey.source),
        shown(&journey.destination)
    );
    text += &chain::verdict(draft.verdict.as_ref());
    for (part, title) in [("machine", "Machine"), ("disks", "Disks"), ("adapters", "Adapters"), ("drives", "Drives")] {
        let rows: Vec<&Row> = draft.summary.iter().filter(|row| row.part == part).collect();
        if !rows.is_empty() {
            text += &heading(title);
            text += &side_by_side(&rows);
        }
    }
    let guest = &draft.brief.guest;
    let named = [("first start", &guest.first_boot), ("drivers", &guest.drivers)];
    let named = named.into_iter().flat_map(|(what, files)| files.iter().map(move |file| (what, file.clone())));
    let seed = [("user data", &guest.user_data), ("network settings", &guest.network_config)];
    let seed = seed.into_iter().filter_map(|(what, file)| Some((what, file.clone()?)));
    let files: Vec<(&str, String)> = named.chain(seed).collect();
    if !files.is_empty() {
        text += &heading("Files of this host that go in");
        text += &output::pairs(&files);
    }
    text += &chain::edits(&draft.guest.edits, "Changes inside the guest");
    text += &chain::evidence(&draft.guest.evidence);
    text += &heading("Findings");
    if draft.findings.is_empty() {
        text += "  none\n";
    }
    text += &output::findings(&draft.findings.iter().map(Finding::record).collect::<Vec<_>>());
    text += &heading("Next");
    let blocked = draft.findings.iter().any(|finding| finding.severity() == Severity::Blocker);
    let landing = Path::new(&journey.into).join(&draft.brief.machine.name);
    text += &match out {
        Some(path) => format!(
            "  the brief is in {0}: read it, change it, then\n  reformis carry {0}\n",
            quoted(&path.to_string_lossy())
        ),
        None => "  add --out FILE to have this as a brief that you can change\n".to_string(),
    };
    text += &paint(FAINT, format!("  it lands in {}\n", shown(&landing.to_string_lossy())));
    if blocked {
        text += &paint(FAINT, "  a blocker stops the move before anything is written\n");
    }
    text
}

/// What is now on the left, what will be on the right; what changes stands out.
fn side_by_side(rows: &[&Row]) -> String {
    let shown = |text: &str| reformis_disk::text::printable(text);
    let first = rows.iter().map(|row| shown(&row.what).chars().count()).max().unwrap_or(0).min(24);
    let each = (width() - first - 9) / 2;
    let left = rows.iter().map(|row| shown(&row.before).chars().count()).max().unwrap_or(0).min(each);
    let mut text = String::new();
    for row in rows {
        let wrap = |cell: &str, width: usize| output::wrapped(&shown(cell), width.max(10));
        let what = wrap(&row.what, first);
        let same = row.before == row.after;
        let before = wrap(if row.before.is_empty() { "–" } else { &row.before }, left);
        let after = wrap(if row.after.is_empty() { "stays behind" } else { &row.after }, each);
        for line in 0..what.len().max(before.len()).max(after.len()) {
            let cell = |cells: &[String]| cells.get(line).cloned().unwrap_or_default();
            let arrow = if line > 0 {
                " "
            } else if same {
                "="
            } else {
                "→"
            };
            let name = pad(&cell(&what), first);
            let right = cell(&after);
            let right = if same { paint(FAINT, right) } else { paint(STRONG, right) };
            text += &format!("  {}  {}  {arrow}  {right}\n", paint(FAINT, name), pad(&cell(&before), left));
        }
    }
    text
}

fn pad(text: &str, width: usize) -> String {
    format!("{text}{}", " ".repeat(width.saturating_sub(text.chars().count())))
}
