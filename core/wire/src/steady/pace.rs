//! How fast bytes may come, for everybody together.

use std::{
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};

use crate::fault::Stop;

/// A limit of the rate; none at first.
#[derive(Debug, Default)]
pub struct Pace(Mutex<Option<State>>);

#[derive(Debug)]
struct State {
    /// Bytes a second.
    rate: u64,
    /// When the bytes that were let through so far are over at this rate.
    free: Instant,
}

impl Pace {
    /// At most `rate` bytes a second from now on.
    pub fn limit(&self, rate: u64) {
        let state = State { rate: rate.max(1), free: Instant::now() };
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(state);
    }

    /// Waits until `bytes` more may come; whether we are not to stop.
    pub(crate) fn take(&self, bytes: u64, stop: &Stop) -> bool {
        let wait = match self.0.lock().unwrap_or_else(PoisonError::into_inner).as_mut() {
            None => Duration::ZERO,
            Some(state) => {
                let now = Instant::now();
                let start = state.free.max(now);
                state.free = start + Duration::from_secs_f64(bytes as f64 / state.rate as f64);
                start - now
            }
        };
        stop.sleep(wait)
    }
}
