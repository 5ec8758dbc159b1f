//! An object as JSON on one line, written field by field (RFC 8259): for what lists of a hundred thousand are made of, where a serializer
//! would look at every character of each name and value.

use serde::Serialize;

/// Such an object, on its way to the end of a text.
pub struct ObjectWriter<'a> {
    out: &'a mut Vec<u8>,
    begin: u8,
}

impl<'a> ObjectWriter<'a> {
    /// An object without fields.
    pub fn of(out: &'a mut Vec<u8>) -> Self {
        Self { out, begin: b'{' }
    }

    /// The name of the next field, which needs no escapes.
    fn name(&mut self, name: &'static str) {
        self.out.reserve(name.len() + 4);
        self.out.extend_from_slice(&[std::mem::replace(&mut self.begin, b','), b'"']);
        self.out.extend_from_slice(name.as_bytes());
        self.out.extend_from_slice(b"\":");
    }

    /// A field of any kind.
    ///
    /// # Panics
    /// Where the value has keys that are no texts.
    pub fn value<T: Serialize>(&mut self, name: &'static str, value: &T) -> &mut Self {
        self.name(name);
        serde_json::to_writer(&mut *self.out, value)
            .expect("these types have only text keys and memory takes everything");
        self
    }

    /// A field whose value is JSON already.
    pub fn written(&mut self, name: &'static str, json: &[u8]) -> &mut Self {
        self.name(name);
        self.out.extend_from_slice(json);
        self
    }

    /// A text, or none.
    pub fn text<'t>(&mut self, name: &'static str, text: impl Into<Option<&'t str>>) -> &mut Self {
        self.put_text(name, text.into());
        self
    }

    fn put_text(&mut self, name: &'static str, text: Option<&str>) {
        match text {
            Some(text) if needs_no_escapes(text) => {
                self.name(name);
                self.out.reserve(text.len() + 2);
                self.out.push(b'"');
                self.out.extend_from_slice(text.as_bytes());
                self.out.push(b'"');
            }
            other => drop(self.value(name, &other)),
        }
    }

    /// A number, or none.
    pub fn number(&mut self, name: &'static str, number: Option<usize>) -> &mut Self {
        self.value(name, &number)
    }

    /// Ends the object.
    pub fn end(&mut self) {
        self.out.push(b'}');
    }
}

/// Whether a text stands in quotes of JSON as it is (RFC 8259, section 7).
#[expect(clippy::needless_bitwise_bool, reason = "without a branch many bytes are looked at at once")]
fn needs_no_escapes(text: &str) -> bool {
    text.bytes().fold(true, |plain, byte| plain & (byte >= b' ') & (byte != b'"') & (byte != b'\\'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_object_is_written_as_a_serializer_would() {
        for text in ["", "edda", "a\"b", "back\\slash", "line\nend\t\u{0}\u{7f}", "é\u{202e}"] {
            let mut out = b"[".to_vec();
            let mut object = ObjectWriter::of(&mut out);
            object.text("name", text).text("none", None).number("line", Some(7)).number("no_line", None);
            object.value("list", &["a"]).written("more", b"{}").end();
            let rest = r#""none":null,"line":7,"no_line":null,"list":["a"],"more":{}}"#;
            let expected = format!("[{{\"name\":{},{rest}", serde_json::to_string(text).unwrap());
            assert_eq!(String::from_utf8(out).unwrap(), expected);
        }
    }
}
