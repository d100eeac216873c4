//! `reformis fleet confirm`

use anyhow::Result;
use reformis_move::fleet::{Stand, confirm};

use super::Opened;
use crate::{
    Session,
    args::ConfirmArgs,
    commands::JSON_SCHEMA,
    exit::Exit,
    output::{columns, emit, emit_json},
    progress::duration,
};

pub(super) fn run(args: &ConfirmArgs, session: &Session) -> Result<Exit> {
    let opened = Opened::new(&args.fleet, &args.state, session)?;
    let machines = opened.state.machines(&opened.name)?;
    for name in &args.names {
        opened.state.machine(&opened.name, name)?;
    }
    let wanted = machines.iter().filter(|machine| args.names.is_empty() || args.names.contains(&machine.name));
    let landed: Vec<_> = wanted.filter(|machine| machine.state == Stand::Landed).collect();
    let keeper = args.allow_programs.then(super::keeper);
    let ask = |machine: &&reformis_move::fleet::Machine| {
        let (machine, spec) = opened.state.machine(&opened.name, &machine.name)?;
        let answer = confirm::confirm(&machine, &spec, keeper.as_deref(), &session.wires, &session.cancel)?;
        if let Some(answer) = &answer {
            opened.state.answered(&opened.name, &machine.name, &serde_json::to_string(answer).unwrap_or_default())?;
        }
        Ok::<_, anyhow::Error>((machine.name, answer))
    };
    let asked: Vec<_> = confirm::all(&landed, ask).into_iter().collect::<Result<_, _>>()?;
    let silent = asked.iter().filter(|(_, answer)| answer.as_ref().is_some_and(|answer| !answer.answers)).count();
    let unasked = asked.iter().filter(|(_, answer)| answer.is_none()).count();
    if session.json {
        let rows: Vec<_> =
            asked.iter().map(|(name, answer)| serde_json::json!({ "name": name, "answer": answer })).collect();
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "machines": rows }))?;
    } else {
        let row = |(name, answer): &(String, Option<confirm::Answer>)| {
            let answer = answer.as_ref()?;
            let word = if answer.answers { "answers" } else { "silent" };
            Some([name.clone(), word.into(), answer.asked.clone(), duration(answer.seconds), answer.what.clone()])
        };
        let rows: Vec<_> = asked.iter().filter_map(row).collect();
        let mut text = format!("{} answer, {silent} do not, {unasked} were not asked\n\n", rows.len() - silent);
        text += &columns(["machine", "", "asked", "after", "what came back"], &rows, &[3]);
        if unasked > 0 {
            text += "\nWhich machine is asked, and how, 'confirm' in its row of the file says; a program runs with --allow-programs.\n";
        }
        emit(&text)?;
    }
    Ok(if silent > 0 { Exit::Failed } else { Exit::Done })
}
