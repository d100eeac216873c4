//! What will be done in time, by what was measured so far.

use jiff::Timestamp;

use crate::fleet::state::Pace;

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

/// Seconds until all of `left` bytes are done, and `unknown` machines whose size nobody knows, with `at_once` at the same time.
#[expect(clippy::cast_precision_loss, reason = "an estimate")]
pub fn seconds_left(pace: &Pace, left: u64, unknown: usize, at_once: usize) -> Option<f64> {
    if pace.machines == 0 || pace.seconds <= 0.0 {
        return None;
    }
    let known = if pace.bytes == 0 { 0.0 } else { left as f64 * pace.seconds / pace.bytes as f64 };
    let guessed = unknown as f64 * pace.seconds / pace.machines as f64;
    Some((known + guessed) / at_once.max(1) as f64)
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

    #[test]
    fn the_night_is_as_long_as_what_is_left() {
        let pace = Pace { machines: 10, bytes: 10_000, seconds: 50.0 };
        assert_eq!(seconds_left(&pace, 4000, 2, 2), Some(15.0));
        assert_eq!(seconds_left(&Pace::default(), 4000, 2, 2), None);
    }
}
