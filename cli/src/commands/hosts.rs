//! `reformis hosts`, and the machines of one.

use anyhow::Result;
use reformis_disk::{ByteSize, text::printable};
use reformis_move::roster::{self, Listed};

use super::JSON_SCHEMA;
use crate::{
    Session,
    args::HostsArgs,
    exit::Exit,
    output::{STRONG, columns, emit, emit_json, heading, paint},
};

pub(crate) fn run(args: &HostsArgs, session: &Session) -> Result<Exit> {
    let (known, stores, clouds) = (session.wires.hosts(), session.wires.stores(), session.wires.clouds());
    if let Some(name) = args.name.as_ref().filter(|name| stores.iter().any(|(store, ..)| store == *name)) {
        return super::stores::run(name, args.clean, session);
    }
    if let Some(name) = &args.name {
        // An image service is a store too, in which something may be left unfinished.
        if args.clean && clouds.iter().any(|(cloud, kind, _)| cloud == name && *kind == "image-service") {
            return super::stores::run(name, true, session);
        }
        if args.clean {
            anyhow::bail!(
                "'{}' is no store in reformis.toml: only uploads to a store are left unfinished",
                printable(name)
            );
        }
        if let Some((_, kind, at)) = clouds.iter().find(|(cloud, ..)| cloud == name) {
            return super::clouds::run(name, kind, at, session);
        }
        let about = session.wires.about(name).map_err(reformis_move::Error::from)?;
        let host = known.iter().find(|(known, ..)| known == name);
        if session.json {
            let (kind, at) = host.map_or(("", ""), |(_, kind, at)| (*kind, at.as_str()));
            let host = serde_json::json!({ "name": name, "kind": kind, "at": at, "answers": true, "about": about });
            emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "host": host }))?;
            return Ok(Exit::Done);
        }
        let mut text = format!("{}  answers, and lets us in\n", paint(STRONG, name.as_str()));
        if let Some((_, kind, at)) = host {
            text += &format!("  {kind} at {}\n", printable(at));
        }
        about.iter().for_each(|line| text += &format!("  {}\n", printable(line)));
        text += &heading("Next");
        text += &format!("  reformis survey {name}:\n");
        emit(&text)?;
        return Ok(Exit::Done);
    }
    if session.json {
        let list = |known: &[(String, &str, String)]| -> Vec<_> {
            known.iter().map(|(name, kind, at)| serde_json::json!({ "name": name, "kind": kind, "at": at })).collect()
        };
        let (hosts, stores, clouds) = (list(&known), list(&stores), list(&clouds));
        emit_json(
            &serde_json::json!({ "schema": JSON_SCHEMA, "site": session.text.file(), "hosts": hosts, "stores": stores, "clouds": clouds }),
        )?;
    } else if known.is_empty() && stores.is_empty() && clouds.is_empty() {
        emit("No host, store or cloud is named in reformis.toml. docs/wires.md and docs/clouds.md show how.\n")?;
    } else {
        let rows = |known: &[(String, &str, String)]| -> Vec<_> {
            known.iter().map(|(name, kind, at)| [name.clone(), (*kind).into(), printable(at)]).collect()
        };
        let all = [("host", &known), ("store", &stores), ("cloud", &clouds)];
        let tables = all.into_iter().filter(|(_, known)| !known.is_empty());
        let tables: Vec<_> = tables.map(|(word, known)| columns([word, "kind", "where"], &rows(known), &[])).collect();
        emit(&tables.join("\n"))?;
        let lists = match (known.is_empty(), clouds.is_empty()) {
            (true, true) => "",
            (_, true) => ", `reformis survey NAME:` lists the machines of a host",
            _ => ", `reformis survey NAME:` lists the machines of a host or a cloud",
        };
        let file = printable(session.text.file().unwrap_or_default());
        emit(&format!("\nThey stand in {file}. `reformis hosts NAME` tries one{lists}.\n"))?;
    }
    Ok(Exit::Done)
}

/// The machines of `host`, for `reformis survey HOST:`.
pub(super) fn machines(host: &str, session: &Session) -> Result<Vec<Listed>> {
    Ok(roster::machines(host, &session.context())?)
}

/// A list of machines as a person reads it.
pub(super) fn show(host: &str, machines: &[Listed]) -> String {
    let count = machines.len();
    let mut text =
        format!("{}  {count} machine{}\n\n", paint(STRONG, format!("{host}:")), if count == 1 { "" } else { "s" });
    let size = |bytes: Option<u64>| bytes.map_or("–".into(), |bytes| ByteSize(bytes).to_string());
    let rows: Vec<_> = machines
        .iter()
        .map(|machine| {
            [
                machine.name.clone(),
                machine.power.into(),
                machine.disks.map_or("–".into(), |disks| disks.to_string()),
                size(machine.size),
                size(machine.stored),
                machine.firmware.unwrap_or("–").to_string(),
                machine.unread.clone().unwrap_or_default(),
            ]
        })
        .collect();
    text += &columns(["machine", "power", "disks", "size", "stored", "firmware", ""], &rows, &[2, 3, 4]);
    text += &heading("Next");
    let first = machines.iter().find(|machine| machine.power == "off").or(machines.first());
    if let Some(machine) = first {
        text += &format!("  reformis survey {}\n", super::carry::quoted_target(&format!("{host}:{}", machine.name)));
    }
    text
}
