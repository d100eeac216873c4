//! `reformis fleet undo`

use anyhow::Result;
use reformis_disk::text::printable;
use reformis_move::{
    Receipt,
    fleet::{FleetError, Stand, undo},
};

use super::Opened;
use crate::{
    Session,
    args::UndoArgs,
    commands::{JSON_SCHEMA, carry::quoted_target},
    exit::Exit,
    output::{GOOD, emit, emit_json, heading, paint},
};

pub(super) fn run(args: &UndoArgs, session: &Session) -> Result<Exit> {
    let opened = Opened::new(&args.fleet, &args.state, session)?;
    let (machine, spec) = opened.state.machine(&opened.name, &args.name)?;
    let stays =
        |what: &str| reformis_move::Error::from(FleetError::NotUndone { name: args.name.clone(), what: what.into() });
    if machine.state == Stand::Running {
        return Err(stays("a worker has it; stop that first").into());
    }
    let told = opened.state.receipt(&opened.name, &args.name)?;
    let told = told.and_then(|text| Receipt::parse(text.as_bytes()).ok());
    let undone =
        undo::undo(&machine, &spec, told.as_ref(), args.force, (&opened.state, &opened.name), &session.context())?;
    opened.state.undone(&opened.name, &args.name)?;
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "undone": undone }))?;
        return Ok(Exit::Done);
    }
    let mut text = format!("{} {}\n", paint(GOOD, "Undone"), args.name);
    if undone.removed.is_empty() {
        text += "  nothing of it was there\n";
    }
    undone.removed.iter().for_each(|removed| text += &format!("  removed {}\n", printable(removed)));
    if !undone.by_hand.is_empty() {
        text += &heading("To be removed by hand");
        undone.by_hand.iter().for_each(|what| text += &format!("  {}\n", printable(what)));
    }
    text += &heading("Next");
    text += &format!(
        "  start the old machine where it was: {} is as it was\n  to move it again, add --again {} to `reformis fleet run`\n",
        quoted_target(&undone.source),
        args.name
    );
    emit(&text)?;
    Ok(Exit::Done)
}
