//! `reformis fleet status`

use std::{
    sync::atomic::Ordering,
    time::{Duration, Instant},
};

use anyhow::Result;
use reformis_disk::{ByteSize, text::printable};
use reformis_move::fleet::{Counts, Doubt, Fleet, Machine, Pace, Stand, doubts};

use super::{
    Opened,
    words::{left, line, what},
};
use crate::{
    Session,
    args::StatusArgs,
    commands::JSON_SCHEMA,
    exit::Exit,
    hints::with_option,
    output::{STRONG, columns, emit, emit_json, heading, paint, width, wrapped},
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
    if args.watch && !session.json && super::live::can_draw() {
        let control = reformis_move::fleet::night::Control { stop: session.cancel.clone(), ..Default::default() };
        super::live::watch(&opened, &control)?;
    } else if args.watch {
        let mut last = String::new();
        while !session.cancel.load(Ordering::Relaxed) {
            let machines = opened.state.machines(&opened.name)?;
            let counts = Counts::of(&machines);
            let line = line(&counts);
            if session.json {
                emit(&(serde_json::json!({ "event": "status", "counts": counts }).to_string() + "\n"))?;
            } else if line != last {
                emit(&format!("{line}\n"))?;
            }
            last = line;
            if counts.running + counts.waiting == 0 {
                break;
            }
            let until = Instant::now() + EVERY;
            while Instant::now() < until && !session.cancel.load(Ordering::Relaxed) {
                std::thread::sleep(Duration::from_millis(50));
            }
        }
    }
    let machines = opened.state.machines(&opened.name)?;
    let pace = opened.state.pace(&opened.name)?;
    if session.json {
        let told = |(name, doubt): &(String, Doubt)| serde_json::json!({ "name": name, "doubt": doubt, "reason": doubt.sentence(), "remedy": doubt.remedy() });
        let doubts: Vec<_> = doubted.iter().map(told).collect();
        let (counts, paused) = (Counts::of(&machines), opened.state.rules(&opened.name)?.1);
        let document = serde_json::json!({ "schema": JSON_SCHEMA, "fleet": opened.name, "paused": paused, "counts": counts, "machines": machines, "doubts": doubts });
        emit_json(&document)?;
    } else {
        emit(&show(&opened.name, &machines, &pace))?;
        if !doubted.is_empty() {
            emit(&(heading("What does not fit") + &super::words::doubts(&doubted)))?;
        }
    }
    Ok(Exit::Done)
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
    if let Some(seconds) = left(machines, pace, counts.running.max(1)) {
        text += &format!("\nAbout {} left, with {} at once.\n", duration(seconds), counts.running.max(1));
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
