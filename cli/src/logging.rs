//! Where the core's events go: nowhere, stderr, or a file.

use std::{path::Path, sync::Mutex};

use anyhow::Result;
use reformis_disk::ground;
use tracing::Level;
use tracing_subscriber::fmt;

/// Starts logging: everything to `file` when there is one, else what is done to stderr when `verbose`.
pub(crate) fn start(verbose: bool, file: Option<&Path>) -> Result<()> {
    if let Some(path) = file {
        // Whoever could put a link or a pipe there would have us write elsewhere, or wait.
        let file = ground::append(path).map_err(reformis_move::Error::from)?;
        fmt().with_max_level(Level::DEBUG).with_ansi(false).with_writer(Mutex::new(file)).init();
    } else if verbose {
        fmt().with_max_level(Level::INFO).with_target(false).without_time().with_writer(std::io::stderr).init();
    }
    Ok(())
}
