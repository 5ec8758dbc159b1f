//! The framing of a script's answer: bytes stand between `\nN B id\n` and `\nN E code\n`, where `N` is a nonce that
//! nobody else knows; the answer ends with `\nN Z\n`.

use std::collections::HashMap;

/// One frame: what it is about, its bytes, and the exit status of what produced them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Frame<'a> {
    pub(super) id: &'a [u8],
    pub(super) bytes: &'a [u8],
    pub(super) status: u8,
}

/// Cuts an answer into its frames. What stands outside of frames is passed over, and so is a frame without an end.
pub(super) fn frames<'a>(answer: &'a [u8], nonce: &str) -> Vec<Frame<'a>> {
    let begin = format!("\n{nonce} B ").into_bytes();
    let end = format!("\n{nonce} E ").into_bytes();
    let mut found = Vec::new();
    let mut rest = answer;
    while let Some(at) = find(rest, &begin) {
        let from = &rest[at + begin.len()..];
        let Some(line) = from.iter().position(|byte| *byte == b'\n') else { break };
        let (id, body) = (&from[..line], &from[line + 1..]);
        // An empty body: the newline of the end marker is the one behind the id.
        let body_with_newline = &from[line..];
        let Some(stop) = find(body_with_newline, &end) else { break };
        let bytes = if stop == 0 { &body[..0] } else { &body[..stop - 1] };
        let behind = &body_with_newline[stop + end.len()..];
        let line = behind.iter().position(|byte| *byte == b'\n').unwrap_or(behind.len());
        let status = std::str::from_utf8(&behind[..line]).ok().and_then(|text| text.parse().ok()).unwrap_or(255);
        found.push(Frame { id, bytes, status });
        rest = &behind[line..];
    }
    found
}

/// The frames by what they are about; of two the first counts.
pub(super) fn by_id<'a>(frames: &[Frame<'a>]) -> HashMap<&'a [u8], Frame<'a>> {
    let mut map = HashMap::new();
    for frame in frames {
        map.entry(frame.id).or_insert_with(|| frame.clone());
    }
    map
}

fn find(haystack: &[u8], needle: &[u8]) -> Option<usize> {
    memchr::memmem::find(haystack, needle)
}

/// What an account said, from a frame `a WORD ACCOUNT`: frames under a word that only it knows, and an end. Without the end it
/// was ended before, or said too much, and nothing of it counts.
pub(super) fn of_account<'a>(frame: &Frame<'a>) -> Option<(&'a str, Vec<Frame<'a>>)> {
    let id = std::str::from_utf8(frame.id.strip_prefix(b"a ")?).ok()?;
    let (word, account) = id.split_once(' ')?;
    let end = find(frame.bytes, format!("\n{word} Z\n").as_bytes());
    let said = end.map(|end| frames(&frame.bytes[..=end], word)).unwrap_or_default();
    Some((account, said))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn any_byte_may_stand_in_a_frame() {
        let answer = b"noise\nN1 B c /a b\nline\n\0N1 E x\n\nN1 E 0\n\nN1 B d\n\nN1 E 3\nnoise\nN1 Z\n";
        let found = frames(answer, "N1");
        assert_eq!(found.len(), 2);
        assert_eq!(found[0], Frame { id: b"c /a b", bytes: b"line\n\0N1 E x\n", status: 0 });
        assert_eq!(found[1], Frame { id: b"d", bytes: b"", status: 3 });
    }

    #[test]
    fn an_account_speaks_under_its_own_word_and_to_the_end() {
        let said = |bytes: &'static [u8]| {
            let (account, frames) = of_account(&Frame { id: b"a K1 edda", bytes, status: 0 }).unwrap();
            assert_eq!(account, "edda");
            frames.len()
        };
        assert_eq!(said(b"\nK1 B x\ny\nK1 E 0\n\nK1 Z\n"), 1);
        assert_eq!(said(b"\nK1 B x\ny\nK1 E 0\n"), 0);
        assert_eq!(said(b"\nK2 B x\ny\nK2 E 0\n\nK2 Z\n"), 0);
        assert_eq!(said(b"\nK1 Z\n\nK1 B x\ny\nK1 E 0\n"), 0);
    }

    #[test]
    fn a_frame_of_another_nonce_or_without_end_does_not_count() {
        assert!(frames(b"\nN2 B x\ny\nN2 E 0\n", "N1").is_empty());
        assert!(frames(b"\nN1 B x\ny\n", "N1").is_empty());
    }
}
