//! `reformis fleet run` and `reformis fleet work`

use std::{
    collections::{BTreeMap, BTreeSet},
    path::{Path, PathBuf},
    sync::atomic::Ordering,
    time::Duration,
};

use anyhow::Result;
use clap::error::ErrorKind;
use jiff::{Timestamp, tz::TimeZone};
use reformis_disk::{ByteSize, text::printable};
use reformis_move::fleet::{
    Fleet, FleetError, Machine, Rules, Spec, Stand, Synced, Worker, doubts, next,
    night::{self, Control, Event, Hands, Options, Outcome, Why, estimate::outlook},
    time_of_day,
};

use super::{Opened, hands::Ours, live, status, words};
use crate::{
    Session,
    args::{NightArgs, RunArgs, WorkArgs},
    commands::quoted,
    exit::Exit,
    failure::wrong_usage,
    output::{BAD, FAINT, GOOD, WARN, emit, heading, paint, upper_first},
    progress::duration,
};

/// Machines at once where neither the file nor the command says.
pub(super) const AT_ONCE: u32 = 2;

pub(super) fn run(args: &RunArgs, session: &Session) -> Result<Exit> {
    if !args.file.file.is_file() {
        let file = printable(&args.file.file.to_string_lossy());
        anyhow::bail!("there is no fleet file '{file}'; `reformis fleet gather` writes one");
    }
    let fleet = Fleet::read_as(&args.file.file, args.file.trust_links)?;
    let programs = fleet.programs();
    if !programs.is_empty() && !args.night.allow_programs {
        let programs = printable(&programs.join("; "));
        return Err(reformis_move::Error::from(FleetError::ProgramsNotAllowed { programs }).into());
    }
    for name in &args.again {
        if !fleet.machines.iter().any(|spec| spec.row.name == *name) {
            return Err(reformis_move::Error::from(FleetError::NoMachine { name: name.clone() }).into());
        }
    }
    let opened = Opened::of(fleet.name.clone(), Some(&args.file.file), &args.state, true, session)?;
    let worker = Worker::here();
    let only = only(args, &fleet, &opened)?;
    let synced = opened.state.sync(&fleet, &args.again, only.as_ref(), &worker)?;
    if synced.again > 0 && !session.json {
        session.progress.say(&format!("{} that failed, were left out or held back are tried again\n", synced.again));
    }
    let logs = args.night.logs.clone().unwrap_or_else(|| logs_beside(&args.file.file));
    let shown = quoted(&args.file.file.to_string_lossy());
    let doubted = words::doubted(&fleet, doubts(&fleet, Some(&opened.state))?);
    if session.json {
        for (name, doubt) in &doubted {
            emit(&(serde_json::json!({ "event": "doubt", "name": name, "doubt": doubt, "reason": doubt.sentence(), "remedy": doubt.remedy() }).to_string() + "\n"))?;
        }
        if !synced.gone.is_empty() {
            emit(&(serde_json::json!({ "event": "gone", "names": synced.gone }).to_string() + "\n"))?;
        }
    } else {
        session.progress.say(&(told_of_sync(&synced) + &words::doubts(&doubted)));
    }
    let signed = fleet.machines.iter().map(|spec| (spec.row.name.clone(), spec.clone())).collect();
    let ended = work_on(&opened, (worker, only, signed), &args.night, &logs, &shown, session)?;
    // What a changed file leaves out is no success before a person has looked at it, nor is a landing that is not what the file says.
    let is_in_doubt = !synced.gone.is_empty() || doubted.iter().any(|(_, doubt)| doubt.is_of_landed());
    Ok(if ended == Exit::Done && is_in_doubt { Exit::Failed } else { ended })
}

/// What a changed file changed, for a person.
pub(super) fn told_of_sync(synced: &Synced) -> String {
    let mut text = String::new();
    let few = |names: &[String]| match names {
        names if names.len() > 10 => format!("{}, … ({} in all)", names[..10].join(", "), names.len()),
        names => names.join(", "),
    };
    if !synced.after.is_empty() {
        text += &format!("The program 'after' is asked once more for {}.\n", few(&synced.after));
    }
    if !synced.gone.is_empty() {
        let gone = paint(WARN, "No longer in the file, and not moved:");
        text += &format!("{gone} {}\n", few(&synced.gone));
    }
    text
}

