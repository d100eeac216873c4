//! When each machine was moved, as bars on a line of time.

use jiff::{Timestamp, tz::TimeZone};
use maud::{Markup, html};
use reformis_disk::text::printable;
use reformis_move::report::{FleetReport, MachineReport};

use super::{lasted, night, urgency};

/// Widths in the drawing's own units: of the names, and of the bars.
const NAMES: f64 = 190.0;
const BARS: f64 = 980.0;
const ROW: f64 = 24.0;
/// Where the first row begins, below the axis.
const TOP: f64 = 24.0;
/// The longest name beside a bar, in characters.
const LONGEST: usize = 26;
/// Marks of the line are so many at most.
const MARKS: f64 = 7.0;
/// Steps between marks, in seconds.
const STEPS: [i64; 19] =
    [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10_800, 21_600, 43_200, 86_400, 604_800];

/// Seconds as a number to draw with.
#[expect(clippy::cast_precision_loss, reason = "a place in a drawing")]
fn seconds(time: Timestamp) -> f64 {
    time.as_millisecond() as f64 / 1000.0
}

/// The times of the marks between `first` and `last`, and the seconds between them.
#[expect(clippy::cast_precision_loss, reason = "a number of marks")]
fn marks(first: Timestamp, last: Timestamp) -> (Vec<Timestamp>, i64) {
    let length = last.as_second() - first.as_second();
    let step = STEPS.into_iter().find(|step| length as f64 / *step as f64 <= MARKS).unwrap_or(length.max(1));
    let from = first.as_second().div_euclid(step) + 1;
    let times = (from..).map(|index| index * step).take_while(|time| *time <= last.as_second());
    (times.filter_map(|time| Timestamp::from_second(time).ok()).take(64).collect(), step)
}

/// How the time of a mark is written, where marks are `step` seconds apart and all of the line is `whole` seconds long: so that no two marks
/// say the same.
fn style(step: i64, whole: f64) -> &'static str {
    match step {
        86_400.. => "%d %b",
        _ if step % 60 != 0 => "%H:%M:%S",
        _ if whole > 86_400.0 => "%a %H:%M",
        _ => "%H:%M",
    }
}

/// A bar of the chart.
struct Bar<'r> {
    name: &'r str,
    group: &'r str,
    class: &'static str,
    /// What became of the machine.
    what: &'static str,
    began: Timestamp,
    ended: Timestamp,
}

/// The bars in their order: by group where there are some, then by time.
fn bars<'r>(machines: &'r [MachineReport], fleet: Option<&'r FleetReport>) -> Vec<Bar<'r>> {
    let landed = machines.iter().map(|machine| Bar {
        name: &machine.name,
        group: machine.group.as_deref().unwrap_or_default(),
        class: urgency(machine.urgency).1,
        what: urgency(machine.urgency).0,
        began: machine.began,
        ended: machine.ended,
    });
    let open = fleet.into_iter().flat_map(|fleet| &fleet.open).filter_map(|row| {
        let (began, ended) = row.began.zip(row.ended).filter(|(began, ended)| began <= ended)?;
        let (class, what) = (night::class(row.state), row.state.word());
        Some(Bar { name: &row.name, group: &row.group, class, what, began, ended })
    });
    let mut bars: Vec<Bar<'_>> = landed.chain(open).collect();
    let place = |group: &str| {
        let groups = fleet.map(|fleet| &fleet.groups[..]).unwrap_or_default();
        groups.iter().position(|known| known.name == group)
    };
    bars.sort_by_key(|bar| (place(bar.group), bar.began, bar.ended));
    bars
}

