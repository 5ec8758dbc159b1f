//! What devices list that is no key.

use lavrin_keys::text::printable;

/// An entry that no server and nobody here can read, as a line that never reads as another key, whatever is in its parts.
pub(crate) fn unreadable(algorithm: &str, data: &str, comment: &str) -> String {
    let word = |text: &str, instead: &str| {
        let word: String = text.split_whitespace().next().unwrap_or(instead).replace(['"', ','], "?");
        if word.is_empty() { instead.to_owned() } else { word }
    };
    let line = format!("{} {} {comment}", word(algorithm, "unknown"), word(data, "-"));
    printable(line.trim_end().as_bytes())
}

#[cfg(test)]
mod tests {
    use super::unreadable;
    use lavrin_keys::key::PrivateKey;
    use lavrin_keys::keysfile::{Content, Dialect, read_all};

    #[test]
    fn no_part_of_it_reads_as_somebodys_key() {
        let line = PrivateKey::ed25519(&[1; 32]).unwrap().public().line("");
        let data = line.split(' ').nth(1).unwrap().trim();
        for (algorithm, own, comment) in [
            (line.as_str(), "!", ""),
            ("ssh-ed25519", "", data),
            ("", "", line.as_str()),
            ("x\"", "a\n", line.as_str()),
        ] {
            let text = unreadable(algorithm, own, comment);
            let read = read_all(text.as_bytes(), None, &Dialect::default());
            assert!(read.iter().all(|line| !matches!(line.content, Content::Entry(_))), "{text}");
        }
    }
}
