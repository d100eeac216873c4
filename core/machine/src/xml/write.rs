//! Writing XML, and keeping parts of a file that is rewritten.

use std::io;

use quick_xml::{
    Writer,
    events::{BytesText, Event},
};
use roxmltree::{Document, Node};

use super::clean;

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

/// An element with attributes and a text.
pub(crate) fn text_with(xml: &mut Xml, name: &str, attributes: &[(&str, &str)], value: &str) -> io::Result<()> {
    let element = xml.create_element(name).with_attributes(attributes.iter().copied());
    element.write_text_content(BytesText::new(&clean(value)))?;
    Ok(())
}

/// An element with attributes and nothing in it.
pub(crate) fn empty(xml: &mut Xml, name: &str, attributes: &[(&str, &str)]) -> io::Result<()> {
    xml.create_element(name).with_attributes(attributes.iter().copied()).write_empty()?;
    Ok(())
}

/// An element with attributes and content.
pub(crate) fn around(
    xml: &mut Xml,
    name: &str,
    attributes: &[(&str, &str)],
    content: impl FnOnce(&mut Xml) -> io::Result<()>,
) -> io::Result<()> {
    xml.create_element(name).with_attributes(attributes.iter().copied()).write_inner_content(content)?;
    Ok(())
}

/// What is kept of a file of the same kind: its namespaces, and elements as they stand.
#[derive(Debug, Default)]
pub(crate) struct Kept {
    /// Prefix (empty for the default) and name of each namespace that the outermost element is to declare.
    pub(crate) namespaces: Vec<(String, String)>,
    /// The elements, by the path of the element that they go into, such as `devices`.
    elements: Vec<(&'static str, String)>,
}

impl Kept {
    /// Begins with the namespaces of `document`, unless they contradict `ours`, in which case nothing is kept.
    pub(crate) fn of(document: &Document<'_>, ours: &[(&str, &str)]) -> Option<Self> {
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
        Some(Self { namespaces, elements: Vec::new() })
    }

    /// Keeps the children of `parent` that `wanted` picks, to be written into `place`.
    pub(crate) fn take(&mut self, place: &'static str, parent: Node<'_, '_>, wanted: impl Fn(&Node<'_, '_>) -> bool) {
        let root: Vec<_> = parent.document().root_element().namespaces().collect();
        // What is declared further in would be lost.
        if parent.namespaces().any(|namespace| !root.contains(&namespace)) {
            return;
        }
        let text = parent.document().input_text();
        let children = parent.children().filter(|child| child.is_element() && wanted(child));
        self.elements.extend(children.map(|child| (place, text[child.range()].to_string())));
    }

    /// Writes what goes into `place`.
    pub(crate) fn put(&self, xml: &mut Xml, place: &str) -> io::Result<()> {
        for (_, element) in self.elements.iter().filter(|(into, _)| *into == place) {
            xml.write_event(Event::Text(BytesText::from_escaped(format!("\n{element}"))))?;
        }
        Ok(())
    }
}
