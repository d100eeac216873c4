//! The disks of one guest, side by side, each below an overlay.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use reformis_disk::{
    Disk,
    budget::{Budget, Hold},
    overlay::Overlay,
};

use crate::error::Result;

/// The disks of one guest. What is written stays in memory until a result is streamed.
pub struct Bench {
    overlays: Mutex<Vec<Overlay>>,
    /// Memory for all that is collected from the disks.
    budget: Arc<Budget>,
    /// What a guest's own bytes made us write: its journals.
    replayed: Mutex<Hold>,
}

impl Bench {
    /// A bench for `disks`, in the guest's order; all that is collected from them is counted against `budget`.
    pub fn new(disks: impl IntoIterator<Item = Arc<dyn Disk>>, budget: &Arc<Budget>) -> Arc<Self> {
        let overlays = Mutex::new(disks.into_iter().map(Overlay::new).collect());
        Arc::new(Self { overlays, budget: budget.clone(), replayed: Mutex::new(budget.hold()) })
    }

    /// Memory for all that is collected from the disks.
    pub(crate) fn budget(&self) -> &Arc<Budget> {
        &self.budget
    }

    pub(super) fn lock(&self) -> MutexGuard<'_, Vec<Overlay>> {
        // A panic elsewhere leaves the bytes as they are: each write is whole or not there.
        self.overlays.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Memory for all changes, in bytes.
    fn memory(&self) -> u64 {
        self.lock().iter().map(Overlay::memory).sum()
    }

    /// Counts all changes up to now against the budget: the guest's own bytes made us write them.
    ///
    /// # Errors
    /// [`Error::Memory`].
    pub(crate) fn count_changes(&self) -> Result<()> {
        let memory = self.memory();
        self.replayed.lock().unwrap_or_else(PoisonError::into_inner).resize(memory)?;
        Ok(())
    }

    /// Number of disks.
    pub fn disks(&self) -> usize {
        self.lock().len()
    }

    /// Size of a disk in bytes; 0 for one that is not there.
    pub fn size(&self, disk: usize) -> u64 {
        self.lock().get(disk).map_or(0, Disk::size)
    }

    /// Begins an edit on all disks; what is written from now on is its doing.
    pub fn begin(&self, name: &str, reason: &str) {
        for overlay in self.lock().iter_mut() {
            overlay.begin(name, reason);
        }
    }

    /// Takes back the edit that was begun last.
    pub fn rollback(&self) {
        for overlay in self.lock().iter_mut() {
            overlay.rollback();
        }
        let memory = self.memory();
        self.replayed.lock().unwrap_or_else(PoisonError::into_inner).shrink_to(memory);
    }

    /// Whether the edit that was begun last changed anything.
    pub fn changed(&self) -> bool {
        self.lock().iter().any(|overlay| overlay.edits().last().is_some_and(|edit| !edit.ranges.is_empty()))
    }

    /// The disks with what was written, for streaming. The bench is empty afterwards.
    pub fn take(&self) -> Vec<Overlay> {
        std::mem::take(&mut *self.lock())
    }
}
