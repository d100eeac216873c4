//! `reformis`: arguments, printing, progress. Everything else is in the core.

mod args;
mod chain;
mod commands;
mod exit;
mod logging;
mod output;
mod progress;

use std::{
    process::ExitCode,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

use anyhow::{Context as _, Result};
use args::{Cli, Color, Command};
use clap::Parser;
use exit::Exit;
use output::{BAD, FAINT, paint};
use progress::Progress;
use reformis_disk::text::printable;

/// What every command is given.
pub(crate) struct Session {
    pub(crate) json: bool,
    pub(crate) progress: Progress,
    pub(crate) cancel: Arc<AtomicBool>,
}

impl Session {
    /// What the core's steps are given.
    pub(crate) fn context(&self) -> reformis_move::Context<'_> {
        reformis_move::Context { cancel: &self.cancel, observer: &self.progress }
    }
}

fn main() -> ExitCode {
    let cli = Cli::parse();
    match cli.global.color {
        Color::Auto => anstream::ColorChoice::Auto,
        Color::Always => anstream::ColorChoice::Always,
        Color::Never => anstream::ColorChoice::Never,
    }
    .write_global();
    match run(cli) {
        Ok(exit) => exit.into(),
        Err(error) => report(&error).into(),
    }
}

/// A disk in pieces of 2 GiB may have more files than a program is given at first.
fn raise_file_limit() {
    let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile);
    let wanted = rustix::process::Rlimit { current: limit.maximum, ..limit };
    // Where it is not allowed, opening a file says so.
    rustix::process::setrlimit(rustix::process::Resource::Nofile, wanted).ok();
}

fn run(cli: Cli) -> Result<Exit> {
    raise_file_limit();
    logging::start(cli.global.verbose, cli.global.log.as_deref())?;
    let session =
        Session { json: cli.global.json, progress: Progress::new(cli.global.quiet), cancel: stop_on_signals()? };
    match cli.command {
        Command::Survey(args) => commands::survey::run(&args, &session),
        Command::Dests(args) => commands::dests::run(&args, &session),
        Command::Draft(args) => commands::draft::run(&args, &session),
        Command::Carry(args) => commands::carry::run(&args, &session),
        Command::Recast(args) => commands::recast::run(&args, &session),
        Command::Refit(args) => commands::change::refit(&args, &session),
        Command::Peek(args) => commands::peek::run(&args, &session),
        Command::Patch(args) => commands::change::patch(&args, &session),
        Command::Prove(args) => commands::prove::run(&args, &session),
        Command::Demo(args) => commands::demo::run(&args, &session),
    }
}

/// A flag that an interrupt sets. The first asks the work to end and clear up; the second ends the program at once.
fn stop_on_signals() -> Result<Arc<AtomicBool>> {
    let cancel = Arc::new(AtomicBool::new(false));
    let flag = cancel.clone();
    let handler = move || {
        if flag.swap(true, Ordering::Relaxed) {
            std::process::exit(Exit::Interrupted.number().into());
        }
    };
    ctrlc::set_handler(handler).context("preparing for interrupts")?;
    Ok(cancel)
}

/// Tells what went wrong and what helps.
fn report(error: &anyhow::Error) -> Exit {
    let core = error.downcast_ref::<reformis_move::Error>();
    if core.is_some_and(reformis_move::Error::is_interrupted) {
        output::say(&format!("{}\n", paint(BAD, "interrupted: nothing half-made was left")));
        return Exit::Interrupted;
    }
    if let Some(reformis_move::Error::Refused { findings }) = core {
        let records: Vec<_> = findings.iter().map(reformis_move::Finding::record).collect();
        output::say(&output::findings(&records));
    }
    // An error of the core is a whole sentence; others need what is below them.
    let message = printable(&if core.is_some() { error.to_string() } else { format!("{error:#}") });
    output::say(&format!("{} {message}\n", paint(BAD, "error:")));
    if let Some(remedy) = core.and_then(reformis_move::Error::remedy) {
        output::say(&format!("{} {remedy}\n", paint(FAINT, "help:")));
    }
    if matches!(core, Some(reformis_move::Error::Refused { .. })) { Exit::Refused } else { Exit::Failed }
}
