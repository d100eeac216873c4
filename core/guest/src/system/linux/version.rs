//! Which of two versions is the newer one: as RPM, GRUB's entry files and systemd's loader compare them (UAPI group, "Version Format Specification"),
//! part by part, numbers as numbers.

use std::cmp::Ordering;

/// A part of a version: a number, or letters.
fn part(text: &[u8]) -> (&[u8], &[u8]) {
    let is_number = text.first().is_some_and(u8::is_ascii_digit);
    let belongs = |byte: &&u8| if is_number { byte.is_ascii_digit() } else { byte.is_ascii_alphabetic() };
    text.split_at(text.iter().take_while(belongs).count())
}

/// Compares two versions, or names that end with one.
pub(crate) fn compare(one: &str, other: &str) -> Ordering {
    let (mut one, mut other) = (one.as_bytes(), other.as_bytes());
    loop {
        let skip = |text: &mut &[u8]| {
            let count = text.iter().take_while(|byte| !byte.is_ascii_alphanumeric() && **byte != b'~').count();
            *text = text.get(count..).unwrap_or_default();
        };
        skip(&mut one);
        skip(&mut other);
        // What comes before a release.
        match (one.strip_prefix(b"~"), other.strip_prefix(b"~")) {
            (Some(rest), Some(more)) => {
                (one, other) = (rest, more);
                continue;
            }
            (Some(_), None) => return Ordering::Less,
            (None, Some(_)) => return Ordering::Greater,
            (None, None) => {}
        }
        if one.is_empty() || other.is_empty() {
            return one.len().cmp(&other.len());
        }
        let ((first, rest), (second, more)) = (part(one), part(other));
        let is_number = |part: &[u8]| part.first().is_some_and(u8::is_ascii_digit);
        let order = match (is_number(first), is_number(second)) {
            (true, true) => {
                let plain = |part: &[u8]| part.iter().position(|digit| *digit != b'0').map_or(part.len(), |at| at);
                let (first, second) = (first.split_at(plain(first)).1, second.split_at(plain(second)).1);
                first.len().cmp(&second.len()).then_with(|| first.cmp(second))
            }
            (false, false) => first.cmp(second),
            // A number is newer than letters.
            (true, false) => Ordering::Greater,
            (false, true) => Ordering::Less,
        };
        if order != Ordering::Equal {
            return order;
        }
        (one, other) = (rest, more);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn newer_versions_are_greater() {
        // Each before the next.
        let rising =
            ["5.14.0-70.el9", "5.14.0-427.13.1.el9", "5.14.0-427.20.1.el9", "6.1.0-9", "6.1.0-10", "6.12~rc1", "6.12"];
        for (at, one) in rising.iter().enumerate() {
            for (place, other) in rising.iter().enumerate() {
                assert_eq!(compare(one, other), at.cmp(&place), "{one} {other}");
            }
        }
    }

    proptest! {
        #[test]
        fn it_is_an_order(all in prop::collection::vec("[a-b0-1.~-]{0,6}", 3)) {
            let [one, two, three] = [&all[0], &all[1], &all[2]];
            prop_assert_eq!(compare(one, two), compare(two, one).reverse());
            prop_assert_eq!(compare(one, one), Ordering::Equal);
            if compare(one, two) != Ordering::Greater && compare(two, three) != Ordering::Greater {
                prop_assert_ne!(compare(one, three), Ordering::Greater);
            }
        }

        #[test]
        fn any_text_is_compared(one in ".{0,30}", other in ".{0,30}") {
            compare(&one, &other);
        }
    }
}
