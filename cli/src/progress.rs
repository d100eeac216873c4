//! Progress on stderr: a bar on a terminal, a plain line now and then elsewhere, nothing when quiet.

use std::{
    io::IsTerminal,
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use reformis_disk::ByteSize;
use reformis_move::{Finding, Observer, Step};

use crate::output;

/// Time between two plain lines.
const EVERY: Duration = Duration::from_secs(10);

/// Shows progress in the way that suits where stderr goes.
pub(crate) enum Progress {
    Bar(Mutex<Option<ProgressBar>>),
    Lines(Mutex<Option<Lines>>),
    Silent,
}

/// What plain lines need to know.
pub(crate) struct Lines {
    label: String,
    total: u64,
    done: u64,
    started: Instant,
    next: Instant,
}

impl Progress {
    /// For a script that wants JSON, stderr is for the document that says what went wrong; a person who looks on sees a bar.
    pub(crate) fn new(quiet: bool, json: bool) -> Self {
        let terminal = std::io::stderr().is_terminal();
        match (quiet || json && !terminal, terminal) {
            (true, _) => Self::Silent,
            (false, true) => Self::Bar(Mutex::default()),
            (false, false) => Self::Lines(Mutex::default()),
        }
    }
}

impl Progress {
    /// Whether nothing is said.
    pub(crate) fn is_quiet(&self) -> bool {
        matches!(self, Self::Silent)
    }

    /// Says something on stderr, unless it is to be quiet.
    pub(crate) fn say(&self, text: &str) {
        match self {
            Self::Silent => {}
            Self::Lines(_) => output::say(text),
            Self::Bar(bar) => match &*bar.lock().unwrap_or_else(PoisonError::into_inner) {
                // Above the bar, which is drawn again below.
                Some(bar) => bar.suspend(|| output::say(text)),
                None => output::say(text),
            },
        }
    }

    /// Shows how something stands that has no end: a line that changes on a terminal, one now and then elsewhere.
    pub(crate) fn stands(&self, text: &str) {
        match self {
            Self::Silent => {}
            Self::Bar(bar) => {
                let mut bar = bar.lock().unwrap_or_else(PoisonError::into_inner);
                let shown = bar.get_or_insert_with(|| {
                    let new = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(8));
                    new.set_style(
                        ProgressStyle::with_template("{msg}").unwrap_or_else(|_| ProgressStyle::default_bar()),
                    );
                    new
                });
                shown.set_message(text.to_string());
            }
            Self::Lines(lines) => {
                let mut lines = lines.lock().unwrap_or_else(PoisonError::into_inner);
                let now = Instant::now();
                let lines = lines.get_or_insert_with(|| Lines {
                    label: String::new(),
                    total: 0,
                    done: 0,
                    started: now,
                    next: now,
                });
                // The same again says nothing.
                if now >= lines.next && lines.label != text {
                    lines.next = now + EVERY;
                    lines.label = text.into();
                    output::say(&format!("{text}\n"));
                }
            }
        }
    }
}

fn label(step: &Step) -> String {
    let name = reformis_disk::text::printable(&step.what);
    let count = if step.of > 1 { format!(" ({} of {})", step.number, step.of) } else { String::new() };
    format!("{} {name}{count}", step.action)
}

impl Lines {
    fn line(&self) -> String {
        let seconds = self.started.elapsed().as_secs_f64().max(0.001);
        let rate = self.done as f64 / seconds;
        let left = (self.total.saturating_sub(self.done)) as f64 / rate.max(1.0);
        if self.total == 0 {
            // From a pipe, whose end nobody knows.
            return format!("{}: {}, {}/s\n", self.label, ByteSize(self.done), ByteSize(rate as u64));
        }
        format!(
            "{}: {} of {}, {} %, {}/s, {} left\n",
            self.label,
            ByteSize(self.done),
            ByteSize(self.total),
            self.done * 100 / self.total.max(1),
            ByteSize(rate as u64),
            duration(left),
        )
    }
}

/// Seconds as a person says them.
pub(crate) fn duration(seconds: f64) -> String {
    let whole = seconds.round() as u64;
    match whole {
        0 if seconds < 0.1 => "less than 0.1 s".into(),
        0..60 if seconds < 9.95 => format!("{seconds:.1} s"),
        0..60 => format!("{whole} s"),
        60..3600 => format!("{} min {:02} s", whole / 60, whole % 60),
        _ => format!("{} h {:02} min", whole / 3600, whole % 3600 / 60),
    }
}

impl Observer for Progress {
    fn begin(&self, step: &Step, total: u64) {
        match self {
            Self::Bar(bar) => {
                let whole = "{msg}  {bar:24} {percent:>3} %  {binary_bytes} of {binary_total_bytes}  \
                             {binary_bytes_per_sec}  {eta} left";
                let open = "{msg}  {binary_bytes}  {binary_bytes_per_sec}";
                let template = if total == 0 { open } else { whole };
                let style = ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar());
                let new = ProgressBar::with_draw_target(Some(total), ProgressDrawTarget::stderr_with_hz(8));
                new.set_style(style.progress_chars("█▌░"));
                new.set_message(label(step));
                *bar.lock().unwrap_or_else(PoisonError::into_inner) = Some(new);
            }
            Self::Lines(lines) => {
                let started = Instant::now();
                let new = Lines { label: label(step), total, done: 0, started, next: started + EVERY };
                *lines.lock().unwrap_or_else(PoisonError::into_inner) = Some(new);
            }
            Self::Silent => {}
        }
    }

    fn advance(&self, bytes: u64) {
        match self {
            Self::Bar(bar) => {
                if let Some(bar) = &*bar.lock().unwrap_or_else(PoisonError::into_inner) {
                    bar.inc(bytes);
                }
            }
            Self::Lines(lines) => {
                if let Some(lines) = &mut *lines.lock().unwrap_or_else(PoisonError::into_inner) {
                    lines.done += bytes;
                    if Instant::now() >= lines.next {
                        lines.next += EVERY;
                        output::say(&lines.line());
                    }
                }
            }
            Self::Silent => {}
        }
    }

    fn tell(&self, finding: &Finding) {
        let sentence = reformis_disk::text::printable(&finding.sentence());
        self.say(&format!("{}\n", output::upper_first(&sentence)));
        if finding.code() == "part-kept" {
            crate::failure::set_kept();
            self.say(&format!("{}\n", crate::hints::with_option(finding.code(), finding.remedy())));
        }
    }

    fn end(&self) {
        if let Self::Bar(bar) = self
            && let Some(bar) = bar.lock().unwrap_or_else(PoisonError::into_inner).take()
        {
            bar.finish_and_clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::duration;

    #[test]
    fn durations_as_a_person_says_them() {
        for (seconds, text) in [
            (0.04, "less than 0.1 s"),
            (0.3, "0.3 s"),
            (9.94, "9.9 s"),
            (42.4, "42 s"),
            (61.0, "1 min 01 s"),
            (7384.0, "2 h 03 min"),
        ] {
            assert_eq!(duration(seconds), text);
        }
    }
}
