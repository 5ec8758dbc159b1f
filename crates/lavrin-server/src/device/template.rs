//! Templates of what is typed on a device and of what it says: plain text with marks in it.

use std::collections::BTreeMap;

/// The marks, each with what it stands for.
pub const MARKS: [(char, &str); 9] = [
    ('u', "the account"),
    ('n', "how the device names the place of a key"),
    ('k', "a key on one line: algorithm, data, comment"),
    ('a', "the algorithm of a key"),
    ('d', "the data of a key"),
    ('c', "the comment of a key"),
    ('b', "a key as a block of lines (RFC 4716)"),
    ('m', "minutes"),
    ('f', "a file"),
];

/// A part of a template.
#[derive(Debug, Clone, PartialEq, Eq)]
enum TemplatePart {
    Text(String),
    Mark(char),
}

/// A text with marks (`%u`, `%k`); `%%` is a percent sign.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    text: String,
    parts: Vec<TemplatePart>,
}

/// What stands for each mark.
pub type MarkValues = BTreeMap<char, String>;

impl Template {
    /// Reads one; `None` where it holds a mark that is none.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let (mut parts, mut plain) = (Vec::new(), String::new());
        let mut characters = text.chars();
        while let Some(character) = characters.next() {
            if character != '%' {
                plain.push(character);
                continue;
            }
            match characters.next()? {
                '%' => plain.push('%'),
                mark if MARKS.iter().any(|(own, _)| *own == mark) => {
                    if !plain.is_empty() {
                        parts.push(TemplatePart::Text(std::mem::take(&mut plain)));
                    }
                    parts.push(TemplatePart::Mark(mark));
                }
                _ => return None,
            }
        }
        if !plain.is_empty() {
            parts.push(TemplatePart::Text(plain));
        }
        Some(Self { text: text.to_owned(), parts })
    }

    /// As it was written.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Whether it holds a mark.
    #[must_use]
    pub fn has(&self, mark: char) -> bool {
        self.parts.contains(&TemplatePart::Mark(mark))
    }

    /// The text with these values; `None` where one is missing.
    #[must_use]
    pub fn filled(&self, values: &MarkValues) -> Option<String> {
        let mut text = String::new();
        for part in &self.parts {
            match part {
                TemplatePart::Text(plain) => text.push_str(plain),
                TemplatePart::Mark(mark) => text.push_str(values.get(mark)?),
            }
        }
        Some(text)
    }

    /// What stands for its marks in a line that it fits as a whole. What is known has to be the same; `%k`, `%c` and what comes last
    /// may hold blanks, other marks hold none and at least one character.
    #[must_use]
    pub fn fits(&self, line: &str, known: &MarkValues) -> Option<MarkValues> {
        let mut found = MarkValues::new();
        let mut rest = line;
        for (number, part) in self.parts.iter().enumerate() {
            match part {
                TemplatePart::Text(plain) => rest = rest.strip_prefix(plain.as_str())?,
                TemplatePart::Mark(mark) => {
                    let value = if let Some(value) = known.get(mark) {
                        value.as_str()
                    } else {
                        let until = match self.parts.get(number + 1) {
                            Some(TemplatePart::Text(plain)) => rest.find(plain.as_str())?,
                            Some(TemplatePart::Mark(_)) | None => rest.len(),
                        };
                        &rest[..until]
                    };
                    let may_be_loose = matches!(mark, 'k' | 'c');
                    if !may_be_loose && (value.is_empty() || value.contains(char::is_whitespace)) {
                        return None;
                    }
                    rest = rest.strip_prefix(value)?;
                    if found.insert(*mark, value.to_owned()).is_some_and(|before| before != value) {
                        return None;
                    }
                }
            }
        }
        rest.is_empty().then_some(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn values(pairs: &[(char, &str)]) -> MarkValues {
        pairs.iter().map(|(mark, value)| (*mark, (*value).to_owned())).collect()
    }

    #[test]
    fn marks_are_filled_and_found_again() {
        let template = Template::parse("key %n of %u: %a %d %c 100%%").unwrap();
        let all = values(&[('n', "3"), ('u', "edda"), ('a', "ssh-rsa"), ('d', "AAAA"), ('c', "the old lamp")]);
        let line = template.filled(&all).unwrap();
        assert_eq!(line, "key 3 of edda: ssh-rsa AAAA the old lamp 100%");
        assert_eq!(template.fits(&line, &MarkValues::new()), Some(all.clone()));
        assert_eq!(template.fits(&line, &values(&[('u', "sten")])), None);
        assert_eq!(template.filled(&values(&[('n', "3")])), None);
        for wrong in [
            "key 3 of edda ssh-rsa AAAA x 100%",
            " key 3 of edda: ssh-rsa AAAA x 100%",
            "key 3 of edda: ssh-rsa AAAA x 100% ",
        ] {
            assert_eq!(template.fits(wrong, &MarkValues::new()), None, "{wrong}");
        }
    }

    #[test]
    fn a_mark_that_is_none_is_refused_and_a_word_holds_no_blank() {
        assert!(["%x", "100%", "%"].iter().all(|text| Template::parse(text).is_none()));
        let word = Template::parse("%n").unwrap();
        assert!(word.fits("two words", &MarkValues::new()).is_none() && word.fits("", &MarkValues::new()).is_none());
        assert!(Template::parse("%k").unwrap().fits("ssh-rsa AAAA", &MarkValues::new()).is_some());
    }
}
