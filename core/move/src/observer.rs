//! How a step tells how far it is, and is asked to stop.

use std::sync::{
    Arc,
    atomic::{AtomicBool, Ordering},
};

use reformis_disk::{Disk, Extent, budget::Budget, copy::Watch};
use reformis_guest::Keys;
use reformis_wire::Wires;

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
    /// Whether a landing may be seen by others now: asked before a cloud makes something of it, and before it gets its name. Who works
    /// for several may have lost the right to it meanwhile.
    ///
    /// # Errors
    /// It may not; what was made so far is kept where it can be gone on with.
    fn may_land(&self) -> crate::Result<()> {
        Ok(())
    }
}

/// What every long step is given.
#[derive(Clone, Copy)]
pub struct Context<'a> {
    /// Set to true to stop as soon as nothing half-made remains.
    pub cancel: &'a Arc<AtomicBool>,
    /// Is told of progress.
    pub observer: &'a dyn Observer,
    /// Memory for all that is collected from what strangers made.
    pub budget: &'a Arc<Budget>,
    /// The network, for what lies at links.
    pub wires: &'a Wires,
    /// What opens encrypted volumes.
    pub keys: &'a Keys,
}

impl Context<'_> {
    /// Fails when the person or the system asked us to stop.
    pub(crate) fn check(&self) -> crate::Result<()> {
        if self.is_cancelled() { Err(reformis_disk::Error::Interrupted.into()) } else { Ok(()) }
    }

    /// Whether the person or the system asked us to stop.
    pub(crate) fn is_cancelled(&self) -> bool {
        self.cancel.load(Ordering::Relaxed)
    }

    /// A disk that refuses every read once the person or the system asked us to stop: whatever looks into it ends.
    pub(crate) fn stoppable(&self, disk: Arc<dyn Disk>) -> Arc<dyn Disk> {
        Arc::new(Stoppable { disk, cancel: self.cancel.clone() })
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

/// A disk that can be told to stop.
struct Stoppable {
    disk: Arc<dyn Disk>,
    cancel: Arc<AtomicBool>,
}

impl Stoppable {
    fn check(&self) -> reformis_disk::Result<()> {
        if self.cancel.load(Ordering::Relaxed) { Err(reformis_disk::Error::Interrupted) } else { Ok(()) }
    }
}

impl Disk for Stoppable {
    fn size(&self) -> u64 {
        self.disk.size()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> reformis_disk::Result<()> {
        self.check()?;
        self.disk.read_at(offset, buf)
    }

    fn extent_at(&self, offset: u64) -> reformis_disk::Result<Extent> {
        self.check()?;
        self.disk.extent_at(offset)
    }

    fn check_unchanged(&self) -> reformis_disk::Result<()> {
        self.disk.check_unchanged()
    }
}
