//! Text from outside, made safe to show: a comment in a key may hold terminal codes, direction overrides and line ends.

use std::fmt::Write as _;

/// Characters that change how their neighbours are shown: direction marks and overrides, zero-width characters, BOM.
fn is_deceptive(character: char) -> bool {
    matches!(character, '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// Whether a character neither changes a terminal nor hides anything.
#[must_use]
pub fn is_plain(character: char) -> bool {
    !character.is_control() && !is_deceptive(character)
}

/// Whether there is nothing but plain ASCII, line ends and tabs, which a terminal may get as it is.
#[must_use]
pub fn is_harmless(text: &[u8]) -> bool {
    // All bytes are looked at, whatever the first are, so that many are looked at at once: lists of keys are long.
    text.iter().fold(true, |harmless, byte| harmless & matches!(byte, b' '..=b'~' | b'\n' | b'\t'))
}

/// The text with everything that could change the terminal or hide something written out as `\xNN` or `\u{…}`.
#[must_use]
pub fn printable(bytes: &[u8]) -> String {
    // All bytes are looked at, whatever the first is, so that many are looked at at once.
    let plain = bytes.iter().fold(true, |plain, byte| plain & matches!(byte, b' '..=b'~'));
    if let (true, Ok(text)) = (plain, std::str::from_utf8(bytes)) {
        return text.to_owned();
    }
    let mut out = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        for character in chunk.valid().chars() {
            if is_plain(character) {
                out.push(character);
            } else if character.is_ascii() {
                let _ = write!(out, "\\x{:02x}", character as u32);
            } else {
                let _ = write!(out, "\\u{{{:x}}}", character as u32);
            }
        }
        for byte in chunk.invalid() {
            let _ = write!(out, "\\x{byte:02x}");
        }
    }
    out
}

/// Bytes in a document: as text where they are text, else as numbers, so that nothing is lost.
pub mod as_text {
    use serde::de::{Error, SeqAccess, Visitor};
    use serde::{Deserializer, Serialize as _, Serializer};

    /// Writes them.
    ///
    /// # Errors
    /// Those of the serializer.
    pub fn serialize<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
        match std::str::from_utf8(bytes) {
            Ok(text) => to.serialize_str(text),
            Err(_) => bytes.serialize(to),
        }
    }

    /// Reads them.
    ///
    /// # Errors
    /// Those of the deserializer.
    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<u8>, D::Error> {
        struct Either;
        impl<'de> Visitor<'de> for Either {
            type Value = Vec<u8>;
            fn expecting(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                out.write_str("a text or a list of bytes")
            }
            fn visit_str<E: Error>(self, text: &str) -> Result<Vec<u8>, E> {
                Ok(text.as_bytes().to_vec())
            }
            fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Vec<u8>, A::Error> {
                let mut bytes = Vec::new();
                while let Some(byte) = list.next_element()? {
                    bytes.push(byte);
                }
                Ok(bytes)
            }
        }
        from.deserialize_any(Either)
    }
}

/// `1 entry`, `2 entries`: a count with its noun.
#[must_use]
pub fn count(number: usize, one: &str, many: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {many}") }
}

/// The text as one word of a POSIX shell command line. What ends like a sentence is quoted: within one it would seem to end there.
#[must_use]
pub fn shell_word(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"/._-@:+=,%".contains(&byte);
    // A leading ~/ has to stay bare, or the shell does not know it for the home.
    let rest = text.strip_prefix("~/").unwrap_or(text);
    let ends_a_sentence = rest.len() > 1 && rest.ends_with(['.', ',', ':']) && rest.len() == text.len();
    if !text.is_empty() && rest.bytes().all(plain) && !text.starts_with('-') && !ends_a_sentence {
        text.to_owned()
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terminal_codes_and_overrides_are_written_out() {
        assert_eq!(printable(b"edda\x1b[31m\nx\xff"), "edda\\x1b[31m\\x0ax\\xff");
        assert_eq!(printable("a\u{202e}b\u{200b}".as_bytes()), "a\\u{202e}b\\u{200b}");
        assert_eq!(printable("Leuchtturm Möwe".as_bytes()), "Leuchtturm Möwe");
    }

    #[test]
    fn what_is_harmless_to_a_terminal_is_told() {
        assert!(is_harmless(b"") && is_harmless(b"a b~\"\n\t"));
        for odd in ["\u{1b}[2J", "é", "\r", "\u{7f}"] {
            assert!(!is_harmless(odd.as_bytes()), "{odd:?}");
        }
    }

    #[test]
    fn shell_words_survive_quotes() {
        assert_eq!(shell_word("/home/edda/.ssh"), "/home/edda/.ssh");
        assert_eq!(shell_word("it's"), "'it'\\''s'");
        assert_eq!(shell_word("~/.ssh/edda.pub"), "~/.ssh/edda.pub");
        assert_eq!(shell_word(""), "''");
        assert_eq!(shell_word("-rf"), "'-rf'");
        assert_eq!(["..", "a.", ".", "~/a.", "a.b"].map(shell_word), ["'..'", "'a.'", ".", "~/a.", "a.b"]);
    }
}
