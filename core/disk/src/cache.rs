//! A few tables of an image kept in memory: neighbouring reads need the same ones.

use std::{
    collections::VecDeque,
    sync::{Arc, Mutex, PoisonError},
};

/// The most recently used tables, by number.
pub(crate) struct TableCache<T> {
    tables: Mutex<VecDeque<(u64, Arc<[T]>)>>,
    capacity: usize,
}

impl<T> TableCache<T> {
    /// A cache for `capacity` tables; a search goes through all, so keep it to a few dozen.
    pub(crate) fn new(capacity: usize) -> Self {
        Self { tables: Mutex::default(), capacity: capacity.max(1) }
    }

    /// Table `number`, loaded by `load` when it is not here. Two threads may load the same table at one time:
    /// that costs a read, and a lock held while reading would cost more.
    pub(crate) fn get<E>(&self, number: u64, load: impl FnOnce() -> Result<Vec<T>, E>) -> Result<Arc<[T]>, E> {
        if let Some(table) = self.find(number) {
            return Ok(table);
        }
        let table: Arc<[T]> = load()?.into();
        let mut tables = self.tables.lock().unwrap_or_else(PoisonError::into_inner);
        tables.truncate(self.capacity - 1);
        tables.push_front((number, table.clone()));
        Ok(table)
    }

    /// Table `number`, if it is here.
    pub(crate) fn find(&self, number: u64) -> Option<Arc<[T]>> {
        let mut tables = self.tables.lock().unwrap_or_else(PoisonError::into_inner);
        let at = tables.iter().position(|(n, _)| *n == number)?;
        let hit = tables.remove(at)?;
        let table = hit.1.clone();
        tables.push_front(hit);
        Some(table)
    }
}
