//! `reformis fleet check`

use anyhow::Result;
use reformis_disk::{ByteSize, text::printable};
use reformis_move::{
    Severity,
    fleet::{
        Fleet,
        check::{self, Check, Checked},
    },
};

use super::Opened;
use crate::{
    Session,
    args::CheckArgs,
    commands::{JSON_SCHEMA, quoted},
    exit::Exit,
    hints::with_option,
    output::{self, BAD, FAINT, GOOD, columns, emit, emit_json, heading, paint, wrapped},
};

pub(super) fn run(args: &CheckArgs, session: &Session) -> Result<Exit> {
    let fleet = Fleet::read_as(&args.file.file, args.file.trust_links)?;
    let opened = Opened::where_it_is(&fleet, &args.file.file, &args.state, session)?;
    let state = opened.as_ref().map(|opened| &opened.state);
    let check = check::check(&fleet, state, &session.site, args.at_once as usize, &session.context())?;
    if session.json {
        emit_json(
            &serde_json::json!({ "schema": JSON_SCHEMA, "fleet": fleet.name, "goes": check.goes(), "check": check }),
        )?;
    } else {
        emit(&show(&fleet, &check, &quoted(&args.file.file.to_string_lossy())))?;
    }
    Ok(if check.goes() { Exit::Done } else { Exit::Refused })
}

/// The check as a person reads it.
pub(crate) fn show(fleet: &Fleet, check: &Check, file: &str) -> String {
    let stopped: Vec<&Checked> = check.machines.iter().filter(|machine| !machine.goes).collect();
    let count = check.machines.len();
    let mut text = match (check.goes(), stopped.len()) {
        (true, _) => format!("{} {} can go\n", paint(GOOD, "Ready:"), machines(count)),
        (false, 0) => format!(
            "{} all {count} machines could go, and something else stands in the way\n",
            paint(BAD, "Not ready:")
        ),
        (false, stopped) => format!("{} {stopped} of {} cannot go\n", paint(BAD, "Not ready:"), machines(count)),
    };
    text += "\n";
    let rows: Vec<[String; 6]> = check
        .machines
        .iter()
        .map(|machine| {
            let asks = machine.findings.iter().filter(|finding| finding.severity == Severity::Caution).count();
            [
                machine.name.clone(),
                machine.group.clone(),
                if machine.landed {
                    "landed"
                } else if machine.goes {
                    "goes"
                } else {
                    "stays"
                }
                .into(),
                machine.verdict.as_ref().map_or("–".into(), |verdict| super::words::boots(verdict.boots).to_string()),
                machine.bytes.map_or("–".into(), |bytes| ByteSize(bytes).to_string()),
                asks.to_string(),
            ]
        })
        .collect();
    text += &columns(["machine", "group", "state", "boots", "data", "asks"], &rows, &[4, 5]);
    if !stopped.is_empty() {
        text += &heading("What stands in the way");
        for machine in stopped {
            text += &format!("  {}\n", paint(output::STRONG, &machine.name));
            let blockers = machine.findings.iter().filter(|finding| finding.severity == Severity::Blocker);
            let blockers: Vec<_> = blockers.cloned().collect();
            text += &output::findings(&blockers);
            for doubt in &machine.doubts {
                let lines = wrapped(&format!("{} [{}]", doubt.sentence(), doubt.code()), output::width() - 6);
                text += &format!("    {}\n    {}\n", lines.join("\n    "), paint(FAINT, doubt.remedy()));
            }
            if let Some((code, sentence)) = machine.error.as_ref().filter(|_| blockers.is_empty()) {
                let lines = wrapped(&format!("{} [{code}]", printable(sentence)), output::width() - 6);
                text += &format!("    {}\n", lines.join("\n    "));
                if let Some(remedy) = &machine.remedy {
                    text += &format!("    {}\n", paint(FAINT, with_option(code, remedy)));
                }
            }
        }
    }
    for room in check.rooms.iter().filter(|room| room.free < room.needed) {
        let folder = printable(&room.folder.to_string_lossy());
        text += &heading("Room");
        text += &format!("  {folder} has {} free, and {} are needed\n", ByteSize(room.free), ByteSize(room.needed));
    }
    let programs = fleet.programs();
    if !programs.is_empty() {
        text += &heading("Programs that the file names, which run with --allow-programs");
        programs.iter().for_each(|program| text += &format!("  {}\n", printable(program)));
    }
    text += &heading("Next");
    text += &match check.goes() {
        true => format!("  reformis fleet run {file}\n"),
        false => format!("  mend that, or take those machines out of {file}, and check again\n"),
    };
    text
}

fn machines(count: usize) -> String {
    if count == 1 { "1 machine".into() } else { format!("{count} machines") }
}
