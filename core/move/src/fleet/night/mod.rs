//! The night: a worker takes machines one after the other, several at once, until none is left that may begin, the time is over, or
//! somebody stops it. Any number of workers may do so on the same state.

mod answers;
pub mod estimate;
mod event;
mod heart;
mod herald;
mod job;
mod options;
mod rates;
mod watch;

use std::{
    collections::BTreeSet,
    panic::{AssertUnwindSafe, catch_unwind},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::Ordering,
        mpsc::{self, RecvTimeoutError},
    },
    thread::{self, Scope},
    time::{Duration, Instant},
};

pub use event::Event;
use heart::Heart;
use herald::Herald;
use jiff::Timestamp;
pub(super) use job::free;
use job::{Job, Note, SharedWatch};
pub use options::{Control, Hands, Options, Outcome, Why};
use rates::Rates;
use watch::Watch;
pub use watch::{Board, Running};

use super::{
    error::FleetError,
    file::{Gate, Opening, Rules},
    state::{Claim, Claimed, Counts, Ended, Held, Lease, Pressed, Shut, State},
};
use crate::{
    error::{Error, Result},
    receipt::Receipt,
};

/// How often it is looked whether something ended.
const POLL: Duration = Duration::from_millis(250);
/// How seldom the database is asked for work, where there has been none for a while: many workers may do so.
const SELDOM: Duration = Duration::from_secs(4);
/// How long what ended may take to be written down once a person wants to go.
const GOING: Duration = Duration::from_secs(15);

/// Works through `fleet` until there is nothing left to do.
///
/// # Errors
/// [`FleetError::State`]: the database was away for too long. Whatever ran was stopped then, and goes on next time.
pub fn work(state: &State, fleet: &str, options: &Options, hands: &dyn Hands, control: &Control) -> Result<Outcome> {
    let (rules, _) = state.rules(fleet)?;
    let rates = Rates::of(&rules);
    let heart = Heart::new(fleet, options, &control.board, &rates, hands);
    let herald = Herald::new(state, fleet, options, &rules, hands, &control.stop);
    let night = Night {
        state,
        fleet,
        options,
        hands,
        control,
        rates: &rates,
        rules: &rules,
        herald: &herald,
        back: Mutex::default(),
        told: Mutex::default(),
        asked: Mutex::default(),
    };
    let why = thread::scope(|scope| {
        let beating = scope.spawn(|| heart.beat());
        let telling = scope.spawn(|| herald.tell());
        let why = night.dispatch(scope);
        heart.stop();
        herald.end(matches!(why, Ok(Why::Over | Why::NoTime)));
        beating.join().ok();
        telling.join().ok();
        why
    })?;
    Ok(Outcome { why, counts: Counts::of(&state.machines(fleet)?) })
}

struct Night<'a> {
    state: &'a State,
    fleet: &'a str,
    options: &'a Options,
    hands: &'a dyn Hands,
    control: &'a Control,
    rules: &'a Rules,
    rates: &'a Rates,
    herald: &'a Herald<'a>,
    /// When the database answered again, after it had been away.
    back: Mutex<Option<Instant>>,
    /// The machines and workers for which it was said that they are waited for.
    told: Mutex<BTreeSet<(String, String)>>,
    /// When machines before a gate were asked last.
    asked: Mutex<Option<Instant>>,
}

/// What is to be done next.
enum Next {
    Take(Box<Lease>),
    /// Look again later.
    Wait,
    /// Take nothing more.
    End(Why),
}

/// When the database is asked for work again: at once after something ended, and ever more seldom while there is none.
struct Asks {
    next: Instant,
    wait: Duration,
}

impl Asks {
    fn new() -> Self {
        Self { next: Instant::now(), wait: POLL }
    }

    /// Whether it is asked now.
    fn may(&mut self) -> bool {
        let now = Instant::now();
        if now < self.next {
            return false;
        }
        self.next = now + self.wait;
        self.wait = (self.wait * 3 / 2).min(SELDOM);
        true
    }
}

