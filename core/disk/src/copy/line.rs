//! Blocks between the workers: memory that is free, and what is ready to be put in order.

use std::{
    collections::BTreeMap,
    sync::{Condvar, Mutex, MutexGuard, PoisonError},
};

use super::{block::Buffer, feed::Piece};
use crate::error::{Error, Result};

/// A piece that was read, or one of zeros, and the memory that it lies in.
pub(super) struct Ready<const N: usize, W> {
    pub(super) piece: Piece,
    /// What was made of it; `None` for zeros.
    pub(super) outcome: Option<W>,
    pub(super) memory: [Buffer; N],
}

/// What a worker does next.
pub(super) enum Next<const N: usize, W> {
    /// Put this in order, and give the memory back with [`Line::was_put`].
    Put(Ready<N, W>),
    /// Read into this memory, and hand it in with [`Line::is_ready`].
    Prepare([Buffer; N]),
    /// The others need no help with what is left, or something failed.
    Leave,
}

/// Where blocks wait.
pub(super) struct Line<const N: usize, W> {
    state: Mutex<State<N, W>>,
    /// Memory became free, or something failed.
    free: Condvar,
}

struct State<const N: usize, W> {
    memory: Vec<[Buffer; N]>,
    /// By their position in the order.
    ready: BTreeMap<u64, Ready<N, W>>,
    /// The position that is put next.
    next: u64,
    putting: bool,
    ended: bool,
    waiting: usize,
    failed: Option<Error>,
}

impl<const N: usize, W> Line<N, W> {
    /// With memory for `blocks` blocks of each disk.
    pub(super) fn new(blocks: usize) -> Self {
        // Memory that is not used yet takes no room: it is zero.
        let memory = (0..blocks).map(|_| std::array::from_fn(|_| Buffer::default())).collect();
        let state =
            State { memory, ready: BTreeMap::new(), next: 0, putting: false, ended: false, waiting: 0, failed: None };
        Self { state: Mutex::new(state), free: Condvar::new() }
    }

    fn lock(&self) -> MutexGuard<'_, State<N, W>> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What to do now. Waits while there is nothing.
    pub(super) fn next(&self) -> Next<N, W> {
        let mut state = self.lock();
        loop {
            if state.failed.is_some() {
                return Next::Leave;
            }
            if !state.putting {
                let next = state.next;
                if let Some(ready) = state.ready.remove(&next) {
                    state.putting = true;
                    return Next::Put(ready);
                }
            }
            if state.ended {
                // Whoever still reads or puts goes on with what follows.
                return Next::Leave;
            }
            if let Some(memory) = state.memory.pop() {
                return Next::Prepare(memory);
            }
            state.waiting += 1;
            state = self.free.wait(state).unwrap_or_else(PoisonError::into_inner);
            state.waiting -= 1;
        }
    }

    /// What was put is done with.
    pub(super) fn was_put(&self, memory: [Buffer; N]) {
        let mut state = self.lock();
        state.putting = false;
        state.next += 1;
        state.memory.push(memory);
        if state.waiting > 0 {
            self.free.notify_one();
        }
    }

    /// Hands in what was read, with its position in the order; `None` when there is no more.
    pub(super) fn is_ready(&self, ready: Option<(u64, Ready<N, W>)>) {
        let mut state = self.lock();
        match ready {
            Some((position, ready)) => {
                state.ready.insert(position, ready);
            }
            None => {
                state.ended = true;
                self.free.notify_all();
            }
        }
    }

    /// Makes all workers leave. The first error is the one that is told.
    pub(super) fn fail(&self, error: Error) {
        self.lock().failed.get_or_insert(error);
        self.free.notify_all();
    }

    /// What stopped the work, if anything did.
    pub(super) fn outcome(self) -> Result<()> {
        let state = self.state.into_inner().unwrap_or_else(PoisonError::into_inner);
        state.failed.map_or(Ok(()), Err)
    }
}

/// Makes the others leave when a worker panics.
pub(super) struct Bail<'a, const N: usize, W>(pub(super) &'a Line<N, W>);

impl<const N: usize, W> Drop for Bail<'_, N, W> {
    fn drop(&mut self) {
        if std::thread::panicking() {
            self.0.fail(Error::Interrupted);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU64, Ordering};

    use super::*;

    fn piece(position: u64) -> Ready<1, u64> {
        Ready { piece: Piece { offset: position, len: 1 }, outcome: Some(position), memory: [Buffer::default()] }
    }

    /// Workers that get through `pieces` pieces over memory for `blocks`, one of which is slow; what was put, in order.
    fn run(workers: u64, blocks: usize, pieces: u64, fails_at: Option<u64>) -> (Vec<u64>, Result<()>) {
        let line: Line<1, u64> = Line::new(blocks);
        let (positions, put) = (AtomicU64::new(0), Mutex::new(Vec::new()));
        std::thread::scope(|scope| {
            for _ in 0..workers {
                scope.spawn(|| {
                    loop {
                        match line.next() {
                            Next::Leave => return,
                            Next::Prepare(_) => {
                                let position = positions.fetch_add(1, Ordering::Relaxed);
                                if position % 5 == 1 {
                                    std::thread::sleep(std::time::Duration::from_millis(3));
                                }
                                line.is_ready((position < pieces).then(|| (position, piece(position))));
                            }
                            Next::Put(ready) if fails_at == ready.outcome => return line.fail(Error::Interrupted),
                            Next::Put(ready) => {
                                // Nobody else is at it, or this would wait for ever.
                                put.try_lock().unwrap().push(ready.piece.offset);
                                line.was_put(ready.memory);
                            }
                        }
                    }
                });
            }
        });
        (put.into_inner().unwrap(), line.outcome())
    }

    #[test]
    fn all_is_put_once_and_in_order_whoever_is_slow() {
        for (workers, blocks) in [(1, 1), (2, 2), (2, 6), (7, 3), (4, 20)] {
            let (put, outcome) = run(workers, blocks, 100, None);
            assert_eq!(put, (0..100).collect::<Vec<_>>(), "{workers} workers, {blocks} blocks");
            outcome.unwrap();
        }
    }

    #[test]
    fn a_failure_ends_it_for_all() {
        for (workers, blocks) in [(1, 1), (3, 3), (3, 10)] {
            let (put, outcome) = run(workers, blocks, 100, Some(40));
            assert_eq!(put, (0..40).collect::<Vec<_>>());
            assert!(matches!(outcome, Err(Error::Interrupted)));
        }
    }
}
