//! Several storages one after the other, seen as one: a disk that was cut into files of equal length.

use std::sync::Arc;

use super::{Identity, Storage};
use crate::{disk::Extent, error::Result};

/// Pieces in a row.
pub struct Pieces {
    name: String,
    /// Start of each piece and the piece; starts ascend from 0.
    pieces: Vec<(u64, Arc<dyn Storage>)>,
    len: u64,
}

impl Pieces {
    /// Joins `pieces`; `name` stands for the whole in messages.
    pub fn new(name: String, pieces: Vec<Arc<dyn Storage>>) -> Self {
        let mut len = 0;
        let pieces = pieces
            .into_iter()
            .map(|piece| {
                let start = len;
                len += piece.len();
                (start, piece)
            })
            .collect();
        Self { name, pieces, len }
    }

    fn piece_at(&self, offset: u64) -> &(u64, Arc<dyn Storage>) {
        &self.pieces[self.pieces.partition_point(|(start, _)| *start <= offset) - 1]
    }
}

impl Storage for Pieces {
    fn name(&self) -> &str {
        &self.name
    }

    fn len(&self) -> u64 {
        self.len
    }

    fn allocated(&self) -> u64 {
        self.pieces.iter().map(|(_, piece)| piece.allocated()).sum()
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        super::require(self, offset, buf.len() as u64, "a read")?;
        while !buf.is_empty() {
            let (start, piece) = self.piece_at(offset);
            let inside = (piece.len() - (offset - start)).min(buf.len() as u64) as usize;
            let (head, rest) = buf.split_at_mut(inside);
            piece.read_at(offset - start, head)?;
            offset += inside as u64;
            buf = rest;
        }
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let (start, piece) = self.piece_at(offset);
        let extent = piece.extent_at(offset - start)?;
        Ok(Extent { start: offset, ..extent })
    }

    fn check_unchanged(&self) -> Result<()> {
        self.pieces.iter().try_for_each(|(_, piece)| piece.check_unchanged())
    }

    fn identity(&self) -> Option<&Identity> {
        self.pieces.first().and_then(|(_, piece)| piece.identity())
    }
}
