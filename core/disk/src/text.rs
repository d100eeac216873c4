//! Text that comes from images and file names, made safe to show.

use std::{
    cmp::Ordering,
    fmt::{self, Display, Write},
};

/// Shows a stranger's text between quotation marks, with every character that could steer a terminal or hide
/// (controls, line breaks, bidirectional overrides, zero-width characters) written as an escape.
pub struct Quoted<'a>(pub &'a str);

impl Display for Quoted<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_char('\'')?;
        f.write_str(&printable(self.0))?;
        f.write_char('\'')
    }
}

/// `text` with everything that could steer a terminal or hide written as an escape.
pub fn printable(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for c in text.chars() {
        if is_unsafe(c) {
            safe.extend(c.escape_default());
        } else {
            safe.push(c);
        }
    }
    safe
}

/// Characters that are not seen (Default_Ignorable_Code_Point of the Unicode Character Database), that turn the direction of writing, end a
/// line, or stand around what is not shown.
const HIDDEN: [std::ops::RangeInclusive<char>; 18] = [
    '\u{ad}'..='\u{ad}',
    '\u{34f}'..='\u{34f}',
    '\u{61c}'..='\u{61c}',
    '\u{115f}'..='\u{1160}',
    '\u{17b4}'..='\u{17b5}',
    '\u{180b}'..='\u{180f}',
    '\u{200b}'..='\u{200f}',
    '\u{2028}'..='\u{202e}',
    '\u{2060}'..='\u{206f}',
    '\u{3164}'..='\u{3164}',
    '\u{fe00}'..='\u{fe0f}',
    '\u{feff}'..='\u{feff}',
    '\u{ffa0}'..='\u{ffa0}',
    '\u{fff0}'..='\u{fffb}',
    '\u{13430}'..='\u{1343f}',
    '\u{1bca0}'..='\u{1bca3}',
    '\u{1d173}'..='\u{1d17a}',
    '\u{e0000}'..='\u{e0fff}',
];

/// Whether a character could steer a terminal, or hide.
pub fn is_unsafe(c: char) -> bool {
    c.is_control() || !c.is_ascii() && HIDDEN.iter().any(|range| range.contains(&c))
}

/// The order in which a person puts names: numbers in them count as numbers, so that `m2` comes before `m10`.
pub fn in_order(one: &str, other: &str) -> Ordering {
    let (mut left, mut right) = (one.as_bytes(), other.as_bytes());
    loop {
        let digits = |text: &[u8]| text.iter().take_while(|byte| byte.is_ascii_digit()).count();
        let order = match (left, right) {
            // What counts the same is told apart by how it is written.
            ([], []) => return one.cmp(other),
            ([], _) => return Ordering::Less,
            (_, []) => return Ordering::Greater,
            ([a, ..], [b, ..]) if a.is_ascii_digit() && b.is_ascii_digit() => {
                let (number, rest) = left.split_at(digits(left));
                let (its_number, its_rest) = right.split_at(digits(right));
                (left, right) = (rest, its_rest);
                let value =
                    |digits: &'_ [u8]| digits.iter().position(|digit| *digit != b'0').map_or(digits.len(), |at| at);
                let [number, its_number] = [number, its_number].map(|digits| digits.split_at(value(digits)).1);
                (number.len(), number).cmp(&(its_number.len(), its_number))
            }
            ([a, rest @ ..], [b, its_rest @ ..]) => {
                (left, right) = (rest, its_rest);
                a.cmp(b)
            }
        };
        if order.is_ne() {
            return order;
        }
    }
}

/// Text in UTF-16, up to its first zero.
pub(crate) fn from_utf16(units: impl Iterator<Item = u16>) -> String {
    let units: Vec<u16> = units.take_while(|&unit| unit != 0).collect();
    String::from_utf16_lossy(&units)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_in_the_order_of_their_numbers() {
        let sorted = ["berths", "m", "m0", "m2", "m2b", "m10", "m10-1", "m10-2", "m010x", "m100", "tide"];
        let mut names = sorted.to_vec();
        names.reverse();
        names.sort_by(|one, other| in_order(one, other));
        assert_eq!(names, sorted);
    }

    proptest::proptest! {
        /// It is an order of all texts, and only equal ones are the same.
        #[test]
        fn every_two_names_have_an_order(names in proptest::collection::vec("[a0-2]{0,5}", 3)) {
            let [a, b, c] = &names[..] else { unreachable!() };
            proptest::prop_assert_eq!(in_order(a, b), in_order(b, a).reverse());
            proptest::prop_assert_eq!(in_order(a, b).is_eq(), a == b);
            if in_order(a, b).is_le() && in_order(b, c).is_le() {
                proptest::prop_assert!(in_order(a, c).is_le());
            }
        }
    }

    #[test]
    fn steering_characters_are_escaped_and_letters_of_any_script_kept() {
        assert_eq!(printable("tide\x1b[2Jlog\n"), "tide\\u{1b}[2Jlog\\n");
        assert_eq!(printable("a\u{202e}b\u{9b}c"), "a\\u{202e}b\\u{9b}c");
        assert_eq!(printable("Küstenpegel 潮位"), "Küstenpegel 潮位");
        assert_eq!(Quoted("x").to_string(), "'x'");
    }
}
