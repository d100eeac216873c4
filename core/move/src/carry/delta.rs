//! What a delta knows of what was written since a first pass: the machine's disk was frozen then, and a snapshot's delta took its writes.

use std::ops::Range;

use jiff::{SignedDuration, Timestamp};

use super::changes::MOST;
use crate::{
    error::Result,
    landing::ahead::Kept,
    observer::Context,
    record::SourceFile,
    target::{TargetDisk, is_still},
};

/// How long before a first pass its files must have been left alone: file systems tell the time of a change in steps, of two seconds at
/// the most (FAT).
const STILL: SignedDuration = SignedDuration::from_secs(2);

/// The ranges of `disk` that lie above what the pass `first` read of its disk `index`, ascending; none where that pass read another disk,
/// one that was written to since, or where there are too many.
///
/// # Errors
/// Those of opening the chain once more, and of reading its tables.
pub(super) fn of(
    disk: &TargetDisk,
    first: &Kept,
    index: usize,
    context: &Context<'_>,
) -> Result<Option<Vec<Range<u64>>>> {
    let (Some(image), Some(earlier)) = (&disk.image, first.chains.get(index)) else { return Ok(None) };
    let Some((top, _)) = earlier.split_first() else { return Ok(None) };
    let files = || disk.parts.iter().map(|part| &part.storage).chain(&image.files);
    let is_frozen =
        |file: &SourceFile| is_known(file, first.pass.began) && files().any(|now| is_still(file, now.as_ref()));
    if !earlier.iter().all(is_frozen) {
        return Ok(None);
    }
    if disk.parts.first().is_some_and(|part| is_still(top, part.storage.as_ref())) {
        // No snapshot was made of this one, and nobody wrote to it.
        return Ok(Some(Vec::new()));
    }
    let Some(below) = image.files.iter().find(|now| is_still(top, now.as_ref())) else { return Ok(None) };
    let above = image.above(below.as_ref(), MOST, &|| context.is_cancelled())?;
    tracing::info!(disk = disk.id, above = top.path, runs = above.as_ref().map(Vec::len), "a delta tells of changes");
    Ok(above)
}

/// Whether a file that is written to behind our back would not have the same version. What a remote calls it (a tag) often is made of a time in
/// whole seconds that we do not see, so that a write within the same one leaves it as it is.
fn is_known(file: &SourceFile, began: Timestamp) -> bool {
    file.tag.is_none() && file.modified.is_some_and(|modified| began.duration_since(modified) >= STILL)
}
