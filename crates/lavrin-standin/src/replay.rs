//! Answers that were given before, given again without running anything: for measuring what it costs to ask very many
//! hosts, where their own work would be done elsewhere.

use std::collections::HashMap;
use std::sync::Mutex;

/// Stand for the words that frame an answer, which differ each time.
const PLACES: [&str; 2] = ["\u{1}nonce\u{1}", "\u{1}child\u{1}"];

/// What was asked before, and the answers.
#[derive(Debug, Default)]
pub struct Replay(Mutex<HashMap<String, String>>);

impl Replay {
    /// The answer to a script that was run before, framed by this script's own words.
    pub(crate) fn answer(&self, script: &str) -> Option<String> {
        let words = words(script)?;
        let known = self.0.lock().expect("nobody panics holding this");
        let answer = known.get(&swap(script, &words, &PLACES))?;
        Some(swap(answer, &PLACES, &words))
    }

    /// Keeps an answer.
    pub(crate) fn keep(&self, script: &str, answer: &str) {
        let Some(words) = words(script) else { return };
        let (script, answer) = (swap(script, &words, &PLACES), swap(answer, &words, &PLACES));
        self.0.lock().expect("nobody panics holding this").insert(script, answer);
    }
}

/// The two words with which a script says how its answer is framed.
fn words(script: &str) -> Option<[&str; 2]> {
    let line = script.lines().find(|line| line.starts_with("N="))?;
    let mut parts = line.split("; ");
    let (nonce, child) = (parts.next()?.strip_prefix("N=")?, parts.next()?.strip_prefix("K=")?);
    Some([nonce, child])
}

fn swap(text: &str, from: &[&str; 2], to: &[&str; 2]) -> String {
    text.replace(from[0], to[0]).replace(from[1], to[1])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_is_given_again_in_the_words_of_who_asks() {
        let replay = Replay::default();
        let script = |nonce: &str, child: &str| format!("N={nonce}; K={child}; R=\necho \"$N\"\n");
        assert_eq!(replay.answer(&script("L1", "L2")), None);
        replay.keep(&script("L1", "L2"), "\nL1 B x\nL2\n");
        assert_eq!(replay.answer(&script("L3", "L4")).as_deref(), Some("\nL3 B x\nL4\n"));
        assert_eq!(replay.answer("echo\n"), None);
    }
}
