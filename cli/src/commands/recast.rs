//! `reformis recast`

use std::{io::IsTerminal, path::Path};

use anyhow::Result;
use reformis_disk::{ByteSize, Facts, format};
use reformis_move::{
    Finding,
    recast::{self, Options},
};

use super::{JSON_SCHEMA, links};
use crate::{
    Session,
    args::{RecastArgs, Squeeze},
    exit::Exit,
    output::{self, GOOD, emit, emit_json, heading, paint, pairs},
};

pub(crate) fn run(args: &RecastArgs, session: &Session) -> Result<Exit> {
    let to_stdout = args.result == Path::new("-");
    if to_stdout && session.json {
        usage("--json and the disk cannot both go to stdout: use --receipt FILE for the record");
    }
    if to_stdout && std::io::stdout().is_terminal() {
        usage("a disk is not written to a terminal: send stdout into a file or a pipe");
    }
    let options = Options {
        source: args.source.clone(),
        result: args.result.clone(),
        from: args.from,
        snapshot: args.snapshot.clone(),
        shape: args.shape,
        squeeze: args.squeeze.map(|method| match method {
            Squeeze::Deflate => format::Squeeze::Deflate,
            Squeeze::Zstd => format::Squeeze::Zstd,
        }),
        cluster: args.cluster.map(|size| size.0),
        force: args.force,
        links: links(args.trust_links),
        align: args.align.map(|size| size.0),
        grow: args.grow.map(|size| size.0),
        receipt: args.receipt.clone(),
        in_place: false,
    };
    let recast = recast::recast(&options, &session.context())?;
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "recast": recast }))?;
        return Ok(Exit::Done);
    }
    let name = reformis_disk::text::printable(&args.result.to_string_lossy());
    let mut text = format!("{} {}\n", paint(GOOD, "Made"), if to_stdout { "stdout" } else { &name });
    let mut rows = vec![("before", told(&recast.before))];
    rows.extend(recast.after.as_ref().map(|after| ("after", told(after))));
    rows.push(("content digest", recast.content_digest.clone()));
    text += &pairs(&rows);
    if !recast.findings.is_empty() {
        text += &heading("Findings");
        text += &output::findings(&recast.findings.iter().map(Finding::record).collect::<Vec<_>>());
    }
    // The disk has stdout for itself.
    if to_stdout {
        session.progress.say(&text);
    } else {
        emit(&text)?;
    }
    Ok(Exit::Done)
}

/// Shape and sizes of an image in one line.
pub(super) fn told(facts: &Facts) -> String {
    let (size, file) = (ByteSize(facts.virtual_size), ByteSize(facts.file_size));
    let on_disk = if facts.allocated < facts.file_size {
        format!(" ({} on disk)", ByteSize(facts.allocated))
    } else {
        String::new()
    };
    match (&facts.compression, facts.file_size) {
        (_, 0) => format!("{}, disk of {size} from a pipe", facts.shape),
        (Some(kind), _) => format!("{}, disk of {size} in {file} with {kind}{on_disk}", facts.shape),
        (None, _) => format!("{}, disk of {size} in {file}{on_disk}", facts.shape),
    }
}

/// Ends as wrong usage does.
fn usage(what: &str) -> ! {
    crate::failure::wrong_usage(clap::error::ErrorKind::ArgumentConflict, what)
}
