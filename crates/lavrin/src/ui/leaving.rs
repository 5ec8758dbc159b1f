//! Text on its way out of the program. Whatever a register, a host or a file put into it, a terminal obeys none of it: what
//! could be a command, or hide something, is written out. Only our own colours pass, marked with a word that nobody else knows.

use super::Format;
use lavrin_keys::key::generate::{Randomness as _, SystemSource};
use lavrin_keys::text::{is_harmless, is_plain, printable};
use std::borrow::Cow;
use std::fmt::Write as _;
use std::sync::LazyLock;

/// How the mark of a colour begins, and the word behind it.
const MARK: char = '\x1b';
static WORD: LazyLock<String> = LazyLock::new(|| {
    let mut bytes = [0u8; 8];
    SystemSource.fill(&mut bytes);
    format!("{:016x}", u64::from_le_bytes(bytes))
});

/// Marks a text with a colour, by its number; it counts nothing where columns are lined up.
pub fn marked(colour: usize, text: &str) -> String {
    format!("{MARK}{word}{colour}m{text}{MARK}{word}-m", word = *WORD)
}

/// Signs of ours, and what stands for them where only ASCII can be shown.
const SIGNS: [(char, &str); 9] =
    [('…', "..."), ('│', "|"), ('├', "|"), ('└', "`"), ('×', "x"), ('·', "-"), ('–', "-"), ('−', "-"), ('’', "'")];

/// The same for a terminal that shows ASCII only: what it cannot show is written out.
pub fn in_ascii(text: &str) -> Cow<'_, str> {
    if text.is_ascii() {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for character in text.chars() {
        match SIGNS.iter().find(|(sign, _)| *sign == character) {
            _ if character.is_ascii() => out.push(character),
            Some((_, instead)) => out += instead,
            None => out.extend(character.escape_unicode()),
        }
    }
    Cow::Owned(out)
}

/// The text as it leaves: marks become what `colours` says of them, `None` the end of a colour; all else is written out.
pub fn leaving(text: &str, format: Format, colours: impl Fn(Option<usize>) -> String) -> Cow<'_, str> {
    if is_harmless(text.as_bytes()) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 64);
    let mut rest = text;
    while let Some(at) = rest.find(|character: char| !is_shown(character)) {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        if let Some((colour, behind)) = mark(rest) {
            out.push_str(&colours(colour));
            rest = behind;
            continue;
        }
        // A line end of two characters moves nothing that the second alone would not.
        if let Some(behind) = rest.strip_prefix("\r\n") {
            out.push_str("\r\n");
            rest = behind;
            continue;
        }
        let length = rest.chars().next().map_or(1, char::len_utf8);
        write_out(&rest[..length], format, &mut out);
        rest = &rest[length..];
    }
    out.push_str(rest);
    Cow::Owned(out)
}

fn is_shown(character: char) -> bool {
    matches!(character, '\n' | '\t') || is_plain(character)
}

fn mark(text: &str) -> Option<(Option<usize>, &str)> {
    let behind = text.strip_prefix(MARK)?.strip_prefix(WORD.as_str())?;
    let (colour, behind) = behind.split_once('m')?;
    if colour == "-" { Some((None, behind)) } else { Some((Some(colour.parse().ok()?), behind)) }
}

/// In words as everywhere else; in JSON so that it still is the same text to whoever reads it.
fn write_out(character: &str, format: Format, out: &mut String) {
    if !format.is_json() {
        out.push_str(&printable(character.as_bytes()));
        return;
    }
    for unit in character.encode_utf16() {
        let _ = write!(out, "\\u{unit:04x}");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn colour(number: Option<usize>) -> String {
        number.map_or("\x1b[0m".to_owned(), |number| format!("\x1b[{number}m"))
    }

    #[test]
    fn nothing_that_a_terminal_obeys_leaves_but_our_own_colours() {
        let text = format!("a\x1b[31mb\u{9b}1m\u{202e}\r\x07\x7f {} é\t\n", marked(1, "red\x1b[2J"));
        let expected = "a\\x1b[31mb\\u{9b}1m\\u{202e}\\x0d\\x07\\x7f \x1b[1mred\\x1b[2J\x1b[0m é\t\n";
        assert_eq!(leaving(&text, Format::Text, colour), expected);
        assert_eq!(leaving("a\r\nb\rc\n", Format::Text, colour), "a\r\nb\\x0dc\n");
        assert_eq!(leaving("\x1b0000000000000000-m", Format::Text, colour), "\\x1b0000000000000000-m");
        assert!(matches!(leaving("plain\ttext\n", Format::Text, colour), Cow::Borrowed(_)));
    }

    #[test]
    fn a_terminal_without_unicode_is_given_none() {
        assert_eq!(in_ascii("Sten Åkre … 3 × │"), "Sten \\u{c5}kre ... 3 x |");
        assert!(matches!(in_ascii("plain"), Cow::Borrowed(_)));
    }

    #[test]
    fn what_is_written_out_in_json_reads_as_the_same_text() {
        let text = serde_json::to_string("a\u{9b}\x7f\u{e0001}b").unwrap();
        let left = leaving(&text, Format::Json, colour);
        assert!(left.is_ascii());
        assert_eq!(serde_json::from_str::<String>(&left).unwrap(), "a\u{9b}\x7f\u{e0001}b");
    }
}
