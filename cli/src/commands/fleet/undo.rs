//! `reformis fleet undo`

use anyhow::Result;
use reformis_disk::text::printable;
use reformis_move::{
    Receipt,
    fleet::{FleetError, Machine, Stand, undo},
};

use super::Opened;
use crate::{
    Session,
    args::UndoArgs,
    commands::{JSON_SCHEMA, carry::quoted_target, quoted},
    exit::Exit,
    output::{GOOD, emit, emit_json, heading, paint},
};

pub(super) fn run(args: &UndoArgs, session: &Session) -> Result<Exit> {
    let opened = Opened::new(&args.fleet, &args.state, session)?;
    let machines = opened.state.machines(&opened.name)?;
    let mut meant: Vec<&Machine> = Vec::new();
    for name in &args.names {
        let is_it = |machine: &&Machine| machine.name == *name;
        // Of a group, those that have landed, and those whose undoing was begun.
        let is_of_it = |machine: &&Machine| machine.group == *name && !name.is_empty() && has_something(machine);
        let found: Vec<&Machine> = match machines.iter().find(is_it) {
            Some(machine) => vec![machine],
            None => machines.iter().filter(is_of_it).collect(),
        };
        if found.is_empty() {
            return Err(reformis_move::Error::from(FleetError::NoMachine { name: name.clone() }).into());
        }
        meant.extend(found);
    }
    meant.dedup_by(|one, other| one.name == other.name);
    let shown = quoted(&args.fleet.to_string_lossy());
    let (mut undone, mut stay) = (Vec::new(), Vec::new());
    for machine in &meant {
        match one(machine, args.force, &opened, session) {
            Ok(done) => {
                if !session.json {
                    emit(&told(&done, &shown))?;
                }
                undone.push(done);
            }
            // One alone is told as any command tells it; of several, one that stays keeps no other.
            Err(error) if meant.len() == 1 || is_interrupted(&error) => return Err(error),
            Err(error) => {
                session.progress.say(&format!("{}\n", printable(&format!("{error:#}"))));
                stay.push(serde_json::json!({ "name": machine.name, "reason": format!("{error:#}") }));
            }
        }
    }
    if session.json {
        // One alone is told as it always was.
        let document = match (&args.names[..], &undone[..]) {
            ([_], [one]) if stay.is_empty() => {
                serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "undone": one })
            }
            _ => {
                serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "machines": undone, "stay": stay })
            }
        };
        emit_json(&document)?;
    }
    Ok(if stay.is_empty() { Exit::Done } else { Exit::Failed })
}

fn is_interrupted(error: &anyhow::Error) -> bool {
    error.downcast_ref::<reformis_move::Error>().is_some_and(reformis_move::Error::is_interrupted)
}

fn has_something(machine: &Machine) -> bool {
    machine.state == Stand::Landed || machine.code.as_deref() == Some("undoing")
}

fn one(machine: &Machine, force: bool, opened: &Opened, session: &Session) -> Result<undo::Undone> {
    let (machine, spec) = opened.state.machine(&opened.name, &machine.name)?;
    if machine.state == Stand::Running {
        let what = "a worker has it; stop that first".into();
        return Err(reformis_move::Error::from(FleetError::NotUndone { name: machine.name, what }).into());
    }
    let told = opened.state.receipt(&opened.name, &machine.name)?;
    let told = told.and_then(|text| Receipt::parse(text.as_bytes()).ok());
    let state = (&opened.state, opened.name.as_str());
    let undone = undo::undo(&machine, &spec, told.as_ref(), force, state, &session.context())?;
    opened.state.undone(&opened.name, &machine.name)?;
    Ok(undone)
}

fn told(undone: &undo::Undone, shown: &str) -> String {
    let mut text = format!("{} {}\n", paint(GOOD, "Undone"), undone.name);
    if undone.removed.is_empty() && undone.aside.is_none() {
        text += "  nothing of it was there\n";
    }
    undone.removed.iter().for_each(|removed| text += &format!("  removed {}\n", printable(removed)));
    if let Some(aside) = &undone.aside {
        text += &format!("  set aside what was not as it landed: {}\n", printable(aside));
    }
    if !undone.by_hand.is_empty() {
        text += &heading("To be removed by hand");
        undone.by_hand.iter().for_each(|what| text += &format!("  {}\n", printable(what)));
    }
    text += &heading("Next");
    text += &format!(
        "  start the old machine where it was: {} is as it was\n  to move it again: reformis fleet run {shown} --again {}\n",
        quoted_target(&undone.source),
        undone.name
    );
    text
}
