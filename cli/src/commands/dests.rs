//! `reformis dests`

use anyhow::Result;
use reformis_machine::{
    Destination,
    destination::{DiskShape, Lacking},
};

use super::JSON_SCHEMA;
use crate::{
    Session,
    args::DestsArgs,
    exit::Exit,
    output::{STRONG, columns, emit, emit_json, heading, paint, pairs},
};

pub(crate) fn run(args: &DestsArgs, session: &Session) -> Result<Exit> {
    let site = &session.site;
    let known = match &args.name {
        Some(name) => site.destination(name).map(|destination| vec![destination]),
        None => site.destinations(),
    };
    let destinations = known.map_err(reformis_move::Error::from)?;
    if session.json {
        let list: Vec<_> =
            destinations.iter().map(|d| serde_json::json!({ "lands": true, "destination": d })).collect();
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "destinations": list }))?;
    } else if let (Some(_), [destination]) = (&args.name, &destinations[..]) {
        emit(&show(destination))?;
    } else {
        let rows: Vec<_> = destinations
            .iter()
            .map(|d| [d.name.clone(), d.summary.clone(), shape(&d.disks[0]), d.origin.clone()])
            .collect();
        emit(&columns(["destination", "what it is", "disks", "from"], &rows, &[]))?;
        emit("\n`reformis dests NAME` shows one in full.\n")?;
    }
    Ok(Exit::Done)
}

fn shape(disk: &DiskShape) -> String {
    match &disk.wrapped {
        Some(wrap) => format!("{} in {wrap}", disk.shape),
        None => disk.shape.clone(),
    }
}

fn show(destination: &Destination) -> String {
    let join = |words: Vec<&str>| words.join(", ");
    let mut text = format!("{}  {}\n", paint(STRONG, &destination.name), destination.summary);
    let disks: Vec<String> = destination
        .disks
        .iter()
        .map(|disk| match &disk.machine_files[..] {
            [] => shape(disk),
            kinds => format!("{} (with {})", shape(disk), join(kinds.iter().map(|kind| kind.name()).collect())),
        })
        .collect();
    let rules = &destination.rules;
    let mut told: Vec<String> = Vec::new();
    told.extend(rules.size_multiple.iter().map(|size| format!("a disk's size is a multiple of {size}")));
    told.extend(rules.largest_disk.iter().map(|size| format!("a disk has at most {size}")));
    if rules.full_only {
        told.push("a disk has all its space present".into());
    }
    told.extend(rules.name_characters.iter().map(|set| format!("a name is made of {set}")));
    told.extend(rules.serial_console.iter().map(|port| format!("it shows the serial port {port}")));
    told.extend(rules.dhcp.then(|| "it gives the first adapter its address".to_string()));
    told.extend(rules.remote_login.then(|| "the network is the only way in".to_string()));
    told.extend(rules.no_swap.then(|| "there is to be no swap space on the system's disk".to_string()));
    if !rules.data_sources.is_empty() {
        told.push(format!("cloud-init looks into {}", rules.data_sources.join(", ")));
    }
    told.extend(rules.longest_name.iter().map(|most| format!("a name has at most {most} characters")));
    let lacks: Vec<&str> = destination
        .lacks
        .iter()
        .map(|what| match what {
            Lacking::Tpm => "TPM",
            Lacking::SecureBoot => "secure boot",
            Lacking::SerialPorts => "serial ports",
            Lacking::Drives => "CD and floppy drives",
        })
        .collect();
    text += &pairs(&[
        ("from", destination.origin.clone()),
        ("disks", disks.join(", ")),
        ("firmware", destination.firmware.join(", ")),
        ("machine file", join(destination.machine_files.iter().map(|kind| kind.name()).collect())),
        ("network", destination.network.as_ref().map_or("none of its own", |name| name.as_str()).to_string()),
        ("does not have", if lacks.is_empty() { "nothing of note".into() } else { lacks.join(", ") }),
        ("rules", if told.is_empty() { "none".into() } else { told.join("; ") }),
    ]);
    text += &heading("Controllers");
    let needs = |word: &str| {
        let needs = destination.guest.get(word).cloned().unwrap_or_default();
        (needs.modules.join(", "), needs.drivers.join(", ").replace("|", " or "))
    };
    let rows: Vec<_> = destination
        .controllers
        .iter()
        .map(|c| {
            let (modules, drivers) = needs(c.kind.name());
            let each = c.each.map_or(String::new(), |each| each.to_string());
            [c.kind.to_string(), c.slots.to_string(), each, c.boots.join(", "), modules, drivers]
        })
        .collect();
    let headings = ["controller", "disks", "on each", "boots with", "kernel modules", "Windows drivers"];
    text += &columns(headings, &rows, &[1, 2]);
    text += &heading("Adapters");
    let rows: Vec<_> = destination
        .adapters
        .iter()
        .map(|model| {
            let (modules, drivers) = needs(model.name());
            [model.to_string(), modules, drivers]
        })
        .collect();
    text += &columns(["adapter", "kernel modules", "Windows drivers"], &rows, &[]);
    text + "\nThe first of each is what a move proposes.\n"
}
