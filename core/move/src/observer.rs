//! How a step tells how far it is, and is asked to stop.

use std::sync::atomic::{AtomicBool, Ordering};

use reformis_disk::pipeline::Watch;

use crate::finding::Finding;

/// A part of the work that takes time, as the person would call it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// What is done: "carrying", "comparing".
    pub action: &'static str,
    /// With what: the name of a disk.
    pub what: String,
    /// Which of how many, from 1.
    pub number: usize,
    /// How many there are.
    pub of: usize,
}

/// Is told how far the work is. Calls come from any thread.
pub trait Observer: Sync {
    /// A step begins that will deal with `total` bytes.
    fn begin(&self, step: &Step, total: u64);
    /// So many bytes more are done.
    fn advance(&self, bytes: u64);
    /// The step is over, well or not.
    fn end(&self);
    /// Something that the person should know before a long step begins; it comes again with the result.
    fn tell(&self, finding: &Finding);
}

/// What every long step is given.
#[derive(Clone, Copy)]
pub struct Context<'a> {
    /// Set to true to stop as soon as nothing half-made remains.
    pub cancel: &'a AtomicBool,
    /// Is told of progress.
    pub observer: &'a dyn Observer,
}

impl Context<'_> {
    /// Whether the person or the system asked us to stop.
    pub(crate) fn is_cancelled(&self) -> bool {
        self.cancel.load(Ordering::Relaxed)
    }

    /// Runs `work` as `step` of `total` bytes.
    pub(crate) fn step<T>(&self, step: &Step, total: u64, work: impl FnOnce(&Watch<'_>) -> T) -> T {
        self.observer.begin(step, total);
        let progress = |bytes| self.observer.advance(bytes);
        let result = work(&Watch { cancel: &|| self.is_cancelled(), progress: &progress, workers: None });
        self.observer.end();
        result
    }
}
