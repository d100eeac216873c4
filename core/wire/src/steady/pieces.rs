//! Pieces of a remote: here, coming, asked for, or failed. Large ones go when they were read, small ones when others need
//! their room.

use std::{
    collections::{BTreeMap, VecDeque},
    ops::Range,
    sync::Arc,
};

use crate::fault::Fault;

/// Small pieces hold tables, which are read again and again; together they take at most this many bytes.
const SMALL_IN_ALL: u64 = 12 << 20;
/// Pieces below this length are small.
pub(super) const SMALL: u64 = 1 << 20;
/// All pieces together take at most this many bytes.
const IN_ALL: u64 = 44 << 20;
/// What was read stays for this many bytes: workers read side by side.
const BEHIND: u64 = 8 << 20;

/// What is known of a place.
pub(super) enum Answer {
    /// The piece that starts at this place.
    Here(u64, Arc<Vec<u8>>),
    /// It is asked for.
    Coming,
    /// It could not be had; told once.
    Failed(Fault),
    /// Nobody asked for it, nor for these bytes around it.
    Absent(Range<u64>),
}

enum State {
    Asked,
    Fetching,
    Here(Arc<Vec<u8>>),
    Failed(Fault),
}

struct Piece {
    len: u64,
    state: State,
    /// When it was used last.
    used: u64,
}

/// All pieces of a remote, by their starts; none overlap.
pub(super) struct Pieces {
    len: u64,
    pieces: BTreeMap<u64, Piece>,
    /// What is to be fetched: what somebody waits for comes first.
    wanted: VecDeque<u64>,
    ahead: VecDeque<u64>,
    /// Bytes of all pieces, and of the small ones.
    held: u64,
    small: u64,
    clock: u64,
    /// Memory of large pieces that have gone, for those to come: what is filled again needs no zeros first.
    spare: Vec<Vec<u8>>,
}

/// How many are kept.
const SPARE: usize = 6;

impl Pieces {
    pub(super) fn new(len: u64) -> Self {
        Self {
            len,
            pieces: BTreeMap::new(),
            wanted: VecDeque::new(),
            ahead: VecDeque::new(),
            held: 0,
            small: 0,
            clock: 0,
            spare: Vec::new(),
        }
    }

    /// What is known of `offset`, which lies inside.
    pub(super) fn at(&mut self, offset: u64) -> Answer {
        self.clock += 1;
        let clock = self.clock;
        if let Some((&start, piece)) = self.pieces.range_mut(..=offset).next_back()
            && offset - start < piece.len
        {
            piece.used = clock;
            match &piece.state {
                State::Here(bytes) => return Answer::Here(start, bytes.clone()),
                State::Fetching => return Answer::Coming,
                State::Asked => {
                    // Somebody waits for it now.
                    if let Some(place) = self.ahead.iter().position(|&ahead| ahead == start) {
                        self.ahead.remove(place);
                        self.wanted.push_back(start);
                    }
                    return Answer::Coming;
                }
                State::Failed(_) => {}
            }
            return match self.remove(start) {
                Some(State::Failed(fault)) => Answer::Failed(fault),
                _ => Answer::Coming,
            };
        }
        let before = self.pieces.range(..=offset).next_back().map_or(0, |(start, piece)| start + piece.len);
        Answer::Absent(before..offset + self.gap(offset))
    }

    /// Bytes from `offset` on that belong to no piece.
    pub(super) fn gap(&self, offset: u64) -> u64 {
        let next = self.pieces.range(offset..).next().map_or(self.len, |(start, _)| *start);
        next - offset
    }

    /// The end of the piece that holds `offset`, if one does.
    pub(super) fn end_at(&self, offset: u64) -> Option<u64> {
        let (start, piece) = self.pieces.range(..=offset).next_back()?;
        Some(start + piece.len).filter(|end| *end > offset)
    }

    /// Asks for the `len` bytes at `offset`, which belong to no piece, for somebody who waits for them or ahead.
    pub(super) fn ask(&mut self, offset: u64, len: u64, now: bool) {
        self.clock += 1;
        self.pieces.insert(offset, Piece { len, state: State::Asked, used: self.clock });
        self.held += len;
        if len < SMALL {
            self.small += len;
        }
        if now {
            self.wanted.push_back(offset);
        } else {
            self.ahead.push_back(offset);
        }
        self.make_room();
    }

    /// The next piece to fetch.
    pub(super) fn next(&mut self) -> Option<Range<u64>> {
        loop {
            let start = self.wanted.pop_front().or_else(|| self.ahead.pop_front())?;
            if let Some(piece) = self.pieces.get_mut(&start)
                && matches!(piece.state, State::Asked)
            {
                piece.state = State::Fetching;
                return Some(start..start + piece.len);
            }
        }
    }

    /// How many pieces wait to be fetched.
    pub(super) fn waiting(&self) -> usize {
        self.wanted.len() + self.ahead.len()
    }

    /// What a fetch of the piece at `start` came to.
    pub(super) fn came(&mut self, start: u64, outcome: Result<Vec<u8>, Fault>) {
        if let Some(piece) = self.pieces.get_mut(&start) {
            piece.state = match outcome {
                Ok(bytes) => State::Here(Arc::new(bytes)),
                Err(fault) => State::Failed(fault),
            };
        }
    }

    /// Everything before `offset` was read in a row: large pieces that lie well behind it go.
    pub(super) fn passed(&mut self, offset: u64) {
        let before = offset.saturating_sub(BEHIND);
        let gone = |(start, piece): (&u64, &Piece)| {
            let is_large = piece.len >= SMALL && start + piece.len <= before;
            (is_large && matches!(piece.state, State::Here(_) | State::Failed(_))).then_some(*start)
        };
        // Only what lies near behind can be there still.
        let from = before.saturating_sub(IN_ALL);
        let gone: Vec<u64> = self.pieces.range(from..before).filter_map(gone).collect();
        for start in gone {
            if let Some(State::Here(bytes)) = self.remove(start)
                && let (Ok(bytes), true) = (Arc::try_unwrap(bytes), self.spare.len() < SPARE)
            {
                self.spare.push(bytes);
            }
        }
    }

    /// Memory for `len` bytes, all of which will be written.
    pub(super) fn memory(&mut self, len: u64) -> Vec<u8> {
        let mut bytes = if len >= SMALL { self.spare.pop().unwrap_or_default() } else { Vec::new() };
        bytes.resize(reformis_disk::to_usize(len), 0);
        bytes
    }

    /// Bytes that may still be asked for ahead.
    pub(super) fn room(&self) -> u64 {
        IN_ALL.saturating_sub(self.held)
    }

    /// What was used longest ago goes, until the rest fits.
    fn make_room(&mut self) {
        while self.small > SMALL_IN_ALL {
            if !self.drop_oldest(|piece| piece.len < SMALL) {
                break;
            }
        }
        while self.held > IN_ALL {
            if !self.drop_oldest(|_| true) {
                break;
            }
        }
    }

    fn drop_oldest(&mut self, which: impl Fn(&Piece) -> bool) -> bool {
        let here = self.pieces.iter().filter(|(_, piece)| which(piece) && matches!(piece.state, State::Here(_)));
        let oldest = here.min_by_key(|(_, piece)| piece.used).map(|(start, _)| *start);
        oldest.is_some_and(|start| self.remove(start).is_some())
    }

    fn remove(&mut self, start: u64) -> Option<State> {
        let piece = self.pieces.remove(&start)?;
        self.held -= piece.len;
        if piece.len < SMALL {
            self.small -= piece.len;
        }
        Some(piece.state)
    }
}
