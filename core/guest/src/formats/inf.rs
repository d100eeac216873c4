//! Setup information files (`.inf`): sections of lines, strings by name, in any of the encodings that drivers come in. Syntax by
//! the driver kit's documentation ("General Syntax Rules for INF Files").

use std::{
    collections::{BTreeMap, HashMap},
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
};

use reformis_disk::budget::{Budget, Hold};

use crate::error::{Error, Result};

/// The longest file that is read, in bytes.
pub(crate) const MOST: u64 = 4 << 20;
/// The longest text that strings make of one, in bytes.
const MAX_TEXT: usize = 32 << 10;
/// Bytes that the strings of one file make in all: those of large drivers make some hundred thousand.
const MAX_EXPANDED: u64 = 16 << 20;
/// Memory for a line beside its letters.
const LINE: u64 = 128;

/// A line of a section: `key = value, value`, or values alone. Strings in them are still names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Line {
    /// What stands before `=`.
    pub(crate) key: Option<String>,
    /// What stands behind it, between commas.
    pub(crate) values: Vec<String>,
}

impl Line {
    /// A value by its place; empty where there is none.
    pub(crate) fn value(&self, index: usize) -> &str {
        self.values.get(index).map_or("", String::as_str)
    }
}

/// A file that was read.
pub(crate) struct Inf {
    /// Sections by their names in small letters; those of one name are one.
    sections: BTreeMap<String, Vec<Line>>,
    /// Strings by their names in small letters.
    strings: HashMap<String, String>,
    /// Bytes that strings may yet make.
    left: AtomicU64,
    _hold: Hold,
}

/// The text in `bytes`: UTF-16 or UTF-8 by its mark, else UTF-8 where it is, else Latin-1, which is what most of the old code pages
/// have in common.
fn decode(bytes: &[u8]) -> String {
    let units = |from: fn([u8; 2]) -> u16, bytes: &[u8]| {
        String::from_utf16_lossy(&bytes.as_chunks().0.iter().copied().map(from).collect::<Vec<u16>>())
    };
    match bytes {
        [0xff, 0xfe, rest @ ..] => units(u16::from_le_bytes, rest),
        [0xfe, 0xff, rest @ ..] => units(u16::from_be_bytes, rest),
        [0xef, 0xbb, 0xbf, rest @ ..] => String::from_utf8_lossy(rest).into_owned(),
        // Without a mark: what begins with an ASCII letter of two bytes.
        [1..=0x7f, 0, ..] => units(u16::from_le_bytes, bytes),
        [0, 1..=0x7f, ..] => units(u16::from_be_bytes, bytes),
        _ => match std::str::from_utf8(bytes) {
            Ok(text) => text.into(),
            Err(_) => bytes.iter().copied().map(char::from).collect(),
        },
    }
}

/// What of `line` stands before a comment, and whether the line goes on.
#[expect(clippy::string_slice, reason = "cut where a semicolon was found, or a backslash at the end")]
fn without_comment(line: &str) -> (&str, bool) {
    let mut is_quoted = false;
    let mut end = line.len();
    for (at, c) in line.char_indices() {
        match c {
            '"' => is_quoted = !is_quoted,
            ';' if !is_quoted => {
                end = at;
                break;
            }
            _ => {}
        }
    }
    let text = line[..end].trim();
    match text.strip_suffix('\\') {
        // A path that ends in a backslash stands in quotes.
        Some(rest) if !is_quoted || end < line.len() => (rest, true),
        _ => (text, false),
    }
}

/// The parts of a line that stand between `separator` outside of quotes, with quotes removed.
fn parts(line: &str, separator: char, most: usize) -> Vec<String> {
    let mut found = vec![String::new()];
    let mut bare = 0;
    let mut is_quoted = false;
    let mut chars = line.chars().peekable();
    let trim = |part: &mut String, bare: usize| {
        // What is outside of quotes at the end of a part is not of it.
        let kept = part.trim_end().len().max(bare);
        part.truncate(kept);
    };
    while let Some(c) = chars.next() {
        let count = found.len();
        let Some(part) = found.last_mut() else { break };
        match c {
            '"' if is_quoted && chars.peek() == Some(&'"') => {
                chars.next();
                part.push('"');
                bare = part.len();
            }
            '"' => {
                is_quoted = !is_quoted;
                bare = part.len();
            }
            c if c == separator && !is_quoted && count < most => {
                trim(part, bare);
                bare = 0;
                found.push(String::new());
            }
            c if c.is_whitespace() && !is_quoted && part.is_empty() => {}
            c => {
                part.push(c);
                if is_quoted {
                    bare = part.len();
                }
            }
        }
    }
    if let Some(part) = found.last_mut() {
        trim(part, bare);
    }
    found
}

