//! `reformis fleet gather`

use std::path::{Path, PathBuf};

use anyhow::Result;
use jiff::Timestamp;
use reformis_disk::{ByteSize, source::Access};
use reformis_move::{
    Severity,
    fleet::{
        Fleet, Inventory,
        gather::{self, Gathered, Options, Ready},
    },
    staging,
};

use crate::{
    Session,
    args::GatherArgs,
    commands::{JSON_SCHEMA, links, quoted},
    exit::Exit,
    output::{columns, emit, emit_json, heading},
};

pub(super) fn run(args: &GatherArgs, session: &Session) -> Result<Exit> {
    let absolute = |path: &PathBuf| match session.wires.is_named(&path.to_string_lossy()) {
        true => Ok(path.clone()),
        false if reformis_wire::Wires::is_link(path) => Ok(path.clone()),
        false => std::path::absolute(path),
    };
    let inventory = args.from.as_deref().map(Inventory::read).transpose()?.unwrap_or_default();
    if !inventory.unknown.is_empty() {
        let columns = reformis_disk::text::printable(&inventory.unknown.join(", "));
        session.progress.say(&format!("Columns that are no keys of a row, and are passed over: {columns}\n"));
    }
    // What is there is kept, as a person changed it.
    let earlier = args.out.as_deref().filter(|path| args.add && path.is_file());
    let options = Options {
        targets: args.targets.iter().map(absolute).collect::<Result<_, _>>()?,
        destination: args.dest.clone(),
        into: into(args)?,
        site: session.site.clone(),
        links: links(args.trust_links),
        at_once: args.at_once as usize,
        inventory: inventory.entries,
        group: args.group.clone(),
        existing: earlier.map(Fleet::read).transpose()?,
    };
    let rows = gather::gather(&options, &session.context())?;
    let out = args.out.as_deref().map_or_else(|| "night.toml".into(), Path::to_string_lossy);
    let text = match earlier {
        Some(path) => {
            let text = std::fs::read_to_string(path)?;
            // Where there is nothing new, the file stays as it is.
            if rows.is_empty() { text } else { gather::added(&text, &rows, &options, path, Timestamp::now())? }
        }
        None => gather::write(&rows, &options, &quoted(&out), Timestamp::now()),
    };
    let to_stdout = args.out.as_deref() == Some(Path::new("-"));
    if let Some(path) = args.out.as_deref().filter(|_| !to_stdout) {
        staging::write(path, text.as_bytes(), args.force || earlier.is_some(), Access::ANYBODY)?;
    }
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "machines": rows }))?;
    } else if to_stdout {
        emit(&text)?;
    } else {
        emit(&show(&rows, args.out.as_deref(), earlier.is_some()))?;
    }
    Ok(Exit::Done)
}

/// The folder for landings as the file says it: as it was typed, where the file lies in the working folder.
fn into(args: &GatherArgs) -> Result<PathBuf> {
    let is_here = args.out.as_ref().is_none_or(|out| out.parent().is_some_and(|folder| folder == Path::new("")));
    Ok(if is_here { args.into.clone() } else { std::path::absolute(&args.into)? })
}

/// The rows as a person reads them.
pub(crate) fn show(rows: &[Gathered], out: Option<&Path>, is_added: bool) -> String {
    let count = |ready| rows.iter().filter(|row| row.ready == ready).count();
    let mut text = format!(
        "{}{}: {} ready, {} with something that asks for a hand, {} blocked\n\n",
        if is_added { "Added " } else { "" },
        if rows.len() == 1 { "1 machine".into() } else { format!("{} machines", rows.len()) },
        count(Ready::Ready),
        count(Ready::Asks),
        count(Ready::Blocked),
    );
    let cells: Vec<[String; 5]> = rows
        .iter()
        .map(|row| {
            let codes = row.findings.iter().filter(|finding| finding.severity != Severity::Note);
            let mut codes: Vec<&str> = codes.map(|finding| finding.code.as_str()).collect();
            codes.dedup();
            [
                row.name.clone(),
                match row.ready {
                    Ready::Ready => "ready".into(),
                    Ready::Asks => "asks".into(),
                    Ready::Blocked => "blocked".into(),
                },
                row.verdict.as_ref().map_or("–".into(), |verdict| super::words::boots(verdict.boots).to_string()),
                row.size.map_or("–".into(), |size| ByteSize(size).to_string()),
                row.error.clone().unwrap_or_else(|| codes.join(", ")),
            ]
        })
        .collect();
    text += &columns(["machine", "state", "boots", "data", "what asks"], &cells, &[3]);
    text += &heading("Next");
    text += &match out {
        Some(path) => {
            let path = quoted(&path.to_string_lossy());
            format!("  the fleet file is {path}: read it, change it, then\n  reformis fleet check {path}\n")
        }
        None => "  add --out FILE to have this as a fleet file\n".to_string(),
    };
    text
}
