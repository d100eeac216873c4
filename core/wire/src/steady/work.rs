//! The threads that fetch: each takes the next piece, tries until it has it, and hands it in.

use std::{
    sync::{Arc, Mutex, PoisonError, atomic::Ordering},
    time::Duration,
};

use reformis_disk::{Error, Result};

use super::{Core, State, patience::Patience};
use crate::fault::Fault;

/// A thread that had nothing to do for so long ends.
const IDLE: Duration = Duration::from_secs(5);

/// What goes wrong, for all threads together.
#[derive(Default)]
pub(super) struct Trouble {
    patience: Patience,
    /// How often what let us in was renewed; held while it is.
    renewed: Mutex<u64>,
}

impl Core {
    /// Sees that there are threads for what is asked.
    pub(super) fn hire(self: &Arc<Self>, state: &mut State) {
        let needed = state.pieces.waiting().min(self.remote.limits().depth.max(1));
        while state.idle < needed && state.threads < self.remote.limits().depth.max(1) {
            state.threads += 1;
            state.idle += 1;
            let core = self.clone();
            let started = std::thread::Builder::new().name("fetch".into()).spawn(move || core.fetch_pieces());
            if let Err(error) = started {
                state.threads -= 1;
                state.idle -= 1;
                if state.threads == 0 {
                    tracing::error!(%error, "no thread for the network");
                    self.fail_all(state, &format!("no thread could be started: {error}"));
                }
                return;
            }
        }
        self.asked.notify_all();
    }

    fn fail_all(&self, state: &mut State, why: &str) {
        while let Some(range) = state.pieces.next() {
            state.pieces.came(range.start, Err(Fault::again(why)));
        }
        self.came.notify_all();
    }

    fn fetch_pieces(self: Arc<Self>) {
        let mut state = self.lock();
        loop {
            if state.closed || self.shared.stop.is_set() {
                break;
            }
            let Some(range) = state.pieces.next() else {
                let (next, timed_out) = self.asked.wait_timeout(state, IDLE).unwrap_or_else(PoisonError::into_inner);
                state = next;
                if timed_out.timed_out() && state.pieces.waiting() == 0 {
                    break;
                }
                continue;
            };
            state.idle -= 1;
            let memory = state.pieces.memory(range.end - range.start);
            drop(state);
            let outcome = self.fetch(range.start, memory);
            state = self.lock();
            state.idle += 1;
            state.pieces.came(range.start, outcome);
            self.came.notify_all();
        }
        state.idle -= 1;
        state.threads -= 1;
    }

    /// The piece, tried until it is here.
    fn fetch(&self, at: u64, mut buf: Vec<u8>) -> Result<Vec<u8>, Fault> {
        let len = buf.len() as u64;
        if !self.shared.pace.take(len, &self.shared.stop) {
            return Err(Fault::again("we were asked to stop"));
        }
        self.persist(|| self.remote.fetch(at, &mut buf, &self.shared.stop))?;
        self.fetched.fetch_add(len, Ordering::Relaxed);
        Ok(buf)
    }

    /// What `attempt` gives, tried again as [`Core::persist`] does, as an error of the disk.
    pub(super) fn tried<T>(
        &self,
        action: &'static str,
        offset: Option<u64>,
        attempt: impl FnMut() -> Result<T, Fault>,
    ) -> Result<T> {
        self.persist(attempt).map_err(|fault| match self.shared.stop.is_set() {
            true => Error::Interrupted,
            false => fault.into_error(action, self.remote.name(), offset),
        })
    }

    /// Tries until it works, it cannot work, or nothing has worked for too long.
    fn persist<T>(&self, mut attempt: impl FnMut() -> Result<T, Fault>) -> Result<T, Fault> {
        let (mut expired, mut failed) = (0, 0);
        loop {
            if self.shared.stop.is_set() {
                return Err(Fault::again("we were asked to stop"));
            }
            let renewed = *self.trouble.renewed.lock().unwrap_or_else(PoisonError::into_inner);
            match attempt() {
                Ok(value) => {
                    self.trouble.patience.is_well(self.remote.name(), &self.shared);
                    return Ok(value);
                }
                Err(Fault::Again { what, after }) => {
                    failed += 1;
                    self.wait(&what, failed, after)?;
                }
                Err(Fault::Expired(why)) => {
                    expired += 1;
                    // A link that is refused as soon as it is new is refused for another reason.
                    if expired > 3 {
                        return Err(Fault::Expired(why));
                    }
                    match self.renew(renewed, &why) {
                        // Whoever renews it is busy, or out of reach for a moment.
                        Err(Fault::Again { what, after }) => {
                            failed += 1;
                            expired -= 1;
                            self.wait(&what, failed, after)?;
                        }
                        renewed => renewed?,
                    }
                }
                Err(fault) => return Err(fault),
            }
        }
    }

    /// Waits after a try that failed; fails when that has gone on for too long.
    fn wait(&self, what: &str, failed: u32, after: Option<Duration>) -> Result<(), Fault> {
        self.trouble.patience.wait(self.remote.name(), &self.shared, (what, after), failed, &|| false)
    }

    /// Renews what let us in, unless another thread did since `seen` was seen.
    fn renew(&self, seen: u64, why: &str) -> Result<(), Fault> {
        let mut renewed = self.trouble.renewed.lock().unwrap_or_else(PoisonError::into_inner);
        if *renewed == seen {
            tracing::info!(remote = self.remote.name(), why, "renewing");
            self.remote.renew(why, &self.shared.stop)?;
            *renewed += 1;
        }
        Ok(())
    }
}
