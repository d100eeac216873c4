//! XML from strangers: no document types and so no entities, bounded in size, nodes and namespaces.

pub(crate) mod write;

use roxmltree::{Document, Node, ParsingOptions};

use crate::error::{Error, Result};

/// The largest machine file that we read; a large one of a real host has some hundred KiB.
pub(crate) const MAX_BYTES: usize = 16 << 20;
const MAX_NODES: u32 = 500_000;
/// Namespace declarations. The parser keeps all that are in scope for each element that adds one, so their number
/// counts squared; a real file has one to a hundred.
const MAX_NAMESPACES: usize = 4096;

/// Attributes of one element. The parser compares each with all before it, so their number counts squared too; a real file
/// has a dozen.
const MAX_ATTRIBUTES: usize = 1000;

/// The text of a file: UTF-8, or UTF-16 where it starts with a byte order mark.
#[expect(clippy::indexing_slicing, reason = "the mark of the encoding was seen")]
pub(crate) fn text(bytes: &[u8], file: &str) -> Result<String> {
    let wrong = |what: &str| Error::Xml { file: file.into(), what: what.into() };
    if bytes.len() > MAX_BYTES {
        return Err(wrong("it is larger than 16 MiB"));
    }
    let wide = |pair: fn([u8; 2]) -> u16| {
        let units: Vec<u16> = bytes[2..].chunks_exact(2).map(|unit| pair([unit[0], unit[1]])).collect();
        String::from_utf16(&units).map_err(|_| wrong("it is not valid UTF-16"))
    };
    match bytes {
        [0xff, 0xfe, ..] => wide(u16::from_le_bytes),
        [0xfe, 0xff, ..] => wide(u16::from_be_bytes),
        _ => {
            let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
            std::str::from_utf8(bytes).map(str::to_string).map_err(|_| wrong("it is not valid UTF-8"))
        }
    }
}

/// Parses `text`, the content of `file`.
pub(crate) fn parse<'a>(text: &'a str, file: &str) -> Result<Document<'a>> {
    let wrong = |what: String| Error::Xml { file: file.into(), what };
    if text.matches("xmlns").nth(MAX_NAMESPACES).is_some() {
        return Err(wrong(format!("it declares more than {MAX_NAMESPACES} namespaces")));
    }
    if most_attributes(text.as_bytes()) > MAX_ATTRIBUTES {
        return Err(wrong(format!("an element has more than {MAX_ATTRIBUTES} attributes")));
    }
    let options = ParsingOptions { allow_dtd: false, nodes_limit: MAX_NODES, ..ParsingOptions::default() };
    Document::parse_with_options(text, options).map_err(|error| wrong(error.to_string()))
}

/// The most attributes that one element of `text` has; more for what is no XML.
fn most_attributes(mut text: &[u8]) -> usize {
    let behind = |text: &[u8], mark: &[u8]| {
        text.windows(mark.len()).position(|found| found == mark).map_or(text.len(), |at| at + mark.len())
    };
    let mut most = 0;
    while let Some(open) = text.iter().position(|byte| *byte == b'<') {
        text = text.get(open..).unwrap_or_default();
        let special: [(&[u8], &[u8]); 3] = [(b"<!--", b"-->"), (b"<![CDATA[", b"]]>"), (b"<?", b"?>")];
        if let Some((_, end)) = special.into_iter().find(|(start, _)| text.starts_with(start)) {
            text = text.get(behind(text, end)..).unwrap_or_default();
            continue;
        }
        let (mut count, mut quote, mut len) = (0, None, 0);
        for byte in text {
            len += 1;
            match (quote, byte) {
                (None, b'>') => break,
                (None, b'=') => count += 1,
                (None, b'"' | b'\'') => quote = Some(*byte),
                (Some(open), byte) if *byte == open => quote = None,
                _ => {}
            }
        }
        most = most.max(count);
        text = text.get(len..).unwrap_or_default();
    }
    most
}

