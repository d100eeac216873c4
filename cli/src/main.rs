//! `reformis`: arguments, printing, progress. Everything else is in the core.

mod args;
mod chain;
mod commands;
mod exit;
mod failure;
mod hints;
mod logging;
mod output;
mod page;
mod progress;
mod site;
mod unlock;

use std::{
    process::ExitCode,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use anyhow::{Context as _, Result};
use args::{Cli, Color, Command};
use clap::Parser;
use exit::Exit;
use progress::Progress;
use reformis_disk::budget::Budget;
use reformis_machine::Site;
use reformis_wire::Wires;

/// What every command is given.
pub(crate) struct Session {
    pub(crate) json: bool,
    pub(crate) progress: Arc<Progress>,
    pub(crate) cancel: Arc<AtomicBool>,
    /// Memory for all that is collected from what strangers made.
    pub(crate) budget: Arc<Budget>,
    /// What the site adds.
    pub(crate) site: Site,
    /// The network.
    pub(crate) wires: Wires,
    /// The site's file, from which others' networks are made.
    pub(crate) text: site::Text,
    /// Bytes a second from the network.
    pub(crate) limit: Option<u64>,
    /// What opens encrypted volumes.
    pub(crate) keys: reformis_guest::Keys,
}

impl Drop for Session {
    fn drop(&mut self) {
        tracing::debug!(steps = self.budget.spent(), "work that was counted");
    }
}

impl Session {
    /// What the core's steps are given.
    pub(crate) fn context(&self) -> reformis_move::Context<'_> {
        reformis_move::Context {
            cancel: &self.cancel,
            observer: &*self.progress,
            budget: &self.budget,
            wires: &self.wires,
            keys: &self.keys,
        }
    }
}

/// Keeps a program of the site's for the worker that started this process with these words.
fn keep(mut words: std::env::ArgsOs) -> ExitCode {
    // What the worker sends to the group is for the program: this process ends behind it.
    ctrlc::set_handler(|| ()).ok();
    let parent = words.next().and_then(|word| word.to_str()?.parse().ok()).unwrap_or(0);
    let code = reformis_move::fleet::keep(parent, &words.collect::<Vec<_>>()).unwrap_or_else(|(code, what)| {
        anstream::eprintln!("{what}");
        code
    });
    ExitCode::from(u8::try_from(code).unwrap_or(1))
}

fn main() -> ExitCode {
    let mut words = std::env::args_os();
    if words.nth(1).is_some_and(|word| word == commands::fleet::KEEP) {
        return keep(words);
    }
    // Asked before the command line is understood, since what is wrong with it is told in the same way.
    failure::set_json(std::env::args_os().take_while(|word| word != "--").any(|word| word == "--json"));
    failure::catch_panics();
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => return failure::of_usage(&error).into(),
    };
    match cli.global.color {
        Color::Auto => anstream::ColorChoice::Auto,
        Color::Always => anstream::ColorChoice::Always,
        Color::Never => anstream::ColorChoice::Never,
    }
    .write_global();
    match std::panic::catch_unwind(|| run(cli)) {
        Ok(Ok(exit)) => exit.into(),
        Ok(Err(error)) => failure::report(&error).into(),
        Err(_) => failure::of_defect().into(),
    }
}

/// A disk in pieces of 2 GiB may have more files than a program is given at first.
fn raise_file_limit() {
    let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile);
    let wanted = rustix::process::Rlimit { current: limit.maximum, ..limit };
    // Where it is not allowed, opening a file says so.
    rustix::process::setrlimit(rustix::process::Resource::Nofile, wanted).ok();
}

/// Keys and passwords in memory are in no core dump. One byte is what the kernel takes for "none" also where dumps go to a program (core(5),
/// fs/coredump.c): with a limit of nothing such a program gets them all the same. Not by `PR_SET_DUMPABLE`, which would keep us from our own
/// open files in `/proc/self`.
fn forbid_core_dumps() {
    let limit = rustix::process::getrlimit(rustix::process::Resource::Core);
    let none = rustix::process::Rlimit { current: Some(limit.maximum.map_or(1, |most| most.min(1))), ..limit };
    rustix::process::setrlimit(rustix::process::Resource::Core, none).ok();
}

fn run(cli: Cli) -> Result<Exit> {
    raise_file_limit();
    forbid_core_dumps();
    logging::start(cli.global.verbose, cli.global.log.as_deref())?;
    Budget::allow_work(cli.global.work);
    let progress = Arc::new(Progress::new(cli.global.quiet, cli.global.json));
    let cancel = stop_on_signals()?;
    // The demo is the same everywhere, and a shell's completions need no site.
    let needs_site = !matches!(cli.command, Command::Demo(_) | Command::Completions(_) | Command::Standin(_));
    let text = if needs_site { site::read(cli.global.site.as_deref())? } else { site::Text::default() };
    let session = Session {
        json: cli.global.json,
        site: text.site()?,
        wires: site::wires(&text, cli.global.limit, &progress, &cancel)?,
        progress,
        cancel,
        budget: Budget::whole(),
        limit: cli.global.limit,
        keys: unlock::keys(&cli.global.unlock)?,
        text,
    };
    if cli.global.while_running {
        session.wires.read_running();
    }
    match cli.command {
        Command::Survey(args) => commands::survey::run(&args, &session),
        Command::Dests(args) => commands::dests::run(&args, &session),
        Command::Hosts(args) => commands::hosts::run(&args, &session),
        Command::Standin(args) => commands::standin::run(&args, &session),
        Command::Draft(args) => commands::draft::run(&args, &session),
        Command::Carry(args) => commands::carry::run(&args, &session),
        Command::Lend(args) => commands::lend::run(&args, &session),
        Command::Recast(args) => commands::recast::run(&args, &session),
        Command::Refit(args) => commands::change::refit(&args, &session),
        Command::Peek(args) => commands::peek::run(&args, &session),
        Command::Patch(args) => commands::change::patch(&args, &session),
        Command::Prove(args) => commands::prove::run(&args, &session),
        Command::Fleet(args) => commands::fleet::run(&args, &session),
        Command::Report(args) => commands::report::run(&args, &session),
        Command::Demo(args) => commands::demo::run(&args, &session),
        Command::Completions(args) => commands::completions::run(&args),
    }
}

/// How long it may take to end once a person said so.
const LAST: Duration = Duration::from_millis(1700);

/// Ends here and now, with the terminal as it was.
fn leave() -> ! {
    commands::fleet::give_back_terminal();
    std::process::exit(Exit::Interrupted.number().into())
}

/// A flag that an interrupt sets. The first asks the work to end and clear up, and ends the program a little later in any case; the second ends it at
/// once. Neither does where a guest would be left frozen.
fn stop_on_signals() -> Result<Arc<AtomicBool>> {
    let cancel = Arc::new(AtomicBool::new(false));
    let flag = cancel.clone();
    let handler = move || {
        let is_second = flag.swap(true, Ordering::Relaxed);
        if is_second && !reformis_wire::is_unfinished() {
            leave();
        }
        if !is_second {
            // Whatever it does just then: what is half-made is found by the next run, as behind a kill.
            std::thread::spawn(|| {
                std::thread::sleep(LAST);
                while reformis_wire::is_unfinished() {
                    std::thread::sleep(Duration::from_millis(20));
                }
                leave();
            });
        }
    };
    ctrlc::set_handler(handler).context("preparing for interrupts")?;
    Ok(cancel)
}