/// Where `=` separates a key from its values, if it does.
fn split_key(line: &str) -> (Option<&str>, &str) {
    let mut is_quoted = false;
    for (at, c) in line.char_indices() {
        match c {
            '"' => is_quoted = !is_quoted,
            '=' if !is_quoted => {
                let (key, rest) = line.split_at(at);
                return (Some(key), rest.get(1..).unwrap_or_default());
            }
            _ => {}
        }
    }
    (None, line)
}

impl Inf {
    /// Reads the file in `bytes`, called `name` in messages; what it holds is counted against `budget`.
    ///
    /// # Errors
    /// [`Error::Damaged`] for what has no sections; [`Error::TooLarge`]; [`Error::Memory`].
    pub(crate) fn read(bytes: &[u8], name: &str, budget: &Arc<Budget>) -> Result<Self> {
        if bytes.len() as u64 > MOST {
            return Err(Error::TooLarge { path: name.into(), size: bytes.len() as u64, most: MOST });
        }
        let mut hold = budget.take(3 * bytes.len() as u64)?;
        let text = decode(bytes);
        let mut sections: BTreeMap<String, Vec<Line>> = BTreeMap::new();
        let mut strings = HashMap::new();
        let mut at: Option<String> = None;
        let mut whole = String::new();
        for line in text.lines().map(|line| line.trim_matches(['\u{1a}', '\0', '\r'])) {
            let (part, goes_on) = without_comment(line);
            whole.push_str(part);
            if goes_on {
                continue;
            }
            let line = std::mem::take(&mut whole);
            let line = line.trim();
            if let Some(rest) = line.strip_prefix('[') {
                let section = rest.split_once(']').map_or(rest, |(name, _)| name).trim().to_lowercase();
                hold.grow(LINE + section.len() as u64)?;
                sections.entry(section.clone()).or_default();
                at = Some(section);
                continue;
            }
            let (false, Some(section)) = (line.is_empty(), &at) else { continue };
            let (key, rest) = split_key(line);
            let key = key.map(|key| parts(key, '=', 1).concat());
            let values = parts(rest, ',', 256);
            hold.grow(LINE + 24 * values.len() as u64)?;
            if let (Some(name), true) = (&key, section.starts_with("strings")) {
                // Strings of one language are better than none; those of no language are the ones that always count.
                let value = values.join(",");
                if section == "strings" {
                    strings.insert(name.to_lowercase(), value);
                } else {
                    strings.entry(name.to_lowercase()).or_insert(value);
                }
                continue;
            }
            if let Some(lines) = sections.get_mut(section) {
                lines.push(Line { key, values });
            }
        }
        if sections.is_empty() {
            return Err(Error::Damaged { volume: name.into(), what: "it has no sections".into() });
        }
        Ok(Self { sections, strings, left: AtomicU64::new(MAX_EXPANDED), _hold: hold })
    }

    /// The lines of a section; `None` when it is not there.
    pub(crate) fn section(&self, name: &str) -> Option<&[Line]> {
        self.sections.get(&name.to_lowercase()).map(Vec::as_slice)
    }

    /// Lines of a section that have the key `key`, in any case.
    pub(crate) fn lines<'a>(&'a self, section: &str, key: &'a str) -> impl Iterator<Item = &'a Line> {
        let lines = self.section(section).unwrap_or_default().iter();
        lines.filter(move |line| line.key.as_deref().is_some_and(|found| found.eq_ignore_ascii_case(key)))
    }

    /// The first value of the key `key` in a section, with its strings.
    pub(crate) fn value(&self, section: &str, key: &str) -> Option<String> {
        self.lines(section, key).next().map(|line| self.text(line.value(0)))
    }

    /// `text` with each `%name%` replaced by the string of that name; a number stays, since it is a folder, and what has no string
    /// stays too.
    pub(crate) fn text(&self, text: &str) -> String {
        let found = self.expanded(text);
        let spent = |left: u64| Some(left.saturating_sub(found.len() as u64));
        match self.left.fetch_update(Relaxed, Relaxed, spent) {
            Ok(left) if left >= found.len() as u64 => found,
            // What follows is refused as a whole: see `makes_too_much`.
            _ => String::new(),
        }
    }

    /// Whether its strings made more text than is made of one file: then what was asked of it last is not what it says.
    pub(crate) fn makes_too_much(&self) -> bool {
        self.left.load(Relaxed) == 0
    }

    fn expanded(&self, text: &str) -> String {
        let mut found = String::new();
        let mut rest = text;
        while let Some((before, after)) = rest.split_once('%') {
            found.push_str(before);
            let Some((name, behind)) = after.split_once('%') else {
                found.push('%');
                rest = after;
                continue;
            };
            rest = behind;
            match self.strings.get(&name.to_lowercase()) {
                _ if name.is_empty() => found.push('%'),
                Some(string) if found.len() + string.len() <= MAX_TEXT => found.push_str(string),
                _ => found.extend(["%", name, "%"]),
            }
        }
        found.push_str(rest);
        found
    }