pub(super) fn work(args: &WorkArgs, session: &Session) -> Result<Exit> {
    let opened = Opened::new(&args.fleet, &args.state, session)?;
    let logs = args.night.logs.clone().unwrap_or_else(|| PathBuf::from(format!("{}.logs", opened.name)));
    let shown = quoted(&args.fleet.to_string_lossy());
    let programs = opened.state.programs(&opened.name)?;
    if !programs.is_empty() && !args.night.allow_programs {
        let programs = printable(&programs.join("; "));
        return Err(reformis_move::Error::from(FleetError::ProgramsNotAllowed { programs }).into());
    }
    work_on(&opened, (Worker::here(), None, BTreeMap::new()), &args.night, &logs, &shown, session)
}

fn logs_beside(file: &Path) -> PathBuf {
    let mut name = file.file_stem().unwrap_or_default().to_os_string();
    name.push(".logs");
    file.with_file_name(name)
}

fn options(worker: Worker, args: &NightArgs, rules: &Rules, session: &Session) -> Options {
    let mut options = Options::new(worker, session.site.clone());
    options.at_once = args.at_once.or(rules.limits.at_once.map(|most| most.min(64))).unwrap_or(AT_ONCE) as usize;
    options.until = args.until.as_ref().map(|text| {
        let time = time_of_day(text).unwrap_or_else(|error| wrong_usage(ErrorKind::ValueValidation, &error));
        let zone = rules.window.as_ref().and_then(|window| window.zone().ok()).unwrap_or_else(TimeZone::system);
        next(time, Timestamp::now(), &zone)
    });
    options.keeper = args.allow_programs.then(super::keeper);
    options.keys = session.keys.clone();
    options.lease = Duration::from_secs(args.lease);
    options.back_off = Duration::from_secs(args.back_off);
    options
}

/// The machines that are meant, where not all are: by their names, by those of groups, or by how they stand.
fn only(args: &RunArgs, fleet: &Fleet, opened: &Opened) -> Result<Option<BTreeSet<String>>> {
    if args.only_failed {
        let machines = match opened.state.machines(&opened.name) {
            Ok(machines) => machines,
            Err(reformis_move::Error::Fleet(FleetError::NoFleet { .. })) => Vec::new(),
            Err(error) => return Err(error.into()),
        };
        let has_failed = |machine: &Machine| matches!(machine.state, Stand::Failed | Stand::Skipped);
        return Ok(Some(machines.into_iter().filter(has_failed).map(|machine| machine.name).collect()));
    }
    let mut names = BTreeSet::new();
    for named in &args.only {
        let is_meant = |spec: &&Spec| spec.row.name == *named || spec.row.group.as_ref() == Some(named);
        let before = names.len();
        names.extend(fleet.machines.iter().filter(is_meant).map(|spec| spec.row.name.clone()));
        if names.len() == before {
            return Err(reformis_move::Error::from(FleetError::NoMachine { name: named.clone() }).into());
        }
    }
    Ok((!args.only.is_empty()).then_some(names))
}

fn work_on(
    opened: &Opened,
    (worker, only, signed): (Worker, Option<BTreeSet<String>>, BTreeMap<String, Spec>),
    args: &NightArgs,
    logs: &Path,
    shown: &str,
    session: &Session,
) -> Result<Exit> {
    let (rules, _) = opened.state.rules(&opened.name)?;
    let options = Options { only, signed, ..options(worker, args, &rules, session) };
    let control = Control { stop: session.cancel.clone(), ..Control::default() };
    let is_drawn = !session.json && !session.progress.is_quiet() && live::can_draw();
    let tell = |event: &Event| match (session.json, is_drawn) {
        (true, _) => drop(emit(&(serde_json::json!(event).to_string() + "\n"))),
        (false, true) => {}
        (false, false) => session.progress.say(&line(event)),
    };
    let ours = Ours::new(session, (opened.place.clone(), opened.access.clone()), logs, &tell)?;
    let outcome = match is_drawn {
        true => drawn(opened, &options, &ours, &control)?,
        false => night::work(&opened.state, &opened.name, &options, &ours, &control)?,
    };
    let (machines, pace) = outlook(&opened.state, &opened.name)?;
    if session.json {
        let document = serde_json::json!({ "event": "ended", "why": outcome.why, "counts": outcome.counts });
        emit(&(document.to_string() + "\n"))?;
    } else {
        emit(&status::show(&opened.name, &machines, &pace))?;
        emit(&ending(&outcome, options.only.is_some(), logs, shown))?;
    }
    let is_stopped = outcome.why == Why::Stopped && control.stop.load(Ordering::Relaxed);
    let has_failed = machines.iter().any(|machine| matches!(machine.state, Stand::Failed | Stand::Skipped));
    Ok(match (is_stopped, has_failed) {
        (true, _) => Exit::Interrupted,
        (false, true) => Exit::Failed,
        _ => Exit::Done,
    })
}

