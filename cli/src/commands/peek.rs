//! `reformis peek`

use std::{
    io::{self, BufWriter, Write},
    path::Path,
};

use anyhow::{Context, Result};
use reformis_guest::Kind;
use reformis_move::{
    peek::{self, Item, Peek},
    staging::StagedFile,
    target::Unpack,
};

use super::{JSON_SCHEMA, links};
use crate::{
    Session,
    args::PeekArgs,
    exit::Exit,
    output::{columns, emit, emit_json},
};

pub(crate) fn run(args: &PeekArgs, session: &Session) -> Result<Exit> {
    let (folder, context) = (std::env::temp_dir(), session.context());
    let unpack = Unpack { folder: &folder, context: &context };
    let guest = peek::open(&args.target, args.volume.as_deref(), links(args.trust_links), unpack)?;
    let path = args.path.as_deref().unwrap_or("/");
    if let Some(out) = &args.tar {
        archive(&guest, path, out)?;
        return Ok(Exit::Done);
    }
    if session.json || guest.is_folder(path) || args.stat {
        let items = guest.list(path)?;
        if session.json {
            emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "peek": { "in": guest.name, "items": items } }))?;
        } else {
            emit(&show(&items))?;
        }
        return Ok(Exit::Done);
    }
    let mut out = BufWriter::new(io::stdout().lock());
    let copied = guest.copy(path, &mut out).map(drop);
    let flushed = out.flush();
    let is_closed = |error: &io::Error| error.kind() == io::ErrorKind::BrokenPipe;
    match (copied, flushed) {
        // A reader who has seen enough.
        (Err(reformis_move::Error::Guest(reformis_guest::Error::Disk(reformis_disk::Error::Io { source, .. }))), _)
            if is_closed(&source) => {}
        (_, Err(error)) if is_closed(&error) => {}
        (copied, flushed) => {
            copied?;
            flushed.context("writing to stdout")?;
        }
    }
    Ok(Exit::Done)
}

/// Writes an archive: whole or not at all.
fn archive(guest: &Peek, path: &str, out: &Path) -> Result<()> {
    if out == Path::new("-") {
        return Ok(guest.archive(path, &mut BufWriter::new(io::stdout().lock()))?);
    }
    let staged = StagedFile::create(out, false, guest.access)?;
    let mut buffered = BufWriter::new(staged.file()?);
    guest.archive(path, &mut buffered)?;
    buffered.flush().with_context(|| format!("writing '{}'", out.display()))?;
    Ok(staged.commit()?)
}

/// A folder as a person reads it.
fn show(items: &[Item]) -> String {
    let rows: Vec<_> = items
        .iter()
        .map(|item| {
            let stat = &item.stat;
            let time = jiff::Timestamp::from_second(stat.modified).unwrap_or_default();
            let name = match (&item.target, stat.kind) {
                (Some(target), _) => format!("{} → {target}", item.name),
                (None, Kind::Folder) => format!("{}/", item.name),
                (None, _) => item.name.clone(),
            };
            [
                mode(stat.kind, stat.mode),
                stat.links.to_string(),
                stat.uid.to_string(),
                stat.gid.to_string(),
                stat.size.to_string(),
                time.strftime("%Y-%m-%d %H:%M").to_string(),
                name,
            ]
        })
        .collect();
    columns(["mode", "names", "owner", "group", "bytes", "changed (UTC)", "name"], &rows, &[1, 2, 3, 4])
}

/// Kind and permissions in ten letters.
fn mode(kind: Kind, mode: u16) -> String {
    let mut text = String::from(match kind {
        Kind::File => '-',
        Kind::Folder => 'd',
        Kind::Link => 'l',
        Kind::Other => '?',
    });
    for (shift, special, letter) in [(6, 0o4000, 's'), (3, 0o2000, 's'), (0, 0o1000, 't')] {
        let bits = mode >> shift;
        text.push(if bits & 4 != 0 { 'r' } else { '-' });
        text.push(if bits & 2 != 0 { 'w' } else { '-' });
        text.push(match (bits & 1 != 0, mode & special != 0) {
            (true, true) => letter,
            (false, true) => letter.to_ascii_uppercase(),
            (true, false) => 'x',
            (false, false) => '-',
        });
    }
    text
}
