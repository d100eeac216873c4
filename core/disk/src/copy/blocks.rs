//! The engine below copying, scanning and comparing: blocks handed out in order, worked on side by side, put in order
//! again.

use crate::to_usize;
use std::{
    io::Read,
    sync::{
        Condvar, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
};

use super::Watch;
use crate::{
    container::packed,
    digest::BLOCK,
    disk::{Disk, Extent, ExtentKind},
    error::{Error, Result},
};

/// A part of the disk: one block that must be read, or a run of whole blocks known to be zero.
#[derive(Debug, Clone, Copy)]
pub(super) struct Piece {
    pub(super) offset: u64,
    pub(super) len: u64,
    /// Position in the order.
    ticket: u64,
    known_zero: bool,
}

/// Pieces between two checks that the source is still the same: about 1 GiB.
const CHECK_EVERY: u64 = 1024;

/// Where pieces come from.
pub(super) trait Feed: Send {
    /// The next piece in the disk's order; `None` at its end. What can only be read forwards is read into `buf`, a block
    /// long, at once.
    fn next(&mut self, buf: &mut [u8]) -> Result<Option<Piece>>;
}

/// Goes through all that `feed` gives. For each block that is not known to be zero, `read` fills a buffer and `work` gets
/// its bytes, on any thread in any order; `order` gets its outcome and the bytes strictly in the disk's order (`None` and
/// nothing for a run of zeros); `after` gets what `order` returned and the same bytes, on any thread again.
#[expect(clippy::indexing_slicing, reason = "a piece is never longer than the block of its buffer")]
pub(super) fn ordered<W: Send, P: Send>(
    feed: impl Feed,
    read: impl Fn(Piece, &mut [u8]) -> Result<()> + Sync,
    watch: &Watch<'_>,
    work: impl Fn(Piece, &[u8]) -> Result<W> + Sync,
    order: impl FnMut(Piece, Option<W>, &[u8]) -> Result<P> + Send,
    after: impl Fn(P, &[u8]) -> Result<()> + Sync,
) -> Result<()> {
    let feed = Mutex::new(feed);
    let line = Line { state: Mutex::new(LineState { next: 0, failed: None, order }), turn: Condvar::new() };
    let one = |piece: Piece, buf: &mut [u8]| -> Result<()> {
        watch.check()?;
        if piece.known_zero {
            return line.in_turn(piece, None, &[]).map(drop);
        }
        let bytes = &mut buf[..to_usize(piece.len)];
        read(piece, bytes)?;
        let outcome = work(piece, bytes)?;
        let placed = line.in_turn(piece, Some(outcome), bytes)?;
        after(placed, bytes)?;
        (watch.progress)(piece.len);
        Ok(())
    };
    let worker = || {
        // A panic must not leave the others waiting for a turn that never comes.
        let _bail = Bail(&line);
        let mut buf = vec![0; to_usize(BLOCK)];
        loop {
            let next = lock(&feed).next(&mut buf);
            let piece = match next {
                Ok(Some(piece)) => piece,
                Ok(None) => return,
                Err(error) => return line.fail(error),
            };
            if let Err(error) = one(piece, &mut buf) {
                return line.fail(error);
            }
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..watch.worker_count() {
            scope.spawn(worker);
        }
        worker();
    });
    let state = line.state.into_inner().unwrap_or_else(PoisonError::into_inner);
    state.failed.map_or(Ok(()), Err)
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Disks of one size, cut into pieces: a run is skipped where all are known to be zero.
pub(super) struct Disks<'a> {
    disks: &'a [&'a dyn Disk],
    /// The extent of each disk around `at`, as far as it is known.
    extents: Vec<Extent>,
    size: u64,
    at: u64,
    ticket: u64,
}

