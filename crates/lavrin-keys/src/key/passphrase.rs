//! Passphrases that Lavrin makes: letters only, from those that lie in the same place on QWERTY, QWERTZ and AZERTY
//! keyboards and are not mistaken for each other on paper.

use super::generate::Randomness;
use zeroize::Zeroizing;

/// Sixteen letters, so that each stands for exactly four bits.
const LETTERS: &[u8; 16] = b"bcdefghjknprstuv";

/// Letters in one group, for reading aloud.
const GROUP: usize = 4;

/// Groups in a passphrase.
const GROUPS: usize = 6;

/// Bits of randomness in a made passphrase.
pub const MADE_BITS: usize = GROUP * GROUPS * 4;

/// A new passphrase: six groups of four letters; the blanks between them are part of it.
#[must_use]
pub fn made(randomness: &dyn Randomness) -> Zeroizing<String> {
    let mut bytes = Zeroizing::new([0u8; GROUP * GROUPS]);
    randomness.fill(&mut *bytes);
    let mut text = Zeroizing::new(String::with_capacity(GROUPS * (GROUP + 1)));
    for (place, byte) in bytes.iter().enumerate() {
        if place > 0 && place % GROUP == 0 {
            text.push(' ');
        }
        text.push(char::from(LETTERS[usize::from(byte & 0x0f)]));
    }
    text
}

/// Longest part of a passphrase that is judged, in characters: the time grows faster than the length, and nobody guesses
/// what is longer.
const JUDGED_CHARS: usize = 100;

/// How hard a passphrase is to guess.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Quality {
    /// Guesses that a patient attacker needs, as a power of ten.
    pub guesses_log10: f64,
    /// Whether a stolen file would stand no chance: guessed in days or less even where each guess is made slow.
    pub is_weak: bool,
}

/// Judges a passphrase that a person chose. `known` are words an attacker tries first: the name and the comment of the key.
#[must_use]
pub fn judge(passphrase: &str, known: &[&str]) -> Quality {
    let end = passphrase.char_indices().nth(JUDGED_CHARS).map_or(passphrase.len(), |(at, _)| at);
    let judged = zxcvbn::zxcvbn(&passphrase[..end], known);
    Quality { guesses_log10: judged.guesses_log10(), is_weak: judged.score() < zxcvbn::Score::Three }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::generate::SystemSource;

    #[test]
    fn made_passphrases_have_the_stated_form_and_differ() {
        let (one, two) = (made(&SystemSource), made(&SystemSource));
        assert_ne!(*one, *two);
        assert_eq!(one.split(' ').map(str::len).collect::<Vec<_>>(), [4; 6]);
        assert!(one.bytes().all(|byte| byte == b' ' || LETTERS.contains(&byte)));
        assert_eq!(MADE_BITS, 96);
    }

    #[test]
    fn names_and_common_words_are_weak_and_made_passphrases_are_not() {
        for weak in ["tide", "password", "Lighthouse1", "edda@lantern", "aaaaaaaaaaaaaaaa"] {
            assert!(judge(weak, &["edda@lantern"]).is_weak, "{weak}");
        }
        let quality = judge(&made(&SystemSource), &[]);
        assert!(!quality.is_weak && quality.guesses_log10 > 15.0);
        assert!(!judge(&"correct horse ".repeat(1000), &[]).is_weak);
    }
}
