//! `reformis recast`

use anyhow::Result;
use reformis_disk::{ByteSize, Facts};
use reformis_move::{
    Finding,
    recast::{self, Options},
};

use super::{JSON_SCHEMA, links};
use crate::{
    Session,
    args::RecastArgs,
    exit::Exit,
    output::{self, GOOD, emit, emit_json, heading, paint, pairs},
};

pub(crate) fn run(args: &RecastArgs, session: &Session) -> Result<Exit> {
    let options = Options {
        source: args.source.clone(),
        result: args.result.clone(),
        from: args.from,
        shape: args.shape,
        force: args.force,
        links: links(args.trust_links),
        align: args.align.map(|size| size.0),
        grow: args.grow.map(|size| size.0),
    };
    let recast = recast::recast(&options, &session.context())?;
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "recast": recast }))?;
        return Ok(Exit::Done);
    }
    let told = |facts: &Facts| {
        let (size, file) = (ByteSize(facts.virtual_size), ByteSize(facts.file_size));
        let on_disk = if facts.allocated < facts.file_size {
            format!(" ({} on disk)", ByteSize(facts.allocated))
        } else {
            String::new()
        };
        format!("{}, disk of {size} in a file of {file}{on_disk}", facts.shape)
    };
    let name = reformis_disk::text::printable(&args.result.to_string_lossy());
    let mut text = format!("{} {name}\n", paint(GOOD, "Made"));
    text += &pairs(&[
        ("before", told(&recast.before)),
        ("after", told(&recast.after)),
        ("content digest", recast.content_digest.clone()),
    ]);
    if !recast.findings.is_empty() {
        text += &heading("Findings");
        text += &output::findings(&recast.findings.iter().map(Finding::record).collect::<Vec<_>>());
    }
    emit(&text)?;
    Ok(Exit::Done)
}
