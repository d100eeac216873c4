//! The hours in which moves may begin, in a named time zone.

use jiff::{
    Timestamp, ToSpan, Zoned,
    civil::{Time, Weekday},
    tz::TimeZone,
};
use serde::{Deserialize, Serialize};

/// From when until when moves may begin, every day or on some days of the week.
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
    /// The days on which it opens: `["fri", "sat"]`; every day where none is given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub days: Vec<Day>,
}

/// A day of the week.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Day {
    /// Monday.
    Mon,
    /// Tuesday.
    Tue,
    /// Wednesday.
    Wed,
    /// Thursday.
    Thu,
    /// Friday.
    Fri,
    /// Saturday.
    Sat,
    /// Sunday.
    Sun,
}

impl Day {
    fn of(weekday: Weekday) -> Self {
        match weekday {
            Weekday::Monday => Self::Mon,
            Weekday::Tuesday => Self::Tue,
            Weekday::Wednesday => Self::Wed,
            Weekday::Thursday => Self::Thu,
            Weekday::Friday => Self::Fri,
            Weekday::Saturday => Self::Sat,
            Weekday::Sunday => Self::Sun,
        }
    }
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
        let (from, until) = (time_of_day(&self.from)?, time_of_day(&self.until)?);
        let today = now.to_zoned(zone.clone()).date();
        // Of the last days it may still be open; in the next eight it opens on any day of the week.
        for days in -2..=8 {
            let Ok(date) = today.checked_add(days.days()) else { continue };
            if !self.days.is_empty() && !self.days.contains(&Day::of(date.weekday())) {
                continue;
            }
            let Ok(opens) = zone.to_zoned(date.to_datetime(from)) else { continue };
            let opens = opens.timestamp();
            if opens > now {
                return Ok(Opening::From(opens));
            }
            let closes = next(until, opens, &zone);
            if now < closes {
                return Ok(Opening::Until(closes));
            }
        }
        Err("it never opens".into())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn window(from: &str, until: &str, zone: &str) -> Window {
        Window { zone: Some(zone.into()), from: from.into(), until: until.into(), days: Vec::new() }
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
    fn it_opens_on_its_days_alone() {
        // The 27th of November 2026 is a Friday.
        let weekend = Window { days: vec![Day::Fri, Day::Sat], ..window("22:00", "05:30", "UTC") };
        for (now, expected) in [
            ("2026-11-26T23:00Z", Opening::From(at("2026-11-27T22:00Z"))),
            ("2026-11-28T03:00Z", Opening::Until(at("2026-11-28T05:30Z"))),
            ("2026-11-29T03:00Z", Opening::Until(at("2026-11-29T05:30Z"))),
            ("2026-11-29T23:00Z", Opening::From(at("2026-12-04T22:00Z"))),
            ("2026-12-01T01:00Z", Opening::From(at("2026-12-04T22:00Z"))),
        ] {
            assert_eq!(weekend.at(at(now)).unwrap(), expected, "{now}");
        }
    }

    proptest::proptest! {
        /// Minute by minute, a window says what a look at the clock says; and what it announces is so.
        #[test]
        fn a_window_is_what_a_clock_says(
            from in 0..1440u32, until in 0..1440u32, days in proptest::collection::vec(0..7usize, 0..7),
            now in 1_780_000_000i64..1_800_000_000,
        ) {
            proptest::prop_assume!(from != until);
            let all = [Day::Mon, Day::Tue, Day::Wed, Day::Thu, Day::Fri, Day::Sat, Day::Sun];
            let text = |minute: u32| format!("{:02}:{:02}", minute / 60, minute % 60);
            let days: Vec<Day> = days.iter().map(|day| all[*day]).collect();
            let window = Window { days: days.clone(), ..window(&text(from), &text(until), "UTC") };
            // In UTC each day has 1440 minutes, and the 1st of January 1970 was a Thursday.
            let is_open = |time: i64| (0..=1).any(|back| {
                let day = time.div_euclid(86_400) - back;
                let opens = day * 86_400 + i64::from(from) * 60;
                let length = (i64::from(until) - i64::from(from)).rem_euclid(1440) * 60;
                let is_on = days.is_empty() || days.contains(&all[(day + 3).rem_euclid(7) as usize]);
                is_on && opens <= time && time < opens + length
            });
            match window.at(Timestamp::from_second(now).unwrap()).unwrap() {
                Opening::Until(end) => {
                    proptest::prop_assert!(is_open(now) && !is_open(end.as_second()) || is_open(end.as_second() - 1));
                    proptest::prop_assert!((now..end.as_second()).step_by(600).all(is_open));
                }
                Opening::From(start) => {
                    proptest::prop_assert!(is_open(start.as_second()) && !is_open(start.as_second() - 1));
                    proptest::prop_assert!(!(now..start.as_second()).step_by(60).any(is_open));
                }
            }
        }
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
