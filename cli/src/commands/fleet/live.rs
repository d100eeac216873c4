//! A night, drawn on a terminal as it goes.

mod picture;

use std::{
    io::{self, IsTerminal as _, Stderr},
    sync::atomic::{AtomicBool, Ordering},
    time::{Duration, Instant},
};

use anyhow::Result;
use jiff::Timestamp;
use picture::Picture;
use ratatui::{
    Terminal,
    backend::CrosstermBackend,
    crossterm::{
        cursor::Show,
        event::{self, Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers},
        execute,
        terminal::{EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode},
    },
};
use reformis_move::fleet::{
    Gate, Stand, State,
    night::{Control, estimate::outlook},
};

use rustix::{
    event::{PollFd, PollFlags, Timespec, poll},
    io::Errno,
};

use super::{Opened, words};

/// How often the database is asked.
const ASK: Duration = Duration::from_millis(1000);
/// How long a key is waited for before the picture is drawn anew.
const DRAW: Duration = Duration::from_millis(200);

/// What the person can do.
#[derive(Clone, Copy)]
pub(super) struct Steers {
    /// Machines at once here.
    pub(super) at_once: usize,
    /// When nothing begins any more.
    pub(super) until: Option<Timestamp>,
}

/// Whether there is a terminal to draw on, and keys to be pressed.
pub(super) fn can_draw() -> bool {
    io::stderr().is_terminal() && io::stdin().is_terminal()
}

/// The terminal while it is ours: however this ends, it is given back as it was.
struct Screen(Terminal<CrosstermBackend<Stderr>>);

impl Screen {
    fn new() -> io::Result<Self> {
        enable_raw_mode()?;
        IS_OURS.store(true, Ordering::Relaxed);
        execute!(io::stderr(), EnterAlternateScreen).inspect_err(|_| drop(disable_raw_mode()))?;
        Terminal::new(CrosstermBackend::new(io::stderr())).map(Self)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        self.0.show_cursor().ok();
        give_back();
    }
}

/// Whether the terminal is ours.
static IS_OURS: AtomicBool = AtomicBool::new(false);

/// Gives the terminal back as it was, where it is ours.
pub(crate) fn give_back() {
    if IS_OURS.swap(false, Ordering::Relaxed) {
        execute!(io::stderr(), LeaveAlternateScreen, Show).ok();
        disable_raw_mode().ok();
    }
}

/// Draws the fleet `name` until `is_over`.
pub(super) fn draw(
    name: &str,
    state: &State,
    control: &Control,
    steers: Steers,
    is_over: &dyn Fn() -> bool,
) -> Result<()> {
    show(name, state, control, Some(steers), is_over)
}

/// Draws a fleet that others work on, until Ctrl-C or its end.
pub(super) fn watch(opened: &Opened, control: &Control) -> Result<()> {
    show(&opened.name, &opened.state, control, None, &|| control.stop.load(Ordering::Relaxed))
}

fn show(
    name: &str,
    state: &State,
    control: &Control,
    steers: Option<Steers>,
    is_over: &dyn Fn() -> bool,
) -> Result<()> {
    let mut screen = Screen::new()?;
    let mut picture = Picture::new(name, steers);
    let mut asked: Option<Instant> = None;
    while !is_over() {
        if asked.is_none_or(|asked| asked.elapsed() >= ASK) {
            asked = Some(Instant::now());
            if let Err(error) = learn(&mut picture, state, name) {
                picture.say(&error.to_string());
            }
            if steers.is_none() && picture.is_done() {
                return Ok(());
            }
        }
        picture.running = control.board.running();
        screen.0.draw(|frame| picture.draw(frame))?;
        if !key_comes(DRAW)? {
            continue;
        }
        // What was typed quickly comes at once.
        while event::poll(Duration::ZERO)? {
            let Event::Key(key) = event::read()? else { continue };
            if key.kind != KeyEventKind::Press {
                continue;
            }
            if steers.is_none() && matches!(key.code, KeyCode::Char('q') | KeyCode::Esc) {
                return Ok(());
            }
            if let Some(said) = pressed(key, &mut picture, name, state, control, steers.is_some()) {
                picture.say(&said);
                asked = None;
            }
        }
    }
    Ok(())
}

/// Whether a key is pressed within `wait`. Of a terminal that has gone away the library would read for ever, so it is asked first.
fn key_comes(wait: Duration) -> io::Result<bool> {
    let stdin = io::stdin();
    let mut waited = [PollFd::new(&stdin, PollFlags::IN)];
    let wait = Timespec { tv_sec: 0, tv_nsec: i64::from(wait.subsec_nanos()) };
    match poll(&mut waited, Some(&wait)) {
        Ok(_) | Err(Errno::INTR) => {}
        Err(error) => return Err(error.into()),
    }
    let [waited] = waited;
    if waited.revents().intersects(PollFlags::HUP | PollFlags::ERR | PollFlags::NVAL) {
        return Err(io::Error::other("the terminal is gone"));
    }
    Ok(waited.revents().contains(PollFlags::IN))
}

/// Asks where the fleet stands.
fn learn(picture: &mut Picture, state: &State, name: &str) -> Result<()> {
    let (machines, pace) = outlook(state, name)?;
    let shut = state.shut_gate(name)?;
    let gate = shut.map(|shut| words::gate(&shut.group, shut.gate == Gate::Confirmed, &shut.silent));
    picture.learn(machines, pace, state.rules(name)?.1, gate);
    Ok(())
}

/// Does what a key stands for; what there is to say about it.
fn pressed(
    key: KeyEvent,
    picture: &mut Picture,
    name: &str,
    state: &State,
    control: &Control,
    steers: bool,
) -> Option<String> {
    let failed = |error: reformis_move::Error| error.to_string();
    match key.code {
        KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => {
            control.stop.store(true, Ordering::Relaxed);
            Some("Stopping: what was begun goes on next time.".into())
        }
        KeyCode::Down | KeyCode::Char('j') => picture.select(1),
        KeyCode::Up | KeyCode::Char('k') => picture.select(-1),
        KeyCode::PageDown => picture.select(20),
        KeyCode::PageUp => picture.select(-20),
        KeyCode::Char('p') => {
            let pauses = !picture.is_paused;
            let done = state.pause(name, pauses);
            picture.is_paused = pauses;
            let said = if pauses { "Paused: nothing begins, on any worker." } else { "Going on." };
            Some(done.map_or_else(failed, |()| said.into()))
        }
        KeyCode::Char('h') => {
            let (machine, stand) = picture.selected()?;
            if stand != Stand::Waiting {
                return Some(format!("'{machine}' does not wait any more."));
            }
            Some(state.hold_back(name, &machine).map_or_else(failed, |held| match held {
                true => format!("'{machine}' is held back in this night."),
                false => format!("'{machine}' does not wait any more."),
            }))
        }
        KeyCode::Char('s') if steers => {
            let last = !control.last.load(Ordering::Relaxed);
            control.last.store(last, Ordering::Relaxed);
            Some(if last { "What was begun is finished, and nothing else begins here." } else { "Going on." }.into())
        }
        KeyCode::Char('q') if steers => {
            control.stop.store(true, Ordering::Relaxed);
            Some("Stopping: what was begun goes on next time.".into())
        }
        _ => None,
    }
}
