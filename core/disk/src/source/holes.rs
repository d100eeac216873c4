//! What the file system says of a file's holes, asked once.

use std::{fs::File, sync::Arc};

use rustix::fs::{SeekFrom, seek};

use crate::{
    budget::{Budget, Hold},
    disk::{Extent, ExtentKind},
};

/// Runs that are remembered at the most: behind them the file system is asked each time.
const MANY: usize = 1 << 16;

/// The runs of a file from its start on, as far as they were asked for.
#[derive(Debug)]
pub(super) struct Holes {
    /// One behind another, the first at the start of the file.
    runs: Vec<Extent>,
    hold: Hold,
}

impl Holes {
    /// Nothing is known yet; what will be is counted against `budget`.
    pub(super) fn new(budget: &Arc<Budget>) -> Self {
        Self { runs: Vec::new(), hold: budget.hold() }
    }

    /// The run of `file` at `offset`, which is less than its length `len`.
    pub(super) fn at(&mut self, file: &File, len: u64, offset: u64) -> Extent {
        let next = self.runs.partition_point(|run| run.end() <= offset);
        if let Some(run) = self.runs.get(next) {
            return Extent { start: offset, len: run.end() - offset, ..*run };
        }
        let last = self.runs.last().copied();
        let goes_on = last.map_or(0, |run| run.end()) == offset;
        // Where a hole ends there is data; only where it ends is not known.
        let begins_with_data = goes_on && last.is_some_and(|run| run.kind == ExtentKind::Zero);
        let run = ask(file, len, offset, begins_with_data);
        // Vectors grow by doubling.
        let bytes = 2 * size_of::<Extent>() as u64;
        if goes_on && self.runs.len() < MANY && !self.hold.budget().is_tight() && self.hold.grow(bytes).is_ok() {
            self.runs.push(run);
        }
        run
    }
}

/// Asks the file system for the run of `file`, which is `len` bytes long, at `offset`.
fn ask(file: &File, len: u64, offset: u64, begins_with_data: bool) -> Extent {
    let data = if begins_with_data { Ok(offset) } else { seek(file, SeekFrom::Data(offset)) };
    match data {
        Ok(data) if data > offset => Extent::zero(offset, data.min(len) - offset),
        Ok(_) => {
            let hole = seek(file, SeekFrom::Hole(offset)).unwrap_or(len);
            Extent::data(offset, hole.clamp(offset + 1, len) - offset)
        }
        // No data up to the end.
        Err(rustix::io::Errno::NXIO) => Extent::zero(offset, len - offset),
        // The file system knows no holes.
        Err(_) => Extent::data(offset, len - offset),
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::FileExt;

    use proptest::prelude::*;

    use super::*;

    const PAGE: u64 = 64 << 10;

    proptest! {
        /// Whatever is asked for first: the runs are those that were written, and they are remembered.
        #[test]
        fn runs_are_those_of_the_file(written in prop::collection::vec(any::<bool>(), 1..40), asked in any::<u64>()) {
            let file = tempfile::tempfile().unwrap();
            let len = written.len() as u64 * PAGE + 100;
            file.set_len(len).unwrap();
            let pages = written.iter().enumerate().filter(|(_, written)| **written);
            pages.for_each(|(page, _)| file.write_all_at(&[1; PAGE as usize], page as u64 * PAGE).unwrap());
            let budget = Budget::whole();
            let mut holes = Holes::new(&budget);
            let middle = holes.at(&file, len, asked % len);
            let mut at = 0;
            while at < len {
                let run = holes.at(&file, len, at);
                prop_assert_eq!(run, ask(&file, len, at, false));
                prop_assert_eq!(run.kind == ExtentKind::Data, written.get((at / PAGE) as usize) == Some(&true));
                at = run.end();
            }
            prop_assert_eq!(at, len);
            prop_assert_eq!(holes.at(&file, len, asked % len), middle);
            // What is remembered is not asked again.
            file.set_len(0).unwrap();
            prop_assert_eq!(holes.at(&file, len, asked % len), middle);
            drop(holes);
            prop_assert_eq!(budget.used(), 0);
        }
    }
}
