//! One try of one machine: what the site does before, the move, and what the site does after.

use std::{
    ffi::OsString,
    path::Path,
    sync::{Arc, atomic::Ordering},
    time::Duration,
};

use jiff::Timestamp;
use reformis_disk::{Error as DiskError, budget::Budget, error::WireKind, source::Links, text::printable};
use reformis_guest::Keys;
use reformis_machine::Site;
use reformis_wire::Wires;
use serde_json::json;

use super::watch::{Watch, Watching};
use crate::{
    Severity, carry,
    error::{Error, Result},
    fleet::{
        error::FleetError,
        file::{Ahead, PROGRAM, Rules, Spec, patience},
        landed,
        program::{self, Runner},
        state::{Ended, Hook, HookState, Lease},
    },
    observer::Context,
    receipt::{self, Receipt},
};

/// What a try is given.
pub(super) struct Job<'a> {
    pub(super) lease: &'a Lease,
    pub(super) rules: &'a Rules,
    pub(super) watch: &'a Watch,
    pub(super) site: &'a Site,
    pub(super) wires: &'a Wires,
    /// The network as it is while machines run.
    pub(super) running: &'a Wires,
    /// What keeps programs of the fleet file; none where they may not run.
    pub(super) keeper: Option<&'a [OsString]>,
    /// What opens encrypted volumes.
    pub(super) keys: &'a Keys,
    /// The machine with what signs its link, where the worker has the file that says so.
    pub(super) spec: &'a Spec,
    /// After how long the second try begins; later ones take longer.
    pub(super) back_off: Duration,
    /// Whether the machine is still ours to land.
    pub(super) may_land: &'a (dyn Fn() -> Result<()> + Sync),
    /// Notes how far it is.
    pub(super) note: &'a (dyn Fn(Note<'_>) -> Result<()> + Sync),
}

/// What is noted of a try.
#[derive(Debug, Clone, Copy)]
pub(super) enum Note<'a> {
    /// How far a program is.
    Hook(Hook, HookState),
    /// It has landed in this folder, with these files, as JSON.
    Landed(&'a str, &'a str),
}

/// The longest time until another try.
const LONGEST: Duration = Duration::from_secs(300);
/// How long it is waited at least for another run that is in the way.
const BUSY: Duration = Duration::from_secs(1);
/// How long a program outlives its worker at the most: it is looked for its end a hundred times a second.
const LAST_BREATH: Duration = Duration::from_millis(100);
/// The longest sentence that is kept of what went wrong, in characters.
const SENTENCE: usize = 2000;