impl<'a> Night<'a> {
    fn is_stopped(&self) -> bool {
        self.control.stop.load(Ordering::Relaxed)
    }

    fn dispatch<'s>(&'s self, scope: &'s Scope<'s, 'a>) -> Result<Why>
    where
        'a: 's,
    {
        let (ends, ended) = mpsc::channel();
        let mut running = 0usize;
        let mut is_open = false;
        let mut over: Option<Result<Why>> = None;
        let mut asks = Asks::new();
        loop {
            if self.is_stopped() {
                self.control.board.all().iter().for_each(|watch| watch.cancel.store(true, Ordering::Relaxed));
                over.get_or_insert(Ok(Why::Stopped));
            }
            if over.is_some() && running == 0 {
                break;
            }
            let mut takes = over.is_none() && running < self.options.at_once;
            if takes && self.control.last.load(Ordering::Relaxed) {
                over = Some(Ok(Why::Stopped));
                takes = false;
            }
            if takes && asks.may() {
                match self.next(&mut is_open) {
                    Ok(Next::Take(lease)) => {
                        asks = Asks::new();
                        running += 1;
                        self.rates.share(self.state, self.fleet);
                        self.begin(scope, *lease, ends.clone());
                        continue;
                    }
                    Ok(Next::Wait) => {}
                    // What runs may still fail and be tried again.
                    Ok(Next::End(_)) if running > 0 => {}
                    Ok(Next::End(why)) => {
                        over = Some(Ok(why));
                        continue;
                    }
                    Err(error) => {
                        self.control.board.all().iter().for_each(|watch| watch.cancel.store(true, Ordering::Relaxed));
                        over = Some(Err(error));
                        continue;
                    }
                }
            }
            match ended.recv_timeout(POLL) {
                Ok(()) => {
                    running -= 1;
                    asks = Asks::new();
                }
                Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => {}
            }
        }
        over.unwrap_or(Ok(Why::Over))
    }

    /// When nothing may begin any more; none where there is time without end. And whether it may begin now.
    fn hours(&self, now: Timestamp) -> Result<(Option<Timestamp>, Option<Timestamp>)> {
        let wrong = |what: String| Error::from(FleetError::File { file: self.fleet.into(), what });
        let window = self.rules.window.as_ref().map(|window| window.at(now)).transpose().map_err(wrong)?;
        Ok(match window {
            None => (self.options.until, None),
            Some(Opening::From(opens)) => (self.options.until, Some(opens)),
            Some(Opening::Until(closes)) => (Some(self.options.until.map_or(closes, |until| until.min(closes))), None),
        })
    }

    fn next(&self, is_open: &mut bool) -> Result<Next> {
        let now = Timestamp::now();
        let (end, opens) = self.hours(now)?;
        // Before the window it is waited for; after it, the rest is for another night.
        if opens.is_some_and(|opens| *is_open || end.is_some_and(|end| opens >= end)) {
            return Ok(Next::End(Why::NoTime));
        }
        match opens {
            Some(opens) => self.tell_once("window", || Event::Waits { until: opens }),
            None => *is_open = true,
        }
        if end.is_some_and(|end| end <= now) {
            return Ok(Next::End(Why::NoTime));
        }
        let pace = match end {
            Some(_) => self.patiently(|| self.state.pace(self.fleet))?,
            None => super::state::Pace::default(),
        };
        let fits = estimate::fits(&pace, now, end);
        let claim = Claim {
            fleet: self.fleet,
            worker: &self.options.worker,
            lease: self.options.lease,
            most: fits.most,
            takes_unknown: fits.takes_unknown,
            programs: self.options.keeper.is_some(),
            only: self.options.only.as_ref(),
            moves: opens.is_none(),
            takes_over: self.takes_over(),
        };
        let claimed = self.patiently(|| self.state.claim(&claim))?;
        Ok(match claimed {
            Claimed::Machine(lease) => Next::Take(lease),
            // What there is to say of the others is said when moves may begin.
            _ if opens.is_some() => Next::Wait,
            Claimed::Later(held) => {
                self.tell_of(&held);
                Next::Wait
            }
            Claimed::Gate(shut) => {
                self.wait_at(&shut)?;
                Next::Wait
            }
            Claimed::Quiet { until, .. } if end.is_some_and(|end| until >= end) => Next::End(Why::NoTime),
            Claimed::Quiet { host, until } => {
                self.tell_once(&format!("quiet {host} {until}"), || Event::Quiet { host: host.clone(), until });
                Next::Wait
            }
            Claimed::Paused => Next::Wait,
            Claimed::NoTime => Next::End(Why::NoTime),
            Claimed::Over => Next::End(Why::Over),
        })
    }

