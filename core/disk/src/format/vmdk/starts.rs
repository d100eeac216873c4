//! Finding grains that lie on one another, without keeping every grain.

use std::{collections::HashMap, sync::Arc};

use crate::{
    budget::{Budget, Hold},
    to_usize,
};

/// Cells that are kept together.
const CELLS: u64 = 4096;
/// Groups of cells that we are willing to keep: 32 MiB, for 1 TiB in grains of 64 KiB. What comes after is not checked.
const MAX_GROUPS: usize = 4096;

/// Where grains of one length start in the file. Two grains that do not overlap start at least one length apart, so a
/// cell as long as a grain holds one start at the most, and two bytes a cell are enough.
pub(super) struct GrainStarts {
    grain: u64,
    /// For each cell of the file, the start inside the cell plus one; 0 for none.
    groups: HashMap<u64, Box<[u16]>>,
    hold: Hold,
}

impl GrainStarts {
    /// For grains of `grain` sectors, at most 4096.
    pub(super) fn new(grain: u64, budget: &Arc<Budget>) -> Self {
        Self { grain, groups: HashMap::new(), hold: budget.hold() }
    }

    /// Adds a grain that starts at sector `start`; false when it overlaps one added before.
    #[expect(clippy::cast_possible_truncation, reason = "smaller than a grain, which is at most 4096 sectors")]
    #[expect(clippy::indexing_slicing, reason = "the place is taken modulo the length of the group")]
    pub(super) fn add(&mut self, start: u64) -> bool {
        let (cell, inside) = (start / self.grain, (start % self.grain) as u16);
        let before = cell.checked_sub(1).map_or(0, |cell| self.get(cell));
        let after = self.get(cell + 1);
        if self.get(cell) != 0 || before > inside + 1 || (after != 0 && after <= inside) {
            return false;
        }
        // What there is no memory for is not checked: the grains are read all the same.
        let is_kept = self.groups.contains_key(&(cell / CELLS))
            || (self.groups.len() < MAX_GROUPS && self.hold.grow(CELLS * 2).is_ok());
        if is_kept {
            let group = self.groups.entry(cell / CELLS).or_insert_with(|| vec![0; to_usize(CELLS)].into());
            group[(cell % CELLS) as usize] = inside + 1;
        }
        true
    }

    #[expect(clippy::indexing_slicing, reason = "the place is taken modulo the length of the group")]
    fn get(&self, cell: u64) -> u16 {
        self.groups.get(&(cell / CELLS)).map_or(0, |group| group[(cell % CELLS) as usize])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn overlap_is_found_on_either_side_and_touching_is_not_overlap() {
        let mut starts = GrainStarts::new(128, &Budget::whole());
        assert!(starts.add(300) && starts.add(428) && starts.add(172));
        for overlapping in [300, 299, 301, 427, 429, 555, 173, 45] {
            assert!(!starts.add(overlapping), "{overlapping}");
        }
        assert!(starts.add(556) && starts.add(44));
    }
}
