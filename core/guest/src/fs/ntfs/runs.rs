//! Run lists: which clusters hold a stream, in its order.

use std::ops::Range;

/// Clusters in a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Run {
    /// The first of them, counted in the stream.
    pub(super) vcn: u64,
    /// How many.
    pub(super) len: u64,
    /// The first of them, counted in the volume; `None` for a hole.
    pub(super) lcn: Option<u64>,
}

impl Run {
    /// Behind the last one, counted in the stream.
    pub(super) fn end(self) -> u64 {
        self.vcn + self.len
    }
}

/// More clusters than any volume has; sums of two fit easily.
const MOST: u64 = 1 << 56;

/// Reads the mapping pairs `bytes` of a stream's clusters from `first` on, on a volume of `clusters`.
///
/// # Errors
/// What breaks the rules.
pub(super) fn decode(bytes: &[u8], first: u64, clusters: u64) -> Result<Vec<Run>, &'static str> {
    let mut runs: Vec<Run> = Vec::new();
    let (mut rest, mut vcn, mut lcn) = (bytes, first, 0_i64);
    loop {
        let Some((&head, after)) = rest.split_first() else { return Err("a run list has no end") };
        if head == 0 {
            return Ok(runs);
        }
        let (len_bytes, lcn_bytes) = (usize::from(head & 15), usize::from(head >> 4));
        if !(1..=8).contains(&len_bytes) || lcn_bytes > 8 {
            return Err("a run list has a run of unknown width");
        }
        let Some((len, after)) = after.split_at_checked(len_bytes) else { return Err("a run list has no end") };
        let Some((step, after)) = after.split_at_checked(lcn_bytes) else { return Err("a run list has no end") };
        let len = u64::try_from(signed(len)).ok().filter(|len| (1..MOST).contains(len)).ok_or("a run has no length")?;
        let place = match lcn_bytes {
            0 => None,
            _ => {
                lcn = lcn.checked_add(signed(step)).ok_or("a run lies outside the volume")?;
                let place =
                    u64::try_from(lcn).ok().filter(|lcn| lcn.checked_add(len).is_some_and(|end| end <= clusters));
                Some(place.ok_or("a run lies outside the volume")?)
            }
        };
        let run = Run { vcn, len, lcn: place };
        vcn = vcn.checked_add(len).filter(|end| *end < MOST).ok_or("a run list is too long")?;
        push(&mut runs, run);
        rest = after;
    }
}

/// Adds a run, which goes on behind the last one.
pub(super) fn push(runs: &mut Vec<Run>, run: Run) {
    match runs.last_mut() {
        Some(last) if last.lcn.map(|lcn| lcn + last.len) == run.lcn && last.lcn.is_some() == run.lcn.is_some() => {
            last.len += run.len;
        }
        _ => runs.push(run),
    }
}

/// A number of up to 8 bytes, the last of which has the sign.
fn signed(bytes: &[u8]) -> i64 {
    let negative = bytes.last().is_some_and(|last| last & 0x80 != 0);
    let start = if negative { -1 } else { 0 };
    bytes.iter().rev().fold(start, |number, byte| number << 8 | i64::from(*byte))
}

/// How many bytes a number needs with its sign.
fn width(number: i64) -> usize {
    (1..8).find(|bytes| (number << (64 - 8 * bytes)) >> (64 - 8 * bytes) == number).unwrap_or(8)
}

/// Mapping pairs of `runs`, with their end.
pub(super) fn encode(runs: &[Run]) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut before = 0;
    for run in runs {
        let len = run.len.cast_signed();
        let step = run.lcn.map(|lcn| lcn.cast_signed() - before);
        let (len_bytes, lcn_bytes) = (width(len), step.map_or(0, width));
        bytes.push((lcn_bytes << 4 | len_bytes).to_le_bytes()[0]);
        bytes.extend(len.to_le_bytes().iter().take(len_bytes));
        bytes.extend(step.unwrap_or_default().to_le_bytes().iter().take(lcn_bytes));
        before += step.unwrap_or_default();
    }
    bytes.push(0);
    bytes
}

/// What of `runs` lies in `range` of the stream's clusters, cut to it.
pub(super) fn cut(runs: &[Run], range: Range<u64>) -> Vec<Run> {
    let first = runs.partition_point(|run| run.end() <= range.start);
    let mut found = Vec::new();
    for run in runs.iter().skip(first).take_while(|run| run.vcn < range.end) {
        let (start, end) = (run.vcn.max(range.start), run.end().min(range.end));
        found.push(Run { vcn: start, len: end - start, lcn: run.lcn.map(|lcn| lcn + (start - run.vcn)) });
    }
    found
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_was_encoded_is_decoded(list in prop::collection::vec((1..1_u64 << 40, prop::option::of(0..1_u64 << 44)), 0..40)) {
            let mut runs = Vec::new();
            let mut vcn = 7;
            for (len, lcn) in list {
                push(&mut runs, Run { vcn, len, lcn });
                vcn += len;
            }
            let bytes = encode(&runs);
            prop_assert_eq!(decode(&bytes, 7, 1 << 50), Ok(runs.clone()));
            prop_assert!(decode(&bytes[..bytes.len() - 1], 7, 1 << 50).is_err());
            prop_assert_eq!(cut(&runs, 0..vcn), runs.clone());
            for run in &runs {
                let middle = run.vcn + run.len / 2;
                let (left, right) = (cut(&runs, run.vcn..middle), cut(&runs, middle..run.end()));
                let both = left.iter().chain(&right).map(|part| part.len).sum::<u64>();
                prop_assert_eq!(both, run.len);
                prop_assert_eq!(right.last().map(|part| part.end()), Some(run.end()));
            }
        }

        #[test]
        fn any_bytes_end(bytes in prop::collection::vec(any::<u8>(), 0..60)) {
            if let Ok(runs) = decode(&bytes, 0, 1 << 30) {
                prop_assert!(runs.windows(2).all(|pair| pair[0].end() == pair[1].vcn));
            }
        }
    }

    #[test]
    fn pairs_lie_as_the_format_has_them() {
        let runs = [
            Run { vcn: 0, len: 0x38, lcn: Some(0x342573) },
            Run { vcn: 0x38, len: 0x114, lcn: Some(0x363758) },
            Run { vcn: 0x14c, len: 0x42, lcn: None },
            Run { vcn: 0x18e, len: 0x80, lcn: Some(0x363700) },
        ];
        let bytes =
            [0x31, 0x38, 0x73, 0x25, 0x34, 0x32, 0x14, 0x01, 0xe5, 0x11, 0x02, 0x01, 0x42, 0x12, 0x80, 0x00, 0xa8, 0];
        assert_eq!(encode(&runs), bytes);
        assert_eq!(decode(&bytes, 0, 1 << 30).unwrap(), runs);
    }
}
