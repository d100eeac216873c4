//! `reformis prove`

use std::fmt::Write;

use anyhow::Result;
use reformis_disk::ByteSize;
use reformis_move::{
    Finding,
    prove::{self, Against, DiskProof, FileProof, Options, Proof},
};

use super::{JSON_SCHEMA, base_name, links};
use crate::{
    Session,
    args::ProveArgs,
    chain,
    exit::Exit,
    output::{self, BAD, GOOD, columns, emit, emit_json, heading, paint, pairs},
};

pub(crate) fn run(args: &ProveArgs, session: &Session) -> Result<Exit> {
    let links = links(args.trust_links);
    let proof = match &args.second {
        None => {
            let (machine_may_differ, without_sources) = (args.machine_may_differ, args.without_sources);
            let options = Options { links, machine_may_differ, without_sources };
            prove::prove_receipt(&args.first, options, &session.context())?
        }
        Some(second) => prove::prove_disks(&args.first, second, args.from, links, &session.context())?,
    };
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "proof": proof }))?;
    } else {
        emit(&show(&proof))?;
    }
    Ok(if proof.holds { Exit::Done } else { Exit::NotProved })
}

/// The proof as a person reads it.
pub(crate) fn show(proof: &Proof) -> String {
    let mut text = proof.disks.iter().map(show_disk).collect::<Vec<_>>().join("\n");
    if !proof.files.is_empty() {
        text += &heading("Beside the disks");
        text += &proof.files.iter().map(show_file).collect::<String>();
    }
    text += &chain::evidence(&proof.evidence);
    if !proof.findings.is_empty() {
        text += &heading("Findings");
        text += &output::findings(&proof.findings.iter().map(Finding::record).collect::<Vec<_>>());
    }
    let changed = proof.files.iter().any(|file| !file.holds);
    let is_unread = proof.disks.iter().any(|disk| disk.against == Against::Receipt);
    let verdict = match (proof.holds, changed, is_unread) {
        (true, _, true) => paint(GOOD, "The landing is what its receipt records; its source was not read."),
        (true, false, _) => paint(GOOD, "The proof holds: every byte that a guest sees is accounted for."),
        (true, true, _) => {
            paint(GOOD, "The proof holds for the disks; files beside them differ, as you said they may.")
        }
        (false, ..) => paint(BAD, "The proof does not hold."),
    };
    writeln!(text, "\n{verdict}").ok();
    text
}

/// A file beside the disks in a line, and below it what a machine file says now.
fn show_file(file: &FileProof) -> String {
    let mark = if file.holds { paint(GOOD, "holds") } else { paint(BAD, "differs") };
    let reason = file.reason.as_ref().map_or(String::new(), |reason| format!(": {reason}"));
    let line = reformis_disk::text::printable(&format!("{}{reason}", base_name(&file.file)));
    let mut text = format!("  {mark}  {line}\n");
    let or_none = |value: &String| if value.is_empty() { "none".to_string() } else { value.clone() };
    let rows: Vec<_> = file
        .settings
        .iter()
        .map(|difference| [difference.setting.clone(), or_none(&difference.before), or_none(&difference.after)])
        .collect();
    if !rows.is_empty() {
        text += &columns(["setting", "landed", "now"], &rows, &[]);
    }
    text
}

fn show_disk(disk: &DiskProof) -> String {
    let mark = if disk.holds { paint(GOOD, "holds") } else { paint(BAD, "differs") };
    let name = reformis_disk::text::printable(base_name(&disk.result));
    let edits = match (disk.edits, disk.against) {
        (0, Against::Receipt) => "none".to_string(),
        (0, _) => "none: the result must equal its source".to_string(),
        (1, _) => format!("1, {} in the ranges that the receipt lists", ByteSize(disk.edited)),
        (count, _) => format!("{count}, {} in the ranges that the receipt lists", ByteSize(disk.edited)),
    };
    let source = match disk.against {
        Against::Receipt => "not read; compared with the digest that the receipt records".to_string(),
        Against::Source | Against::Disk => disk.source.clone(),
    };
    let told = |bytes: u64| format!("{} ({bytes} bytes)", ByteSize(bytes));
    let size = match disk.sizes {
        (source, result) if source == result => told(result),
        (source, result) => format!("source {}, result {}", told(source), told(result)),
    };
    let mut lines = vec![
        ("source", source),
        ("result", disk.result.clone()),
        ("size", size),
        ("edits", edits),
        ("content digest", disk.content_digest.clone()),
    ];
    if let Some(reason) = &disk.reason {
        lines.push(("why not", output::upper_first(reason)));
    }
    if disk.differing > 0 && !disk.holds {
        lines.push(("how much", format!("blocks of 1 MiB that differ: {}", disk.differing.div_ceil(1 << 20))));
    }
    format!("{mark}  {name}\n{}", pairs(&lines))
}
