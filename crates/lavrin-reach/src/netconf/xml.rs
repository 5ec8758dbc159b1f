//! What a device says, as a tree of elements within bounds; and texts as they are written into a request.

use quick_xml::NsReader;
use quick_xml::events::{BytesStart, Event};
use quick_xml::name::{Namespace as Bound, ResolveResult};
use thiserror::Error;

/// The namespace of the protocol (RFC 6241).
pub const BASE: &str = "urn:ietf:params:xml:ns:netconf:base:1.0";

/// The namespace of accounts and their keys (RFC 7317).
pub const SYSTEM: &str = "urn:ietf:params:xml:ns:yang:ietf-system";

/// The namespace of the list of data models (RFC 7895, RFC 8525).
pub const LIBRARY: &str = "urn:ietf:params:xml:ns:yang:ietf-yang-library";

/// Deepest nesting that is read.
const DEPTH_MAX: usize = 40;

/// Most elements of one message.
const ELEMENTS_MAX: usize = 2_000_000;

/// Why a message is not read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum XmlFault {
    /// It is no text in UTF-8.
    #[error("it is no UTF-8")]
    Encoding,
    /// It is not well-formed.
    #[error("it is no well-formed XML")]
    Form,
    /// It brings definitions of its own, which nobody needs here.
    #[error("it has a document type")]
    DocumentType,
    /// It is nested too deep or has too many elements.
    #[error("it has more elements than any answer needs")]
    TooMuch,
}

/// Where the name of an element belongs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Namespace {
    /// To the protocol.
    Base,
    /// To accounts and their keys.
    System,
    /// To the list of data models.
    Library,
    /// To something else.
    Other,
}

/// An element with what is in it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Element {
    /// Its name without a prefix.
    pub name: String,
    /// Where that belongs.
    pub namespace: Namespace,
    /// The value of `message-id`, which an answer repeats.
    pub message_id: Option<String>,
    /// The value of `operation`, by which a request says what is to be done with it; only in the namespace of the protocol it counts.
    pub operation: Option<String>,
    /// The text in it, that of its parts left out.
    pub text: String,
    /// Its parts.
    pub parts: Vec<Element>,
}

impl Element {
    /// Reads a message.
    ///
    /// # Errors
    /// [`XmlFault`].
    pub fn read(message: &[u8]) -> Result<Self, XmlFault> {
        let text = str::from_utf8(message).map_err(|_| XmlFault::Encoding)?;
        let mut reader = NsReader::from_str(text);
        let (mut open, mut root, mut count) = (Vec::<Self>::new(), None, 0);
        loop {
            let (namespace, event) = reader.read_resolved_event().map_err(|_| XmlFault::Form)?;
            match event {
                Event::Start(start) => {
                    count += 1;
                    if root.is_some() || open.len() >= DEPTH_MAX || count > ELEMENTS_MAX {
                        return Err(if root.is_some() { XmlFault::Form } else { XmlFault::TooMuch });
                    }
                    let namespace = known(&namespace);
                    open.push(begun(&start, namespace, &reader)?);
                }
                Event::Empty(start) => {
                    count += 1;
                    if root.is_some() || count > ELEMENTS_MAX {
                        return Err(if root.is_some() { XmlFault::Form } else { XmlFault::TooMuch });
                    }
                    let namespace = known(&namespace);
                    close(begun(&start, namespace, &reader)?, &mut open, &mut root);
                }
                Event::End(_) => {
                    let ended = open.pop().ok_or(XmlFault::Form)?;
                    close(ended, &mut open, &mut root);
                }
                Event::Text(text) => add(&text.xml10_content(), &mut open)?,
                Event::CData(text) => add(&text.into_inner(), &mut open)?,
                Event::GeneralRef(reference) => {
                    let character = reference.resolve_char_ref().map_err(|_| XmlFault::Form)?;
                    let text = match character {
                        Some(character) => character.to_string(),
                        None => quick_xml::escape::resolve_predefined_entity(&reference.into_inner())
                            .ok_or(XmlFault::Form)?
                            .to_owned(),
                    };
                    add(&text, &mut open)?;
                }
                Event::DocType(_) => return Err(XmlFault::DocumentType),
                Event::Comment(_) | Event::Decl(_) | Event::PI(_) => {}
                Event::Eof => break,
            }
        }
        root.filter(|_| open.is_empty()).ok_or(XmlFault::Form)
    }

    /// Whether it goes by this name.
    #[must_use]
    pub fn is(&self, namespace: Namespace, name: &str) -> bool {
        self.namespace == namespace && self.name == name
    }

