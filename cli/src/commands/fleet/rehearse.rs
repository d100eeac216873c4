//! `reformis fleet rehearse`

use anyhow::Result;
use reformis_disk::{ByteSize, text::printable};
use reformis_move::{
    Severity,
    fleet::{
        Fleet, FleetError, Machine, Spec, Stand,
        rehearse::{self, Options, Rehearsed},
    },
};

use super::{Opened, night::AT_ONCE, words::about};
use crate::{
    Session,
    args::RehearseArgs,
    commands::{JSON_SCHEMA, quoted},
    exit::Exit,
    hints::with_option,
    output::{self, BAD, FAINT, GOOD, STRONG, columns, emit, emit_json, heading, paint, wrapped},
    progress::duration,
};

pub(super) fn run(args: &RehearseArgs, session: &Session) -> Result<Exit> {
    let fleet = Fleet::read_as(&args.file.file, args.file.trust_links)?;
    let programs = fleet.rules.rehearsal.program.iter().map(|program| program.join(" ")).collect::<String>();
    if !programs.is_empty() && !args.allow_programs {
        let programs = printable(&programs);
        return Err(reformis_move::Error::from(FleetError::ProgramsNotAllowed { programs }).into());
    }
    let is_there = |name: &&String| fleet.machines.iter().any(|spec| is_called(spec, name));
    if let Some(name) = args.only.iter().find(|name| !is_there(name)).cloned() {
        return Err(reformis_move::Error::from(FleetError::NoMachine { name }).into());
    }
    let (fleet, opened, is_less) = Opened::brought_in(fleet, &args.file.file, &args.state, session)?;
    let machines = opened.state.machines(&opened.name)?;
    // What has landed needs none any more, and what runs cannot be had.
    let is_open = |machine: &Machine| !matches!(machine.state, Stand::Landed | Stand::Running | Stand::Gone);
    let is_meant = |spec: &Spec| {
        let is_named = args.only.is_empty() || args.only.iter().any(|name| is_called(spec, name));
        is_named && machines.iter().any(|machine| machine.name == spec.row.name && is_open(machine))
    };
    let at_once = args.at_once.or(fleet.rules.limits.at_once.map(|most| most.min(64))).unwrap_or(AT_ONCE) as usize;
    let keeper = args.allow_programs.then(super::keeper);
    let options = Options { site: session.site.clone(), at_once, keeper };
    let tell = |rehearsed: &Rehearsed| {
        if !session.json {
            let how = if rehearsed.is_well() { "rehearsed" } else { "does not go" };
            session.progress.say(&format!("{}: {how} after {}\n", rehearsed.name, duration(rehearsed.seconds)));
        }
    };
    let rehearsed = rehearse::rehearse(&fleet, &options, is_meant, &session.context(), tell)?;
    for one in &rehearsed {
        opened.state.rehearsed(&opened.name, &one.name, &serde_json::to_string(one).unwrap_or_default())?;
    }
    let night = rehearse::night_of(&rehearsed, at_once);
    if session.json {
        let document = serde_json::json!({ "schema": JSON_SCHEMA, "fleet": fleet.name, "machines": rehearsed, "at_once": at_once, "night_seconds": night });
        emit_json(&document)?;
    } else {
        emit(&show(&rehearsed, night, at_once, &quoted(&args.file.file.to_string_lossy())))?;
    }
    let has_blocker = rehearsed.iter().any(|one| !one.goes);
    Ok(match (has_blocker, rehearsed.iter().all(Rehearsed::is_well) && !is_less) {
        (true, _) => Exit::Refused,
        (false, true) => Exit::Done,
        (false, false) => Exit::Failed,
    })
}

fn is_called(spec: &Spec, name: &str) -> bool {
    spec.row.name == name || spec.row.group.as_deref() == Some(name)
}

/// The rehearsal as a person reads it.
fn show(rehearsed: &[Rehearsed], night: Option<f64>, at_once: usize, file: &str) -> String {
    let bad: Vec<&Rehearsed> = rehearsed.iter().filter(|one| !one.is_well()).collect();
    let many = |count: usize| if count == 1 { "1 machine".to_string() } else { format!("{count} machines") };
    let mut text = match bad.len() {
        0 => format!("{} {}\n\n", paint(GOOD, "Rehearsed:"), many(rehearsed.len())),
        bad => format!("{} {bad} of {} would not go well\n\n", paint(BAD, "Rehearsed:"), many(rehearsed.len())),
    };
    let row = |one: &Rehearsed| {
        [
            one.name.clone(),
            if one.goes { "goes" } else { "stays" }.into(),
            one.verdict.as_ref().map_or("–".into(), |verdict| super::words::boots(verdict.boots).to_string()),
            one.came_up.as_ref().map_or("–", |came_up| if came_up.well { "yes" } else { "no" }).into(),
            one.bytes.map_or("–".into(), |bytes| ByteSize(bytes).to_string()),
            one.rate.map_or("–".into(), |rate| format!("{}/s", ByteSize(rate))),
            one.estimate.map_or("–".into(), about),
        ]
    };
    let rows: Vec<_> = rehearsed.iter().map(row).collect();
    text += &columns(["machine", "state", "boots", "came up", "data", "read at", "takes"], &rows, &[4, 5, 6]);
    if !bad.is_empty() {
        text += &heading("What speaks against it");
    }
    for one in bad {
        text += &format!("  {}\n", paint(STRONG, &one.name));
        let blockers = one.findings.iter().filter(|finding| finding.severity == Severity::Blocker);
        let blockers: Vec<_> = blockers.cloned().collect();
        text += &output::findings(&blockers);
        if let Some(came_up) = one.came_up.as_ref().filter(|came_up| !came_up.well) {
            let lines = wrapped(&came_up.said, output::width() - 6);
            text += &format!("    {}\n", lines.join("\n    "));
        }
        if let Some((code, sentence)) = one.error.as_ref().filter(|_| blockers.is_empty()) {
            let lines = wrapped(&format!("{} [{code}]", printable(sentence)), output::width() - 6);
            text += &format!("    {}\n", lines.join("\n    "));
            if let Some(remedy) = &one.remedy {
                text += &format!("    {}\n", paint(FAINT, with_option(code, remedy)));
            }
        }
    }
    if let Some(seconds) = night {
        text += &format!("\nThe night will take {}, with {at_once} at once.\n", about(seconds));
    }
    text += &heading("Next");
    text += &format!("  reformis fleet run {file}\n");
    text
}