    /// Tells of something once in a night.
    fn tell_once(&self, key: &str, event: impl FnOnce() -> Event) {
        let is_new = self.told.lock().unwrap_or_else(PoisonError::into_inner).insert((key.into(), String::new()));
        if is_new {
            self.hands.tell(&event());
        }
    }

    /// At a gate that is shut: tells of it, and asks those before it whether they answer.
    fn wait_at(&self, shut: &Shut) -> Result<()> {
        let answers = shut.gate == Gate::Confirmed;
        self.tell_once(&format!("gate {}", shut.group), || Event::Gate {
            group: shut.group.clone(),
            answers,
            silent: shut.silent.clone(),
        });
        let is_due = |asked: &Option<Instant>| asked.is_none_or(|asked| asked.elapsed() >= answers::EVERY);
        if answers && is_due(&self.asked.lock().unwrap_or_else(PoisonError::into_inner)) {
            answers::ask(self.state, self.fleet, &shut.silent, self.options, self.hands, &self.control.stop)?;
            *self.asked.lock().unwrap_or_else(PoisonError::into_inner) = Some(Instant::now());
        }
        Ok(())
    }

    /// Whether machines are taken over whose leases have run out: where the database was away, nobody could renew one.
    fn takes_over(&self) -> bool {
        let back = *self.back.lock().unwrap_or_else(PoisonError::into_inner);
        back.is_none_or(|back| back.elapsed() >= self.options.lease)
    }

    /// Says once for whom it is waited, where there is nothing else to do.
    fn tell_of(&self, held: &[Held]) {
        if !self.control.board.all().is_empty() {
            return;
        }
        let mut told = self.told.lock().unwrap_or_else(PoisonError::into_inner);
        for Held { name, worker, left } in held {
            if told.insert((name.clone(), worker.clone())) {
                let (name, worker) = (name.clone(), worker.clone());
                self.hands.tell(&Event::Others { name, worker, seconds: left.as_secs_f64() });
            }
        }
    }

    /// Asks the database until it answers, or for as long as it may be away.
    fn patiently<T>(&self, mut ask: impl FnMut() -> Result<T>) -> Result<T> {
        let mut away: Option<Instant> = None;
        loop {
            let error = match ask() {
                Ok(given) => {
                    if away.is_some() {
                        *self.back.lock().unwrap_or_else(PoisonError::into_inner) = Some(Instant::now());
                        self.hands.tell(&Event::Back);
                    }
                    return Ok(given);
                }
                Err(error) => error,
            };
            let is_away = matches!(&error, Error::Fleet(FleetError::State { again: true, .. }));
            let since = *away.get_or_insert_with(|| {
                if is_away {
                    self.hands.tell(&Event::Away { what: error.to_string() });
                }
                Instant::now()
            });
            let patience = if self.is_stopped() { GOING.min(self.options.patience) } else { self.options.patience };
            if !is_away || since.elapsed() >= patience {
                return Err(error);
            }
            thread::sleep(POLL);
        }
    }

