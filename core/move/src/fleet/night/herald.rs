//! Tells the site's programs how the night goes, beside the moves: a program that takes its time keeps no machine waiting.

use std::{
    sync::{
        Condvar, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use jiff::Timestamp;
use serde_json::{Value, json};

use super::{Event, Hands, Options};
use crate::{
    error::Result,
    fleet::{
        file::{PROGRAM, Rules, patience},
        program::{self, Runner},
        state::{Counts, Machine, Notice, Stand, State, Subject},
    },
};

/// How often it is looked whether something is to be told that others had begun to tell.
const LOOK: Duration = Duration::from_secs(10);

pub(super) struct Herald<'a> {
    state: &'a State,
    fleet: &'a str,
    options: &'a Options,
    rules: &'a Rules,
    hands: &'a dyn Hands,
    stop: &'a AtomicBool,
    stands: Mutex<Standing>,
    bell: Condvar,
}

#[derive(Default)]
struct Standing {
    /// Something ended.
    is_woken: bool,
    /// This worker has nothing more to do; and whether the night is over with that.
    is_last: Option<bool>,
}

impl<'a> Herald<'a> {
    pub(super) fn new(
        state: &'a State,
        fleet: &'a str,
        options: &'a Options,
        rules: &'a Rules,
        hands: &'a dyn Hands,
        stop: &'a AtomicBool,
    ) -> Self {
        // What an earlier worker could not tell any more is told now.
        let stands = Mutex::new(Standing { is_woken: true, is_last: None });
        Self { state, fleet, options, rules, hands, stop, stands, bell: Condvar::new() }
    }

    fn say(&self, what: impl FnOnce(&mut Standing)) {
        what(&mut self.stands.lock().unwrap_or_else(PoisonError::into_inner));
        self.bell.notify_all();
    }

    /// Something ended.
    pub(super) fn wake(&self) {
        self.say(|stands| stands.is_woken = true);
    }

    /// This worker takes no more: what is left is told, and that the night is over where it is.
    pub(super) fn end(&self, night_is_over: bool) {
        self.say(|stands| stands.is_last = Some(night_is_over));
    }

    /// Tells until it is ended.
    pub(super) fn tell(&self) {
        if self.rules.tell.programs().next().is_none() || self.options.keeper.is_none() {
            return;
        }
        loop {
            let stands = self.stands.lock().unwrap_or_else(PoisonError::into_inner);
            let waits = |stands: &mut Standing| !stands.is_woken && stands.is_last.is_none();
            let (mut stands, _) =
                self.bell.wait_timeout_while(stands, LOOK, waits).unwrap_or_else(PoisonError::into_inner);
            stands.is_woken = false;
            let is_last = stands.is_last;
            drop(stands);
            if let Err(error) = self.tell_all(is_last == Some(true)) {
                tracing::warn!(%error, "programs were not told");
            }
            if is_last.is_some() {
                return;
            }
        }
    }

    fn tell_all(&self, night_is_over: bool) -> Result<()> {
        let wait = patience(self.rules.tell.patience.as_ref(), PROGRAM).unwrap_or(PROGRAM).unsigned_abs();
        let notice = Notice {
            fleet: self.fleet,
            worker: &self.options.worker,
            tell: &self.rules.tell,
            // As long as it may take, and to write that down.
            patience: wait + Duration::from_secs(60),
            night_is_over,
        };
        while !self.stop.load(Ordering::Relaxed) {
            let Some(subject) = self.state.next_notice(&notice)? else { return Ok(()) };
            self.tell_of(&subject, wait)?;
        }
        Ok(())
    }

    fn tell_of(&self, subject: &Subject, wait: Duration) -> Result<()> {
        let tell = &self.rules.tell;
        let (program, what, input) = match subject {
            Subject::Machine(name) => {
                let (machine, spec) = self.state.machine(self.fleet, name)?;
                (
                    &tell.machine,
                    format!("the end of {name}"),
                    of_machine(&machine, &spec.shown_source(), spec.destination()),
                )
            }
            Subject::Group(name) => {
                let machines = self.state.machines(self.fleet)?;
                let machines: Vec<Machine> = machines.into_iter().filter(|machine| machine.group == *name).collect();
                (&tell.group, format!("the end of {name}"), of_all("group-ended", Some(name), &machines))
            }
            Subject::Night => (
                &tell.night,
                "the end of the night".into(),
                of_all("night-ended", None, &self.state.machines(self.fleet)?),
            ),
        };
        let mut input = input;
        if let Some(input) = input.as_object_mut() {
            input.insert("fleet".into(), self.fleet.into());
            input.insert("time".into(), json!(Timestamp::now()));
        }
        let runner =
            Runner { keeper: self.options.keeper.as_deref().unwrap_or_default(), patience: wait, cancel: self.stop };
        let program = program.as_deref().unwrap_or_default();
        match program::run(program, &self.rules.folder, &input, &runner) {
            Ok(lines) => lines.iter().for_each(|line| tracing::info!(what, "{line}")),
            // It is told once more by whoever comes next.
            Err(error) if error.is_interrupted() => return Ok(()),
            Err(error) => self.hands.tell(&Event::Untold { what, reason: error.to_string() }),
        }
        self.state.noticed(self.fleet, subject)
    }
}

/// What is told of a machine: what a person reads in a line is its `sentence`.
fn of_machine(machine: &Machine, source: &str, destination: &str) -> Value {
    let seconds = machine.began.zip(machine.ended).map(|(began, ended)| ended.duration_since(began).as_secs_f64());
    let reason = machine.reason.as_ref().map_or(String::new(), |reason| format!(": {reason}"));
    json!({
        "event": "machine-ended",
        "machine": machine.name,
        "group": machine.group,
        "state": machine.state,
        "sentence": format!("{} {}{reason}", machine.name, spoken(machine.state)),
        "source": source,
        "destination": destination,
        "landing": machine.landing,
        "tries": machine.tries,
        "bytes": machine.total,
        "seconds": seconds,
        "code": machine.code,
        "reason": machine.reason,
        "remedy": machine.remedy,
    })
}

fn spoken(state: Stand) -> &'static str {
    match state {
        Stand::Landed => "has landed",
        Stand::Skipped => "was left out",
        other => other.word(),
    }
}

fn of_all(event: &str, group: Option<&str>, machines: &[Machine]) -> Value {
    let counts = Counts::of(machines);
    let failed = machines.iter().filter(|machine| machine.state == Stand::Failed).map(|machine| &machine.name);
    json!({
        "event": event,
        "group": group,
        "counts": counts,
        "sentence": format!("{} of {} machines have landed, {} failed", counts.landed, counts.machines, counts.failed),
        "failed": failed.collect::<Vec<_>>(),
    })
}