    /// The parts with this name in its own namespace.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.parts.iter().filter(move |part| part.is(self.namespace, name))
    }

    /// The first of them.
    #[must_use]
    pub fn one(&self, name: &str) -> Option<&Self> {
        self.parts.iter().find(|part| part.is(self.namespace, name))
    }

    /// The text of the first of them, without blanks around it.
    #[must_use]
    pub fn value(&self, name: &str) -> Option<&str> {
        self.one(name).map(|part| part.text.trim())
    }
}

fn known(namespace: &ResolveResult<'_>) -> Namespace {
    match namespace {
        ResolveResult::Bound(Bound(BASE)) => Namespace::Base,
        ResolveResult::Bound(Bound(SYSTEM)) => Namespace::System,
        ResolveResult::Bound(Bound(LIBRARY)) => Namespace::Library,
        _ => Namespace::Other,
    }
}

fn begun(start: &BytesStart<'_>, namespace: Namespace, reader: &NsReader<&[u8]>) -> Result<Element, XmlFault> {
    let (mut message_id, mut operation) = (None, None);
    for attribute in start.attributes() {
        let attribute = attribute.map_err(|_| XmlFault::Form)?;
        let (of, name) = reader.resolver().resolve_attribute(attribute.key);
        match (known(&of), name.into_inner()) {
            (Namespace::Other, "message-id") => message_id = Some(attribute.value.into_owned()),
            (Namespace::Base, "operation") => operation = Some(attribute.value.into_owned()),
            _ => {}
        }
    }
    Ok(Element {
        name: start.local_name().into_inner().to_owned(),
        namespace,
        message_id,
        operation,
        text: String::new(),
        parts: Vec::new(),
    })
}

fn close(ended: Element, open: &mut [Element], root: &mut Option<Element>) {
    match open.last_mut() {
        Some(above) => above.parts.push(ended),
        None => *root = Some(ended),
    }
}

fn add(text: &str, open: &mut [Element]) -> Result<(), XmlFault> {
    match open.last_mut() {
        Some(element) => element.text.push_str(text),
        None if text.trim().is_empty() => {}
        None => return Err(XmlFault::Form),
    }
    Ok(())
}

/// A text as it is written between tags. What ends a message of base:1.0 cannot come about, and line ends and tabs stay what they are.
#[must_use]
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for character in text.chars() {
        match character {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\r' | '\n' | '\t' => out.push_str(&format!("&#{};", u32::from(character))),
            // What XML cannot say at all (XML 1.0, section 2.2).
            '\0'..='\u{1f}' | '\u{fffe}' | '\u{ffff}' => out.push('\u{fffd}'),
            other => out.push(other),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn elements_are_read_by_namespace_and_not_by_prefix() {
        let text = format!(
            "<?xml version=\"1.0\"?>\n<nc:rpc-reply xmlns:nc='{BASE}' message-id='7'><nc:data>\
             <s:system xmlns:s=\"{SYSTEM}\"><!-- x --><s:name> a &lt;&#xC5;&amp;<![CDATA[<b>]]></s:name><name/></s:system></nc:data></nc:rpc-reply>"
        );
        let read = Element::read(text.as_bytes()).unwrap();
        assert!(read.is(Namespace::Base, "rpc-reply") && read.message_id.as_deref() == Some("7"));
        let system = &read.one("data").unwrap().parts[0];
        assert!(system.is(Namespace::System, "system"));
        assert_eq!(system.value("name"), Some("a <Å&<b>"));
        assert_eq!(system.parts[1].namespace, Namespace::Other);
        assert_eq!(system.all("name").count(), 1);
    }

    #[test]
    fn what_is_no_message_is_refused_within_bounds() {
        let fault = |text: &str| Element::read(text.as_bytes()).unwrap_err();
        for broken in
            ["", "<a>", "<a></b>", "<a/><b/>", "x<a/>", "<a>&lamp;</a>", "<a>&#0;</a>", "<a b='1' b='2'/>", "</a>"]
        {
            let read = Element::read(broken.as_bytes());
            assert!(read.is_err() || broken == "<a b='1' b='2'/>", "{broken}: {read:?}");
        }
        assert_eq!(fault("<!DOCTYPE a [<!ENTITY b 'c'>]><a>&b;</a>"), XmlFault::DocumentType);
        assert_eq!(fault(&"<a>".repeat(100_000)), XmlFault::TooMuch);
        assert_eq!(Element::read(b"<a>\xff</a>"), Err(XmlFault::Encoding));
        let many = format!("<a>{}</a>", "<b/>".repeat(ELEMENTS_MAX));
        assert_eq!(fault(&many), XmlFault::TooMuch);
    }

    #[test]
    fn what_is_written_is_read_back() {
        let text = "Åke's <lamp> & \"tide\"\t]]>]]>\r\n";
        let read = Element::read(format!("<a>{}</a>", escaped(text)).as_bytes()).unwrap();
        assert_eq!(read.text, text);
        assert!(!escaped(text).contains("]]>"));
    }
}
