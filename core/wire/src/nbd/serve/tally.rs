//! What was done with an export.

use std::sync::atomic::{AtomicU64, Ordering};

/// Counts, of all connections together.
#[derive(Debug, Default)]
pub struct Tally {
    connections: AtomicU64,
    read: AtomicU64,
    written: AtomicU64,
    zeroed: AtomicU64,
    errors: AtomicU64,
}

fn add(counter: &AtomicU64, value: u64) {
    counter.fetch_add(value, Ordering::Relaxed);
}

impl Tally {
    pub(super) fn came(&self) {
        add(&self.connections, 1);
    }

    pub(super) fn left(&self) {
        self.connections.fetch_sub(1, Ordering::Relaxed);
    }

    pub(super) fn read_more(&self, bytes: u64) {
        add(&self.read, bytes);
    }

    pub(super) fn wrote(&self, bytes: u64) {
        add(&self.written, bytes);
    }

    pub(super) fn made_zero(&self, bytes: u64) {
        add(&self.zeroed, bytes);
    }

    pub(super) fn failed(&self) {
        add(&self.errors, 1);
    }

    /// Connections that are open.
    pub fn connections(&self) -> u64 {
        self.connections.load(Ordering::Relaxed)
    }

    /// Bytes that were read.
    pub fn read(&self) -> u64 {
        self.read.load(Ordering::Relaxed)
    }

    /// Bytes that were written.
    pub fn written(&self) -> u64 {
        self.written.load(Ordering::Relaxed)
    }

    /// Bytes that were made zero without being sent.
    pub fn zeroed(&self) -> u64 {
        self.zeroed.load(Ordering::Relaxed)
    }

    /// Requests that failed.
    pub fn errors(&self) -> u64 {
        self.errors.load(Ordering::Relaxed)
    }
}
