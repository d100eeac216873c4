//! `reformis prove`

use std::fmt::Write;

use anyhow::Result;
use reformis_disk::ByteSize;
use reformis_move::{
    Finding,
    prove::{self, DiskProof, Proof},
};

use super::{JSON_SCHEMA, base_name, links};
use crate::{
    Session,
    args::ProveArgs,
    chain,
    exit::Exit,
    output::{self, BAD, GOOD, emit, emit_json, heading, paint, pairs},
};

pub(crate) fn run(args: &ProveArgs, session: &Session) -> Result<Exit> {
    let links = links(args.trust_links);
    let proof = match &args.second {
        None => prove::prove_receipt(&args.first, links, &session.context())?,
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
    text += &chain::evidence(&proof.evidence);
    if !proof.findings.is_empty() {
        text += &heading("Findings");
        text += &output::findings(&proof.findings.iter().map(Finding::record).collect::<Vec<_>>());
    }
    let verdict = if proof.holds {
        paint(GOOD, "The proof holds: every byte is accounted for.")
    } else {
        paint(BAD, "The proof does not hold.")
    };
    writeln!(text, "\n{verdict}").ok();
    text
}

fn show_disk(disk: &DiskProof) -> String {
    let mark = if disk.holds { paint(GOOD, "holds") } else { paint(BAD, "differs") };
    let name = reformis_disk::text::printable(base_name(&disk.result));
    let edits = match disk.edited {
        0 => "none: result and source are to be the same".to_string(),
        bytes => format!("{} in the ranges that the receipt lists", ByteSize(bytes)),
    };
    let told = |bytes: u64| format!("{} ({bytes} bytes)", ByteSize(bytes));
    let size = match disk.sizes {
        (source, result) if source == result => told(result),
        (source, result) => format!("source {}, result {}", told(source), told(result)),
    };
    let mut lines = vec![
        ("source", disk.source.clone()),
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
