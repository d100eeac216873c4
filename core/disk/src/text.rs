//! Text that comes from images and file names, made safe to show.

use std::fmt::{self, Display, Write};

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

/// Whether a character could steer a terminal, or hide.
pub fn is_unsafe(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}')
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
    fn steering_characters_are_escaped_and_letters_of_any_script_kept() {
        assert_eq!(printable("tide\x1b[2Jlog\n"), "tide\\u{1b}[2Jlog\\n");
        assert_eq!(printable("a\u{202e}b\u{9b}c"), "a\\u{202e}b\\u{9b}c");
        assert_eq!(printable("Küstenpegel 潮位"), "Küstenpegel 潮位");
        assert_eq!(Quoted("x").to_string(), "'x'");
    }
}