    fn begin<'s>(&'s self, scope: &'s Scope<'s, 'a>, lease: Lease, ends: mpsc::Sender<()>)
    where
        'a: 's,
    {
        let watch = Arc::new(Watch::new(&lease));
        self.control.board.add(&watch);
        self.hands.tell(&Event::Began { name: lease.name.clone(), tries: lease.tries });
        scope.spawn(move || {
            let begun = Instant::now();
            let mut ended = None;
            self.hands.logged(&lease.name, &mut || ended = Some(self.attempt(&lease, &watch)));
            let ended = ended.unwrap_or(Ended::Stopped);
            // Until it is written down, the machine stays ours.
            let pressed = self.patiently(|| self.state.end(&lease, &ended));
            self.control.board.remove(&watch);
            self.herald.wake();
            self.tell(&lease, &ended, pressed, begun.elapsed());
            ends.send(()).ok();
        });
    }

    fn attempt(&self, lease: &Lease, watch: &SharedWatch) -> Ended {
        let host = lease.spec.host();
        let pace = host.and_then(|host| self.rates.pace(&host));
        let may_land = || self.may_land(lease, watch);
        let note = |note: Note<'_>| {
            self.patiently(|| match note {
                Note::Hook(hook, state) => self.state.note_hook(lease, hook, state),
                Note::Landed(folder, files) => self.state.note_landing(lease, folder, files),
            })
        };
        // As it was taken, and nothing that the file says since.
        let signed = self.options.signed.get(&lease.name).filter(|signed| signed.without_secrets() == lease.spec);
        let spec = signed.unwrap_or(&lease.spec);
        let tried = catch_unwind(AssertUnwindSafe(|| {
            let wires = self.hands.wires(&lease.name, &watch.cancel, pace);
            let running = self.hands.wires(&lease.name, &watch.cancel, pace);
            running.read_running();
            let job = Job {
                lease,
                rules: self.rules,
                watch,
                site: &self.options.site,
                wires: &wires,
                running: &running,
                keeper: self.options.keeper.as_deref(),
                keys: &self.options.keys,
                spec,
                back_off: self.options.back_off,
                may_land: &may_land,
                note: &note,
            };
            job.run()
        }));
        tried.unwrap_or_else(|_| job::defect(lease))
    }

    /// Whether the machine of `lease` is still ours; asked of the database, however long it is away.
    fn may_land(&self, lease: &Lease, watch: &Watch) -> Result<()> {
        let lost = || Error::from(FleetError::LeaseLost { name: lease.name.clone() });
        if watch.lost.load(Ordering::Relaxed) {
            return Err(lost());
        }
        match self.patiently(|| self.state.may_land(lease, self.options.lease))? {
            true => Ok(()),
            false => {
                watch.lose();
                Err(lost())
            }
        }
    }

    fn tell(&self, lease: &Lease, ended: &Ended, pressed: Result<Pressed>, took: Duration) {
        let name = lease.name.clone();
        let event = match (pressed, ended) {
            (Ok(Pressed::Lost), _) => Event::Lost { name },
            (Err(error), _) => Event::Failed {
                name,
                code: error.code().into(),
                reason: error.to_string(),
                remedy: error.remedy().map(str::to_string),
                again: true,
            },
            (Ok(_), Ended::Landed { receipt, bytes, after, .. }) => Event::Landed {
                name,
                seconds: took.as_secs_f64(),
                bytes: *bytes,
                boots: Receipt::parse(receipt.as_bytes()).ok().and_then(|receipt| receipt.verdict).map(|v| v.boots),
                after: after.clone(),
            },
            (Ok(_), Ended::Near { bytes }) => Event::Near { name, seconds: took.as_secs_f64(), bytes: *bytes },
            (Ok(_), Ended::Stopped) => Event::Stopped { name },
            (Ok(_), Ended::Busy { reason, again }) => {
                Event::Busy { name, reason: reason.clone(), seconds: again.as_secs_f64() }
            }
            (Ok(pressed), Ended::Failed { code, reason, remedy, .. }) => Event::Failed {
                name,
                code: code.clone(),
                reason: reason.clone(),
                remedy: remedy.clone(),
                again: pressed == Pressed::Again,
            },
        };
        self.hands.tell(&event);
    }
}
