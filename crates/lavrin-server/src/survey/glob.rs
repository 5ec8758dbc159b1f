//! Paths with patterns in them, as `glob(7)` expands them: by the names that were seen in the folders on the way.

use super::Observation;
use crate::fs::{BytePath, Fact};

/// What a pattern stands for.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Expanded {
    /// The paths, in order. Behind the last pattern they need not be there.
    pub paths: Vec<BytePath>,
    /// Folders whose names have to be looked at before everything is known.
    pub ask: Vec<BytePath>,
    /// Folders whose names could not be seen.
    pub unseen: Vec<BytePath>,
}

/// Most paths that a pattern is expanded to.
const PATHS_MAX: usize = 4096;

/// Whether a path is a pattern.
#[must_use]
pub fn is_pattern(path: &BytePath) -> bool {
    path.as_bytes().iter().any(|byte| b"*?[".contains(byte))
}

/// Expands an absolute path.
#[must_use]
pub fn expand(pattern: &BytePath, seen: &Observation) -> Expanded {
    let mut expanded = Expanded { paths: vec!["/".into()], ..Expanded::default() };
    let parts = pattern.as_bytes().split(|byte| *byte == b'/').filter(|part| !part.is_empty());
    for part in parts {
        let before = std::mem::take(&mut expanded.paths);
        if !part.iter().any(|byte| b"*?[\\".contains(byte)) {
            expanded.paths = before.into_iter().map(|path| path.join(part)).collect();
            continue;
        }
        for folder in before {
            match seen.names.get(&folder) {
                None => expanded.ask.push(folder),
                Some(Fact::Known(names)) => {
                    let mut found: Vec<&Vec<u8>> = names.iter().filter(|name| fits(part, name)).collect();
                    found.sort();
                    expanded.paths.extend(found.into_iter().map(|name| folder.join(name)));
                }
                Some(Fact::Absent) => {}
                Some(Fact::Unseen(_)) => expanded.unseen.push(folder),
            }
        }
        expanded.paths.truncate(PATHS_MAX);
    }
    expanded
}

/// Whether a name fits a pattern; a dot in front has to stand in the pattern too.
#[must_use]
pub fn fits(pattern: &[u8], name: &[u8]) -> bool {
    (name.first() != Some(&b'.') || pattern.first() == Some(&b'.')) && matches(pattern, name)
}

/// Goes back to the last `*` only, so that no pattern takes long.
fn matches(pattern: &[u8], name: &[u8]) -> bool {
    let (mut p, mut n) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while n < name.len() {
        if pattern.get(p) == Some(&b'*') {
            star = Some((p + 1, n));
            p += 1;
            continue;
        }
        match one(&pattern[p..], name[n]) {
            Some(length) => (p, n) = (p + length, n + 1),
            None => match star {
                Some((behind, from)) => {
                    star = Some((behind, from + 1));
                    (p, n) = (behind, from + 1);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|byte| *byte == b'*')
}

/// How much of the pattern takes this byte.
fn one(pattern: &[u8], byte: u8) -> Option<usize> {
    match pattern {
        [b'?', ..] => Some(1),
        [b'\\', literal, ..] => (*literal == byte).then_some(2),
        [b'[', rest @ ..] => match set(rest, byte) {
            Some((is_in, length)) => is_in.then_some(length + 1),
            // What is not closed stands for itself.
            None => (byte == b'[').then_some(1),
        },
        [literal, ..] => (*literal == byte).then_some(1),
        [] => None,
    }
}

/// Whether a set behind `[` holds the byte, and how long it is.
fn set(text: &[u8], byte: u8) -> Option<(bool, usize)> {
    let negated = matches!(text.first(), Some(b'!' | b'^'));
    let start = usize::from(negated);
    let (mut at, mut found) = (start, false);
    loop {
        match text.get(at)? {
            b']' if at > start => return Some((found != negated, at + 1)),
            first => match (text.get(at + 1), text.get(at + 2)) {
                (Some(b'-'), Some(last)) if *last != b']' => {
                    found |= (*first..=*last).contains(&byte);
                    at += 3;
                }
                _ => {
                    found |= *first == byte;
                    at += 1;
                }
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_fit_patterns_as_in_a_shell() {
        for (pattern, name) in [
            ("*.conf", "a.conf"),
            ("a?c", "abc"),
            ("[a-c]x", "bx"),
            ("[!a]", "b"),
            ("[]]", "]"),
            (".*", ".x"),
            ("a\\*", "a*"),
            ("[x", "[x"),
        ] {
            assert!(fits(pattern.as_bytes(), name.as_bytes()), "{pattern} {name}");
        }
        for (pattern, name) in [("*", ".x"), ("a?c", "ac"), ("[a-c]x", "dx"), ("[!a]", "a"), ("{a,b}", "a")] {
            assert!(!fits(pattern.as_bytes(), name.as_bytes()), "{pattern} {name}");
        }
        assert!(!fits(b"*a*a*a*a*a*a*a*b", &vec![b'a'; 5000]));
    }

    #[test]
    fn folders_are_asked_for_one_after_the_other() {
        let mut seen = Observation::default();
        let pattern = "/srv/*/keys/[ab]".into();
        assert_eq!(expand(&pattern, &seen).ask, ["/srv".into()]);
        seen.names.insert("/srv".into(), Fact::Known(vec![b"two".to_vec(), b"one".to_vec(), b".hidden".to_vec()]));
        assert_eq!(expand(&pattern, &seen).ask, ["/srv/one/keys".into(), "/srv/two/keys".into()]);
        seen.names.insert("/srv/one/keys".into(), Fact::Known(vec![b"b".to_vec(), b"a".to_vec(), b"c".to_vec()]));
        seen.names.insert("/srv/two/keys".into(), Fact::Absent);
        let found: Vec<String> = expand(&pattern, &seen).paths.iter().map(ToString::to_string).collect();
        assert_eq!(found, ["/srv/one/keys/a", "/srv/one/keys/b"]);
    }
}
