//! How long it will take, and what will be done in time, by what was measured so far.

use jiff::Timestamp;

use crate::{
    error::Result,
    fleet::state::{Machine, Pace, Stand, State},
};

/// What may still begin.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Fits {
    /// The largest machine, in bytes; none where everything fits.
    pub(super) most: Option<u64>,
    /// Whether one may begin whose size is not known.
    pub(super) takes_unknown: bool,
}

/// What may begin at `now` to be done until `end`, where machines landed at `pace` so far.
#[expect(clippy::cast_possible_truncation, clippy::cast_precision_loss, clippy::cast_sign_loss, reason = "an estimate")]
pub(super) fn fits(pace: &Pace, now: Timestamp, end: Option<Timestamp>) -> Fits {
    let all = Fits { most: None, takes_unknown: true };
    let Some(end) = end else { return all };
    let left = end.duration_since(now).as_secs_f64();
    if left <= 0.0 {
        return Fits { most: Some(0), takes_unknown: false };
    }
    // Before anything was measured, nothing is known against it.
    if pace.machines == 0 || pace.seconds <= 0.0 {
        return all;
    }
    let bytes = pace.bytes as f64 / pace.seconds * left;
    Fits { most: Some(bytes as u64), takes_unknown: pace.seconds / pace.machines as f64 <= left }
}

/// All machines of `fleet`, with how long each will take still, and how fast others landed.
///
/// # Errors
/// Those of the state.
pub fn outlook(state: &State, fleet: &str) -> Result<(Vec<Machine>, Pace)> {
    let (mut machines, pace) = (state.machines(fleet)?, state.pace(fleet)?);
    fill(&mut machines, &pace, Timestamp::now());
    Ok((machines, pace))
}

/// Fills in how long each machine that runs or waits will take still, where something tells: of one that runs, its own rate; of one that
/// waits, its rehearsal, and its size beside what other machines took: the longer of both.
pub fn fill(machines: &mut [Machine], pace: &Pace, now: Timestamp) {
    for machine in machines {
        machine.left_seconds = match machine.state {
            Stand::Running => own_rate(machine, now).or_else(|| by_pace(machine, pace)),
            // Reading alone is faster than a move; and a host may be slower than others.
            Stand::Waiting => rehearsed(machine).into_iter().chain(by_pace(machine, pace)).reduce(f64::max),
            _ => None,
        };
    }
}

#[expect(clippy::cast_precision_loss, reason = "an estimate")]
fn own_rate(machine: &Machine, now: Timestamp) -> Option<f64> {
    let (done, total) = (machine.done.filter(|done| *done > 0)?, machine.total?);
    let elapsed = now.duration_since(machine.began?).as_secs_f64();
    (elapsed >= 1.0).then(|| total.saturating_sub(done) as f64 * elapsed / done as f64)
}

fn rehearsed(machine: &Machine) -> Option<f64> {
    machine.rehearsal.as_ref()?.get("estimate")?.as_f64()
}

#[expect(clippy::cast_precision_loss, reason = "an estimate")]
fn by_pace(machine: &Machine, pace: &Pace) -> Option<f64> {
    let has_pace = pace.machines > 0 && pace.bytes > 0 && pace.seconds > 0.0;
    let size = machine.size.or(machine.total.filter(|total| *total > 0))?;
    has_pace.then(|| size as f64 * pace.seconds / pace.bytes as f64)
}

/// Seconds until all machines are done that run or wait, with `at_once` at the same time; none where nothing tells. They were
/// [filled in](fill) before.
#[expect(clippy::cast_precision_loss, reason = "an estimate")]
pub fn night(machines: &[Machine], pace: &Pace, at_once: usize) -> Option<f64> {
    let open = machines.iter().filter(|machine| matches!(machine.state, Stand::Running | Stand::Waiting));
    // Of what nothing is known, as long as others took.
    let usual = (pace.machines > 0).then(|| pace.seconds / pace.machines as f64);
    let times: Option<Vec<f64>> = open.map(|machine| machine.left_seconds.or(usual)).collect();
    let times = times.filter(|times| !times.is_empty())?;
    let longest = times.iter().copied().fold(0.0, f64::max);
    Some((times.iter().sum::<f64>() / at_once.max(1) as f64).max(longest))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_takes_longer_than_there_is_time_does_not_begin() {
        let at = |second| Timestamp::from_second(second).unwrap();
        // Ten machines of 1000 bytes, each in 5 seconds: 200 bytes a second.
        let pace = Pace { machines: 10, bytes: 10_000, seconds: 50.0 };
        let of = |pace: &Pace, end| fits(pace, at(100), end);
        assert_eq!(of(&pace, None), Fits { most: None, takes_unknown: true });
        assert_eq!(of(&pace, Some(at(110))), Fits { most: Some(2000), takes_unknown: true });
        assert_eq!(of(&pace, Some(at(104))), Fits { most: Some(800), takes_unknown: false });
        assert_eq!(of(&pace, Some(at(100))), Fits { most: Some(0), takes_unknown: false });
        assert_eq!(of(&pace, Some(at(90))), Fits { most: Some(0), takes_unknown: false });
        assert_eq!(of(&Pace::default(), Some(at(101))), Fits { most: None, takes_unknown: true });
        assert_eq!(of(&Pace::default(), Some(at(99))), Fits { most: Some(0), takes_unknown: false });
    }

    fn machine(state: Stand) -> Machine {
        let (_folder, kept) = crate::fleet::state::tests::fresh();
        let mut machine = crate::fleet::state::tests::machine_of(&kept);
        machine.state = state;
        machine
    }

    #[test]
    fn each_goes_by_its_own_rate() {
        let pace = Pace { machines: 10, bytes: 10_000, seconds: 50.0 };
        let at = |second| Timestamp::from_second(second).unwrap();
        let (mut runs, mut waits, mut tried, mut unknown) =
            (machine(Stand::Running), machine(Stand::Waiting), machine(Stand::Waiting), machine(Stand::Waiting));
        (runs.began, runs.done, runs.total) = (Some(at(100)), Some(250), Some(1000));
        waits.size = Some(2000);
        (tried.size, tried.rehearsal) = (Some(2000), Some(serde_json::json!({ "estimate": 77.0 })));
        unknown.size = None;
        let mut all = [runs, waits, tried, unknown];
        fill(&mut all, &pace, at(110));
        let left: Vec<_> = all.iter().map(|machine| machine.left_seconds).collect();
        assert_eq!(left, [Some(30.0), Some(10.0), Some(77.0), None]);
        // The longest takes as long as it takes, however many run beside it.
        assert_eq!(night(&all, &pace, 2), Some(77.0));
        assert_eq!(night(&all, &pace, 1), Some(30.0 + 10.0 + 77.0 + 5.0));
        assert_eq!(night(&all, &Pace::default(), 1), None);
        assert_eq!(night(&[], &pace, 1), None);
    }
}
