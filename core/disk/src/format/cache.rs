//! A few tables of an image kept in memory: neighbouring reads need the same ones.

use std::{
    collections::VecDeque,
    sync::{Arc, Mutex, PoisonError},
};

use crate::budget::{Budget, Held};

/// The entries of a table, and the memory for them.
pub(crate) type Table<T> = Held<Vec<T>>;

/// The most recently used tables, by number.
pub(crate) struct TableCache<T> {
    tables: Mutex<VecDeque<(u64, Arc<Table<T>>)>>,
    capacity: usize,
    budget: Arc<Budget>,
}

impl<T> TableCache<T> {
    /// A cache for `capacity` tables; a search goes through all, so keep it to a few dozen. Where their `budget` gets tight,
    /// it keeps one: a chain of many disks has as many caches.
    pub(crate) fn new(capacity: usize, budget: &Arc<Budget>) -> Self {
        Self { tables: Mutex::default(), capacity: capacity.max(1), budget: budget.clone() }
    }

    /// Table `number`, loaded by `load` when it is not here. Two threads may load the same table at one time:
    /// that costs a read, and a lock held while reading would cost more.
    pub(crate) fn get<E>(&self, number: u64, load: impl FnOnce() -> Result<Table<T>, E>) -> Result<Arc<Table<T>>, E> {
        if let Some(table) = self.find(number) {
            return Ok(table);
        }
        let kept = || if self.budget.is_tight() { 0 } else { self.capacity - 1 };
        let lock = || self.tables.lock().unwrap_or_else(PoisonError::into_inner);
        // Before it is loaded, so that there is room for it.
        lock().truncate(kept());
        let table = Arc::new(load()?);
        let mut tables = lock();
        tables.truncate(kept());
        tables.push_front((number, table.clone()));
        Ok(table)
    }

    /// Table `number`, if it is here.
    pub(crate) fn find(&self, number: u64) -> Option<Arc<Table<T>>> {
        let mut tables = self.tables.lock().unwrap_or_else(PoisonError::into_inner);
        let at = tables.iter().position(|(n, _)| *n == number)?;
        let hit = tables.remove(at)?;
        let table = hit.1.clone();
        tables.push_front(hit);
        Some(table)
    }
}
