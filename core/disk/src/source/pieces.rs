//! Several storages one after the other, seen as one: a disk that was cut into files of equal length.

use crate::to_usize;
use std::{path::Path, sync::Arc};

use super::{FileStorage, Identity, Storage};
use crate::{
    budget::Budget,
    disk::Extent,
    error::{Error, Result},
};

/// Pieces in a row.
pub struct Pieces {
    name: String,
    /// Start of each piece and the piece; starts ascend from 0.
    pieces: Vec<(u64, Arc<dyn Storage>)>,
    len: u64,
    budget: Arc<Budget>,
}

impl Pieces {
    /// The disk that was cut into `path` and the files that count on from it (`disk.img.000`, `disk.img.001`, …), from 0 or 1;
    /// `None` when the name does not count or nothing follows it.
    ///
    /// # Errors
    /// [`Error::Damaged`] when `path` is not the first piece, or one between two others is not there; those of opening them.
    #[expect(clippy::indexing_slicing, reason = "there is a first piece, and it starts at zero")]
    pub fn find(path: &Path, budget: &Arc<Budget>) -> Result<Option<Self>> {
        let (Some(stem), Some(digits)) = (path.file_stem(), path.extension().and_then(|e| e.to_str())) else {
            return Ok(None);
        };
        let number: u64 = match digits.parse() {
            Ok(number) if digits.len() >= 2 => number,
            _ => return Ok(None),
        };
        let folder = path.parent().filter(|folder| *folder != Path::new("")).unwrap_or(Path::new("."));
        let shown = || path.to_string_lossy().into_owned();
        let entries = std::fs::read_dir(folder).map_err(Error::io("listing", folder.to_string_lossy(), None))?;
        let mut numbers: Vec<u64> = entries
            .flatten()
            .filter_map(|entry| {
                let name = entry.file_name();
                let name = Path::new(&name);
                let extension = name.extension().and_then(|e| e.to_str()).filter(|e| e.len() == digits.len())?;
                if name.file_stem() == Some(stem) { extension.parse().ok() } else { None }
            })
            .collect();
        numbers.sort_unstable();
        // What does not count from the start counts something else, such as days.
        if numbers.len() < 2 || numbers[0] > 1 {
            return Ok(None);
        }
        let name_of = |number: u64| path.with_extension(format!("{number:0width$}", width = digits.len()));
        let first = numbers[0];
        let missing = (first..).zip(&numbers).find(|(expected, found)| expected != *found);
        if let Some((missing, _)) = missing {
            let what =
                format!("it is one of several pieces, and '{}' is not there", name_of(missing).to_string_lossy());
            return Err(Error::damaged(&shown(), None, what));
        }
        if number != first {
            let what =
                format!("it is a piece of a disk, which begins with '{}': name that one", name_of(first).display());
            return Err(Error::damaged(&shown(), None, what));
        }
        let open =
            |number: &u64| -> Result<Arc<dyn Storage>> { Ok(Arc::new(FileStorage::open(&name_of(*number), budget)?)) };
        // Without the number, the name tells the format.
        let name = path.with_extension("").to_string_lossy().into_owned();
        Ok(Some(Self::new(name, numbers.iter().map(open).collect::<Result<_>>()?, budget)))
    }

    /// Joins `pieces`; `name` stands for the whole in messages, and what is collected from it is counted against `budget`.
    pub fn new(name: String, pieces: Vec<Arc<dyn Storage>>, budget: &Arc<Budget>) -> Self {
        let mut len = 0;
        let pieces = pieces
            .into_iter()
            .map(|piece| {
                let start = len;
                len += piece.len();
                (start, piece)
            })
            .collect();
        Self { name, pieces, len, budget: budget.clone() }
    }

    #[expect(clippy::indexing_slicing, reason = "there is a first piece, and it starts at zero")]
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

    fn is_far(&self) -> bool {
        self.pieces.iter().any(|(_, piece)| piece.is_far())
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        super::require(self, offset, buf.len() as u64, "a read")?;
        while !buf.is_empty() {
            let (start, piece) = self.piece_at(offset);
            let inside = to_usize((piece.len() - (offset - start)).min(buf.len() as u64));
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

    fn budget(&self) -> &Arc<Budget> {
        &self.budget
    }
}