impl<'a> Disks<'a> {
    pub(super) fn new(disks: &'a [&'a dyn Disk]) -> Self {
        let size = disks.iter().map(|disk| disk.size()).min().unwrap_or(0);
        Self { disks, extents: vec![Extent::zero(0, 0); disks.len()], size, at: 0, ticket: 0 }
    }
}

impl Feed for Disks<'_> {
    fn next(&mut self, _: &mut [u8]) -> Result<Option<Piece>> {
        if self.at >= self.size {
            return Ok(None);
        }
        if self.ticket % CHECK_EVERY == CHECK_EVERY - 1 {
            self.disks.iter().try_for_each(|disk| disk.check_unchanged())?;
        }
        // Up to where all disks are known to be zero.
        let mut zero_end = self.size;
        for (disk, extent) in self.disks.iter().zip(&mut self.extents) {
            while extent.end() <= self.at {
                *extent = disk.extent_at(self.at)?;
                if extent.len == 0 {
                    return Err(Error::OutOfRange { offset: self.at, len: 0, size: disk.size() });
                }
            }
            let end = if extent.kind == ExtentKind::Zero { extent.end() } else { self.at };
            zero_end = zero_end.min(end);
        }
        let whole = if zero_end == self.size { zero_end } else { zero_end / BLOCK * BLOCK };
        let known_zero = whole > self.at;
        let end = if known_zero { whole } else { (self.at + BLOCK).min(self.size) };
        let piece = Piece { offset: self.at, len: end - self.at, ticket: self.ticket, known_zero };
        self.at = end;
        self.ticket += 1;
        Ok(Some(piece))
    }
}

/// Bytes that can only be read forwards, cut into blocks as they come.
pub(super) struct Forward<'a> {
    stream: &'a mut (dyn Read + Send),
    name: &'a str,
    /// How far it was read; the length of the whole at the end.
    at: &'a AtomicU64,
    ticket: u64,
    ended: bool,
}

impl<'a> Forward<'a> {
    pub(super) fn new(stream: &'a mut (dyn Read + Send), name: &'a str, at: &'a AtomicU64) -> Self {
        Self { stream, name, at, ticket: 0, ended: false }
    }
}

impl Feed for Forward<'_> {
    fn next(&mut self, buf: &mut [u8]) -> Result<Option<Piece>> {
        let offset = self.at.load(Ordering::Relaxed);
        let len = if self.ended { 0 } else { packed::fill(self.stream, buf, self.name, offset)? };
        self.ended = len < buf.len();
        if len == 0 {
            return Ok(None);
        }
        self.at.store(offset + len as u64, Ordering::Relaxed);
        let piece = Piece { offset, len: len as u64, ticket: self.ticket, known_zero: false };
        self.ticket += 1;
        Ok(Some(piece))
    }
}

/// Where finished pieces wait for their turn.
struct Line<F> {
    state: Mutex<LineState<F>>,
    turn: Condvar,
}

struct LineState<F> {
    next: u64,
    failed: Option<Error>,
    order: F,
}

impl<F> Line<F> {
    fn in_turn<W, P>(&self, piece: Piece, outcome: Option<W>, bytes: &[u8]) -> Result<P>
    where
        F: FnMut(Piece, Option<W>, &[u8]) -> Result<P>,
    {
        let mut state = lock(&self.state);
        while state.next != piece.ticket && state.failed.is_none() {
            state = self.turn.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        if state.failed.is_some() {
            // The first error is the one that is told.
            return Err(Error::Interrupted);
        }
        let placed = (state.order)(piece, outcome, bytes)?;
        state.next += 1;
        drop(state);
        self.turn.notify_all();
        Ok(placed)
    }

    fn fail(&self, error: Error) {
        lock(&self.state).failed.get_or_insert(error);
        self.turn.notify_all();
    }
}

struct Bail<'a, F>(&'a Line<F>);

impl<F> Drop for Bail<'_, F> {
    fn drop(&mut self) {
        if std::thread::panicking() {
            self.0.fail(Error::Interrupted);
        }
    }
}
