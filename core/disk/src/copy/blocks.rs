//! The engine below copying, scanning and comparing: blocks handed out in order, worked on side by side, put in order
//! again.

use std::sync::{Mutex, MutexGuard, PoisonError};

use super::{
    Watch,
    block::{Block, Buffer},
    feed::{Feed, Piece, Task},
    line::{Bail, Line, Next, Ready},
};
use crate::{error::Result, to_usize};

/// Fills the memory with the bytes at an offset of a disk.
pub(super) type Read<'a> = &'a (dyn Fn(u64, &mut [u8]) -> Result<()> + Sync);

/// Blocks that may lie between reading and writing, besides those that the workers are busy with.
const BACKLOG: usize = 4;

/// Goes through all that `feed` gives. Of each block that is not known to be zero, `read` fills the memory, for each disk,
/// and `work` gets what was read, on any thread in any order; `order` gets its outcome and the same blocks strictly in the
/// disks' order, one at a time (`None` for a run of zeros).
///
/// Whoever is free does what comes next: put the next block in order when it is there and nobody is at it, else read
/// another. So a worker waits for the others only when all memory is full of blocks that cannot be put in order yet.
pub(super) fn ordered<const N: usize, W: Send>(
    feed: impl Feed<N>,
    read: [Read<'_>; N],
    watch: &Watch<'_>,
    work: impl Fn(Piece, &[Block<'_>; N]) -> Result<W> + Sync,
    order: impl FnMut(Piece, Option<(W, &[Block<'_>; N])>) -> Result<()> + Send,
) -> Result<()> {
    let workers = watch.worker_count();
    let feed = Mutex::new(feed);
    let order = Mutex::new(order);
    let line = Line::new(workers + BACKLOG);
    let prepare = |mut memory: [Buffer; N]| -> Result<Option<(u64, Ready<N, W>)>> {
        watch.check()?;
        let Some(Task { piece, ticket, data }) = lock(&feed).next(&mut memory)? else { return Ok(None) };
        let mut outcome = None;
        if let Some(data) = data {
            for ((buffer, data), read) in memory.iter_mut().zip(&data).zip(read) {
                buffer.fill(to_usize(piece.len), data, |start, bytes| read(piece.offset + start as u64, bytes))?;
            }
            outcome = Some(work(piece, &memory.each_ref().map(Buffer::block))?);
        }
        Ok(Some((ticket, Ready { piece, outcome, memory })))
    };
    let put = |Ready { piece, outcome, memory }| -> Result<[Buffer; N]> {
        watch.check()?;
        let blocks = memory.each_ref().map(Buffer::block);
        let is_read = outcome.is_some();
        (lock(&order))(piece, outcome.map(|outcome| (outcome, &blocks)))?;
        if is_read {
            (watch.progress)(piece.len);
        }
        Ok(memory)
    };
    let worker = || {
        // A panic must not leave the others waiting for memory that never comes.
        let _bail = Bail(&line);
        loop {
            let done = match line.next() {
                Next::Put(ready) => put(ready).map(|memory| line.was_put(memory)),
                Next::Prepare(memory) => prepare(memory).map(|ready| line.is_ready(ready)),
                Next::Leave => return,
            };
            if let Err(error) = done {
                return line.fail(error);
            }
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..workers {
            scope.spawn(worker);
        }
        worker();
    });
    line.outcome()
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
