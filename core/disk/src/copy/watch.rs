//! How the caller looks on while bytes are carried.

use crate::error::{Error, Result};

/// How the caller looks on, and stops it.
#[derive(Clone, Copy)]
pub struct Watch<'a> {
    /// Asked often, from any thread; true stops the work with [`Error::Interrupted`].
    pub cancel: &'a (dyn Fn() -> bool + Sync),
    /// Called from any thread with the number of bytes that were dealt with since its last call; the sum reaches
    /// [`super::pipeline::work`].
    pub progress: &'a (dyn Fn(u64) + Sync),
    /// Number of workers; `None` for one a core.
    pub workers: Option<usize>,
}

impl Watch<'_> {
    pub(crate) fn check(&self) -> Result<()> {
        if (self.cancel)() { Err(Error::Interrupted) } else { Ok(()) }
    }

    pub(super) fn worker_count(&self) -> usize {
        let cores = || std::thread::available_parallelism().map_or(2, usize::from);
        self.workers.unwrap_or_else(cores).clamp(1, 16)
    }
}
