//! The lines of a file, without their meaning.

use std::collections::HashMap;

use crate::{
    error::{Error, Result},
    xml,
};

/// The largest number of lines; a real file has one to five hundred.
const MAX_LINES: usize = 50_000;

/// The settings of a file in their order.
#[derive(Debug, Clone, Default)]
pub(super) struct Entries {
    /// Where the last line of each key is, by the key in lower case.
    places: HashMap<String, usize>,
    /// Line, from 1 and 0 for what is written, key and value.
    lines: Vec<(u32, String, String)>,
}

impl Entries {
    /// Reads the lines of `bytes`, in the encoding that they name.
    #[expect(clippy::cast_possible_truncation, reason = "lines of a file that is at most some MiB long")]
    pub(super) fn parse(bytes: &[u8], file: &str) -> Result<Self> {
        let text = decode(bytes, file)?;
        let mut lines = Vec::new();
        for (index, line) in text.lines().enumerate() {
            let line = line.trim();
            if line.is_empty() || line.starts_with(['#', '!']) {
                continue;
            }
            let line_number = index as u32 + 1;
            let invalid = |what: &str| Error::Invalid { file: file.into(), line: line_number, what: what.into() };
            let (key, value) = line.split_once('=').ok_or_else(|| invalid("expected 'key = \"value\"'"))?;
            let value = value.trim();
            let value = match value.strip_prefix('"') {
                // Whatever follows the closing quote is a comment.
                Some(rest) => {
                    rest.split_once('"').map(|(inside, _)| inside).ok_or_else(|| invalid("a quote is open"))?
                }
                None => value,
            };
            if lines.len() == MAX_LINES {
                return Err(invalid("more lines than any host writes"));
            }
            lines.push((line_number, key.trim().to_string(), unescape(value)));
        }
        let mut entries = Self::default();
        lines.into_iter().for_each(|line| entries.add(line));
        Ok(entries)
    }

    /// The value of a key; of several, the last counts.
    pub(super) fn get(&self, key: &str) -> Option<&str> {
        self.find(key).map(|(.., value)| value.as_str()).filter(|value| !value.is_empty())
    }

    #[expect(clippy::indexing_slicing, reason = "the places are those of these lines")]
    fn find(&self, key: &str) -> Option<&(u32, String, String)> {
        self.places.get(&key.to_ascii_lowercase()).map(|&index| &self.lines[index])
    }

    fn add(&mut self, line: (u32, String, String)) {
        self.places.insert(line.1.to_ascii_lowercase(), self.lines.len());
        self.lines.push(line);
    }

    /// The line on which a key stands, from 1; 0 when it is nowhere.
    pub(super) fn line(&self, key: &str) -> u32 {
        self.find(key).map_or(0, |(line, ..)| *line)
    }

    /// Whether a key says yes.
    pub(super) fn is_on(&self, key: &str) -> bool {
        self.get(key).is_some_and(|value| matches!(value.to_ascii_lowercase().as_str(), "true" | "yes" | "on" | "1"))
    }

    /// All settings in their order.
    pub(super) fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        self.lines.iter().map(|(_, key, value)| (key.as_str(), value.as_str()))
    }

    /// Adds a setting.
    pub(super) fn push(&mut self, key: impl Into<String>, value: impl Into<String>) {
        self.add((0, key.into(), value.into()));
    }

    /// The lines as they are written.
    pub(super) fn to_text(&self) -> String {
        self.lines.iter().map(|(_, key, value)| format!("{key} = \"{}\"\n", escape(value))).collect()
    }
}

/// The text in the encoding that its line `.encoding` names: UTF-8, or one byte a character.
fn decode(bytes: &[u8], file: &str) -> Result<String> {
    match xml::text(bytes, file) {
        Ok(text) => Ok(text),
        Err(_) if bytes.len() <= xml::MAX_BYTES && !bytes.starts_with(&[0xff, 0xfe]) => {
            // Older hosts write the code page of their system; Latin-1 reads the most common ones.
            Ok(bytes.iter().map(|&byte| char::from(byte)).collect())
        }
        Err(error) => Err(error),
    }
}

/// Quotes, bars and what is no printable character are written as `|` and two hexadecimal digits.
#[expect(clippy::indexing_slicing, reason = "both characters were seen")]
fn unescape(value: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = value.as_bytes();
    while let Some((&first, after)) = rest.split_first() {
        let digits = after.get(..2).and_then(|digits| std::str::from_utf8(digits).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 16).ok()).filter(|_| first == b'|') {
            Some(byte) => {
                bytes.push(byte);
                rest = &after[2..];
            }
            None => {
                bytes.push(first);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

fn escape(value: &str) -> String {
    let mut text = String::new();
    for c in value.chars() {
        match c {
            '"' | '|' | '\u{0}'..='\u{1f}' | '\u{7f}' => text += &format!("|{:02X}", u32::from(c)),
            c => text.push(c),
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_any_writer_and_values_that_hold_anything() {
        let text = "#!/usr/bin/x\n.encoding = \"UTF-8\"\r\n\r\nScsi0:0.FileName=\"a b.vmdk\"  # first\nmemsize = 512\n";
        let entries = Entries::parse(text.as_bytes(), "x.vmx").unwrap();
        assert_eq!(entries.get("scsi0:0.filename"), Some("a b.vmdk"));
        assert_eq!(entries.get("memSize"), Some("512"));
        let nasty = "tab\t, \"quotes\" | bar, two\nlines, ümlaut";
        let mut entries = Entries::default();
        entries.push("annotation", nasty);
        let again = Entries::parse(entries.to_text().as_bytes(), "x.vmx").unwrap();
        assert_eq!(again.get("annotation"), Some(nasty));
        assert_eq!(Entries::parse(b"displayName = \"K\xfcste\"", "x").unwrap().get("displayname"), Some("Küste"));
        for bad in ["just words", "a = \"open"] {
            assert!(Entries::parse(bad.as_bytes(), "x.vmx").unwrap_err().to_string().contains("line 1"), "{bad}");
        }
    }
}
