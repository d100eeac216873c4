//! How far the machines are that this worker has.

use std::{
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::Instant,
};

use jiff::Timestamp;
use reformis_disk::text::printable;

use crate::{
    error::Result,
    finding::Finding,
    fleet::state::{Beat, Lease},
    observer::{Observer, Step},
};

/// A machine that this worker has.
#[derive(Debug, Clone)]
pub struct Running {
    /// Its name.
    pub name: String,
    /// When this try began.
    pub began: Timestamp,
    /// What is being done, as a person would say it.
    pub stage: String,
    /// Bytes of that which are done.
    pub done: u64,
    /// All of its bytes.
    pub total: u64,
    /// Bytes a second of this stage.
    pub rate: u64,
}

/// One machine's try, seen from outside.
pub(super) struct Watch {
    name: String,
    fence: u64,
    began: Timestamp,
    /// Asks it to stop.
    pub(super) cancel: Arc<AtomicBool>,
    /// Another worker has it.
    pub(super) lost: AtomicBool,
    standing: Mutex<Standing>,
}

struct Standing {
    stage: String,
    done: u64,
    total: u64,
    since: Instant,
    /// Bytes of all stages before this one.
    carried: u64,
}

impl Watch {
    pub(super) fn new(lease: &Lease) -> Self {
        Self {
            name: lease.name.clone(),
            fence: lease.fence,
            began: Timestamp::now(),
            cancel: Arc::default(),
            lost: AtomicBool::new(false),
            standing: Mutex::new(Standing {
                stage: "beginning".into(),
                done: 0,
                total: 0,
                since: Instant::now(),
                carried: 0,
            }),
        }
    }

    fn standing(&self) -> MutexGuard<'_, Standing> {
        self.standing.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn set_stage(&self, stage: &str, total: u64) {
        let mut standing = self.standing();
        let carried = standing.carried.saturating_add(standing.done);
        *standing = Standing { stage: stage.into(), done: 0, total, since: Instant::now(), carried };
    }

    /// Bytes of all stages so far.
    pub(super) fn carried(&self) -> u64 {
        let standing = self.standing();
        standing.carried.saturating_add(standing.done)
    }

    pub(super) fn beat(&self) -> Beat {
        let standing = self.standing();
        let (stage, done, total) = (standing.stage.clone(), standing.done, standing.total);
        Beat { name: self.name.clone(), fence: self.fence, stage, done, total }
    }

    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_precision_loss,
        clippy::cast_sign_loss,
        reason = "a rate that is told"
    )]
    fn running(&self) -> Running {
        let standing = self.standing();
        let seconds = standing.since.elapsed().as_secs_f64().max(0.001);
        Running {
            name: self.name.clone(),
            began: self.began,
            stage: standing.stage.clone(),
            done: standing.done,
            total: standing.total,
            rate: (standing.done as f64 / seconds) as u64,
        }
    }

    /// Stops it: another worker has it.
    pub(super) fn lose(&self) {
        self.lost.store(true, Ordering::Relaxed);
        self.cancel.store(true, Ordering::Relaxed);
    }
}

/// The machines that this worker has.
#[derive(Default)]
pub struct Board(Mutex<Vec<Arc<Watch>>>);

impl Board {
    fn watches(&self) -> MutexGuard<'_, Vec<Arc<Watch>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn add(&self, watch: &Arc<Watch>) {
        self.watches().push(watch.clone());
    }

    pub(super) fn remove(&self, watch: &Arc<Watch>) {
        self.watches().retain(|other| !Arc::ptr_eq(watch, other));
    }

    pub(super) fn all(&self) -> Vec<Arc<Watch>> {
        self.watches().clone()
    }

    /// How far each is.
    pub fn running(&self) -> Vec<Running> {
        self.watches().iter().map(|watch| watch.running()).collect()
    }
}

/// Is told by a move how far it is.
pub(super) struct Watching<'a> {
    pub(super) watch: &'a Watch,
    pub(super) may_land: &'a (dyn Fn() -> Result<()> + Sync),
}

impl Observer for Watching<'_> {
    fn begin(&self, step: &Step, total: u64) {
        let count = if step.of > 1 { format!(" ({} of {})", step.number, step.of) } else { String::new() };
        let stage = format!("{} {}{count}", step.action, step.what);
        tracing::info!(stage, total, "begins");
        self.watch.set_stage(&stage, total);
    }

    fn advance(&self, bytes: u64) {
        let mut standing = self.watch.standing();
        standing.done = standing.done.saturating_add(bytes);
    }

    fn end(&self) {
        let standing = self.watch.standing();
        tracing::info!(stage = standing.stage, bytes = standing.done, "ends");
    }

    fn tell(&self, finding: &Finding) {
        tracing::info!(code = finding.code(), "{}", printable(&finding.sentence()));
    }

    fn may_land(&self) -> Result<()> {
        (self.may_land)()
    }
}
