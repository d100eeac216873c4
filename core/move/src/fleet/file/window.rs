//! The hours in which moves may begin, in a named time zone.

use jiff::{Timestamp, ToSpan, Zoned, civil::Time, tz::TimeZone};
use serde::{Deserialize, Serialize};

/// From when until when moves may begin, every day.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Window {
    /// The zone by its name in the IANA time zone database; that of this machine where it is not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Time of the day at which it opens: `22:00`.
    pub from: String,
    /// Time of the day at which it closes; the next day's where it is not after `from`.
    pub until: String,
}

/// How a window stands at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Opening {
    /// It is open, and closes then.
    Until(Timestamp),
    /// It is closed, and opens then.
    From(Timestamp),
}

/// A time of the day: hours and minutes.
///
/// # Errors
/// As the end of a sentence.
pub fn time_of_day(text: &str) -> Result<Time, String> {
    let wrong = || format!("'{text}' is no time of the day such as 05:30");
    let (hours, minutes) = text.trim().split_once(':').ok_or_else(wrong)?;
    let number = |text: &str| {
        (text.len() == 2 && text.bytes().all(|byte| byte.is_ascii_digit()))
            .then(|| text.parse::<i8>().ok())
            .flatten()
            .ok_or_else(wrong)
    };
    Time::new(number(hours)?, number(minutes)?, 0, 0).map_err(|_| wrong())
}

/// The first moment after `now` at which clocks in `zone` show `time`. Where the clocks go forward over it, the moment at which they do.
pub fn next(time: Time, now: Timestamp, zone: &TimeZone) -> Timestamp {
    let today = now.to_zoned(zone.clone()).date();
    let days = [-1, 0, 1, 2].into_iter().filter_map(|days| today.checked_add(days.days()).ok());
    let mut moments =
        days.filter_map(|date| zone.to_zoned(date.to_datetime(time)).ok()).map(|zoned: Zoned| zoned.timestamp());
    moments.find(|moment| *moment > now).unwrap_or(now)
}

impl Window {
    /// # Errors
    /// As the end of a sentence: a zone that is not known, times that are none.
    pub fn check(&self) -> Result<(), String> {
        self.zone()?;
        match time_of_day(&self.from)? == time_of_day(&self.until)? {
            true => Err("a window that opens and closes at the same time is none".into()),
            false => Ok(()),
        }
    }

    /// Its zone.
    ///
    /// # Errors
    /// As the end of a sentence.
    pub fn zone(&self) -> Result<TimeZone, String> {
        match &self.zone {
            None => Ok(TimeZone::system()),
            Some(name) => TimeZone::get(name).map_err(|_| format!("'{name}' is no time zone such as Atlantic/Azores")),
        }
    }

    /// How it stands at `now`.
    ///
    /// # Errors
    /// As those of [`Window::check`].
    pub fn at(&self, now: Timestamp) -> Result<Opening, String> {
        let zone = self.zone()?;
        let opens = next(time_of_day(&self.from)?, now, &zone);
        let closes = next(time_of_day(&self.until)?, now, &zone);
        // Of what comes next, that it closes says that it is open.
        Ok(if closes < opens { Opening::Until(closes) } else { Opening::From(opens) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn window(from: &str, until: &str, zone: &str) -> Window {
        Window { zone: Some(zone.into()), from: from.into(), until: until.into() }
    }

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn a_night_goes_over_midnight() {
        let night = window("22:00", "05:30", "Atlantic/Azores");
        // One hour behind UTC in winter.
        for (now, expected) in [
            ("2026-11-27T20:00Z", Opening::From(at("2026-11-27T23:00Z"))),
            ("2026-11-27T23:00:01Z", Opening::Until(at("2026-11-28T06:30Z"))),
            ("2026-11-28T03:00Z", Opening::Until(at("2026-11-28T06:30Z"))),
            ("2026-11-28T06:30:01Z", Opening::From(at("2026-11-28T23:00Z"))),
        ] {
            assert_eq!(night.at(at(now)).unwrap(), expected, "{now}");
        }
    }

    #[test]
    fn a_day_does_not() {
        let noon = window("11:00", "13:00", "UTC");
        assert_eq!(noon.at(at("2026-11-27T12:00Z")).unwrap(), Opening::Until(at("2026-11-27T13:00Z")));
        assert_eq!(noon.at(at("2026-11-27T14:00Z")).unwrap(), Opening::From(at("2026-11-28T11:00Z")));
    }

    #[test]
    fn clocks_that_change_shorten_the_night() {
        // In Lisbon, at 01:00 on the 29th of March 2026 it becomes 02:00.
        let night = window("00:30", "01:30", "Europe/Lisbon");
        let Opening::Until(closes) = night.at(at("2026-03-29T00:45Z")).unwrap() else { panic!("it is open") };
        assert_eq!(closes, at("2026-03-29T01:30Z"), "01:30 is not shown that night: it is taken as 02:30");
    }

    #[test]
    fn what_is_no_time_is_refused() {
        for text in ["", "5:30", "05:30:00", "24:00", "05:60", "-1:00", "ab:cd", "05.30", "+5:00"] {
            assert!(time_of_day(text).is_err(), "{text:?}");
        }
        assert!(window("22:00", "22:00", "UTC").check().is_err());
        assert!(window("22:00", "23:00", "Mars/Olympus").check().unwrap_err().contains("Mars/Olympus"));
        assert!(window("22:00", "23:00", "../../etc/passwd").check().is_err());
    }
}
