//! `reformis peek`

use std::{
    io::{self, BufWriter, IsTerminal, Write},
    os::unix::ffi::OsStrExt,
    path::Path,
};

use anyhow::{Context, Result};
use reformis_disk::text::printable;
use reformis_guest::{Kind, Special, Stat, Stream, nt::keys::KeyFacts};
use reformis_move::{
    peek::{self, Item, LeftOut, Peek, Wanted},
    staging::{self, StagedFile},
    target::Unpack,
};

use super::{JSON_SCHEMA, links};
use crate::{
    Session,
    args::PeekArgs,
    exit::Exit,
    output::{columns, emit, emit_json, heading, pairs},
};

pub(crate) fn run(args: &PeekArgs, session: &Session) -> Result<Exit> {
    let (folder, context) = (std::env::temp_dir(), session.context());
    let unpack = Unpack { folder: &folder, context: &context };
    let wanted = Wanted { volume: args.volume.as_deref(), hive: args.hive.as_deref() };
    let mut guest = peek::open(&args.target, wanted, links(args.trust_links), unpack)?;
    let path = args.path.as_deref().unwrap_or_default();
    // Keys are text; paths in a guest are any bytes.
    let key = path.to_string_lossy();
    if let (Some(hive), Some(out)) = (&args.hive, &args.reg) {
        let bytes = guest.key_text(hive, &key)?;
        staging::write(out, &bytes, false, guest.access)?;
        return Ok(Exit::Done);
    }
    if let Some(hive) = &args.hive {
        let key = guest.key(hive, &key)?;
        if session.json {
            emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "peek": { "in": guest.name, "key": key } }))?;
        } else {
            emit(&show_key(&key))?;
        }
        return Ok(Exit::Done);
    }
    guest.with_streams = args.streams;
    let path = if path.is_empty() { b"/" } else { path.as_bytes() };
    if let Some(out) = &args.tar {
        let left = archive(&guest, path, out)?;
        if left.sockets > 0 {
            session.progress.say(&sockets(&left));
        }
        return Ok(Exit::Done);
    }
    if session.json || guest.is_folder(path) || args.stat || args.streams {
        let items = guest.list(path)?;
        if session.json {
            emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "peek": { "in": guest.name, "items": items } }))?;
        } else {
            emit(&show(&items))?;
        }
        return Ok(Exit::Done);
    }
    let stdout = io::stdout();
    // A terminal is shown the file's text, and is not steered by it; a pipe gets the bytes.
    let mut out: Box<dyn Write> = if stdout.is_terminal() {
        Box::new(Escaping { out: stdout.lock(), rest: Vec::new() })
    } else {
        Box::new(BufWriter::new(stdout.lock()))
    };
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

/// Writes text for a terminal: everything that could steer it or hide is an escape, but line ends and tabs.
struct Escaping<W: Write> {
    out: W,
    /// The start of a character whose end has not come yet.
    rest: Vec<u8>,
}

impl<W: Write> Write for Escaping<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.rest.extend(bytes);
        let whole = match std::str::from_utf8(&self.rest) {
            Ok(_) => self.rest.len(),
            Err(error) if error.error_len().is_none() => error.valid_up_to(),
            Err(_) => self.rest.len(),
        };
        let text: Vec<u8> = self.rest.drain(..whole).collect();
        for c in String::from_utf8_lossy(&text).chars() {
            match c {
                '\n' | '\t' => write!(self.out, "{c}")?,
                c => self.out.write_all(printable(c.encode_utf8(&mut [0; 4])).as_bytes())?,
            }
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        let rest = std::mem::take(&mut self.rest);
        self.out.write_all(printable(&String::from_utf8_lossy(&rest)).as_bytes())?;
        self.out.flush()
    }
}

/// Writes an archive: whole or not at all.
fn archive(guest: &Peek, path: &[u8], out: &Path) -> Result<LeftOut> {
    if out == Path::new("-") && io::stdout().is_terminal() {
        crate::failure::wrong_usage(
            clap::error::ErrorKind::ArgumentConflict,
            "an archive is not written to a terminal: send stdout into a file or a pipe",
        );
    }
    if out == Path::new("-") {
        return Ok(guest.archive(path, &mut BufWriter::new(io::stdout().lock()))?);
    }
    let staged = StagedFile::create(out, false, guest.access)?;
    let mut buffered = BufWriter::new(staged.file()?);
    let left = guest.archive(path, &mut buffered)?;
    buffered.flush().with_context(|| format!("writing '{}'", out.display()))?;
    staged.commit()?;
    Ok(left)
}

