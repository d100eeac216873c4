//! What will be read next: told by what was.

use std::sync::Arc;

use reformis_disk::Result;

use super::{Core, State, is_data, pieces::SMALL};
use crate::remote::Limits;

/// The least that is fetched at once: a table and what is beside it.
pub(super) const GRAIN: u64 = 32 << 10;
/// Reads this close to one another belong to one row: workers overtake each other.
const NEAR: u64 = 8 << 20;
/// After so many bytes in a row, more is fetched ahead.
const ROW: u64 = 512 << 10;
/// Rows that are followed at the same time: data, and the tables beside it.
const ROWS: usize = 3;

/// A row of reads.
#[derive(Debug, Clone, Copy, Default)]
struct Row {
    /// Where it has come to.
    end: u64,
    /// Bytes that were read in it.
    len: u64,
    /// Up to where was asked for ahead.
    asked: u64,
    used: u64,
}

/// The rows of reads of one remote.
pub(super) struct Ahead {
    rows: [Row; ROWS],
    limits: Limits,
    clock: u64,
}

impl Ahead {
    pub(super) fn new(limits: Limits) -> Self {
        Self { rows: [Row::default(); ROWS], limits, clock: 0 }
    }

    /// Notes a read of `start..end`; the row that it belongs to.
    fn note(&mut self, start: u64, end: u64) -> &mut Row {
        self.clock += 1;
        let near = |row: &Row| row.used > 0 && start + NEAR >= row.end && start <= row.end + NEAR;
        let found = self.rows.iter().position(near);
        let oldest = (0..ROWS).min_by_key(|&row| self.rows.get(row).map_or(0, |row| row.used)).unwrap_or(0);
        let index = found.unwrap_or(oldest).min(ROWS - 1);
        let clock = self.clock;
        // There are as many rows as that, so one is there.
        let [first, second, third] = &mut self.rows;
        let row = match index {
            0 => first,
            1 => second,
            _ => third,
        };
        if found.is_none() {
            *row = Row { end: start, ..Row::default() };
        }
        row.used = clock;
        if end > row.end {
            row.len = row.len.saturating_add(end - start.max(row.end));
            row.end = end;
        }
        row
    }

    /// Bytes that are to be fetched for a reader of `len` bytes at `offset`: more, the longer its row is.
    pub(super) fn size_of(&self, offset: u64, len: u64) -> u64 {
        let row = self.rows.iter().filter(|row| row.used > 0 && offset <= row.end && offset + NEAR >= row.end);
        let row = row.map(|row| row.len).max().unwrap_or(0);
        let rounded = (offset + len).next_multiple_of(GRAIN) - offset;
        rounded.max(row.min(SMALL / 2)).min(self.limits.piece)
    }
}

impl Core {
    /// Notes that `start..end` is read, and asks for what comes next where that is told. Known zeros are not fetched.
    pub(super) fn look_ahead(self: &Arc<Self>, start: u64, end: u64) -> Result<()> {
        let mut state = self.lock();
        let limits = state.ahead.limits;
        let row = state.ahead.note(start, end);
        if row.len < ROW {
            return Ok(());
        }
        // The window opens as the row goes on. It holds twice what is under way: pieces that are fetched side by side are there at
        // about the same time, and while they are used the next ones come.
        let window = row.len.saturating_mul(2).min(limits.piece.saturating_mul(limits.depth as u64 * 2));
        let (mut at, until) =
            (row.asked.max(start / GRAIN * GRAIN), row.end.saturating_add(window).min(self.remote.len()));
        // What is not worth asking for yet.
        if until.saturating_sub(at) < limits.piece / 2 && until < self.remote.len() {
            return Ok(());
        }
        let mut asked = false;
        while at < until {
            if let Some(next) = state.pieces.end_at(at) {
                at = next;
                continue;
            }
            let gap = state.pieces.gap(at);
            let mut len = limits.piece.min(gap);
            if self.remote.has_map() {
                drop(state);
                let run = self.extent(at)?;
                state = self.lock();
                if !is_data(&run) {
                    at = run.end();
                    continue;
                }
                len = len.min(run.len).min(state.pieces.gap(at));
            }
            // Whole pieces end where the next begin.
            let whole = (at / limits.piece + 1) * limits.piece - at;
            len = len.min(whole);
            if len == 0 || state.pieces.room() < len {
                break;
            }
            state.pieces.ask(at, len, false);
            asked = true;
            at += len;
        }
        state.ahead.note(start, end).asked = at;
        if asked {
            self.hire(&mut state);
        }
        Ok(())
    }

    /// Notes that everything up to `end` was read, where it was read in a row.
    pub(super) fn was_read(&self, end: u64) {
        let state: &mut State = &mut self.lock();
        if state.ahead.rows.iter().any(|row| row.len >= ROW && row.end >= end && end + NEAR >= row.end) {
            state.pieces.passed(end);
        }
    }
}
