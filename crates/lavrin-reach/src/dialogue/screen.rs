//! What a terminal would show of what a device sends: lines as a person reads them.

/// The text of one line after carriage returns, backspaces and control sequences have had their effect.
#[must_use]
pub fn line(raw: &str) -> String {
    let (mut shown, mut at): (Vec<char>, usize) = (Vec::new(), 0);
    let mut characters = raw.chars().peekable();
    while let Some(character) = characters.next() {
        match character {
            '\r' => at = 0,
            '\u{8}' => at = at.saturating_sub(1),
            '\u{1b}' => {
                if characters.next_if_eq(&'[').is_none() {
                    characters.next();
                    continue;
                }
                let end = characters.by_ref().find(|character| ('@'..='~').contains(character));
                if end == Some('K') {
                    shown.truncate(at);
                }
            }
            '\t' => at = put(&mut shown, at, ' '),
            other if other.is_control() => {}
            other => at = put(&mut shown, at, other),
        }
    }
    shown.into_iter().collect::<String>().trim_end().to_owned()
}

fn put(shown: &mut Vec<char>, at: usize, character: char) -> usize {
    if at < shown.len() {
        shown[at] = character;
    } else {
        shown.push(character);
    }
    at + 1
}

#[cfg(test)]
mod tests {
    use super::line;

    #[test]
    fn what_is_wiped_out_is_not_read() {
        for (raw, shown) in [
            ("key 1\r", "key 1"),
            ("--more--\r        \rkey 2", "key 2"),
            (
                "--more--\u{8}\u{8}\u{8}\u{8}\u{8}\u{8}\u{8}\u{8}        \u{8}\u{8}\u{8}\u{8}\u{8}\u{8}\u{8}\u{8}key 3",
                "key 3",
            ),
            ("more\r\u{1b}[Kkey 4", "key 4"),
            ("\u{1b}[1mfog>\u{1b}[0m ", "fog>"),
            ("\u{1b}", ""),
        ] {
            assert_eq!(line(raw), shown, "{raw:?}");
        }
    }
}
