//! What a delta keeps itself, above a disk further down in its chain: the rest is as it is there.
//!
//! A format answers for its own units alone, and a chain may mix formats. So the chain is opened twice more, once with a disk that is all
//! data in the place of the one further down, and once with a hole: what depends on that disk is what the two do not agree on.

use std::{ops::Range, path::PathBuf, sync::Arc};

use crate::{
    disk::{Disk, Extent, ExtentKind, add_run},
    error::{Error, Result, check_range},
    source::Storage,
};

/// How an image was opened, so that it can be once more.
pub(crate) trait Reopen: Send + Sync {
    /// The disk, with another one in the place of one below.
    fn with(&self, stand_in: StandIn) -> Result<Arc<dyn Disk>>;
}

/// Where a file lies, whatever its name.
pub(super) fn place_of(storage: &dyn Storage) -> PathBuf {
    PathBuf::from(storage.name()).canonicalize().unwrap_or_else(|_| storage.name().into())
}

/// A disk that is put in the place of one in a chain: all of one kind, with nothing to read.
#[derive(Debug, Clone)]
pub(crate) struct StandIn {
    /// Where the file of the one that it stands in for lies.
    place: PathBuf,
    kind: ExtentKind,
}

impl StandIn {
    /// The disk that `storage` is opened as, where it stands in for that one of `size` bytes.
    pub(crate) fn of(&self, storage: &dyn Storage, size: u64) -> Option<Arc<dyn Disk>> {
        (place_of(storage) == self.place).then(|| Arc::new(Solid { size, kind: self.kind }) as Arc<dyn Disk>)
    }
}

/// The ranges that do not come from the image in `below`, ascending and apart; none where there are more than `most`. Where that image is not
/// in the chain, that is all of the disk.
///
/// # Errors
/// Those of opening and of reading tables; [`Error::Interrupted`].
pub(crate) fn above(
    image: &dyn Reopen,
    below: &dyn Storage,
    most: usize,
    cancelled: &dyn Fn() -> bool,
) -> Result<Option<Vec<Range<u64>>>> {
    let with = |kind| image.with(StandIn { place: place_of(below), kind });
    let (data, hole) = (with(ExtentKind::Data)?, with(ExtentKind::Zero)?);
    let (mut ranges, mut at): (Vec<Range<u64>>, u64) = (Vec::new(), 0);
    while at < data.size() {
        if cancelled() {
            return Err(Error::Interrupted);
        }
        let (one, other) = (data.extent_at(at)?, hole.extent_at(at)?);
        let end = one.end().min(other.end());
        if one.kind == other.kind && !add_run(&mut ranges, at..end, most) {
            return Ok(None);
        }
        at = end.max(at + 1);
    }
    Ok(Some(ranges))
}

/// A disk that is all of one kind; its bytes are of no interest to anybody.
struct Solid {
    size: u64,
    kind: ExtentKind,
}

impl Disk for Solid {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(offset, buf.len(), self.size)?;
        buf.fill(0);
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        Ok(Extent { start: offset, len: self.size - offset, kind: self.kind })
    }

    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }
}
