//! What a server says about the part that it sends.

/// The header `Content-Range` of a part (RFC 9110, section 14.4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct ContentRange {
    /// The first byte.
    pub(super) first: u64,
    /// The last byte, which belongs to it.
    pub(super) last: u64,
    /// Bytes of the whole.
    pub(super) whole: u64,
}

impl ContentRange {
    /// Reads `bytes FIRST-LAST/WHOLE`; a range that is none, or of a whole that is not known, is nothing.
    pub(super) fn parse(text: &str) -> Option<Self> {
        let rest = text.trim().strip_prefix("bytes")?.trim_start();
        let (range, whole) = rest.split_once('/')?;
        let (first, last) = range.split_once('-')?;
        let number = |text: &str| match text.trim() {
            text if !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit()) => text.parse::<u64>().ok(),
            _ => None,
        };
        let range = Self { first: number(first)?, last: number(last)?, whole: number(whole)? };
        (range.first <= range.last && range.last < range.whole).then_some(range)
    }

    /// The whole of `bytes */WHOLE`, which stands where a range does not lie inside.
    pub(super) fn whole_of_unmet(text: &str) -> Option<u64> {
        text.trim().strip_prefix("bytes")?.trim_start().strip_prefix("*/")?.trim().parse().ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_sound_ranges_are_read() {
        let range = |first, last, whole| Some(ContentRange { first, last, whole });
        assert_eq!(ContentRange::parse("bytes 0-9/10"), range(0, 9, 10));
        assert_eq!(
            ContentRange::parse("bytes 5-18446744073709551613/18446744073709551615"),
            range(5, u64::MAX - 2, u64::MAX)
        );
        for text in [
            "bytes 9-0/10",
            "bytes 0-10/10",
            "bytes 0-9/*",
            "bytes */10",
            "items 0-9/10",
            "bytes 0-9",
            "bytes -1-9/10",
            "bytes 0-9/99999999999999999999",
            "bytes +0-9/10",
            "bytes 0-/10",
            "",
        ] {
            assert_eq!(ContentRange::parse(text), None, "{text}");
        }
        assert_eq!(ContentRange::whole_of_unmet("bytes */0"), Some(0));
    }
}
