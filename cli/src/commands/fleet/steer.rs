//! `reformis fleet pause`, `go` and `hold`: what the keys of a drawn night do, from any terminal.

use anyhow::Result;
use reformis_move::fleet::FleetError;

use super::Opened;
use crate::{
    Session,
    args::{GoArgs, HoldArgs, SteerArgs},
    commands::{JSON_SCHEMA, quoted},
    exit::Exit,
    output::{emit, emit_json},
};

/// Pauses the fleet.
pub(super) fn pause(args: &SteerArgs, session: &Session) -> Result<Exit> {
    let opened = Opened::new(&args.fleet, &args.state, session)?;
    opened.state.rules(&opened.name)?;
    opened.state.pause(&opened.name, true)?;
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "paused": true }))?;
    } else {
        let shown = quoted(&args.fleet.to_string_lossy());
        emit(&format!("Paused: no machine begins before `reformis fleet go {shown}`; what runs is finished.\n"))?;
    }
    Ok(Exit::Done)
}

/// Lets it go on, or opens the gates of groups.
pub(super) fn go(args: &GoArgs, session: &Session) -> Result<Exit> {
    let opened = Opened::new(&args.fleet, &args.state, session)?;
    let (rules, is_paused) = opened.state.rules(&opened.name)?;
    for name in &args.groups {
        if name.is_empty() || !rules.groups.iter().any(|group| group.name == *name) {
            return Err(reformis_move::Error::from(FleetError::NoGroup { name: name.clone() }).into());
        }
    }
    for name in &args.groups {
        opened.state.open_gate(&opened.name, name)?;
    }
    let goes_on = args.groups.is_empty();
    if goes_on {
        opened.state.pause(&opened.name, false)?;
    }
    let is_paused = is_paused && !goes_on;
    if session.json {
        let document = serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "paused": is_paused, "groups": args.groups });
        emit_json(&document)?;
        return Ok(Exit::Done);
    }
    let still = if is_paused { " The fleet is still paused." } else { "" };
    emit(&match &args.groups[..] {
        [] => "Machines may begin again.\n".to_string(),
        [one] => format!("The group {one} may begin when those before it are over.{still}\n"),
        several => {
            format!("The groups {} may begin, each when those before it are over.{still}\n", several.join(", "))
        }
    })?;
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
