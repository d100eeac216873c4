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
    /// At most `rate` bytes a second from now on; what was let through already is waited for all the same.
    pub fn limit(&self, rate: u64) {
        let mut state = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let free = state.as_ref().map_or_else(Instant::now, |state| state.free);
        *state = Some(State { rate: rate.max(1), free });
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn another_rate_does_not_forget_what_was_let_through() {
        let pace = Pace::default();
        pace.limit(1000);
        // Who does not wait is counted all the same.
        let stop = Stop::default();
        stop.0.store(true, std::sync::atomic::Ordering::Relaxed);
        assert!(!pace.take(50_000, &stop));
        let free = || pace.0.lock().unwrap().as_ref().map(|state| (state.rate, state.free)).unwrap();
        let (_, before) = free();
        pace.limit(2000);
        assert_eq!(free(), (2000, before));
        assert!(before > Instant::now() + Duration::from_secs(10));
    }
}
