//! The disks of one guest, side by side, each below an overlay.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use reformis_disk::{
    Disk,
    budget::{Budget, Hold},
    overlay::Overlay,
};

use super::map::{Map, Stack};
use crate::error::Result;

/// The disks of one guest. What is written stays in memory until a result is streamed.
pub struct Bench {
    overlays: Mutex<Vec<Overlay>>,
    /// Volumes that others lie on, each on those before it alone. They are numbered behind the disks.
    layers: Mutex<Vec<Arc<Map>>>,
    /// How many disks there are.
    disks: usize,
    /// Memory for all that is collected from the disks.
    budget: Arc<Budget>,
    /// What a guest's own bytes made us write: its journals.
    replayed: Mutex<Hold>,
}

impl Bench {
    /// A bench for `disks`, in the guest's order; all that is collected from them is counted against `budget`.
    pub fn new(disks: impl IntoIterator<Item = Arc<dyn Disk>>, budget: &Arc<Budget>) -> Arc<Self> {
        let overlays: Vec<_> = disks.into_iter().map(Overlay::new).collect();
        let disks = overlays.len();
        let (overlays, layers) = (Mutex::new(overlays), Mutex::default());
        Arc::new(Self { overlays, layers, disks, budget: budget.clone(), replayed: Mutex::new(budget.hold()) })
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

    fn layers(&self) -> MutexGuard<'_, Vec<Arc<Map>>> {
        self.layers.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Lends the disks, and the volumes that others lie on.
    pub(super) fn with_stack<T>(&self, work: impl FnOnce(&mut Stack<'_>) -> Result<T>) -> Result<T> {
        let layers = self.layers().clone();
        let mut disks = self.lock();
        work(&mut Stack { disks: &mut disks, count: self.disks, layers: &layers })
    }

    /// The number of a volume that others lie on; the same for one that lies as another does.
    pub(super) fn add_layer(&self, map: Map) -> usize {
        let mut layers = self.layers();
        let is_same = |known: &Arc<Map>| {
            known.pieces == map.pieces && known.cipher.is_some() == map.cipher.is_some() && known.name == map.name
        };
        let place = layers.iter().position(is_same).unwrap_or_else(|| {
            layers.push(Arc::new(map));
            layers.len() - 1
        });
        self.disks + place
    }

    /// The disks below a volume, each once, in the order in which it needs them.
    pub(super) fn below(&self, map: &Map) -> Vec<usize> {
        let layers = self.layers().clone();
        let (mut found, mut todo) = (Vec::new(), map.disks());
        todo.reverse();
        while let Some(disk) = todo.pop() {
            match disk.checked_sub(self.disks).and_then(|place| layers.get(place)) {
                Some(layer) => todo.extend(layer.disks().into_iter().rev()),
                None if found.contains(&disk) => {}
                None => found.push(disk),
            }
        }
        found
    }

    /// Number of disks.
    pub fn disks(&self) -> usize {
        self.disks
    }

    /// Size of a disk in bytes; 0 for one that is not there. Volumes that others lie on are numbered behind the disks.
    pub fn size(&self, disk: usize) -> u64 {
        match disk.checked_sub(self.disks) {
            None => self.lock().get(disk).map_or(0, Disk::size),
            Some(place) => self.layers().get(place).map_or(0, |layer| layer.size),
        }
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