impl Job<'_> {
    /// Makes the try.
    pub(super) fn run(&self) -> Ended {
        let lease = self.lease;
        tracing::info!(machine = lease.name, job = %lease.job, tries = lease.tries, source = lease.spec.shown_source(), "a try begins");
        match self.carry() {
            Ok(ended) => ended,
            Err(error) if error.is_interrupted() => {
                tracing::info!(machine = lease.name, "stopped");
                Ended::Stopped
            }
            // Somebody else was there first: that is no failure of this machine.
            Err(Error::Disk(error @ DiskError::Busy { .. })) => {
                tracing::info!(machine = lease.name, "another run is in the way");
                Ended::Busy { reason: shortened(&error.to_string()), again: self.back_off.max(BUSY) }
            }
            Err(error) => self.failed(&error),
        }
    }

    fn carry(&self) -> Result<Ended> {
        let (lease, spec) = (self.lease, self.spec);
        if let Some(found) = self.landed_before()? {
            tracing::info!(machine = lease.name, "it had landed, and nobody had said so");
            return self.landed(&spec.landing(), &found);
        }
        self.check_room()?;
        let is_second = spec.row.ahead != Ahead::No;
        let wrong = |what: String| FleetError::File { file: lease.fleet.clone(), what };
        let mut options = carry::Options {
            order: spec.order(self.wires).map_err(wrong)?,
            site: self.site.clone(),
            accept: spec.row.accept.clone(),
            force: false,
            links: if spec.row.trust_links { Links::Trusted } else { Links::OwnFolder },
            // What an earlier try left is gone on with; where there is nothing, that is no trouble.
            resume: true,
            with: None,
            job: Some(lease.job),
            is_second,
            bitmap: spec.row.bitmap.clone(),
            off_since: None,
        };
        let observer = Watching { watch: self.watch, may_land: self.may_land };
        let budget = Budget::whole();
        let (cancel, wires, keys) = (&self.watch.cancel, self.wires, self.keys);
        let context = Context { cancel, observer: &observer, budget: &budget, wires, keys };
        // A first pass that an earlier try made is as good as a new one: what changed since is told by the bytes.
        if is_second && carry::first_pass(&spec.landing()).is_none() {
            let ahead = carry::ahead(&options, &Context { wires: self.running, ..context })?;
            tracing::info!(machine = lease.name, carried = ahead.pass.carried, "it was carried ahead");
        }
        if lease.only_ahead {
            return Ok(Ended::Near { bytes: self.watch.carried() });
        }
        options.off_since = is_second.then(Timestamp::now);
        self.hook("before", Some(Hook::Before), spec.row.hooks.before.as_ref(), json!({}))?;
        let landing = carry::carry(&options, &context)?;
        self.landed(&landing.folder, &landing.receipt)
    }

    /// The receipt of our landing, where an earlier try made it and could not say so any more.
    fn landed_before(&self) -> Result<Option<Receipt>> {
        let path = self.lease.spec.landing().join(receipt::FILE_NAME);
        if !self.lease.goes_on || !path.is_file() {
            return Ok(None);
        }
        let receipt = Receipt::read(&path, &Budget::whole())?;
        Ok(Some(receipt).filter(|receipt| receipt.job == Some(self.lease.job)))
    }

    /// Notes how far it is, where the database takes it: what decides is how the try ends.
    fn noted(&self, note: Note<'_>) {
        if let Err(error) = (self.note)(note) {
            tracing::warn!(%error, ?note, "it could not be noted");
        }
    }

    /// Runs the program `after`, unless an earlier worker did and could not say any more that the machine has landed.
    fn after(&self, landing: &str) -> Result<()> {
        if self.lease.after == Some(HookState::Done(Some(0))) {
            return Ok(());
        }
        let program = self.lease.spec.row.hooks.after.as_ref();
        self.hook("after", Some(Hook::After), program, json!({ "landing": landing }))
    }

    fn landed(&self, folder: &Path, receipt: &Receipt) -> Result<Ended> {
        let landing = folder.to_string_lossy().into_owned();
        let text = serde_json::to_string(receipt).unwrap_or_default();
        // Known before a program runs, which may outlast us.
        let files = landed::files_of(folder).ok().and_then(|files| serde_json::to_string(&files).ok());
        self.noted(Note::Landed(&landing, &files.unwrap_or_default()));
        let after = match self.after(&landing) {
            Ok(()) => None,
            // It has landed all the same, and the next run asks the program again.
            Err(error) if error.is_interrupted() => Some("the program 'after' was stopped".to_string()),
            Err(error) => Some(shortened(&error.to_string())),
        };
        let disks = receipt.disks.iter().map(|disk| disk.after.virtual_size).fold(0, u64::saturating_add);
        let bytes = Some(self.watch.carried()).filter(|bytes| *bytes > 0).unwrap_or(disks);
        Ok(Ended::Landed { landing, receipt: text, bytes, after })
    }

    /// Where the landing is made, what is asked for stays free.
    fn check_room(&self) -> Result<()> {
        let Some(room) = self.rules.limits.room else { return Ok(()) };
        let spec = &self.lease.spec;
        let needed = room.0.saturating_add(spec.row.size.map_or(0, |size| size.0));
        let into = spec.into();
        match free(&into) {
            Some(free) if free < needed && spec.stores().is_empty() => {
                Err(FleetError::NoRoom { folder: into.to_string_lossy().into(), free, needed }.into())
            }
            _ => Ok(()),
        }
    }

    fn hook(
        &self,
        event: &str,
        hook: Option<Hook>,
        program: Option<&Vec<String>>,
        more: serde_json::Value,
    ) -> Result<()> {
        let Some((program, keeper)) = program.zip(self.keeper) else { return Ok(()) };
        let (lease, spec) = (self.lease, &self.lease.spec);
        let mut input = json!({
            "event": event,
            "fleet": lease.fleet,
            "machine": lease.name,
            "group": spec.row.group,
            "source": spec.shown_source(),
            "destination": spec.destination(),
            "try": lease.tries,
            "time": Timestamp::now(),
        });
        if let (Some(input), Some(more)) = (input.as_object_mut(), more.as_object()) {
            input.extend(more.clone());
        }
        self.watch.set_stage(&format!("running '{event}'"), 0);
        let wait = patience(spec.row.hooks.patience.as_ref(), PROGRAM).unwrap_or(PROGRAM);
        let note = |state| hook.into_iter().for_each(|hook| self.noted(Note::Hook(hook, state)));
        note(HookState::Begun);
        if lease.goes_on {
            // A worker that has just ended takes its program along; not in the same moment.
            std::thread::sleep(LAST_BREATH);
        }
        let runner = Runner { keeper, patience: wait.unsigned_abs(), cancel: &self.watch.cancel };
        let said = program::run(program, &spec.folder, &input, &runner);
        for line in said.iter().flatten() {
            tracing::info!(event, "{line}");
        }
        note(HookState::Done(match &said {
            Ok(_) => Some(0),
            Err(Error::Fleet(FleetError::Program { code, .. })) => *code,
            Err(_) => None,
        }));
        said.map(drop)
    }

    fn failed(&self, error: &Error) -> Ended {
        let (tries, most) = (self.lease.tries, self.rules.failure.tries);
        let again = (helps(error) && tries < most).then(|| self.wait());
        let (code, reason, remedy) = told(error);
        tracing::warn!(code, ?again, "{}", printable(&reason));
        if let Error::Refused { findings } = error {
            for finding in findings {
                tracing::warn!(code = finding.code(), "{}", printable(&finding.sentence()));
            }
        }
        if again.is_none() && !self.watch.lost.load(Ordering::Relaxed) {
            let more = json!({ "code": code, "reason": reason });
            if let Err(error) = self.hook("on-failure", None, self.lease.spec.row.hooks.on_failure.as_ref(), more) {
                tracing::warn!("{error}");
            }
        }
        Ended::Failed { code: code.into(), reason, remedy, again }
    }

    /// How long until the next try: four times as long each time.
    fn wait(&self) -> Duration {
        let times = 4u32.saturating_pow(self.lease.tries.saturating_sub(1));
        self.back_off.saturating_mul(times).min(LONGEST)
    }
}

