//! `reformis dests`

use anyhow::Result;
use reformis_machine::Destination;

use super::JSON_SCHEMA;
use crate::{
    Session,
    args::DestsArgs,
    exit::Exit,
    output::{STRONG, columns, emit, emit_json, heading, paint, pairs},
};

pub(crate) fn run(args: &DestsArgs, session: &Session) -> Result<Exit> {
    let destinations = match &args.name {
        Some(name) => vec![Destination::find(name).map_err(reformis_move::Error::from)?],
        None => Destination::all().map_err(reformis_move::Error::from)?,
    };
    if session.json {
        let list: Vec<_> =
            destinations.iter().map(|d| serde_json::json!({ "lands": lands(d), "destination": d })).collect();
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "destinations": list }))?;
    } else if let (Some(_), [destination]) = (&args.name, &destinations[..]) {
        emit(&show(destination))?;
    } else {
        let rows: Vec<_> = destinations
            .iter()
            .map(|d| [d.name.clone(), if lands(d) { "yes" } else { "not yet" }.into(), d.summary.clone()])
            .collect();
        emit(&columns(["destination", "lands", "what it is"], &rows, &[]))?;
        emit("\n`reformis dests NAME` shows one in full.\n")?;
    }
    Ok(Exit::Done)
}

/// Whether this version can land a machine there.
fn lands(destination: &Destination) -> bool {
    destination.written_machine_file().is_some()
}

fn show(destination: &Destination) -> String {
    let join = |words: Vec<&str>| words.join(", ");
    let mut text = format!("{}  {}\n", paint(STRONG, &destination.name), destination.summary);
    let disks: Vec<String> = destination
        .disks
        .iter()
        .map(|disk| match &disk.wrapped {
            Some(wrap) => format!("{} in {wrap}", disk.shape),
            None => disk.shape.clone(),
        })
        .collect();
    let rules = &destination.rules;
    let mut told: Vec<String> = Vec::new();
    told.extend(rules.size_multiple.iter().map(|size| format!("a disk's size is a multiple of {size}")));
    told.extend(rules.largest_disk.iter().map(|size| format!("a disk has at most {size}")));
    if rules.full_only {
        told.push("a disk has all its space present".into());
    }
    let lands = if lands(destination) { "yes, with this version" } else { "not with this version" };
    text += &pairs(&[
        ("lands", lands.into()),
        ("disks", disks.join(", ")),
        ("adapters", join(destination.adapters.iter().map(|model| model.name()).collect())),
        ("firmware", destination.firmware.join(", ")),
        ("machine file", join(destination.machine_files.iter().map(|kind| kind.name()).collect())),
        ("network", destination.network.clone().unwrap_or_else(|| "none of its own".into())),
        ("rules", if told.is_empty() { "none".into() } else { told.join("; ") }),
    ]);
    text += &heading("Controllers");
    let rows: Vec<_> =
        destination.controllers.iter().map(|c| [c.kind.to_string(), c.slots.to_string(), c.boots.join(", ")]).collect();
    text += &columns(["controller", "disks", "boots with"], &rows, &[1]);
    text + "\nThe first of each is what a move proposes.\n"
}
