//! A fingerprint in words that can be read out on a phone: the first 128 bits of its SHA-256 as RFC 1751 writes 128-bit keys, in
//! twelve words out of that list, two bits of each half being a check.

use super::Fingerprint;
use std::sync::LazyLock;

static LIST: LazyLock<Vec<&'static str>> =
    LazyLock::new(|| include_str!("words.txt").split_ascii_whitespace().collect());

/// Bits for which one word stands.
const BITS: u32 = 11;

/// Words for 64 bits.
const WORDS: u32 = 6;

/// Eight bytes as six words (RFC 1751, section 1).
fn half(bytes: [u8; 8]) -> [&'static str; WORDS as usize] {
    let number = u64::from_be_bytes(bytes);
    let check = (0..u64::BITS).step_by(2).map(|pair| (number >> pair) & 3).sum::<u64>() & 3;
    let all = u128::from(number) << 2 | u128::from(check);
    std::array::from_fn(|word| {
        let word = u32::try_from(word).unwrap_or_default();
        let place = (all >> (BITS * (WORDS - 1 - word))) & ((1 << BITS) - 1);
        LIST[usize::try_from(place).unwrap_or_default()]
    })
}

impl Fingerprint {
    /// Twelve words, in two lines of six.
    #[must_use]
    pub fn words(&self) -> String {
        let bytes = self.as_bytes();
        let halves = bytes.as_chunks::<8>().0.iter().take(2);
        halves.map(|bytes| half(*bytes).join(" ")).collect::<Vec<_>>().join("\n").to_lowercase()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_words_are_those_of_the_rfc() {
        assert_eq!(LIST.len(), 2048);
        // RFC 1751, section 4.
        let words = half([0xEB, 0x33, 0xF7, 0x7E, 0xE7, 0x3D, 0x40, 0x53]);
        assert_eq!(words.join(" "), "TIDE ITCH SLOW REIN RULE MOT");
        let words = half([0xCC, 0xAC, 0x2A, 0xED, 0x59, 0x10, 0x56, 0xBE]);
        assert_eq!(words.join(" "), "RASH BUSH MILK LOOK BAD BRIM");
        let words = half([0x4F, 0x90, 0xFD, 0x44, 0x1C, 0x53, 0x47, 0x66]);
        assert_eq!(words.join(" "), "AVID GAFF BAIT ROT POD LOVE");
        let print = Fingerprint::of(b"the lamp is out");
        assert_eq!(print.words().split_whitespace().count(), 12);
    }
}
