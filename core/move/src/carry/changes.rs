//! What the source itself knows of what was written since a first pass: the map of a block device.

use std::ops::Range;

use reformis_disk::{ExtentKind, disk::add_run};
use reformis_wire::Scheme;

use crate::{
    error::{Error, Result},
    observer::Context,
    target::TargetDisk,
};

/// Runs of a map that are kept; where there are more, all of the disk is compared.
pub(super) const MOST: usize = 1 << 17;

/// The ranges of `disk` that the map `bitmap` of its block device says were written to, ascending; none where there are too many.
///
/// # Errors
/// [`Error::NoBitmap`] for what is no block device at a link; [`reformis_disk::Error::Wire`] where it has no such map.
pub(super) fn of(disk: &TargetDisk, bitmap: &str, context: &Context<'_>) -> Result<Option<Vec<Range<u64>>>> {
    let none = |what: &str| Error::NoBitmap { disk: disk.id.clone(), what: what.into() };
    let is_plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    if bitmap.is_empty() || !bitmap.chars().all(is_plain) {
        return Err(none("its name is not of letters, digits, '-', '_' and '.'"));
    }
    let [part] = &disk.parts[..] else { return Err(none("the disk is not one block device")) };
    let link = reformis_wire::link(part.storage.name()).ok();
    let is_device = |link: &reformis_wire::Link| matches!(link.scheme, Scheme::Nbd | Scheme::Nbds | Scheme::NbdUnix);
    let link = link.filter(is_device).ok_or_else(|| none("only a block device at an nbd link has one"))?;
    let text = link.to_string();
    let sign = if text.contains('?') { '&' } else { '?' };
    let link = reformis_wire::link(&format!("{text}{sign}bitmap={bitmap}"))?;
    let map = context.wires.open(&link, context.budget)?.random_access()?;
    if map.len() != part.storage.len() {
        return Err(none("it is of a disk of another size"));
    }
    let (mut ranges, mut at): (Vec<Range<u64>>, u64) = (Vec::new(), 0);
    while at < map.len() {
        context.check()?;
        let extent = map.extent_at(at)?;
        let end = extent.end().min(map.len());
        if extent.kind == ExtentKind::Data && !add_run(&mut ranges, at..end, MOST) {
            return Ok(None);
        }
        at = end.max(at + 1);
    }
    Ok(Some(ranges))
}

/// Whether one of `ranges`, which ascend, touches `asked`.
pub(super) fn touch(ranges: &[Range<u64>], asked: &Range<u64>) -> bool {
    let next = ranges.partition_point(|range| range.end <= asked.start);
    ranges.get(next).is_some_and(|range| range.start < asked.end)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_touch_what_they_share_a_byte_with() {
        let ranges = [10..20, 30..31];
        for (asked, expected) in
            [(0..10, false), (0..11, true), (19..25, true), (20..30, false), (30..31, true), (31..99, false)]
        {
            assert_eq!(touch(&ranges, &asked), expected, "{asked:?}");
        }
        assert!(!touch(&[], &(0..100)));
    }
}