/// Whether the start of a file looks like a document whose outermost element has the local name `name`.
#[expect(clippy::string_slice, reason = "cut where the mark was found and where it ends")]
pub(crate) fn starts_with_element(head: &[u8], name: &str) -> bool {
    // The head may end inside a character.
    let text = text(head, "").unwrap_or_else(|_| String::from_utf8_lossy(head).into_owned());
    let text = text.trim_start();
    // An element's name ends in a space, a bracket or a line's end; comments may come before it.
    let ends = |rest: &str| rest.starts_with(|c: char| c.is_whitespace() || c == '>' || c == '/');
    let found = |mark: &str| text.match_indices(mark).any(|(at, _)| ends(&text[at + mark.len()..]));
    let prefixed = || {
        text.match_indices(&format!(":{name}")).any(|(at, mark)| {
            let open = text[..at].rfind('<').is_some_and(|open| !text[open..at].contains(char::is_whitespace));
            open && ends(&text[at + mark.len()..])
        })
    };
    text.starts_with('<') && (found(&format!("<{name}")) || prefixed())
}

/// What our readers ask of an element. Namespaces are not compared: hosts differ in their versions of them, and the
/// local names are clear.
pub(crate) trait Element<'a, 'i: 'a> {
    /// Child elements of a local name.
    fn all(&self, name: &'static str) -> impl Iterator<Item = Node<'a, 'i>>;
    /// The first child element of a local name.
    fn first(&self, name: &'static str) -> Option<Node<'a, 'i>>;
    /// The trimmed text of the first child of a local name; `None` when there is none, or it is empty.
    fn value(&self, name: &'static str) -> Option<&'a str>;
    /// An attribute of a local name, in any namespace.
    fn attr(&self, name: &str) -> Option<&'a str>;
}

impl<'a, 'i: 'a> Element<'a, 'i> for Node<'a, 'i> {
    fn all(&self, name: &'static str) -> impl Iterator<Item = Node<'a, 'i>> {
        self.children().filter(move |child| child.is_element() && child.tag_name().name() == name)
    }

    fn first(&self, name: &'static str) -> Option<Node<'a, 'i>> {
        self.all(name).next()
    }

    fn value(&self, name: &'static str) -> Option<&'a str> {
        self.first(name)?.text().map(str::trim).filter(|text| !text.is_empty())
    }

    fn attr(&self, name: &str) -> Option<&'a str> {
        self.attributes().find(|attribute| attribute.name() == name).map(|attribute| attribute.value())
    }
}

/// `text` without the characters that XML 1.0 cannot hold (section 2.2).
pub(crate) fn clean(text: &str) -> String {
    let allowed =
        |c: &char| matches!(c, '\t' | '\n' | '\r' | '\u{20}'..='\u{d7ff}' | '\u{e000}'..='\u{fffd}' | '\u{10000}'..);
    text.chars().filter(allowed).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bombs_are_refused_depth_is_harmless_and_encodings_are_read() {
        let bomb = "<!DOCTYPE x [<!ENTITY a \"aaaa\"><!ENTITY b \"&a;&a;\">]><x>&b;</x>";
        assert!(parse(bomb, "x").is_err());
        let deep = "<a>".repeat(100_000) + &"</a>".repeat(100_000);
        assert!(parse(&deep, "x").is_ok(), "depth costs nothing");
        assert!(parse(&"<a/>".repeat(1_000_000), "x").is_err());
        let scopes: String = (0..5000).map(|i| format!("<a xmlns:n{i}='u{i}'>")).collect();
        assert!(parse(&scopes, "x").unwrap_err().to_string().contains("4096 namespaces"));
        let many = |count: usize| {
            let list: String = (0..count).map(|number| format!(" a{number}='>'")).collect();
            format!("<a><!-- '\" --><![CDATA[<]]><b{list}/>{}</a>", "=".repeat(2000))
        };
        assert!(parse(&many(1000), "x").is_ok(), "text counts for nothing");
        assert!(parse(&many(1001), "x").unwrap_err().to_string().contains("1000 attributes"));
        let wide: Vec<u8> = [0xff, 0xfe].into_iter().chain("<a/>".encode_utf16().flat_map(u16::to_le_bytes)).collect();
        assert_eq!(text(&wide, "x").unwrap(), "<a/>");
        assert_eq!(text(b"\xef\xbb\xbf<a/>", "x").unwrap(), "<a/>");
        assert!(text(b"\xff\x00", "x").is_err());
        assert!(text(&vec![b' '; MAX_BYTES + 1], "x").is_err());
    }
}
