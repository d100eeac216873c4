//! Keys and values as text, as administrators exchange them (`.reg`): version 5.00 in UTF-16, and the older `REGEDIT4`.

use super::hive::{Data, Value};

/// The longest file that is read, in bytes.
pub const MOST: u64 = 64 << 20;
/// The first line of the newer form, and of the older one.
const NEWER: &str = "Windows Registry Editor Version 5.00";
const OLDER: &str = "REGEDIT4";
/// Bytes on a line of hexadecimal digits.
const ON_LINE: usize = 24;

/// A line of such a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Line {
    /// A key is made where it is not there; it is what the values after it go into.
    Key(String),
    /// A key is removed, with all below it.
    RemoveKey(String),
    /// A value of the last key is set; an empty name is the key's own.
    Set(String, Data),
    /// A value of the last key is removed.
    Unset(String),
}

/// Reads a text; an error names the line.
///
/// # Errors
/// What is wrong, and where.
pub fn read(bytes: &[u8]) -> Result<Vec<Line>, String> {
    let text = decoded(bytes);
    let mut lines = joined(&text).into_iter();
    let first = lines.find(|(_, line)| !line.is_empty()).map(|(_, line)| line).unwrap_or_default();
    let is_older = match first.as_str() {
        NEWER => false,
        OLDER => true,
        _ => return Err(format!("its first line is neither '{NEWER}' nor '{OLDER}'")),
    };
    let mut found = Vec::new();
    let mut has_key = false;
    for (number, line) in lines.filter(|(_, line)| !line.is_empty() && !line.starts_with(';')) {
        let wrong = |what: &str| format!("line {number}: {what}");
        if let Some(key) = line.strip_prefix('[') {
            let key = key.strip_suffix(']').ok_or_else(|| wrong("a key has no ']' at its end"))?;
            match key.strip_prefix('-') {
                Some(key) => found.push(Line::RemoveKey(key.into())),
                None => found.push(Line::Key(key.into())),
            }
            has_key = !key.starts_with('-');
            continue;
        }
        if !has_key {
            return Err(wrong("a value is in no key"));
        }
        let (name, rest) = match line.strip_prefix('@') {
            Some(rest) => (String::new(), rest),
            None => quoted(&line).ok_or_else(|| wrong("a value has no name in quotes"))?,
        };
        let data = rest.trim_start().strip_prefix('=').ok_or_else(|| wrong("there is no '=' behind a name"))?.trim();
        found.push(match data {
            "-" => Line::Unset(name),
            data => Line::Set(name, value(data, is_older).map_err(|what| wrong(&what))?),
        });
    }
    Ok(found)
}

/// The text in `bytes`: UTF-16 or UTF-8 by the mark at its start, else Latin-1 where it is no UTF-8.
fn decoded(bytes: &[u8]) -> String {
    let units = |bytes: &[u8], of: fn([u8; 2]) -> u16| -> String {
        String::from_utf16_lossy(&bytes.as_chunks().0.iter().copied().map(of).collect::<Vec<_>>())
    };
    match bytes {
        [0xff, 0xfe, rest @ ..] => units(rest, u16::from_le_bytes),
        [0xfe, 0xff, rest @ ..] => units(rest, u16::from_be_bytes),
        [0xef, 0xbb, 0xbf, rest @ ..] => String::from_utf8_lossy(rest).into(),
        bytes => match std::str::from_utf8(bytes) {
            Ok(text) => text.into(),
            Err(_) => bytes.iter().map(|byte| char::from(*byte)).collect(),
        },
    }
}

/// Lines with their numbers; one that ends in a backslash outside quotes goes on in the next.
fn joined(text: &str) -> Vec<(usize, String)> {
    let mut found: Vec<(usize, String)> = Vec::new();
    let mut goes_on = false;
    for (number, line) in text.lines().enumerate() {
        let line = line.trim();
        let is_data = goes_on || line.contains("=hex");
        let (part, more) = match line.strip_suffix('\\').filter(|_| is_data) {
            Some(part) => (part, true),
            None => (line, false),
        };
        match found.last_mut() {
            Some((_, last)) if goes_on => last.push_str(part),
            _ => found.push((number + 1, part.into())),
        }
        goes_on = more;
    }
    found
}

