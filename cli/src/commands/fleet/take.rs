//! `reformis fleet take`

use anyhow::Result;
use reformis_move::fleet::{Fleet, take_in};

use super::Opened;
use crate::{
    Session,
    args::TakeArgs,
    commands::JSON_SCHEMA,
    exit::Exit,
    output::{GOOD, emit, emit_json, paint},
};

pub(super) fn run(args: &TakeArgs, session: &Session) -> Result<Exit> {
    let (opened, is_less) = match args.fleet.is_file() {
        true => {
            let (_, opened, is_less) =
                Opened::brought_in(Fleet::read(&args.fleet)?, &args.fleet, &args.state, session)?;
            (opened, is_less)
        }
        false => (Opened::new(&args.fleet, &args.state, session)?, false),
    };
    for name in &args.names {
        let (machine, spec) = opened.state.machine(&opened.name, name)?;
        take_in::take_in(&opened.state, &opened.name, &machine, &spec, args.force)?;
        if !session.json {
            emit(&format!("{} {name} is landed in {}\n", paint(GOOD, "Taken in:"), spec.landing().display()))?;
        }
    }
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "taken": args.names }))?;
    }
    Ok(if is_less { Exit::Failed } else { Exit::Done })
}
