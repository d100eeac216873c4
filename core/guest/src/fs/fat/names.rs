//! Names: short ones of eight and three letters, and long ones beside them (Microsoft's specification, "FAT Long Directory
//! Entries").

use super::read::{ATTR_LONG_NAME, LAST_PART, SLOT};

/// Units of a long name in a slot, and in all.
const UNITS: usize = 13;
const MAX_UNITS: usize = 255;

/// A short name as it is stored.
pub(super) type Short = [u8; 11];

/// Whether a file can have this name.
pub(super) fn is_valid(name: &str) -> bool {
    let is_wrong = |c: char| c.is_control() || "\"*/:<>?\\|".contains(c);
    !name.is_empty()
        && name != "."
        && name != ".."
        && !name.contains(is_wrong)
        && !name.ends_with(['.', ' '])
        && name.encode_utf16().count() <= MAX_UNITS
}

fn is_short_char(c: char) -> bool {
    c.is_ascii_uppercase() || c.is_ascii_digit() || "$%'-_@~`!(){}^#&".contains(c)
}

/// `name` as a short one, where it is one without any change.
fn exact(name: &str) -> Option<Short> {
    let (base, ending) = name.split_once('.').unwrap_or((name, ""));
    let fits = |part: &str, most: usize| part.len() <= most && part.chars().all(is_short_char);
    (!base.is_empty() && fits(base, 8) && fits(ending, 3) && !name.ends_with('.')).then(|| stored(base, ending))
}

fn stored(base: &str, ending: &str) -> Short {
    let mut short = [b' '; 11];
    for (slot, byte) in short.iter_mut().zip(base.bytes().take(8)) {
        *slot = byte;
    }
    for (slot, byte) in short.iter_mut().skip(8).zip(ending.bytes().take(3)) {
        *slot = byte;
    }
    short
}

/// The short name for `name` where `taken` are there already, and whether it needs its long one beside it.
pub(super) fn short(name: &str, taken: &[Short]) -> (Short, bool) {
    if let Some(exact) = exact(name).filter(|exact| !taken.contains(exact)) {
        return (exact, false);
    }
    let plain = |text: &str| -> String {
        let upper = text.chars().filter(|c| !matches!(c, ' ' | '.')).map(|c| c.to_ascii_uppercase());
        upper.map(|c| if is_short_char(c) { c } else { '_' }).collect()
    };
    let trimmed = name.trim_start_matches('.');
    let (base, ending) = trimmed.rsplit_once('.').unwrap_or((trimmed, ""));
    let (base, ending) = (plain(base), plain(ending));
    let mut number = 1u32;
    loop {
        let tail = format!("~{number}");
        let room = 8usize.saturating_sub(tail.len());
        let base: String = base.chars().take(room).collect();
        let short = stored(&format!("{base}{tail}"), &ending);
        // There are fewer entries in a folder than numbers.
        if !taken.contains(&short) || number > 999_999 {
            return (short, true);
        }
        number += 1;
    }
}

/// The sum that ties the parts of a long name to the short one.
fn checksum(short: &Short) -> u8 {
    short.iter().fold(0u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte))
}

/// The slots of a long name, in the order in which they lie: the last part first.
#[expect(clippy::cast_possible_truncation, reason = "at most twenty parts")]
#[expect(clippy::indexing_slicing, reason = "a slot has 32 bytes, and a part 13 units")]
pub(super) fn long(name: &str, short: &Short) -> Vec<[u8; SLOT]> {
    let units: Vec<u16> = name.encode_utf16().collect();
    let count = units.len().div_ceil(UNITS);
    let part = |(index, part): (usize, &[u16])| {
        let mut slot = [0; SLOT];
        let last = if index + 1 == count { LAST_PART } else { 0 };
        slot[0] = (index as u8 + 1) | last;
        slot[11] = ATTR_LONG_NAME;
        slot[13] = checksum(short);
        let places = [1..11, 14..26, 28..32].into_iter().flat_map(|range| range.step_by(2));
        for (number, at) in places.enumerate() {
            // A name that ends inside a slot is ended by a zero, and filled up.
            let unit = match number.cmp(&part.len()) {
                std::cmp::Ordering::Less => part[number],
                std::cmp::Ordering::Equal => 0,
                std::cmp::Ordering::Greater => u16::MAX,
            };
            slot[at..at + 2].copy_from_slice(&unit.to_le_bytes());
        }
        slot
    };
    units.chunks(UNITS).enumerate().map(part).rev().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_names_are_made_and_kept_apart() {
        let text = |name: &str, taken: &[&str]| {
            let taken: Vec<Short> = taken.iter().map(|short| (*short).as_bytes().try_into().unwrap()).collect();
            let (short, is_long) = short(name, &taken);
            (String::from_utf8(short.to_vec()).unwrap(), is_long)
        };
        for (name, wanted, is_long) in [
            ("BOOTX64.EFI", "BOOTX64 EFI", false),
            ("EFI", "EFI        ", false),
            ("shimx64.efi", "SHIMX6~1EFI", true),
            (".hidden", "HIDDEN~1   ", true),
            ("dots.in.it", "DOTSIN~1IT ", true),
            ("Grüße", "GR__E~1    ", true),
            ("two  spaces", "TWOSPA~1   ", true),
            ("a", "A~1        ", true),
        ] {
            assert_eq!(text(name, &[]), (wanted.to_string(), is_long), "{name}");
        }
        assert_eq!(text("tide.text", &["TIDE~1  TEX"]).0, "TIDE~2  TEX");
        assert_eq!(text("TIDE~1.TEX", &["TIDE~1  TEX"]), ("TIDE~1~1TEX".into(), true));
        let many: Vec<String> = (1..12)
            .map(|number| format!("{:<8}TXT", format!("{}~{number}", &"LONGNAME"[..8 - format!("~{number}").len()])))
            .collect();
        let many: Vec<&str> = many.iter().map(String::as_str).collect();
        assert_eq!(text("longname and more.txt", &many).0, "LONGN~12TXT");
    }

    #[test]
    fn what_cannot_be_a_name() {
        for name in ["", ".", "..", "a/b", "a:b", "a\nb", "end.", "end ", &"x".repeat(256)] {
            assert!(!is_valid(name), "{name:?}");
        }
        assert!(is_valid("Grüße an alle") && is_valid(&"x".repeat(255)));
    }
}