/// A text in quotes at the start of `line`, and what follows it.
fn quoted(line: &str) -> Option<(String, &str)> {
    let mut chars = line.strip_prefix('"')?.char_indices();
    let mut text = String::new();
    loop {
        match chars.next()? {
            (_, '\\') => text.push(chars.next()?.1),
            (at, '"') => return Some((text, line.get(at + 2..)?)),
            (_, char) => text.push(char),
        }
    }
}

/// The data of a value.
fn value(data: &str, is_older: bool) -> Result<Data, String> {
    if data.starts_with('"') {
        return match quoted(data) {
            Some((text, "")) => Ok(Data::Text(text)),
            _ => Err("a text has no quotes around it".into()),
        };
    }
    let (kind, digits) = data.split_once(':').ok_or_else(|| format!("'{data}' is no data"))?;
    if kind == "dword" {
        let number =
            u32::from_str_radix(digits.trim(), 16).map_err(|_| format!("'{digits}' is no number of 32 bits"))?;
        return Ok(Data::Number(number));
    }
    let code = match kind {
        "hex" => 3,
        kind => {
            let code = kind.strip_prefix("hex(").and_then(|rest| rest.strip_suffix(')'));
            code.and_then(|code| u32::from_str_radix(code, 16).ok()).ok_or_else(|| format!("'{kind}' is no type"))?
        }
    };
    let bytes: Option<Vec<u8>> = digits
        .split(',')
        .map(str::trim)
        .filter(|pair| !pair.is_empty())
        .map(|pair| u8::from_str_radix(pair, 16).ok())
        .collect();
    let mut bytes = bytes.ok_or("its bytes are no hexadecimal digits")?;
    // Texts have bytes for letters in the older form.
    if is_older && matches!(code, 1 | 2 | 7) {
        bytes = bytes.into_iter().flat_map(|byte| [byte, 0]).collect();
    }
    let meant = Value { name: String::new(), kind: code, bytes: bytes.clone() }.data();
    Ok(if meant.to_bytes() == (code, bytes.clone()) { meant } else { Data::Other(code, bytes) })
}

/// Writes lines in the newer form.
///
/// # Errors
/// A name that the form cannot carry: a line end in it would begin a line of its own, which whoever reads the text would obey.
pub fn write(lines: &[Line]) -> Result<Vec<u8>, String> {
    for line in lines {
        let (Line::Key(name) | Line::RemoveKey(name) | Line::Set(name, _) | Line::Unset(name)) = line;
        if name.contains(|c: char| c.is_control() || matches!(c, '\u{2028}' | '\u{2029}')) {
            return Err(name.escape_debug().to_string());
        }
    }
    let mut text = format!("{NEWER}\r\n");
    for line in lines {
        match line {
            Line::Key(key) => text.push_str(&format!("\r\n[{key}]\r\n")),
            Line::RemoveKey(key) => text.push_str(&format!("\r\n[-{key}]\r\n")),
            Line::Set(name, data) => {
                let head = format!("{}=", shown(name));
                text.push_str(&head);
                text.push_str(&told(data, head.len()));
                text.push_str("\r\n");
            }
            Line::Unset(name) => text.push_str(&format!("{}=-\r\n", shown(name))),
        }
    }
    let units = std::iter::once(0xfeff).chain(text.encode_utf16());
    Ok(units.flat_map(u16::to_le_bytes).collect())
}

