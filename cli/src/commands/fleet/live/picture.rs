//! What is drawn of a night: how far it is, the groups, what runs, and all machines.

use jiff::{Timestamp, tz::TimeZone};
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::{Color, Modifier, Style},
    text::{Line, Span},
    widgets::{Gauge, Paragraph, Row, Table, TableState, Wrap},
};
use reformis_disk::{ByteSize, text::printable};
use reformis_move::fleet::{
    Counts, Machine, Pace, Stand,
    night::{Running, estimate::night},
};

use super::{super::words, Steers};
use crate::progress::duration;

const FAINT: Style = Style::new().add_modifier(Modifier::DIM);
const STRONG: Style = Style::new().add_modifier(Modifier::BOLD);
/// Groups that have a line of their own.
const GROUPS: usize = 6;
/// Machines that run and have a line of their own.
const RUNNING: usize = 12;
/// Columns that a sentence about a machine gets, where names can give way.
const SAYS: usize = 30;
/// The narrowest terminal with a bar for each machine that runs.
const WIDE: u16 = 110;

pub(super) struct Picture {
    name: String,
    steers: Option<Steers>,
    machines: Vec<Machine>,
    pace: Pace,
    pub(super) is_paused: bool,
    /// What the next group waits for.
    gate: Option<String>,
    /// What this worker has itself.
    pub(super) running: Vec<Running>,
    table: TableState,
    said: String,
}

fn style(stand: Stand) -> Style {
    match stand {
        Stand::Landed => Style::new().fg(Color::Green),
        Stand::Failed => Style::new().fg(Color::Red),
        Stand::Skipped | Stand::Held => Style::new().fg(Color::Yellow),
        Stand::Running => Style::new().fg(Color::Cyan),
        Stand::Waiting | Stand::Undone | Stand::Gone => FAINT,
    }
}

#[expect(clippy::cast_precision_loss, reason = "a part of a bar")]
fn part(done: u64, total: u64) -> f64 {
    if total == 0 { 0.0 } else { (done as f64 / total as f64).clamp(0.0, 1.0) }
}

/// A bar of `width` characters.
#[expect(clippy::cast_possible_truncation, clippy::cast_precision_loss, clippy::cast_sign_loss, reason = "a bar")]
fn bar(ratio: f64, width: usize) -> String {
    let filled = ((ratio * width as f64).round() as usize).min(width);
    format!("{}{}", "█".repeat(filled), "░".repeat(width - filled))
}

impl Picture {
    pub(super) fn new(name: &str, steers: Option<Steers>) -> Self {
        Self {
            name: printable(name),
            steers,
            machines: Vec::new(),
            pace: Pace::default(),
            is_paused: false,
            gate: None,
            running: Vec::new(),
            table: TableState::default().with_selected(0),
            said: String::new(),
        }
    }

    pub(super) fn learn(&mut self, machines: Vec<Machine>, pace: Pace, is_paused: bool, gate: Option<String>) {
        (self.machines, self.pace, self.is_paused, self.gate) = (machines, pace, is_paused, gate);
    }

    pub(super) fn say(&mut self, text: &str) {
        self.said = printable(text);
    }

    /// Whether nothing is left to come.
    pub(super) fn is_done(&self) -> bool {
        let counts = Counts::of(&self.machines);
        counts.running + counts.waiting == 0
    }

    pub(super) fn select(&mut self, by: isize) -> Option<String> {
        let last = self.machines.len().saturating_sub(1);
        let place = self.table.selected().unwrap_or(0).saturating_add_signed(by).min(last);
        self.table.select(Some(place));
        None
    }

    pub(super) fn selected(&self) -> Option<(String, Stand)> {
        let machine = self.machines.get(self.table.selected()?)?;
        Some((machine.name.clone(), machine.state))
    }