/// What an archive does not hold, as a sentence.
fn sockets(left: &LeftOut) -> String {
    let some: Vec<String> = left.some.iter().map(|path| printable(path)).collect();
    let more = if left.sockets > some.len() as u64 { ", …" } else { "" };
    let count = match left.sockets {
        1 => "1 socket is".to_string(),
        count => format!("{count} sockets are"),
    };
    format!("note: {count} not in the archive, since no archive can hold one: {}{more}\n", some.join(", "))
}

/// A folder as a person reads it.
fn show(items: &[Item]) -> String {
    let rows: Vec<_> = items
        .iter()
        .flat_map(|item| {
            let stat = &item.stat;
            let time = jiff::Timestamp::from_second(stat.modified).unwrap_or_default();
            let name = match (&item.target, stat.kind) {
                (Some(target), _) => format!("{} → {target}", item.name),
                (None, Kind::Folder) => format!("{}/", item.name),
                (None, _) => item.name.clone(),
            };
            let own = [
                mode(stat),
                stat.links.to_string(),
                stat.uid.to_string(),
                stat.gid.to_string(),
                stat.size.to_string(),
                time.strftime("%Y-%m-%d %H:%M").to_string(),
                name,
            ];
            let none = || String::from("–");
            let stream = |stream: &Stream| {
                let name = format!("{}:{}", item.name, stream.name);
                ["stream".into(), none(), none(), none(), stream.size.to_string(), none(), name]
            };
            std::iter::once(own).chain(item.streams.iter().map(stream)).collect::<Vec<_>>()
        })
        .collect();
    columns(["mode", "names", "owner", "group", "bytes", "changed (UTC)", "name"], &rows, &[1, 2, 3, 4])
}

/// A key of a registry as a person reads it.
pub(crate) fn show_key(key: &KeyFacts) -> String {
    let time = jiff::Timestamp::from_second(key.changed).unwrap_or_default();
    let path = if key.key.is_empty() { "the first key" } else { &key.key };
    let mut rows = vec![("key", path.to_string()), ("changed (UTC)", time.strftime("%Y-%m-%d %H:%M").to_string())];
    if key.replayed {
        rows.push(("log", "holds changes that the hive does not have yet; they are shown".into()));
    }
    let mut text = pairs(&rows);
    if !key.values.is_empty() {
        let own = |name: &str| if name.is_empty() { "(its own)".to_string() } else { name.to_string() };
        let rows: Vec<_> =
            key.values.iter().map(|value| [own(&value.name), value.data.kind(), value.data.to_string()]).collect();
        text += &heading("Values");
        text += &columns(["name", "type", "data"], &rows, &[]);
    }
    if !key.keys.is_empty() {
        let rows: Vec<_> = key.keys.iter().map(|name| [name.clone()]).collect();
        text += &heading("Keys");
        text += &columns(["name"], &rows, &[]);
    }
    text
}

/// Kind and permissions in ten letters.
fn mode(stat: &Stat) -> String {
    let mode = stat.mode;
    let mut text = String::from(match (stat.kind, stat.special) {
        (Kind::File, _) => '-',
        (Kind::Folder, _) => 'd',
        (Kind::Link, _) => 'l',
        (Kind::Other, Some(Special::Fifo)) => 'p',
        (Kind::Other, Some(Special::Socket)) => 's',
        (Kind::Other, Some(Special::Character(_))) => 'c',
        (Kind::Other, Some(Special::Block(_))) => 'b',
        (Kind::Other, None) => '?',
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_guest_wrote_does_not_steer_a_terminal() {
        let text = "tide\u{1b}[2J\u{9b}31m \u{202e}gnirps\ttab\nKüste 潮\n".as_bytes();
        let mut shown = Vec::new();
        let mut escaping = Escaping { out: &mut shown, rest: Vec::new() };
        // In pieces that cut characters.
        for piece in text.chunks(1) {
            escaping.write_all(piece).unwrap();
        }
        escaping.write_all(b"\xff\xe6").unwrap();
        escaping.flush().unwrap();
        let shown = String::from_utf8(shown).unwrap();
        assert_eq!(shown, "tide\\u{1b}[2J\\u{9b}31m \\u{202e}gnirps\ttab\nKüste 潮\n\u{fffd}\u{fffd}");
    }
}