/// What went wrong, and what helps. Of what was refused, the first thing that stands in the way: the log has all.
fn told(error: &Error) -> (&'static str, String, Option<String>) {
    let blocker = match error {
        Error::Refused { findings } => findings.iter().find(|finding| finding.severity() == Severity::Blocker),
        _ => None,
    };
    match blocker {
        Some(blocker) => (blocker.code(), shortened(&blocker.sentence()), Some(shortened(blocker.remedy()))),
        None => (error.code(), shortened(&error.to_string()), error.remedy().map(str::to_string)),
    }
}

fn shortened(text: &str) -> String {
    text.chars().take(SENTENCE).collect()
}

/// Whether another try may help: the network, another run, or a cloud was in the way, and not the machine itself.
fn helps(error: &Error) -> bool {
    match error {
        Error::Disk(DiskError::Wire(wire)) => {
            matches!(wire.kind, WireKind::Unreachable | WireKind::Expired | WireKind::Protocol)
        }
        Error::CloudFailed { .. } => true,
        Error::Fleet(
            FleetError::Program { .. } | FleetError::NoRoom { .. } | FleetError::State { again: true, .. },
        ) => true,
        Error::Disk(DiskError::Io { source, .. }) => matches!(
            source.kind(),
            std::io::ErrorKind::StorageFull
                | std::io::ErrorKind::TimedOut
                | std::io::ErrorKind::StaleNetworkFileHandle
                | std::io::ErrorKind::Interrupted
        ),
        _ => false,
    }
}

/// Bytes that are free at `folder`, or at what is there of its path.
pub(crate) fn free(folder: &Path) -> Option<u64> {
    let there = folder.ancestors().find(|folder| folder.is_dir())?;
    let stat = rustix::fs::statvfs(there).ok()?;
    Some(stat.f_bavail.saturating_mul(stat.f_frsize))
}

/// What a try came to when it panicked.
pub(super) fn defect(lease: &Lease) -> Ended {
    Ended::Failed {
        code: "defect".into(),
        reason: format!("a defect in {}", crate::TOOL),
        remedy: Some(format!("Please report it with the log of '{}'.", lease.name)),
        again: None,
    }
}

/// A `Watch` that is shared.
pub(super) type SharedWatch = Arc<Watch>;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn another_try_is_made_where_it_may_help() {
        let wire = |kind| {
            let (action, place, what) = ("reading", "harbour:ledger".into(), "x".into());
            Error::from(DiskError::from(reformis_disk::error::WireError { action, place, offset: None, what, kind }))
        };
        for (error, expected) in [
            (wire(WireKind::Unreachable), true),
            (wire(WireKind::Denied), false),
            (wire(WireKind::Absent), false),
            (Error::Refused { findings: Vec::new() }, false),
            (FleetError::LeaseLost { name: "ledger".into() }.into(), false),
            (FleetError::NoRoom { folder: "/".into(), free: 0, needed: 1 }.into(), true),
        ] {
            assert_eq!(helps(&error), expected, "{error}");
        }
    }

    #[test]
    fn room_is_asked_of_what_is_there() {
        let folder = tempfile::tempdir().unwrap();
        assert_eq!(free(&folder.path().join("a/b/c")).is_some(), free(folder.path()).is_some());
        assert!(free(folder.path()).unwrap() > 0);
    }
}