fn escaped(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

fn shown(name: &str) -> String {
    if name.is_empty() { "@".into() } else { escaped(name) }
}

/// Data as it is written behind a name, which takes `before` characters of its line.
fn told(data: &Data, before: usize) -> String {
    let (kind, bytes) = data.to_bytes();
    match data {
        // A line end in quotes would end the line.
        Data::Text(text) if !text.contains(|c: char| c.is_control()) => escaped(text),
        Data::Number(number) => format!("dword:{number:08x}"),
        _ => {
            let mut text = if kind == 3 { "hex:".to_string() } else { format!("hex({kind:x}):") };
            let first = ON_LINE.saturating_sub(before / 3).max(1).min(bytes.len());
            let (head, rest) = bytes.split_at_checked(first).unwrap_or_default();
            let pairs = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join(",");
            text.push_str(&pairs(head));
            for part in rest.chunks(ON_LINE) {
                text.push_str(",\\\r\n  ");
                text.push_str(&pairs(part));
            }
            text
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_text_as_administrators_send_it() {
        let text = "REGEDIT4\r\n\r\n; the gauge at the sluice\r\n[HKEY_LOCAL_MACHINE\\SYSTEM\\Tide]\r\n@=\"own\"\r\n\
                    \"Path\"=\"C:\\\\tide \\\"low\\\"\"\r\n\"Start\"=dword:0000000a\r\n\"Parts\"=hex(7):61,\\\r\n  00,62,00,00\r\n\
                    \"Gone\"=-\r\n\r\n[-HKEY_LOCAL_MACHINE\\SYSTEM\\Old]\r\n";
        let lines = read(text.as_bytes()).unwrap();
        assert_eq!(
            lines,
            [
                Line::Key("HKEY_LOCAL_MACHINE\\SYSTEM\\Tide".into()),
                Line::Set(String::new(), Data::Text("own".into())),
                Line::Set("Path".into(), Data::Text("C:\\tide \"low\"".into())),
                Line::Set("Start".into(), Data::Number(10)),
                Line::Set("Parts".into(), Data::Texts(vec!["a".into(), "b".into()])),
                Line::Unset("Gone".into()),
                Line::RemoveKey("HKEY_LOCAL_MACHINE\\SYSTEM\\Old".into()),
            ]
        );
        for (text, what) in [
            ("tide", "first line"),
            ("REGEDIT4\n\"a\"=dword:0", "line 2: a value is in no key"),
            ("REGEDIT4\n[a", "no ']'"),
            ("REGEDIT4\n[a]\nb=dword:0", "line 3: a value has no name"),
            ("REGEDIT4\n[a]\n\"b\"dword:0", "no '='"),
            ("REGEDIT4\n[a]\n\"b\"=dword:x", "'x' is no number"),
            ("REGEDIT4\n[a]\n\"b\"=hex:0g", "no hexadecimal"),
            ("REGEDIT4\n[a]\n\"b\"=\"c", "no quotes"),
            ("REGEDIT4\n[-a]\n\"b\"=dword:0", "in no key"),
        ] {
            assert!(read(text.as_bytes()).unwrap_err().contains(what), "{text}");
        }
    }

    /// What a guest calls its keys must not become lines of a text that an administrator reads into another system.
    #[test]
    fn a_name_with_a_line_end_is_not_written() {
        let evil = "a\r\n[-HKEY_LOCAL_MACHINE\\SYSTEM]\r\n\"b".to_string();
        for line in [Line::Key(evil.clone()), Line::Set(evil.clone(), Data::Number(1)), Line::Unset("\0".into())] {
            assert!(write(&[line]).is_err());
        }
        let text = write(&[Line::Key("k".into()), Line::Set("v".into(), Data::Text(evil.clone()))]).unwrap();
        let lines = read(&text).unwrap();
        assert_eq!(lines[1], Line::Set("v".into(), Data::Text(evil)));
        assert_eq!(lines.len(), 2);
    }

    fn line() -> impl Strategy<Value = Line> {
        let name = "[a-zA-Zß水\"\\\\= ]{0,9}";
        let data = prop_oneof![
            "[^\\x00]{0,30}".prop_map(Data::Text),
            "[^\\x00]{0,30}".prop_map(Data::Expand),
            prop::collection::vec("[^\\x00]{1,9}", 0..5).prop_map(Data::Texts),
            any::<u32>().prop_map(Data::Number),
            any::<u64>().prop_map(Data::Large),
            prop::collection::vec(any::<u8>(), 0..200).prop_map(Data::Bytes),
        ];
        prop_oneof![
            "[a-z\\\\]{1,20}".prop_map(Line::Key),
            "[a-z\\\\]{1,20}".prop_map(Line::RemoveKey),
            (name, data).prop_map(|(name, data)| Line::Set(name, data)),
            name.prop_map(Line::Unset),
        ]
    }

    proptest! {
        #[test]
        fn what_was_written_is_read(lines in prop::collection::vec(line(), 0..20)) {
            // Values go into a key.
            let lines: Vec<Line> = lines
                .into_iter()
                .flat_map(|line| match line {
                    Line::Set(..) | Line::Unset(_) => vec![Line::Key("k".into()), line],
                    key => vec![key],
                })
                .collect();
            prop_assert_eq!(read(&write(&lines).unwrap()), Ok(lines));
        }

        #[test]
        fn any_text_ends(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = read(&[b"REGEDIT4\n[a]\n", &bytes[..]].concat());
        }
    }
}
