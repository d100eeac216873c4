//! Writing XML, and keeping parts of a file that is rewritten.

use std::io;

use quick_xml::{
    Writer,
    events::{BytesText, Event},
};
use roxmltree::{Document, Node};

use super::clean;
use crate::earlier::{Keep, Rank};

pub(crate) type Xml = Writer<Vec<u8>>;

/// A document with what `content` writes.
pub(crate) fn document(declaration: bool, content: impl FnOnce(&mut Xml) -> io::Result<()>) -> io::Result<String> {
    let mut xml = Writer::new_with_indent(Vec::new(), b' ', 2);
    if declaration {
        xml.write_event(Event::Decl(quick_xml::events::BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    }
    content(&mut xml)?;
    xml.write_event(Event::Text(BytesText::new("\n")))?;
    String::from_utf8(xml.into_inner()).map_err(io::Error::other)
}

/// An element with a text.
pub(crate) fn text(xml: &mut Xml, name: &str, value: &str) -> io::Result<()> {
    text_with(xml, name, &[], value)
}

/// The one place where values become attributes: without what XML cannot hold; the writer below escapes the rest.
fn cleaned<'a>(attributes: &[(&'a str, &str)]) -> Vec<(&'a str, String)> {
    attributes.iter().map(|(name, value)| (*name, clean(value))).collect()
}

/// An element with attributes and a text.
pub(crate) fn text_with(xml: &mut Xml, name: &str, attributes: &[(&str, &str)], value: &str) -> io::Result<()> {
    let attributes = cleaned(attributes);
    let element =
        xml.create_element(name).with_attributes(attributes.iter().map(|(name, value)| (*name, value.as_str())));
    element.write_text_content(BytesText::new(&clean(value)))?;
    Ok(())
}

/// An element with attributes and nothing in it.
pub(crate) fn empty(xml: &mut Xml, name: &str, attributes: &[(&str, &str)]) -> io::Result<()> {
    let attributes = cleaned(attributes);
    xml.create_element(name)
        .with_attributes(attributes.iter().map(|(name, value)| (*name, value.as_str())))
        .write_empty()?;
    Ok(())
}

/// An element with attributes and content.
pub(crate) fn around(
    xml: &mut Xml,
    name: &str,
    attributes: &[(&str, &str)],
    content: impl FnOnce(&mut Xml) -> io::Result<()>,
) -> io::Result<()> {
    let attributes = cleaned(attributes);
    let element =
        xml.create_element(name).with_attributes(attributes.iter().map(|(name, value)| (*name, value.as_str())));
    element.write_inner_content(content)?;
    Ok(())
}

/// What is kept of a file of the same kind: its namespaces, and elements as they stand.
#[derive(Debug, Default)]
pub(crate) struct Kept {
    /// Prefix (empty for the default) and name of each namespace that the outermost element is to declare.
    pub(crate) namespaces: Vec<(String, String)>,
    /// The elements, by the path of the element that they go into, such as `devices`.
    elements: Vec<(&'static str, String)>,
    /// Names of elements that are not known to be harmless, whether they are kept or not.
    pub(crate) unknown: Vec<String>,
}

impl Kept {
    /// Begins with the namespaces of `document`; `None` when they contradict `ours`, so that nothing can be kept.
    fn begin(document: &Document<'_>, ours: &[(&str, &str)]) -> Option<Self> {
        let mut namespaces = Vec::new();
        for namespace in document.root_element().namespaces() {
            let prefix = namespace.name().unwrap_or_default();
            match ours.iter().find(|(known, _)| *known == prefix) {
                Some((_, uri)) if *uri != namespace.uri() => return None,
                Some(_) => {}
                None if prefix == "xml" => {}
                None => namespaces.push((prefix.to_string(), namespace.uri().to_string())),
            }
        }
        Some(Self { namespaces, ..Self::default() })
    }

    /// What `taking` takes of `document`, whose namespaces may not contradict `ours`.
    pub(crate) fn of(document: &Document<'_>, ours: &[(&str, &str)], taking: impl FnOnce(&mut Self)) -> Self {
        match Self::begin(document, ours) {
            Some(mut kept) => {
                taking(&mut kept);
                kept
            }
            None => {
                // Taken all the same, to name what goes.
                let mut all = Self::default();
                taking(&mut all);
                let kept = all.elements.into_iter().map(|(place, _)| format!("what is kept in '{place}'"));
                let unknown = all.unknown.into_iter().chain(kept).collect();
                Self { unknown, ..Self::default() }
            }
        }
    }

    /// Whether an element called `name` is kept for `place`.
    pub(crate) fn has(&self, place: &str, name: &str) -> bool {
        let is_it = |text: &str| {
            text.strip_prefix('<')
                .and_then(|rest| rest.strip_prefix(name))
                .is_some_and(|rest| rest.starts_with([' ', '>', '/']))
        };
        self.elements.iter().any(|(into, text)| *into == place && is_it(text.trim_start()))
    }

    /// Keeps children of `parent`, to be written into `place`: those that `rank` calls harmless, and with
    /// [`Keep::Everything`] the unknown ones too.
    pub(crate) fn take(
        &mut self,
        place: &'static str,
        parent: Node<'_, '_>,
        keep: Keep,
        rank: impl Fn(&Node<'_, '_>) -> Rank,
    ) {
        let root: Vec<_> = parent.document().root_element().namespaces().collect();
        // What is declared further in would be lost.
        let is_lost = parent.namespaces().any(|namespace| !root.contains(&namespace));
        let text = parent.document().input_text();
        for child in parent.children().filter(Node::is_element) {
            let rank = rank(&child);
            if rank == Rank::Unknown || rank == Rank::Harmless && is_lost {
                let name = child.tag_name().name();
                self.unknown.push(format!("{place}/{name}"));
            }
            if !is_lost && (rank == Rank::Harmless || rank == Rank::Unknown && keep == Keep::Everything) {
                self.elements.extend(text.get(child.range()).map(|element| (place, element.to_string())));
            }
        }
    }

    /// Writes what goes into `place`.
    pub(crate) fn put(&self, xml: &mut Xml, place: &str) -> io::Result<()> {
        for (_, element) in self.elements.iter().filter(|(into, _)| *into == place) {
            xml.write_event(Event::Text(BytesText::from_escaped(format!("\n{element}"))))?;
        }
        Ok(())
    }
}
