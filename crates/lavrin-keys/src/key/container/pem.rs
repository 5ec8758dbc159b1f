//! The text armour around keys (RFC 7468, and the four-dash form of RFC 4716): finding blocks and what stands between.

use crate::key::KeyFault;
use crate::text::printable;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use zeroize::Zeroizing;

/// Width of the base64 that is written: the one of OpenSSH; other readers take up to 76.
const COLUMNS: usize = 70;

/// Longest block that is decoded, in bytes: an RSA private key of 16384 bits takes about 13 KB.
const BLOCK_BYTES_MAX: usize = 256 << 10;

/// A block between BEGIN and END lines.
#[derive(Debug)]
pub struct Block<'a> {
    /// Line of the BEGIN, counted from 1.
    pub line: usize,
    /// The words between `BEGIN` and the dashes.
    pub label: &'a [u8],
    body: &'a [u8],
    end_label: Option<&'a [u8]>,
    /// Whether the dashes of both lines are those of a format.
    usual: bool,
}

/// A file falls into blocks and the text around them.
#[derive(Debug)]
pub enum Segment<'a> {
    /// A block.
    Block(Block<'a>),
    /// Lines outside of blocks.
    Text {
        /// Number of the first line.
        line: usize,
        /// The lines with their ends.
        bytes: &'a [u8],
    },
}

/// Splits a file; joined again, the parts with their marker lines are the file.
#[must_use]
pub fn split(bytes: &[u8]) -> Vec<Segment<'_>> {
    let mut parts = Vec::new();
    let (mut at, mut number) = (0, 0);
    let mut text_from = (0, 1);
    let mut open: Option<(usize, usize, Marker<'_>)> = None;
    let ends = memchr::memchr_iter(b'\n', bytes).map(|at| at + 1).chain(std::iter::once(bytes.len()));
    for end in ends.filter(|end| *end > 0) {
        let line = &bytes[at..end];
        if line.is_empty() {
            continue;
        }
        number += 1;
        let next = at + line.len();
        if let Some((body_from, begin, marked)) = open {
            if let Some(end) = marker(line, b"END ") {
                let block = Block {
                    line: begin,
                    label: marked.label,
                    body: &bytes[body_from..at],
                    end_label: Some(end.label),
                    usual: marked.usual && end.usual,
                };
                parts.push(Segment::Block(block));
                open = None;
                text_from = (next, number + 1);
            }
        } else if let Some(label) = marker(line, b"BEGIN ") {
            if text_from.0 < at {
                parts.push(Segment::Text { line: text_from.1, bytes: &bytes[text_from.0..at] });
            }
            open = Some((next, number, label));
        }
        at = next;
    }
    match open {
        Some((from, line, Marker { label, usual })) => {
            parts.push(Segment::Block(Block { line, label, body: &bytes[from..], end_label: None, usual }));
        }
        None if text_from.0 < bytes.len() => {
            parts.push(Segment::Text { line: text_from.1, bytes: &bytes[text_from.0..] });
        }
        None => {}
    }
    parts
}

/// The label of a marker line: `-----BEGIN X-----` or `---- BEGIN X ----`.
fn marker<'a>(line: &'a [u8], word: &[u8]) -> Option<Marker<'a>> {
    // Four dashes and a blank, five without, and what comes of the one when it is typed like the other.
    let dashes = |line: &mut dyn Iterator<Item = &u8>| line.take_while(|byte| **byte == b'-').count();
    let line = line.trim_ascii();
    let (front, back) = (dashes(&mut line.iter()), dashes(&mut line.iter().rev()));
    let inner = line.get(front..line.len().checked_sub(back)?)?;
    let bare = inner.strip_prefix(b" ").unwrap_or(inner);
    let bare = bare.strip_suffix(b" ").unwrap_or(bare);
    let blanks = inner.len() - bare.len();
    let label = bare.strip_prefix(word)?;
    let usual = matches!((front, back, blanks), (5, 5, 0) | (4, 4, 2));
    let likely = (4..=5).contains(&front) && (4..=5).contains(&back) && label.ends_with(b" KEY");
    (usual || likely).then_some(Marker { label, usual })
}

/// A BEGIN or END line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Marker<'a> {
    label: &'a [u8],
    /// Whether its dashes are those of one of the two formats.
    usual: bool,
}

