//! Waiting after tries that failed: a little longer each time, told once, and not for ever.

use std::{
    sync::{Mutex, PoisonError},
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};

use super::Shared;
use crate::fault::Fault;

/// The first wait after a try that failed, the second, which is doubled from then on, and the longest.
const WAITS: [Duration; 3] = [Duration::from_millis(50), Duration::from_millis(500), Duration::from_secs(30)];

/// Tries that failed, of all threads that work on one thing together: any success ends the trouble.
#[derive(Default)]
pub(crate) struct Patience(Mutex<Option<(Instant, u32)>>);

impl Patience {
    /// A try for what is called `name` worked.
    pub(crate) fn is_well(&self, name: &str, shared: &Shared) {
        let since = self.0.lock().unwrap_or_else(PoisonError::into_inner).take();
        if let Some((since, _)) = since
            && since.elapsed() > Duration::from_secs(2)
        {
            (shared.tell)(&format!("{name} answers again"));
        }
    }

    /// Waits after the try number `failed` of one piece of work, which failed with `what`, for as long as the other end wants where it
    /// says so; fails when that has gone on for too long, or when `is_over`.
    pub(crate) fn wait(
        &self,
        name: &str,
        shared: &Shared,
        (what, after): (&str, Option<Duration>),
        failed: u32,
        is_over: &dyn Fn() -> bool,
    ) -> Result<(), Fault> {
        let (since, times) = {
            let mut trouble = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            let (since, times) = trouble.get_or_insert((Instant::now(), 0));
            *times += 1;
            (*since, *times)
        };
        if since.elapsed() > shared.patience {
            // Later tries may begin anew.
            self.0.lock().unwrap_or_else(PoisonError::into_inner).take();
            return Err(Fault::again(format!("{what}; {times} tries failed in {} s", since.elapsed().as_secs())));
        }
        let wait = after.unwrap_or_else(|| jittered(failed)).min(Duration::from_secs(300));
        tracing::debug!(remote = name, what, times, ?wait, "trying again");
        if times == 1 || times.is_power_of_two() && times > 4 {
            (shared.tell)(&format!("{name}: {what}; trying again", what = reformis_disk::text::printable(what)));
        }
        let end = Instant::now() + wait;
        loop {
            let left = end.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(());
            }
            if is_over() || !shared.stop.sleep(left.min(Duration::from_millis(100))) {
                return Err(Fault::again("we were asked to stop"));
            }
        }
    }
}

/// The wait after so many tries: at once first, then doubled each time, and a little different for everybody.
fn jittered(failed: u32) -> Duration {
    let [first, second, most] = WAITS;
    let base = match failed {
        0 | 1 => first,
        more => second.saturating_mul(1 << (more - 2).min(6)).min(most),
    };
    let nanos = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |now| now.subsec_nanos());
    base.mul_f64(0.75 + f64::from(nanos % 1000) / 2000.0)
}
