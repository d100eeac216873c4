//! `reformis fleet pause`, `go` and `hold`: what the keys of a drawn night do, from any terminal.

use anyhow::Result;
use reformis_move::fleet::FleetError;

use super::Opened;
use crate::{
    Session,
    args::{HoldArgs, SteerArgs},
    commands::JSON_SCHEMA,
    exit::Exit,
    output::{emit, emit_json},
};

/// Pauses the fleet, or lets it go on.
pub(super) fn pause(args: &SteerArgs, paused: bool, session: &Session) -> Result<Exit> {
    let opened = Opened::new(&args.fleet, &args.state, session)?;
    opened.state.rules(&opened.name)?;
    opened.state.pause(&opened.name, paused)?;
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "paused": paused }))?;
    } else {
        emit(match paused {
            true => "Paused: no machine begins before `reformis fleet go`; what runs is finished.\n",
            false => "Machines may begin again.\n",
        })?;
    }
    Ok(Exit::Done)
}

/// Holds back machines that wait.
pub(super) fn hold(args: &HoldArgs, session: &Session) -> Result<Exit> {
    let opened = Opened::new(&args.fleet, &args.state, session)?;
    let mut held = Vec::new();
    for name in &args.names {
        let (machine, _) = opened.state.machine(&opened.name, name)?;
        if opened.state.hold_back(&opened.name, name)? {
            held.push(name.as_str());
        } else {
            let state = machine.state.word();
            return Err(reformis_move::Error::from(FleetError::NotHeld { name: name.clone(), state }).into());
        }
    }
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "held": held }))?;
    } else {
        emit(&format!("Held back: {}\n", held.join(", ")))?;
    }
    Ok(Exit::Done)
}