impl Block<'_> {
    /// Whether an empty line parts headers and content.
    #[must_use]
    pub fn has_empty_line(&self) -> bool {
        self.body.split_inclusive(|byte| *byte == b'\n').any(|line| line.trim_ascii().is_empty())
    }

    /// The value of a header line such as `DEK-Info`.
    #[must_use]
    pub fn header(&self, name: &str) -> Option<String> {
        let lines = self.body.split(|byte| *byte == b'\n').map(String::from_utf8_lossy);
        lines
            .filter_map(|line| {
                line.split_once(':').map(|(found, value)| (found.trim() == name, value.trim().to_owned()))
            })
            .find(|(same, _)| *same)
            .map(|(_, value)| value)
    }

    /// The lines between the markers as they are.
    ///
    /// # Errors
    /// [`KeyFault::Truncated`], [`KeyFault::LabelMismatch`], [`KeyFault::TooLarge`].
    pub fn text_body(&self) -> Result<&[u8], KeyFault> {
        if self.body.len() > BLOCK_BYTES_MAX {
            return Err(KeyFault::TooLarge { bytes: self.body.len(), limit: BLOCK_BYTES_MAX });
        }
        if self.end_label.ok_or(KeyFault::Truncated)? == self.label && self.usual {
            Ok(self.body)
        } else {
            Err(KeyFault::LabelMismatch)
        }
    }

    /// The bytes that the base64 stands for.
    ///
    /// # Errors
    /// [`KeyFault::Truncated`] without an END line, [`KeyFault::LabelMismatch`], [`KeyFault::TooLarge`],
    /// [`KeyFault::BadBase64`].
    pub fn decode(&self) -> Result<Zeroizing<Vec<u8>>, KeyFault> {
        if self.body.len() > BLOCK_BYTES_MAX {
            return Err(KeyFault::TooLarge { bytes: self.body.len(), limit: BLOCK_BYTES_MAX });
        }
        let end = self.end_label.ok_or(KeyFault::Truncated)?;
        if end != self.label || !self.usual {
            return Err(KeyFault::LabelMismatch);
        }
        let mut text = Zeroizing::new(Vec::with_capacity(self.body.len()));
        let lines = self.body.split(|byte| *byte == b'\n').filter(|line| !line.contains(&b':'));
        text.extend(lines.flatten().filter(|byte| !byte.is_ascii_whitespace()));
        STANDARD.decode(&*text).map(Zeroizing::new).map_err(|fault| KeyFault::BadBase64 { detail: fault })
    }
}

/// A block whose label says nothing that Lavrin reads.
pub(crate) fn unknown_label(label: &[u8]) -> KeyFault {
    if label.ends_with(b"PRIVATE KEY") {
        return KeyFault::ClosedContainer;
    }
    KeyFault::OtherBlock { label: printable(&label[..label.len().min(64)]) }
}

/// Base64 text in lines of 70 characters between BEGIN and END lines.
pub(crate) fn armour(label: &str, bytes: &[u8]) -> Zeroizing<String> {
    wrapped(&format!("-----BEGIN {label}-----\n"), &format!("-----END {label}-----\n"), COLUMNS, bytes)
}

/// Base64 in lines between two texts.
pub(crate) fn wrapped(begin: &str, end: &str, columns: usize, bytes: &[u8]) -> Zeroizing<String> {
    let mut base64 = Zeroizing::new(String::with_capacity(bytes.len() * 4 / 3 + 4));
    STANDARD.encode_string(bytes, &mut base64);
    let mut text =
        Zeroizing::new(String::with_capacity(base64.len() + base64.len() / columns + begin.len() + end.len() + 8));
    text.push_str(begin);
    let mut rest = base64.as_str();
    while !rest.is_empty() {
        let (head, tail) = rest.split_at(rest.len().min(columns));
        text.push_str(head);
        text.push('\n');
        rest = tail;
    }
    text.push_str(end);
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_and_text_are_told_apart_with_their_lines() {
        let file = b"hello\n-----BEGIN A-----\nAAAA\n-----END A-----\nbye\n---- BEGIN B ----\nx";
        let parts = split(file);
        assert_eq!(parts.len(), 4);
        assert!(matches!(&parts[0], Segment::Text { line: 1, bytes: b"hello\n" }));
        assert!(matches!(&parts[1], Segment::Block(block) if block.line == 2 && block.label == b"A"));
        assert!(matches!(&parts[2], Segment::Text { line: 5, .. }));
        let Segment::Block(cut) = &parts[3] else { panic!() };
        assert_eq!(cut.decode(), Err(KeyFault::Truncated));
    }

    #[test]
    fn refuses_differing_labels_and_bad_base64() {
        let fault = |file: &[u8]| match &split(file)[0] {
            Segment::Block(block) => block.decode().unwrap_err().word(),
            Segment::Text { .. } => "no block",
        };
        assert_eq!(fault(b"-----BEGIN A-----\nAAAA\n-----END B-----\n"), "label-mismatch");
        assert_eq!(fault(b"-----BEGIN A-----\nA*AA\n-----END A-----\n"), "bad-base64");
    }
}
