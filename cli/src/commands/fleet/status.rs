//! `reformis fleet status`

use std::{
    sync::atomic::Ordering,
    time::{Duration, Instant},
};

use anyhow::Result;
use reformis_disk::{ByteSize, text::printable};
use reformis_move::fleet::{
    Counts, Doubt, Fleet, Gate, Machine, Pace, Stand, doubts,
    night::estimate::{night, outlook},
};

use super::{
    Opened,
    words::{about, line, what},
};
use crate::{
    Session,
    args::StatusArgs,
    commands::JSON_SCHEMA,
    exit::Exit,
    hints::with_option,
    output::{STRONG, columns, emit, emit_json, heading, paint, upper_first, width, wrapped},
    progress::duration,
};

/// How often what is watched is shown anew.
const EVERY: Duration = Duration::from_secs(1);

pub(super) fn run(args: &StatusArgs, session: &Session) -> Result<Exit> {
    let opened = Opened::new(&args.fleet, &args.state, session)?;
    let doubted = match args.fleet.is_file() {
        true => {
            let fleet = Fleet::read(&args.fleet)?;
            let doubts = doubts(&fleet, Some(&opened.state))?;
            super::words::doubted(&fleet, doubts)
        }
        false => Vec::new(),
    };
    if args.watch && session.json {
        return lines(&opened, &doubted, session);
    }
    if args.watch && super::live::can_draw() {
        let control = reformis_move::fleet::night::Control { stop: session.cancel.clone(), ..Default::default() };
        super::live::watch(&opened, &control)?;
    } else if args.watch {
        let mut last = String::new();
        until_it_is_over(session, || {
            let counts = Counts::of(&opened.state.machines(&opened.name)?);
            let line = line(&counts);
            if line != last {
                emit(&format!("{line}\n"))?;
            }
            last = line;
            Ok(counts.running + counts.waiting == 0)
        })?;
    }
    if session.json {
        emit_json(&document(&opened, &doubted)?)?;
    } else {
        let (machines, pace) = outlook(&opened.state, &opened.name)?;
        emit(&show(&opened.name, &machines, &pace))?;
        if let Some(shut) = opened.state.shut_gate(&opened.name)? {
            emit(&format!("\n{}\n", super::words::gate(&shut.group, shut.gate == Gate::Confirmed, &shut.silent)))?;
        }
        if !doubted.is_empty() {
            emit(&(heading("What does not fit") + &super::words::doubts(&doubted)))?;
        }
    }
    Ok(Exit::Done)
}

/// The status as one document; `docs/fleet-status.schema.json` is its schema.
fn document(opened: &Opened, doubted: &[(String, Doubt)]) -> Result<serde_json::Value> {
    let (machines, _) = outlook(&opened.state, &opened.name)?;
    let told = |(name, doubt): &(String, Doubt)| serde_json::json!({ "name": name, "doubt": doubt, "reason": doubt.sentence(), "remedy": doubt.remedy() });
    let doubts: Vec<_> = doubted.iter().map(told).collect();
    let (counts, paused) = (Counts::of(&machines), opened.state.rules(&opened.name)?.1);
    Ok(
        serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "paused": paused, "gate": opened.state.shut_gate(&opened.name)?, "counts": counts, "machines": machines, "doubts": doubts }),
    )
}

/// A document on a line whenever something has changed, until nothing is left to change.
fn lines(opened: &Opened, doubted: &[(String, Doubt)], session: &Session) -> Result<Exit> {
    let mut last = serde_json::Value::Null;
    until_it_is_over(session, || {
        let document = document(opened, doubted)?;
        if document != last {
            emit(&(document.to_string() + "\n"))?;
        }
        let open = |state: &str| document["counts"][state].as_u64().unwrap_or(0);
        let is_over = open("running") + open("waiting") == 0;
        last = document;
        Ok(is_over)
    })?;
    Ok(Exit::Done)
}

/// Looks again and again until `look` says that it is over, or the person stops it.
fn until_it_is_over(session: &Session, mut look: impl FnMut() -> Result<bool>) -> Result<()> {
    while !session.cancel.load(Ordering::Relaxed) && !look()? {
        let until = Instant::now() + EVERY;
        while Instant::now() < until && !session.cancel.load(Ordering::Relaxed) {
            std::thread::sleep(Duration::from_millis(50));
        }
    }
    Ok(())
}

/// Where a fleet stands, as a person reads it.
pub(crate) fn show(name: &str, machines: &[Machine], pace: &Pace) -> String {
    let counts = Counts::of(machines);
    let mut text = format!("{}  {}\n\n", paint(STRONG, name), line(&counts));
    let rows: Vec<[String; 6]> = machines
        .iter()
        .map(|machine| {
            let took = machine.began.zip(machine.ended).map(|(began, ended)| ended.duration_since(began).as_secs_f64());
            [
                machine.name.clone(),
                machine.group.clone(),
                machine.state.word().into(),
                machine.total.filter(|total| *total > 0).map_or("–".into(), |total| ByteSize(total).to_string()),
                took.map_or("–".into(), duration),
                what(machine),
            ]
        })
        .collect();
    text += &columns(["machine", "group", "state", "data", "took", ""], &rows, &[3, 4]);
    if let Some(seconds) = night(machines, pace, counts.running.max(1)) {
        text += &format!("\n{} left, with {} at once.\n", upper_first(&about(seconds)), counts.running.max(1));
    }
    let helps = machines.iter().filter(|machine| machine.state == Stand::Failed);
    let helps: Vec<_> = helps.filter_map(|machine| Some((machine, machine.remedy.as_ref()?))).collect();
    if !helps.is_empty() {
        text += &heading("What helps");
        for (machine, remedy) in helps {
            let remedy = with_option(machine.code.as_deref().unwrap_or_default(), remedy);
            let remedy = wrapped(&format!("{}: {}", machine.name, printable(&remedy)), width() - 4);
            text += &format!("  {}\n", remedy.join("\n    "));
        }
    }
    text
}
