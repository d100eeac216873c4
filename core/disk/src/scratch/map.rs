//! Which block is kept, and why: two bits for each, in pages that are read when they are needed.

use std::{collections::BTreeMap, fs::File, io, ops::Range, os::unix::fs::FileExt};

use super::header::{BLOCKS_OF_PAGE, PAGE, place_of_page};
use crate::to_usize;

/// Pages that are held in memory: 8 MiB, which tell of 128 GiB.
const HELD: usize = 2048;

/// What holds the bytes of a block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    /// The disk below.
    Base,
    /// The file: changed before the disk was lent.
    Edited,
    /// The file: written by the guest.
    Written,
    /// Nothing: the guest made it zero.
    Zero,
}

impl State {
    fn of(bits: u8) -> Self {
        match bits & 3 {
            0 => Self::Base,
            1 => Self::Edited,
            2 => Self::Written,
            _ => Self::Zero,
        }
    }

    fn bits(self) -> u8 {
        match self {
            Self::Base => 0,
            Self::Edited => 1,
            Self::Written => 2,
            Self::Zero => 3,
        }
    }
}

struct Page {
    bytes: Box<[u8]>,
    /// Counts its changes.
    version: u64,
    /// The version that the file has.
    kept: u64,
}

/// The map.
pub(super) struct Map {
    blocks: u64,
    pages: BTreeMap<u64, Page>,
}

/// A page that differs from the file's: its number, its version, its bytes.
pub(super) type Changed = (u64, u64, Box<[u8]>);

impl Map {
    pub(super) fn new(blocks: u64) -> Self {
        Self { blocks, pages: BTreeMap::new() }
    }

    fn page(&mut self, number: u64, file: &File) -> io::Result<&mut Page> {
        if !self.pages.contains_key(&number) {
            if self.pages.len() >= HELD {
                self.pages.retain(|_, page| page.version != page.kept);
            }
            let mut bytes = vec![0; to_usize(PAGE)].into_boxed_slice();
            file.read_exact_at(&mut bytes, place_of_page(number))?;
            self.pages.insert(number, Page { bytes, version: 0, kept: 0 });
        }
        self.pages.get_mut(&number).ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    /// The state of block `block`, and the block behind the run of that state; no run is followed into another page.
    pub(super) fn run(&mut self, block: u64, file: &File) -> io::Result<(State, u64)> {
        let blocks = self.blocks;
        let number = block / BLOCKS_OF_PAGE;
        let page = self.page(number, file)?;
        let first = block % BLOCKS_OF_PAGE;
        let state_of = |index: u64| {
            let byte = page.bytes.get(to_usize(index / 4)).copied().unwrap_or(0);
            State::of(byte >> (index % 4 * 2))
        };
        let state = state_of(first);
        // A byte of four equal states.
        let whole = state.bits() * 0b0101_0101;
        let mut index = first + 1;
        while index < BLOCKS_OF_PAGE {
            if index.is_multiple_of(4) && page.bytes.get(to_usize(index / 4)) == Some(&whole) {
                index += 4;
            } else if state_of(index) == state {
                index += 1;
            } else {
                break;
            }
        }
        Ok((state, (number * BLOCKS_OF_PAGE + index).min(blocks).max(block + 1)))
    }

    /// Gives blocks a state.
    pub(super) fn set(&mut self, blocks: Range<u64>, state: State, file: &File) -> io::Result<()> {
        let mut block = blocks.start;
        while block < blocks.end {
            let page = self.page(block / BLOCKS_OF_PAGE, file)?;
            let end = blocks.end.min((block / BLOCKS_OF_PAGE + 1) * BLOCKS_OF_PAGE);
            while block < end {
                let index = block % BLOCKS_OF_PAGE;
                let Some(byte) = page.bytes.get_mut(to_usize(index / 4)) else { break };
                if index.is_multiple_of(4) && end - block >= 4 {
                    *byte = state.bits() * 0b0101_0101;
                    block += 4;
                } else {
                    let shift = index % 4 * 2;
                    *byte = *byte & !(3 << shift) | state.bits() << shift;
                    block += 1;
                }
            }
            page.version += 1;
        }
        Ok(())
    }

    /// Whether so much has changed that it should be flushed.
    pub(super) fn is_full(&self) -> bool {
        self.pages.len() >= HELD && self.pages.values().filter(|page| page.version != page.kept).count() >= HELD
    }

    /// The pages that differ from the file's.
    pub(super) fn changed(&self) -> Vec<Changed> {
        let changed = self.pages.iter().filter(|(_, page)| page.version != page.kept);
        changed.map(|(number, page)| (*number, page.version, page.bytes.clone())).collect()
    }

    /// Notes that the file has these.
    pub(super) fn kept(&mut self, changed: &[Changed]) {
        for (number, version, _) in changed {
            if let Some(page) = self.pages.get_mut(number) {
                page.kept = *version;
            }
        }
    }
}
