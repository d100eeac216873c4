//! Where the core's events go: nowhere, stderr, or a file.

use std::{fs::File, path::Path, sync::Mutex};

use anyhow::{Context, Result};
use rustix::fs::{Mode, OFlags};
use tracing::Level;
use tracing_subscriber::fmt;

/// Starts logging: everything to `file` when there is one, else what is done to stderr when `verbose`.
pub(crate) fn start(verbose: bool, file: Option<&Path>) -> Result<()> {
    if let Some(path) = file {
        // Someone else may have put a link there that leads to a file of ours.
        let flags = OFlags::NOFOLLOW | OFlags::APPEND | OFlags::CREATE | OFlags::WRONLY | OFlags::CLOEXEC;
        let file = rustix::fs::open(path, flags, Mode::from_raw_mode(0o600)).map(File::from);
        let file = file.with_context(|| format!("opening the log '{}'", path.display()))?;
        fmt().with_max_level(Level::DEBUG).with_ansi(false).with_writer(Mutex::new(file)).init();
    } else if verbose {
        fmt().with_max_level(Level::INFO).with_target(false).without_time().with_writer(std::io::stderr).init();
    }
    Ok(())
}