    /// The string `name`.
    pub(crate) fn string(&self, name: &str) -> Option<&str> {
        self.strings.get(&name.to_lowercase()).map(String::as_str)
    }

    /// Names of the sections that begin with `start`, in small letters.
    pub(crate) fn sections_from<'a>(&'a self, start: &str) -> impl Iterator<Item = &'a str> {
        let start = start.to_lowercase();
        let from = self.sections.range(start.clone()..).map(|(name, _)| name.as_str());
        from.take_while(move |name| name.starts_with(&start))
    }

    /// Names of the sections, in small letters.
    pub(crate) fn sections(&self) -> impl Iterator<Item = &str> {
        self.sections.keys().map(String::as_str)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "; a comment with [brackets]\r\n[Version]\r\nSignature = \"$Windows NT$\" ; more\r\nProvider=%Tide%\r\n\
        Class = \"a;b\"\r\n[Models.NTamd64]\r\n%Tide.Desc% = install, PCI\\VEN_1AF4, \\\r\n   PCI\\VEN_1AF5\r\n[Paths]\r\n\
        a = \"%12%\\tide.sys\"\r\n  b , \" kept \" , c\\\"d e\"\r\nEmpty=\r\n[models.ntamd64]\r\nsecond=x\r\n[Strings]\r\n\
        Tide = \"Saltmarsh \"\"Tide\"\" Works\"\r\nTide.Desc=\"Tide, 100%\"\r\n[Strings.0407]\r\nTide=\"Gezeiten\"\r\nOnly=\"nur\"\r\n";

    fn inf(bytes: &[u8]) -> Inf {
        Inf::read(bytes, "x.inf", &Budget::whole()).unwrap()
    }

    #[test]
    fn sections_lines_and_strings() {
        let inf = inf(TEXT.as_bytes());
        assert_eq!(inf.value("version", "SIGNATURE").as_deref(), Some("$Windows NT$"));
        assert_eq!(inf.value("Version", "Provider").as_deref(), Some("Saltmarsh \"Tide\" Works"));
        assert_eq!(inf.value("Version", "Class").as_deref(), Some("a;b"));
        let models = inf.section("MODELS.ntamd64").unwrap();
        assert_eq!(models[0].values, ["install", "PCI\\VEN_1AF4", "PCI\\VEN_1AF5"]);
        assert_eq!(inf.text(models[0].key.as_deref().unwrap()), "Tide, 100%");
        assert_eq!(models[1].key.as_deref(), Some("second"), "sections of one name are one");
        assert_eq!(inf.value("paths", "a").as_deref(), Some("%12%\\tide.sys"));
        let bare = &inf.section("paths").unwrap()[1];
        assert_eq!((bare.key.as_deref(), bare.value(1), bare.value(2)), (None, " kept ", "c\\d e"));
        assert_eq!(inf.value("paths", "empty").as_deref(), Some(""));
        assert_eq!((inf.string("only"), inf.string("tide.desc")), (Some("nur"), Some("Tide, 100%")));
        assert_eq!(inf.text("%% %none% %Only"), "% %none% %Only");
        assert!(inf.section("none").is_none());
    }

    #[test]
    fn every_encoding_is_the_same_text() {
        let units = |order: fn(u16) -> [u8; 2]| TEXT.encode_utf16().flat_map(order).collect::<Vec<u8>>();
        let all = [
            [&[0xff, 0xfe][..], &units(u16::to_le_bytes)].concat(),
            [&[0xfe, 0xff][..], &units(u16::to_be_bytes)].concat(),
            units(u16::to_le_bytes),
            units(u16::to_be_bytes),
            [&[0xef, 0xbb, 0xbf][..], TEXT.as_bytes()].concat(),
        ];
        let plain = inf(TEXT.as_bytes());
        for bytes in all {
            assert_eq!(inf(&bytes).sections, plain.sections);
        }
        let latin = inf(b"[strings]\r\nA=\"Gezeitenh\xf6he\"\r\n");
        assert_eq!(latin.string("a"), Some("Gezeitenhöhe"));
    }

    #[test]
    fn what_is_none_is_told_and_strings_do_not_grow_without_end() {
        assert!(Inf::read(b"MZ\0\0", "x", &Budget::whole()).is_err());
        let many = format!("[a]\nb={}\n[strings]\nx=\"{}\"\n", "%x%".repeat(10_000), "y".repeat(9_000));
        let grown = inf(many.as_bytes()).value("a", "b").unwrap();
        assert!(grown.len() < 2 * MAX_TEXT && grown.starts_with("yyy"));
        assert!(Inf::read(many.as_bytes(), "x", &Budget::new(1 << 10)).is_err());
    }
}