    pub(super) fn draw(&mut self, frame: &mut Frame<'_>) {
        let groups = self.groups();
        let running = self.now();
        let tall = |count: usize| u16::try_from(count).unwrap_or(u16::MAX);
        let of_groups = if groups.is_empty() { 0 } else { tall(groups.len()) + 1 };
        let of_running = if running.is_empty() { 3 } else { tall(running.len()) + 2 };
        let parts = Layout::vertical([
            Constraint::Length(3),
            Constraint::Length(of_groups),
            Constraint::Length(of_running),
            Constraint::Min(3),
            Constraint::Length(2),
        ]);
        let [top, teams, now, all, foot] = parts.areas(frame.area());
        self.draw_top(frame, top);
        frame.render_widget(Paragraph::new(groups), teams);
        draw_now(frame, now, &running, self.gate.as_deref());
        self.draw_all(frame, all);
        self.draw_foot(frame, foot);
    }

    fn draw_top(&self, frame: &mut Frame<'_>, area: Rect) {
        let [head, gauge, _] = Layout::vertical([Constraint::Length(1); 3]).areas(area);
        let counts = Counts::of(&self.machines);
        let mut line = vec![Span::styled(self.name.clone(), STRONG), Span::raw(format!("  {}", words::line(&counts)))];
        if self.is_paused {
            line.push(Span::styled("  paused", Style::new().fg(Color::Yellow).add_modifier(Modifier::BOLD)));
        }
        frame.render_widget(Line::from(line), head);
        let over = counts.machines - counts.running - counts.waiting;
        let ratio = part(over as u64, counts.machines as u64);
        let at_once = self.steers.map_or(counts.running, |steers| steers.at_once).max(1);
        let left = night(&self.machines, &self.pace, at_once);
        let left = left.map_or(String::new(), |seconds| format!(", {} left", words::about(seconds)));
        let until = self.steers.and_then(|steers| steers.until);
        let until = until.map_or(String::new(), |until| {
            format!(", begins nothing that is not done by {}", until.to_zoned(TimeZone::system()).strftime("%H:%M"))
        });
        let clock = Timestamp::now().to_zoned(TimeZone::system()).strftime("%H:%M:%S").to_string();
        let full = format!("{over} of {}{left}{until}, {clock}", counts.machines);
        // On a narrow terminal the clock and what is left count.
        let label = match full.chars().count() <= usize::from(area.width) {
            true => full,
            false => short(&format!("{over} of {}{left}, {clock}", counts.machines), usize::from(area.width)),
        };
        let gauge_of =
            Gauge::default().ratio(ratio).label(label).gauge_style(Style::new().fg(Color::Green).bg(Color::Reset));
        frame.render_widget(gauge_of, gauge);
    }

