//! Text in other encodings than plain ASCII: UTF-16 and a byte order mark, as some editors leave them.

use std::borrow::Cow;

/// The text as UTF-8 without a byte order mark.
pub(crate) fn plain(bytes: &[u8]) -> Cow<'_, [u8]> {
    match bytes {
        [0xef, 0xbb, 0xbf, rest @ ..] => Cow::Borrowed(rest),
        [0xff, 0xfe, rest @ ..] => Cow::Owned(from_utf16(rest, u16::from_le_bytes)),
        [0xfe, 0xff, rest @ ..] => Cow::Owned(from_utf16(rest, u16::from_be_bytes)),
        _ => Cow::Borrowed(bytes),
    }
}

fn from_utf16(bytes: &[u8], unit: fn([u8; 2]) -> u16) -> Vec<u8> {
    let units = bytes.chunks_exact(2).map(|pair| unit([pair[0], pair[1]]));
    char::decode_utf16(units).map(|read| read.unwrap_or(char::REPLACEMENT_CHARACTER)).collect::<String>().into_bytes()
}

/// Lines that are looked at to recognise a container by its shape.
const SHAPE_LINES: usize = 200;

/// Shortest run of base64 that counts as a line of a key.
const BASE64_LINE: usize = 16;

/// Whether a text has the shape of a private key in a program's own container: from its first line on headers with a
/// colon, one of which speaks of something private, and lines of base64 between them.
pub(crate) fn is_closed_container(bytes: &[u8]) -> bool {
    let lines = || bytes.split(|byte| *byte == b'\n').map(<[u8]>::trim_ascii).take(SHAPE_LINES);
    let header = |line: &[u8]| line.iter().position(|byte| *byte == b':').map(|at| line[..at].to_ascii_lowercase());
    let is_name =
        |name: &[u8]| !name.is_empty() && name.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'-');
    let names = || lines().filter_map(header).filter(|name| is_name(name));
    let is_base64 = |line: &[u8]| {
        line.len() >= BASE64_LINE && line.iter().all(|byte| byte.is_ascii_alphanumeric() || b"+/=".contains(byte))
    };
    lines().next().and_then(header).is_some_and(|name| is_name(&name))
        && names().any(|name| name.windows(7).any(|window| window == b"private"))
        && lines().any(is_base64)
}

/// What a text has that would break a key file on a server, were it put there as it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TextNote {
    /// A byte order mark: the server does not read the first line.
    ByteOrderMark,
    /// Two bytes a character: the server reads nothing.
    Utf16,
    /// Lines end with CR alone: the server sees one line.
    LoneCr,
    /// Lines end with CR and LF. OpenSSH takes that, other servers do not.
    CrLf,
    /// The last line has no end: what is appended by hand lands on it.
    NoFinalNewline,
}

/// What would break a key file.
#[must_use]
pub fn text_notes(bytes: &[u8]) -> Vec<TextNote> {
    if matches!(bytes, [0xff, 0xfe, ..] | [0xfe, 0xff, ..]) {
        return vec![TextNote::Utf16];
    }
    let mut notes = Vec::new();
    if bytes.starts_with(b"\xef\xbb\xbf") {
        notes.push(TextNote::ByteOrderMark);
    }
    if memchr::memchr(b'\r', bytes).is_some() {
        let pairs = memchr::memmem::find(bytes, b"\r\n").is_some();
        notes.push(if pairs { TextNote::CrLf } else { TextNote::LoneCr });
    }
    if !bytes.ends_with(b"\n") && !bytes.ends_with(b"\r") {
        notes.push(TextNote::NoFinalNewline);
    }
    notes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_container_of_one_program_is_known_by_its_shape() {
        let text = b"Some-Program-Key: 7\nKind: ssh-ed25519\nPublic-Part: 1\nAAAAC3NzaC1lZDI1NTE5\nPrivate-Part: 1\nAAAAIBAQEBAQEBAQ\n";
        assert!(is_closed_container(text));
        assert!(!is_closed_container(b"Dear Edda,\nmy private key: none of your business\n"));
        assert!(!is_closed_container(b"ChangeSubject: private\nDear Edda\n"));
    }

    #[test]
    fn notes_name_what_a_server_stumbles_over() {
        assert_eq!(text_notes(b"ssh-ed25519 AAAA\n"), []);
        assert_eq!(
            text_notes(b"\xef\xbb\xbfa\r\nb"),
            [TextNote::ByteOrderMark, TextNote::CrLf, TextNote::NoFinalNewline]
        );
        assert_eq!(text_notes(b"a\rb\r"), [TextNote::LoneCr]);
        assert_eq!(text_notes(b"\xff\xfea\0"), [TextNote::Utf16]);
    }
}
