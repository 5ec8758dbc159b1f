//! The patterns of `ssh_config(5)`, and lists of them.

/// A pattern of `ssh_config(5)`: `*` and `?`. Compared with a bound, so that no pattern takes long.
#[must_use]
pub fn matches(pattern: &[u8], text: &[u8]) -> bool {
    let (mut p, mut t) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while t < text.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p + 1, t));
                p += 1;
            }
            Some(b'?') => (p, t) = (p + 1, t + 1),
            Some(byte) if *byte == text[t] => (p, t) = (p + 1, t + 1),
            _ => match star {
                Some((behind, from)) => {
                    star = Some((behind, from + 1));
                    (p, t) = (behind, from + 1);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|byte| *byte == b'*')
}

/// Whether a list of patterns with `!` negations takes the text: one negated match refuses it whatever else matches.
#[must_use]
pub fn list_matches<'a>(patterns: impl Iterator<Item = &'a str>, text: &str) -> bool {
    let mut found = false;
    for pattern in patterns {
        if let Some(negated) = pattern.strip_prefix('!') {
            if matches(negated.as_bytes(), text.as_bytes()) {
                return false;
            }
        } else if matches(pattern.as_bytes(), text.as_bytes()) {
            found = true;
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_match_in_bounded_time() {
        assert!(matches(b"*a*b?", b"xxaxxbz"));
        assert!(!matches(b"a*", b"ba"));
        let long = vec![b'a'; 5000];
        assert!(!matches(b"*a*a*a*a*a*a*a*a*b", &long));
    }
}
