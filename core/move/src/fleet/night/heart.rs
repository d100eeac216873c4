//! What keeps a worker's machines its own: their leases are renewed well before they run out. A worker that cannot ask goes on for as long
//! as the database may be away: then nobody else can ask it either, or another worker takes over, and the fence keeps this one from landing.

use std::{
    sync::{
        Condvar, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use super::{Hands, Options, rates::Rates, watch::Board};
use crate::fleet::state::State;

pub(super) struct Heart<'a> {
    fleet: &'a str,
    lease: Duration,
    patience: Duration,
    board: &'a Board,
    rates: &'a Rates,
    hands: &'a dyn Hands,
    stopped: AtomicBool,
    sleeper: (Mutex<()>, Condvar),
}

impl<'a> Heart<'a> {
    pub(super) fn new(
        fleet: &'a str,
        options: &Options,
        board: &'a Board,
        rates: &'a Rates,
        hands: &'a dyn Hands,
    ) -> Self {
        let (stopped, sleeper) = (AtomicBool::new(false), (Mutex::new(()), Condvar::new()));
        Self { fleet, lease: options.lease, patience: options.patience, board, rates, hands, stopped, sleeper }
    }

    pub(super) fn stop(&self) {
        let _guard = self.sleeper.0.lock().unwrap_or_else(PoisonError::into_inner);
        self.stopped.store(true, Ordering::Relaxed);
        self.sleeper.1.notify_all();
    }

    /// Beats until it is stopped.
    pub(super) fn beat(&self) {
        let every = (self.lease / 4).max(Duration::from_millis(50));
        let mut state: Option<State> = None;
        let mut last = Instant::now();
        while self.sleep(every) {
            let watches = self.board.all();
            if watches.is_empty() {
                last = Instant::now();
                continue;
            }
            let beats: Vec<_> = watches.iter().map(|watch| watch.beat()).collect();
            let renewed = match state.take().map_or_else(|| self.hands.state(), Ok) {
                Ok(open) => {
                    let renewed = open.renew(self.fleet, &beats, self.lease);
                    if renewed.is_ok() {
                        self.rates.share(&open, self.fleet);
                    }
                    state = renewed.is_ok().then_some(open);
                    renewed
                }
                Err(error) => Err(error),
            };
            match renewed {
                Ok(lost) => {
                    last = Instant::now();
                    let mine = self.board.all();
                    // One that ended meanwhile is not lost.
                    let is_lost = |name: &String| mine.iter().find(|watch| watch.beat().name == *name);
                    lost.iter().filter_map(is_lost).for_each(|watch| watch.lose());
                }
                Err(error) if last.elapsed() >= self.patience => {
                    tracing::warn!(%error, "the database was away for too long");
                    watches.iter().for_each(|watch| watch.lose());
                }
                Err(error) => tracing::debug!(%error, "the leases were not renewed"),
            }
        }
    }

    /// Whether it is to beat once more, after `time`.
    fn sleep(&self, time: Duration) -> bool {
        let guard = self.sleeper.0.lock().unwrap_or_else(PoisonError::into_inner);
        let is_on = |(): &mut ()| !self.stopped.load(Ordering::Relaxed);
        let waited = self.sleeper.1.wait_timeout_while(guard, time, is_on);
        drop(waited);
        !self.stopped.load(Ordering::Relaxed)
    }
}