pub(super) fn chart(machines: &[MachineReport], fleet: Option<&FleetReport>, zone: &TimeZone) -> Markup {
    let bars = bars(machines, fleet);
    let began = bars.iter().map(|bar| bar.began).min().unwrap_or_default();
    let ended = bars.iter().map(|bar| bar.ended).max().unwrap_or_default();
    let whole = (seconds(ended) - seconds(began)).max(0.001);
    let x = |time: Timestamp| NAMES + (seconds(time) - seconds(began)).clamp(0.0, whole) / whole * BARS;
    // A group's name has a line of its own above its bars.
    let mut rows: Vec<(Option<&str>, Option<&Bar<'_>>)> = Vec::new();
    let mut last = "";
    for bar in &bars {
        if bar.group != last {
            rows.push((Some(bar.group), None));
            last = bar.group;
        }
        rows.push((None, Some(bar)));
    }
    #[expect(clippy::cast_precision_loss, reason = "a place in a drawing")]
    let (count, y) = (rows.len() as f64, |index: usize| TOP + index as f64 * ROW);
    let bottom = TOP + count * ROW;
    let (marks, step) = marks(began, ended);
    let style = style(step, whole);
    let mut classes: Vec<&str> = bars.iter().map(|bar| bar.class).collect();
    classes.sort_unstable();
    classes.dedup();
    let at = |value: f64| format!("{value:.1}");
    html! {
        svg.times viewBox={ "0 0 " (NAMES + BARS + 10.0) " " (at(bottom + 22.0)) } role="img"
            aria-label={ "Bars for " (bars.len()) " machines" } {
            @for mark in marks {
                // A word at the end does not go over the edge.
                @let is_last = x(mark) > NAMES + BARS - 24.0;
                @let (place, anchor) = if is_last { (NAMES + BARS + 10.0, "end") } else { (x(mark), "middle") };
                @let time = mark.to_zoned(zone.clone()).strftime(style).to_string();
                line.mark x1=(at(x(mark))) x2=(at(x(mark))) y1=(at(TOP - 4.0)) y2=(at(bottom)) {}
                // Of a long night the one or the other is out of sight.
                text.mark x=(at(place)) y=(at(TOP - 8.0)) text-anchor=(anchor) { (time) }
                text.mark x=(at(place)) y=(at(bottom + 16.0)) text-anchor=(anchor) { (time) }
            }
            @for (index, (group, bar)) in rows.iter().enumerate() {
                @if let Some(group) = group {
                    text.group x="0" y=(at(y(index) + 16.0)) { (short(group)) }
                }
                @if let Some(bar) = bar {
                    @let width = (x(bar.ended) - x(bar.began)).max(3.0);
                    @let took = bar.ended.duration_since(bar.began).as_secs_f64();
                    text.name x=(at(NAMES - 8.0)) y=(at(y(index) + 15.0)) text-anchor="end" {
                        title { (printable(bar.name)) }
                        (short(bar.name))
                    }
                    rect class={ "bar " (bar.class) } x=(at(x(bar.began))) y=(at(y(index) + 3.0))
                        width=(at(width)) height=(at(ROW - 8.0)) rx="2" {
                        title { (printable(bar.name)) ": " (lasted(took)) }
                    }
                }
            }
            line.base x1=(at(NAMES)) x2=(at(NAMES + BARS)) y1=(at(bottom)) y2=(at(bottom)) {}
        }
        p.legend {
            @for (index, class) in classes.iter().enumerate() {
                @if index > 0 { " · " }
                span class={ "swatch " (class) } {} " " (meaning(class, &bars))
            }
            ". Times: " (zone.iana_name().unwrap_or("those of this machine")) "."
        }
    }
}

/// What the colour of a class says of the bars that have it.
fn meaning(class: &str, bars: &[Bar<'_>]) -> String {
    let mut words: Vec<&str> = bars.iter().filter(|bar| bar.class == class).map(|bar| bar.what).collect();
    words.sort_unstable();
    words.dedup();
    words.join(", ")
}

/// A name that fits beside its bar.
fn short(name: &str) -> String {
    let name = printable(name);
    match name.chars().count() {
        0..=LONGEST => name,
        _ => name.chars().take(LONGEST - 1).chain(['…']).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_are_few_and_round() {
        let at = |second: i64| Timestamp::from_second(second).unwrap();
        for (length, step) in [
            (3, 1),
            (14, 2),
            (61, 10),
            (130, 30),
            (170, 30),
            (3600, 600),
            (8 * 3600, 7200),
            (30 * 3600, 21_600),
            (40 * 86_400, 604_800),
        ] {
            let first = 1_795_737_601;
            let (marks, apart) = marks(at(first), at(first + length));
            assert!(marks.len() <= 8, "{length}: {}", marks.len());
            assert!(marks.iter().all(|mark| mark.as_second() % step == 0), "{length}");
            assert!(!marks.is_empty() && apart == step, "{length}");
            #[expect(clippy::cast_precision_loss, reason = "a length")]
            let style = style(apart, length as f64);
            let words: Vec<String> =
                marks.iter().map(|mark| mark.to_zoned(TimeZone::UTC).strftime(style).to_string()).collect();
            assert!(words.windows(2).all(|two| two[0] != two[1]), "{words:?}");
        }
        assert!(marks(at(5), at(5)).0.len() <= 1);
        assert!(marks(at(0), at(1 << 36)).0.len() <= 64, "whatever a receipt says");
    }

    #[test]
    fn a_long_name_says_that_it_is_cut() {
        assert_eq!(short("tidelog"), "tidelog");
        assert_eq!(short(&"ü".repeat(26)).chars().count(), 26);
        assert!(short(&"ü".repeat(27)).ends_with('…') && short(&"ü".repeat(27)).chars().count() == 26);
    }
}