/// Works while the night is drawn on the terminal.
fn drawn(opened: &Opened, options: &Options, ours: &Ours<'_>, control: &Control) -> Result<Outcome> {
    let state = ours.state()?;
    let steers = live::Steers { at_once: options.at_once, until: options.until };
    std::thread::scope(|scope| {
        let work = scope
            .spawn(|| -> Result<Outcome> { Ok(night::work(&opened.state, &opened.name, options, ours, control)?) });
        if let Err(error) = live::draw(&opened.name, &state, control, steers, &|| work.is_finished()) {
            tracing::warn!(%error, "the terminal could not be drawn on");
        }
        // A defect there is one of this command.
        work.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}

/// An event as a line.
pub(crate) fn line(event: &Event) -> String {
    let text = |text: &str| printable(text);
    match event {
        Event::Began { name, tries: 1 } => format!("{name}: begins\n"),
        Event::Began { name, tries } => format!("{name}: begins, try {tries}\n"),
        Event::Landed { name, seconds, bytes, boots, after } => {
            let boots = boots.map_or(String::new(), |boots| format!(", boots: {}", words::boots(boots)));
            let after = after.as_ref().map_or(String::new(), |after| format!("; {}", text(after)));
            let landed = paint(GOOD, "landed");
            format!("{name}: {landed} after {}, {}{boots}{after}\n", duration(*seconds), ByteSize(*bytes))
        }
        Event::Failed { name, reason, again: true, .. } => {
            format!("{name}: {} {}; it is tried again\n", paint(WARN, "failed:"), text(reason))
        }
        Event::Failed { name, reason, remedy, .. } => {
            let remedy = remedy.as_ref().map_or(String::new(), |remedy| format!("  {}\n", paint(FAINT, text(remedy))));
            format!("{name}: {} {}\n{remedy}", paint(BAD, "failed:"), text(reason))
        }
        Event::Stopped { name } => format!("{name}: stopped, and goes on next time\n"),
        Event::Busy { name, reason, seconds } => {
            format!("{name}: {}; it is looked again in {}\n", text(reason), duration(*seconds))
        }
        Event::Others { name, worker, seconds } => format!(
            "{name}: the worker {} has it; if nothing is heard of that for {}, it is taken over\n",
            text(worker),
            duration(*seconds)
        ),
        Event::Near { name, seconds, bytes } => format!(
            "{name}: its first pass is made after {}, {}; the rest waits for its turn\n",
            duration(*seconds),
            ByteSize(*bytes)
        ),
        Event::Gate { group, answers, silent } => words::gate(group, *answers, silent) + "\n",
        Event::Quiet { host, until } => {
            let until = until.to_zoned(TimeZone::system()).strftime("%H:%M").to_string();
            format!("Nothing begins that is on {host} before {until}.\n")
        }
        Event::Untold { what, reason } => format!("{} {what}: {}\n", paint(WARN, "Not told of"), text(reason)),
        Event::Lost { name } => format!("{name}: another worker has taken it over\n"),
        Event::Waits { until } => {
            let until = until.to_zoned(TimeZone::system()).strftime("%H:%M").to_string();
            format!("Nothing begins before {until}.\n")
        }
        Event::Away { what } => format!("{}; it is asked again\n", upper_first(&text(what))),
        Event::Back => "The state of the fleet is there again.\n".into(),
    }
}

/// What there is to say at the end.
fn ending(outcome: &Outcome, are_some: bool, logs: &Path, shown: &str) -> String {
    let mut text = heading("Next");
    let open = outcome.counts.waiting + outcome.counts.running;
    let run = format!("reformis fleet run {shown}");
    text += &match outcome.why {
        Why::NoTime => format!("  the rest would not have been done in time: {run} goes on in the next window\n"),
        Why::Stopped => format!("  stopped; {run} goes on where it was\n"),
        Why::Over if are_some && outcome.counts.running == 0 && open > 0 => {
            format!("  {open} wait that were not meant now: {run} goes on with them\n")
        }
        Why::Over if open > 0 => format!("  others still work on {open}: reformis fleet status {shown} --watch\n"),
        Why::Over if outcome.counts.failed + outcome.counts.skipped > 0 => {
            let logs = quoted(&logs.to_string_lossy());
            format!("  mend what failed, then {run} tries those again; their logs are in {logs}\n")
        }
        Why::Over => String::new(),
    };
    text += &format!("  reformis report {shown} --out morning.html\n");
    text
}