    /// A line for each group, where there are several.
    fn groups(&self) -> Vec<Line<'static>> {
        let mut groups: Vec<(&str, Vec<&Machine>)> = Vec::new();
        for machine in self.machines.iter().filter(|machine| machine.state != Stand::Gone) {
            match groups.iter_mut().find(|(name, _)| *name == machine.group) {
                Some((_, machines)) => machines.push(machine),
                None => groups.push((&machine.group, vec![machine])),
            }
        }
        if groups.len() < 2 {
            return Vec::new();
        }
        let longest = groups.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
        let line = |(name, machines): &(&str, Vec<&Machine>)| {
            let landed = machines.iter().filter(|machine| machine.state == Stand::Landed).count();
            let ratio = part(landed as u64, machines.len() as u64);
            Line::from(vec![
                Span::raw(format!("{name:longest$}  ")),
                Span::styled(bar(ratio, 20), Style::new().fg(Color::Green)),
                Span::raw(format!("  {landed} of {}", machines.len())),
            ])
        };
        groups.iter().take(GROUPS).map(line).collect()
    }

    /// What runs: what this worker has, as it is now; of what others have, what they said last.
    fn now(&self) -> Vec<(String, String, u64, u64, Option<u64>)> {
        let running = self.machines.iter().filter(|machine| machine.state == Stand::Running);
        let mut lines: Vec<_> = self
            .running
            .iter()
            .map(|own| (own.name.clone(), own.stage.clone(), own.done, own.total, Some(own.rate)))
            .collect();
        for machine in running {
            if !lines.iter().any(|(name, ..)| *name == machine.name) {
                let (done, total) = (machine.done.unwrap_or(0), machine.total.unwrap_or(0));
                lines.push((machine.name.clone(), machine.stage.clone().unwrap_or_default(), done, total, None));
            }
        }
        lines.truncate(RUNNING);
        lines
    }

    fn draw_all(&mut self, frame: &mut Frame<'_>, area: Rect) {
        let took = |machine: &Machine| {
            let took = machine.began.zip(machine.ended).map(|(began, ended)| ended.duration_since(began).as_secs_f64());
            took.map_or(String::new(), duration)
        };
        let data = |machine: &Machine| {
            let data = machine.total.filter(|total| *total > 0).or(machine.size);
            data.map_or(String::new(), |data| ByteSize(data).to_string())
        };
        let cells: Vec<[String; 6]> = self
            .machines
            .iter()
            .map(|machine| {
                let (group, state) = (printable(&machine.group), machine.state.word().to_string());
                let what = printable(&words::what(machine));
                [printable(&machine.name), group, state, data(machine), took(machine), what]
            })
            .collect();
        let heads = ["machine", "group", "state", "data", "took", ""];
        // As wide as what stands in them; what is left is for what there is to say, and the names give way for that.
        let widest = |column: usize, least: usize| {
            let cells = cells.iter().filter_map(|cells| cells.get(column));
            cells.map(|cell| cell.chars().count()).max().unwrap_or(0).max(least)
        };
        let has_groups = widest(1, 0) > 0;
        let mut widths = [widest(0, 7), if has_groups { widest(1, 5) } else { 0 }, 8, widest(3, 4), widest(4, 4), 0];
        let all = usize::from(area.width);
        let rest = |widths: &[usize; 6]| all.saturating_sub(widths.iter().sum::<usize>() + 2 * 5);
        for (column, least) in [(0, 12), (1, 6)] {
            let missing = SAYS.saturating_sub(rest(&widths));
            if let Some(width) = widths.get_mut(column).filter(|width| **width > least) {
                *width -= missing.min(*width - least);
            }
        }
        widths[5] = rest(&widths);
        let shown: Vec<usize> = (0..6).filter(|column| *column != 1 || has_groups).collect();
        let line = |column: usize, text: &str| {
            let line = Line::raw(short(text, widths.get(column).copied().unwrap_or(0)));
            if matches!(column, 3 | 4) { line.right_aligned() } else { line }
        };
        let rows = cells.iter().zip(&self.machines).map(|(cells, machine)| {
            Row::new(shown.iter().map(|column| {
                let line = line(*column, cells.get(*column).map_or("", String::as_str));
                if *column == 2 { line.style(style(machine.state)) } else { line }
            }))
        });
        let head = shown.iter().map(|column| line(*column, heads.get(*column).copied().unwrap_or_default()));
        let head = Row::new(head).style(FAINT);
        let tall = |width: &usize| Constraint::Length(u16::try_from(*width).unwrap_or(u16::MAX));
        let widths = shown.iter().filter_map(|column| widths.get(*column)).map(tall);
        let table = Table::new(rows, widths).header(head).column_spacing(2);
        let table = table.row_highlight_style(Style::new().add_modifier(Modifier::REVERSED));
        frame.render_stateful_widget(table, area, &mut self.table);
    }

    fn draw_foot(&self, frame: &mut Frame<'_>, area: Rect) {
        let [said, keys] = Layout::vertical([Constraint::Length(1); 2]).areas(area);
        // Where nothing was said, what there is to say of the machine that is chosen, as far as it fits.
        let chosen = self.table.selected().and_then(|place| self.machines.get(place));
        let of_chosen = || chosen.map(words::what).filter(|what| !what.is_empty()).map(|what| printable(&what));
        let text = Some(self.said.clone()).filter(|said| !said.is_empty()).or_else(of_chosen).unwrap_or_default();
        let text = short(&text, usize::from(area.width));
        frame.render_widget(Line::styled(text, Style::new().fg(Color::Yellow)), said);
        let words = match self.steers {
            Some(_) => "p pause   ↑↓ choose   h hold back   s finish what runs   q stop at once",
            None => "p pause   ↑↓ choose   h hold back   q leave",
        };
        frame.render_widget(Line::styled(words, FAINT), keys);
    }
}

