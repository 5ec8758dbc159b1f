//! Edits of a key file: append one line, take out the lines of one key. Every other byte stays.

use super::{Content, KeysFile, options};
use crate::key::{Fingerprint, PublicKey};

impl KeysFile {
    /// The file with one line added at its end, on a line of its own even where the last had no line end.
    #[must_use]
    pub fn with_appended(&self, line: &str) -> Vec<u8> {
        let mut bytes = self.bytes.clone();
        if bytes.last().is_some_and(|last| *last != b'\n') {
            bytes.push(b'\n');
        }
        bytes.extend_from_slice(line.as_bytes());
        bytes.push(b'\n');
        bytes
    }

    /// The numbers of the lines that hold this key, usable or not.
    #[must_use]
    pub fn lines_of(&self, fingerprint: &Fingerprint) -> Vec<usize> {
        let holds = |key: &PublicKey| key.fingerprint() == *fingerprint;
        self.lines
            .iter()
            .filter(|line| match &line.content {
                Content::Entry(entry) => entry.fingerprint == *fingerprint,
                Content::Unusable(unusable) => unusable.key.as_deref().is_some_and(holds),
                Content::Blank | Content::Comment => false,
            })
            .map(|line| line.number)
            .collect()
    }

    /// The file in which the entries on these lines carry these options instead of their own; key and comment stay.
    #[must_use]
    pub fn with_options(&self, changed: &[(usize, String)]) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(self.bytes.len());
        for line in &self.lines {
            let whole = &self.bytes[line.span.0..line.span.1];
            let new = changed.iter().find(|(number, _)| *number == line.number);
            let (Some((_, new)), Content::Entry(entry)) = (new, &line.content) else {
                bytes.extend_from_slice(whole);
                continue;
            };
            let text = line.text(&self.bytes);
            let rest = if entry.options.text.is_empty() { text } else { options::split(text).1 };
            let start = whole.len() - whole.trim_ascii_start().len();
            let end = start + text.len();
            bytes.extend_from_slice(&whole[..start]);
            bytes.extend_from_slice(new.as_bytes());
            if !new.is_empty() {
                bytes.push(b' ');
            }
            bytes.extend_from_slice(rest);
            bytes.extend_from_slice(&whole[end..]);
        }
        bytes
    }

    /// The file without these lines.
    #[must_use]
    pub fn without(&self, numbers: &[usize]) -> Vec<u8> {
        let kept = self.lines.iter().filter(|line| !numbers.contains(&line.number));
        kept.flat_map(|line| &self.bytes[line.span.0..line.span.1]).copied().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::line_of;
    use super::*;
    use proptest::prelude::*;

    fn print(seed: u8) -> Fingerprint {
        crate::key::PrivateKey::ed25519(&[seed; 32]).unwrap().public().fingerprint()
    }

    #[test]
    fn appends_on_a_line_of_its_own() {
        assert_eq!(KeysFile::parse(b"# old").with_appended("new"), b"# old\nnew\n");
        assert_eq!(KeysFile::parse(b"# old\r\n").with_appended("new"), b"# old\r\nnew\n");
        assert_eq!(KeysFile::parse(b"").with_appended("new"), b"new\n");
    }

    #[test]
    fn takes_out_every_line_of_a_key_and_nothing_else() {
        let (a, b) = (line_of(1), line_of(2));
        let text = format!("# keep\r\n{a}\n\nrestrict {a}\n{b}\nbadoption {a}\n#{a}\n{a}");
        let file = KeysFile::parse(text.as_bytes());
        let lines = file.lines_of(&print(1));
        assert_eq!(lines, [2, 4, 6, 8]);
        assert_eq!(file.without(&lines), format!("# keep\r\n\n{b}\n#{a}\n").as_bytes());
    }

    proptest! {
        #[test]
        fn an_appended_line_keeps_all_that_was_there(bytes in proptest::collection::vec(any::<u8>(), 0..500)) {
            let line = line_of(5);
            let after = KeysFile::parse(&bytes).with_appended(&line);
            prop_assert!(after.starts_with(&bytes));
            let read = KeysFile::parse(&after);
            let number = read.lines().last().unwrap().number;
            prop_assert_eq!(read.lines_of(&print(5)), vec![number]);
            let back = read.without(&[number]);
            prop_assert_eq!(back.strip_suffix(b"\n").unwrap_or(&back), bytes.strip_suffix(b"\n").unwrap_or(&bytes));
        }
    }
}
