//! What a delta knows of what was written since a first pass: the machine's disk was frozen then, and a snapshot's delta took its writes.

use std::ops::Range;

use super::changes::MOST;
use crate::{
    error::Result,
    landing::ahead::Kept,
    observer::Context,
    receipt::Reread,
    record::SourceFile,
    target::{TargetDisk, is_still},
};

/// The ranges of `disk` that lie above what the pass `first` read of its disk `index`, ascending; or why all of it is read.
///
/// # Errors
/// Those of opening the chain once more, and of reading its tables.
pub(super) fn of(
    disk: &TargetDisk,
    first: &Kept,
    index: usize,
    context: &Context<'_>,
) -> Result<std::result::Result<Vec<Range<u64>>, Reread>> {
    let Some(image) = &disk.image else { return Ok(Err(Reread::OtherDisk)) };
    let Some((top, _)) = first.chains.get(index).and_then(|chain| chain.split_first()) else {
        return Ok(Err(Reread::OtherDisk));
    };
    let earlier = first.chains.get(index).map_or(&[][..], Vec::as_slice);
    // The time is there only where every write since would show in it.
    let is_sure = |file: &SourceFile| file.tag.is_none() && file.changed.is_some();
    if !earlier.iter().all(is_sure) {
        return Ok(Err(Reread::NotSure));
    }
    let is_same = |file: &SourceFile| disk.storages().any(|now| is_still(file, now.as_ref()));
    if !earlier.iter().all(is_same) {
        return Ok(Err(Reread::Written));
    }
    if disk.parts.first().is_some_and(|part| is_still(top, part.storage.as_ref())) {
        // No snapshot was made of this one, and nobody wrote to it.
        return Ok(Ok(Vec::new()));
    }
    let Some(below) = image.files.iter().find(|now| is_still(top, now.as_ref())) else {
        return Ok(Err(Reread::OtherDisk));
    };
    let above = image.above(below.as_ref(), MOST, &|| context.is_cancelled())?;
    tracing::info!(disk = disk.id, above = top.path, runs = above.as_ref().map(Vec::len), "a delta tells of changes");
    Ok(above.ok_or(Reread::TooMuch))
}