/// `text` in `width` columns: what is cut off at its end is told by a mark.
fn short(text: &str, width: usize) -> String {
    if text.chars().count() <= width {
        return text.into();
    }
    // At a space, where that does not cost much.
    let cut: String = text.chars().take(width.saturating_sub(1)).collect();
    let at_space = cut.rfind(' ').filter(|at| *at * 4 >= cut.len() * 3);
    let cut = at_space.and_then(|at| cut.get(..at)).unwrap_or(&cut);
    if width == 0 { String::new() } else { format!("{}…", cut.trim_end_matches([' ', ',', ':', ';'])) }
}

/// Bytes a second, and what is left by that.
fn rate_and_left(done: u64, total: u64, rate: Option<u64>) -> [String; 2] {
    let Some(rate) = rate.filter(|rate| *rate > 0) else { return Default::default() };
    #[expect(clippy::cast_precision_loss, reason = "a time that is told")]
    let left = (total > 0).then(|| total.saturating_sub(done) as f64 / rate as f64);
    [format!("{}/s", ByteSize(rate)), left.map_or(String::new(), |left| format!("{} left", duration(left)))]
}

fn draw_now(
    frame: &mut Frame<'_>,
    area: Rect,
    running: &[(String, String, u64, u64, Option<u64>)],
    gate: Option<&str>,
) {
    if running.is_empty() {
        let (text, style) = gate.map_or(("Nothing runs.", FAINT), |gate| (gate, Style::new().fg(Color::Yellow)));
        frame.render_widget(Paragraph::new(text).style(style).wrap(Wrap { trim: true }), area);
        return;
    }
    let is_wide = area.width >= WIDE;
    let longest = running.iter().map(|(name, ..)| name.chars().count()).max().unwrap_or(0).clamp(4, 24);
    let names = if is_wide { 24 } else { longest };
    let bars = if is_wide { 24 } else { 10 };
    let told: Vec<[String; 2]> =
        running.iter().map(|(.., done, total, rate)| rate_and_left(*done, *total, *rate)).collect();
    let widest =
        |column: usize| told.iter().filter_map(|two| Some(two.get(column)?.chars().count())).max().unwrap_or(0);
    let (rates, lefts) = (widest(0), widest(1));
    let stages = usize::from(area.width).saturating_sub(names + bars + 6 + rates + lefts + 2 * 5);
    let rows = running.iter().zip(&told).map(|((name, stage, done, total, _), [rate, left])| {
        let ratio = part(*done, *total);
        Row::new([
            Line::styled(short(name, names), STRONG),
            Line::raw(short(&printable(stage), stages)),
            Line::styled(if *total > 0 { bar(ratio, bars) } else { String::new() }, Style::new().fg(Color::Cyan)),
            Line::raw(if *total > 0 { format!("{:.0} %", ratio * 100.0) } else { String::new() }).right_aligned(),
            Line::raw(rate.clone()).right_aligned(),
            Line::raw(left.clone()),
        ])
    });
    let of = |width: usize| Constraint::Length(u16::try_from(width).unwrap_or(u16::MAX));
    let widths = [of(names), of(stages), of(bars), of(6), of(rates), of(lefts)];
    let head = Row::new(["runs", "", "", "", "", ""]).style(FAINT);
    frame.render_widget(Table::new(rows, widths).header(head).column_spacing(2), area);
}

#[cfg(test)]
mod tests {
    use ratatui::{Terminal, backend::TestBackend};

    use super::*;

