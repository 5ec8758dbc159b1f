//! A known key in a file, wherever line ends or blanks break it apart: its name and its base64 without them stand there once.

use crate::key::PublicKey;
use memchr::memmem;

/// The first and the last line over which a key is spread, counted from 1; they are the same where blanks alone break it. CR
/// alone ends a line too, as a person sees it.
#[must_use]
pub fn lines_of(bytes: &[u8], key: &PublicKey) -> Option<(usize, usize)> {
    let mut packed = Vec::with_capacity(bytes.len());
    let mut lines: Vec<u32> = Vec::with_capacity(bytes.len());
    let mut line: u32 = 1;
    let mut before = 0;
    for byte in bytes {
        match byte {
            b'\n' if before == b'\r' => {}
            b'\n' | b'\r' => line = line.saturating_add(1),
            b' ' | b'\t' => {}
            other => {
                packed.push(*other);
                lines.push(line);
            }
        }
        before = *byte;
    }
    let text: Vec<u8> = key.line("").bytes().filter(|byte| !byte.is_ascii_whitespace() && *byte != b'=').collect();
    let base64 = text.len() - key.algorithm().name().len();
    let place = |wanted: &[u8]| {
        let at = memmem::find(&packed, wanted)?;
        Some((*lines.get(at)? as usize, *lines.get(at + wanted.len() - 1)? as usize))
    };
    // Without its name it is the same key, in a block or behind another name.
    place(&text).or_else(|| place(text.get(text.len() - base64..)?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::PrivateKey;

    #[test]
    fn a_known_key_is_found_wherever_it_is_broken() {
        let key = PrivateKey::ed25519(&[7; 32]).unwrap().public().clone();
        let line = key.line("edda");
        for at in 1..key.line("").trim_end().len() {
            let (one, two) = line.split_at(at);
            assert_eq!(lines_of(format!("# old\n{one}\n{two}\n").as_bytes(), &key), Some((2, 3)), "{one}|{two}");
            assert_eq!(lines_of(format!("{one}\r\n  {two}").as_bytes(), &key), Some((1, 2)), "{one}|{two}");
        }
        assert_eq!(lines_of(line.replacen("AAAA", "AAAA\n\n", 1).as_bytes(), &key), Some((1, 3)));
        let other = PrivateKey::ed25519(&[8; 32]).unwrap().public().clone();
        assert_eq!(lines_of(line.as_bytes(), &other), None);
    }
}
