//! What a worker needs of us: the network, the state, and a log for each machine.

use std::{
    collections::BTreeMap,
    fs::File,
    io::Write,
    path::Path,
    sync::{Arc, Mutex, PoisonError, atomic::AtomicBool},
};

use anyhow::{Context as _, Result};
use jiff::Timestamp;
use reformis_disk::{ground::Ground, text::printable};
use reformis_move::fleet::{
    Place, State,
    night::{Event, Hands},
};
use reformis_wire::{
    Settings, Stop, Wires,
    database::Access,
    steady::{Pace, Shared},
};

use crate::{Session, site::AskedOnce};

/// A machine's log.
type Log = Arc<Mutex<File>>;

pub(crate) struct Ours<'a> {
    pub(super) session: &'a Session,
    pub(super) place: Place,
    pub(super) access: Access,
    settings: Settings,
    keys: Arc<AskedOnce>,
    /// That of all machines whose hosts have none of their own.
    pace: Arc<Pace>,
    logs: Ground,
    open: Mutex<BTreeMap<String, Log>>,
    tell: &'a (dyn Fn(&Event) + Sync),
}

impl<'a> Ours<'a> {
    /// With logs in the folder `logs`, which is made.
    pub(crate) fn new(
        session: &'a Session,
        (place, access): (Place, Access),
        logs: &Path,
        tell: &'a (dyn Fn(&Event) + Sync),
    ) -> Result<Self> {
        if let Some(above) = logs.parent() {
            std::fs::create_dir_all(above).with_context(|| format!("making '{}'", above.display()))?;
        }
        let logs = Ground::make(logs).map_err(reformis_move::Error::from)?;
        let pace = Pace::default();
        if let Some(rate) = session.limit {
            pace.limit(rate);
        }
        let (keys, pace, open) = (Arc::default(), Arc::new(pace), Mutex::default());
        let settings = session.text.settings()?;
        Ok(Self { session, place, access, settings, keys, pace, logs, open, tell })
    }

    fn log(&self, name: &str) -> Option<Log> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(log) = open.get(name) {
            return Some(log.clone());
        }
        let file = self.logs.append(format!("{name}.log"));
        match file {
            Ok(file) => {
                let log = Arc::new(Mutex::new(file));
                open.insert(name.into(), log.clone());
                Some(log)
            }
            Err(error) => {
                self.session.progress.say(&format!("no log of {name} is written: {error}\n"));
                None
            }
        }
    }
}

impl Hands for Ours<'_> {
    fn wires(&self, name: &str, cancel: &Arc<AtomicBool>, pace: Option<&Arc<Pace>>) -> Wires {
        let log = self.log(name);
        let tell = move |sentence: &str| {
            if let Some(log) = &log {
                let mut file = log.lock().unwrap_or_else(PoisonError::into_inner);
                writeln!(file, "{} {}", Timestamp::now(), printable(sentence)).ok();
            }
        };
        let (stop, pace) = (Stop(cancel.clone()), pace.unwrap_or(&self.pace).clone());
        let shared = Shared { stop, pace, tell: Arc::new(tell), ..Shared::quiet() };
        let wires = Wires::new(self.settings.clone(), self.keys.clone(), shared);
        if self.session.wires.reads_running() {
            wires.read_running();
        }
        wires
    }

    fn state(&self) -> reformis_move::Result<State> {
        State::open(&self.place, &self.access, false)
    }

    fn logged(&self, name: &str, work: &mut dyn FnMut()) {
        let Some(log) = self.log(name) else { return work() };
        let log = tracing_subscriber::fmt()
            .with_max_level(tracing::Level::DEBUG)
            .with_ansi(false)
            .with_writer(move || Writer(log.clone()))
            .finish();
        tracing::subscriber::with_default(log, work);
    }

    fn tell(&self, event: &Event) {
        (self.tell)(event);
    }
}

/// Writes a line to a log that others write to, too.
struct Writer(Log);

impl Write for Writer {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).write(bytes)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}