    fn machine(name: &str, group: &str, state: Stand) -> Machine {
        Machine {
            name: name.into(),
            job: None,
            group: group.into(),
            team: 0,
            state,
            tries: 1,
            worker: None,
            stage: Some("carrying \u{1b}[2Jx.qcow2".into()),
            done: Some(25),
            total: Some(100),
            size: None,
            began: None,
            ended: None,
            not_before: None,
            code: None,
            reason: Some("the tide\nis out".into()),
            remedy: None,
            landing: None,
            answer: None,
            before: None,
            after: None,
            host: None,
            first_pass: None,
            rehearsal: None,
            left_seconds: None,
        }
    }

    /// What stands on a terminal of `width` times `height`.
    fn drawn(picture: &mut Picture, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| picture.draw(frame)).unwrap();
        terminal.backend().to_string()
    }

    #[test]
    fn a_night_is_drawn_on_terminals_of_all_sizes() {
        let mut picture = Picture::new("night", Some(Steers { at_once: 2, until: None }));
        let machines = vec![
            machine("tidelog", "gauges", Stand::Landed),
            machine("ledger", "gauges", Stand::Running),
            machine("berths", "desks", Stand::Failed),
        ];
        picture.learn(machines, Pace::default(), true, None);
        let text = drawn(&mut picture, 140, 30);
        for word in
            ["3 machines: 1 landed, 1 running, 1 failed", "paused", "gauges", "1 of 2", "25 %", "failed", "p pause"]
        {
            assert!(text.contains(word), "{word}:\n{text}");
        }
        assert!(!text.contains('\u{1b}'), "a stranger's escape reaches the terminal:\n{text}");
        for (width, height) in [(1, 1), (20, 5), (80, 24), (300, 4)] {
            drawn(&mut picture, width, height);
        }
    }

    #[test]
    fn on_eighty_columns_every_word_is_whole_or_marked() {
        let mut picture = Picture::new("night", Some(Steers { at_once: 2, until: Some(Timestamp::UNIX_EPOCH) }));
        let mut failed = machine("tide-gauge-server-of-the-outer-harbour", "gauges-of-the-sound", Stand::Failed);
        failed.reason = Some("disk 1 partition 10 is encrypted, and stays closed: no key opens it".into());
        (failed.began, failed.ended) = (Some(Timestamp::UNIX_EPOCH), Timestamp::from_second(3700).ok());
        let mut runs = machine("ledger", "desks", Stand::Running);
        runs.stage = Some("carrying ledger-0.qcow2 (1 of 2)".into());
        picture.learn(vec![failed, runs], Pace::default(), false, None);
        let text = drawn(&mut picture, 80, 24);
        for word in [
            "tide-gauge",
            "failed",
            "1 h 01 min",
            "disk 1 partition 10 is…",
            "carrying ledger-0.qcow2 (1 of 2)",
            "25 %",
            "closed: no key opens it",
        ] {
            assert!(text.contains(word), "{word}:\n{text}");
        }
        assert!(text.contains("q stop at once"), "{text}");
    }

    proptest::proptest! {
        /// Whatever there is to say: it fits, says so where it is cut, and keeps what fits.
        #[test]
        fn what_is_cut_is_marked(text in "\\PC{0,60}", width in 0..80usize) {
            let shown = short(&text, width);
            proptest::prop_assert!(shown.chars().count() <= width);
            match text.chars().count() <= width {
                true => proptest::prop_assert_eq!(shown, text),
                false => proptest::prop_assert!(width == 0 || shown.ends_with('…')),
            }
        }
    }

    #[test]
    fn the_choice_stays_among_the_machines() {
        let mut picture = Picture::new("night", None);
        assert!(picture.selected().is_none());
        picture.learn(
            vec![machine("a", "", Stand::Waiting), machine("b", "", Stand::Held)],
            Pace::default(),
            false,
            None,
        );
        for (by, expected) in [(5, "b"), (-9, "a"), (1, "b")] {
            picture.select(by);
            assert_eq!(picture.selected().unwrap().0, expected);
        }
    }
}
