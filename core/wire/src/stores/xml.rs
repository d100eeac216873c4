//! The answers of an object store: small documents, of which single texts are wanted.

use quick_xml::{Reader, events::Event};

use crate::fault::Fault;

/// How deep a document may be, and how many texts are kept of it.
const DEEP: usize = 16;
const MANY: usize = 100_000;

/// A text, and the elements around it, from the outermost on: their names, and which in the document each is.
pub(super) struct Text {
    path: Vec<(String, usize)>,
    pub(super) text: String,
}

impl Text {
    /// Its own element's name.
    pub(super) fn name(&self) -> &str {
        self.path.last().map_or("", |(name, _)| name.as_str())
    }
}

/// An answer: the name of its outermost element, and its texts.
pub(super) struct Answer {
    pub(super) root: String,
    pub(super) texts: Vec<Text>,
}

/// All texts of `document` that are no blanks, in their order. Entities other than those of XML itself are none that are read.
pub(super) fn read(document: &[u8]) -> Result<Answer, Fault> {
    let broken = || Fault::protocol("its answer is no XML that is read");
    let mut reader = Reader::from_str(std::str::from_utf8(document).map_err(|_| broken())?);
    let (mut path, mut found, mut text, mut count, mut root) = (Vec::new(), Vec::new(), String::new(), 0, None);
    loop {
        match reader.read_event().map_err(|_| broken())? {
            Event::Start(start) => {
                let name = start.local_name().as_ref().to_string();
                count += 1;
                root.get_or_insert_with(|| name.clone());
                path.push((name, count));
                text.clear();
                if path.len() > DEEP {
                    return Err(broken());
                }
            }
            Event::End(_) => {
                if !text.trim().is_empty() {
                    found.push(Text { path: path.clone(), text: text.trim().to_string() });
                }
                text.clear();
                path.pop();
                if found.len() > MANY {
                    return Err(broken());
                }
            }
            Event::Text(piece) => text += piece.as_ref(),
            Event::GeneralRef(entity) => match entity.resolve_char_ref() {
                Ok(Some(letter)) => text.push(letter),
                _ => text += quick_xml::escape::resolve_predefined_entity(entity.as_ref()).ok_or_else(broken)?,
            },
            Event::DocType(_) => return Err(broken()),
            Event::Eof if path.is_empty() && root.is_some() => {
                return Ok(Answer { root: root.unwrap_or_default(), texts: found });
            }
            Event::Eof => return Err(broken()),
            _ => {}
        }
    }
}

/// The first text of an element `name`.
pub(super) fn first<'t>(texts: &'t [Text], name: &str) -> Option<&'t str> {
    texts.iter().find(|text| text.name() == name).map(|text| text.text.as_str())
}

/// The texts of each element called `group`, a list for each element.
pub(super) fn groups<'t>(texts: &'t [Text], group: &str) -> Vec<Vec<&'t Text>> {
    let mut groups: Vec<(usize, Vec<&Text>)> = Vec::new();
    for text in texts {
        let Some((_, place)) = text.path.iter().find(|(name, _)| name == group) else { continue };
        match groups.last_mut().filter(|(last, _)| last == place) {
            Some((_, members)) => members.push(text),
            None => groups.push((*place, vec![text])),
        }
    }
    groups.into_iter().map(|(_, members)| members).collect()
}

/// The first text of an element `name` in a group.
pub(super) fn one<'t>(group: &[&'t Text], name: &str) -> Option<&'t str> {
    group.iter().find(|text| text.name() == name).map(|text| text.text.as_str())
}

/// `text` as it stands in an element.
pub(super) fn escaped(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_have_their_path_and_their_letters() {
        let found =
            read(b"<?xml version=\"1.0\"?><A xmlns=\"x\"> <B>one &amp; <!-- no -->two&#33;</B><C><B>3</B></C><D/></A>")
                .unwrap()
                .texts;
        let names = |text: &Text| text.path.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>().join("/");
        let shown: Vec<_> = found.iter().map(|text| (names(text), text.text.as_str())).collect();
        assert_eq!(shown, [("A/B".to_string(), "one & two!"), ("A/C/B".to_string(), "3")]);
    }

    #[test]
    fn what_bites_is_refused() {
        for document in [
            "<!DOCTYPE a [<!ENTITY b \"c\">]><a>&b;</a>",
            "<a>&b;</a>",
            &"<a>".repeat(40),
            "<a",
            "<a><b>c</b>",
            "",
            "words",
        ] {
            assert!(read(document.as_bytes()).is_err(), "{document}");
        }
    }

    #[test]
    fn elements_of_one_name_are_told_apart() {
        let found = read(b"<L><P><T>a</T><N>1</N></P><P><N>2</N><T>b</T></P></L>").unwrap().texts;
        let tags: Vec<_> = groups(&found, "P").iter().map(|group| (one(group, "N"), one(group, "T"))).collect();
        assert_eq!(tags, [(Some("1"), Some("a")), (Some("2"), Some("b"))]);
    }
}
