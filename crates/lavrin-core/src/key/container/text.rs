//! Text in other encodings than plain ASCII: UTF-16 and a byte order mark, as some editors leave them.

use std::borrow::Cow;

/// The text as UTF-8 without a byte order mark.
pub(super) fn plain(bytes: &[u8]) -> Cow<'_, [u8]> {
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
