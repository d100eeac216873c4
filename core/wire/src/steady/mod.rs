//! The one layer between protocols and everything that reads: pieces that were fetched are kept, what comes next is
//! fetched ahead, what broke is tried again, what expired is renewed, and all of it ends when it is told to.
//!
//! Only the threads of this layer speak to the remote. Readers wait for pieces, and notice at once when they are to stop.

mod ahead;
mod pace;
pub(crate) mod patience;
mod pieces;
mod work;

use std::{
    sync::{
        Arc, Condvar, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

pub use pace::Pace;
use pieces::{Answer, Pieces};
use reformis_disk::{
    Error, Result, Storage,
    budget::Budget,
    disk::{Extent, ExtentKind},
    source::{Access, Identity, Links, check_relative_name},
    to_usize,
};

use crate::{
    fault::{Fault, Stop},
    remote::Remote,
};

/// What everybody who reads over a network shares.
#[derive(Clone)]
pub struct Shared {
    /// Asks us to stop.
    pub stop: Stop,
    /// How fast all of them may be together.
    pub pace: Arc<Pace>,
    /// Is told, in a sentence, what the person should know while it happens: a connection that broke.
    pub tell: Arc<dyn Fn(&str) + Send + Sync>,
    /// For how long tries may fail, one after the other, until it is given up.
    pub patience: Duration,
}

impl Shared {
    /// Nobody to tell, no limit, and ten minutes.
    pub fn quiet() -> Self {
        let patience = Duration::from_secs(600);
        Self { stop: Stop::default(), pace: Arc::default(), tell: Arc::new(|_| ()), patience }
    }
}

/// A remote that is read steadily.
pub struct Steady {
    core: Arc<Core>,
    identity: Identity,
    budget: Arc<Budget>,
}

/// What readers and fetching threads share.
struct Core {
    remote: Arc<dyn Remote>,
    shared: Shared,
    state: Mutex<State>,
    /// A piece came, or failed.
    came: Condvar,
    /// There is something to fetch, or the end.
    asked: Condvar,
    /// Bytes that were fetched.
    fetched: AtomicU64,
    /// Runs of the remote's map that were asked for.
    map: Mutex<Vec<Extent>>,
    trouble: work::Trouble,
}

struct State {
    pieces: Pieces,
    ahead: ahead::Ahead,
    threads: usize,
    /// Threads that wait for something to do.
    idle: usize,
    closed: bool,
}

/// The runs of a map that are kept; more are asked for again.
const MANY_RUNS: usize = 4096;
/// Bytes whose map is asked for at once.
const MAPPED: u64 = 1 << 30;

impl Core {
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The run at `at`, from the remote's map.
    fn extent(&self, at: u64) -> Result<Extent> {
        let len = self.remote.len();
        if !self.remote.has_map() {
            return Ok(Extent::data(at, len - at));
        }
        let mut runs = self.map.lock().unwrap_or_else(PoisonError::into_inner);
        let place = |runs: &[Extent]| runs.iter().rposition(|run| run.start <= at && at < run.end());
        if place(&runs).is_none() {
            let asked = (len - at).min(MAPPED);
            let new =
                self.tried("asking for the map of", Some(at), || self.remote.map(at, asked, &self.shared.stop))?;
            if runs.len() + new.len() > MANY_RUNS {
                runs.clear();
            }
            let mut next = at;
            for run in new.into_iter().take(MANY_RUNS) {
                if run.start != next || run.len == 0 || run.end() > len {
                    return Err(Fault::protocol("its map has runs that do not follow one another").into_error(
                        "asking for the map of",
                        self.remote.name(),
                        Some(at),
                    ));
                }
                next = run.end();
                runs.push(run);
            }
        }
        let Some(run) = place(&runs).and_then(|index| runs.get(index)) else { return Ok(Extent::data(at, len - at)) };
        Ok(Extent { start: at, len: run.end() - at, kind: run.kind })
    }
}

impl Steady {
    /// Reads `remote`; what strangers make us collect from it is counted against `budget`.
    pub fn new(remote: Arc<dyn Remote>, shared: Shared, budget: &Arc<Budget>) -> Self {
        let identity = Identity { len: remote.len(), version: remote.version(), access: Some(remote.access()) };
        let state = State {
            pieces: Pieces::new(remote.len()),
            ahead: ahead::Ahead::new(remote.limits()),
            threads: 0,
            idle: 0,
            closed: false,
        };
        let core = Core {
            remote,
            shared,
            state: Mutex::new(state),
            came: Condvar::new(),
            asked: Condvar::new(),
            fetched: AtomicU64::new(0),
            map: Mutex::default(),
            trouble: work::Trouble::default(),
        };
        Self { core: Arc::new(core), identity, budget: budget.clone() }
    }

    /// Bytes that were fetched so far, those that nobody read yet too.
    pub fn fetched(&self) -> u64 {
        self.core.fetched.load(Ordering::Relaxed)
    }

    fn failed(&self, fault: Fault, action: &'static str) -> Error {
        fault.into_error(action, self.name(), None)
    }

    /// Copies what is there of `offset`, or asks for it; how much was copied.
    fn take(&self, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let core = &self.core;
        let mut state = core.lock();
        loop {
            if core.shared.stop.is_set() {
                return Err(Error::Interrupted);
            }
            match state.pieces.at(offset) {
                Answer::Here(start, bytes) => {
                    // Copied outside of the lock: others read meanwhile.
                    drop(state);
                    let from = bytes.get(to_usize(offset - start)..).unwrap_or_default();
                    let len = from.len().min(buf.len());
                    if let (Some(to), Some(from)) = (buf.get_mut(..len), from.get(..len)) {
                        to.copy_from_slice(from);
                    }
                    return Ok(len);
                }
                Answer::Failed(fault) => return Err(fault.into_error("reading", core.remote.name(), Some(offset))),
                Answer::Coming => {}
                Answer::Absent(free) => {
                    let start = free.start.max(offset / ahead::GRAIN * ahead::GRAIN);
                    let len = state.ahead.size_of(offset, buf.len() as u64) + (offset - start);
                    state.pieces.ask(start, len.min(free.end - start), true);
                    core.hire(&mut state);
                }
            }
            state = core.came.wait_timeout(state, Duration::from_millis(100)).unwrap_or_else(PoisonError::into_inner).0;
        }
    }
}

impl Storage for Steady {
    fn name(&self) -> &str {
        self.core.remote.name()
    }

    fn len(&self) -> u64 {
        self.identity.len
    }

    fn is_far(&self) -> bool {
        true
    }

    fn is_raw(&self) -> bool {
        self.core.remote.is_raw()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        let end = offset.checked_add(buf.len() as u64).filter(|end| *end <= self.len());
        let Some(end) = end else {
            let end = offset.saturating_add(buf.len() as u64);
            let (path, what) = (self.name().into(), "a read".into());
            return Err(Error::CutShort { path, what, start: offset, end, len: self.len() });
        };
        self.core.look_ahead(offset, end)?;
        let mut done = 0;
        while let Some(rest) = buf.get_mut(done..).filter(|rest| !rest.is_empty()) {
            done += self.take(offset + done as u64, rest)?;
        }
        self.core.was_read(end);
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        self.core.extent(offset)
    }

    fn check_unchanged(&self) -> Result<()> {
        self.core.tried("looking again at", None, || self.core.remote.check(&self.core.shared.stop))
    }

    fn identity(&self) -> Option<&Identity> {
        Some(&self.identity)
    }

    fn budget(&self) -> &Arc<Budget> {
        &self.budget
    }

    fn sibling(&self, name: &str, _: Links) -> Result<Arc<dyn Storage>> {
        if let Err(why) = check_relative_name(name) {
            // A path on another machine is nothing that a stranger's file may choose, trusted or not.
            let trustable = false;
            return Err(Error::UnsafeName { path: self.name().into(), name: name.into(), why: why.into(), trustable });
        }
        let remote = self.core.remote.sibling(name, &self.core.shared.stop);
        let remote = remote.map_err(|fault| {
            let place = format!("{} beside {}", name, self.name());
            fault.into_error("opening", &place, None)
        })?;
        Ok(Arc::new(Self::new(remote, self.core.shared.clone(), &self.budget)))
    }

    fn neighbours(&self) -> Result<Vec<String>> {
        self.core
            .remote
            .neighbours(&self.core.shared.stop)
            .map_err(|fault| self.failed(fault, "listing what is beside"))
    }
}

impl Drop for Steady {
    fn drop(&mut self) {
        self.core.lock().closed = true;
        self.core.asked.notify_all();
    }
}

/// Who may read what, where the protocol does not say: only we, when a credential let us in.
pub(crate) fn access(with_credential: bool) -> Access {
    if with_credential { Access::OWNER } else { Access::ANYBODY }
}

/// Whether a run holds data.
fn is_data(run: &Extent) -> bool {
    run.kind == ExtentKind::Data
}

#[cfg(test)]
mod tests;
