//! Base64 of keys on a line, by the vector instructions of the processor where it has them: lists of keys are long.

use base64::Engine as _;
use base64::engine::{DecodePaddingMode, GeneralPurposeConfig};
use std::sync::LazyLock;

#[cfg(any(target_arch = "x86_64", target_arch = "aarch64"))]
type Engine = base64::engine::Simd;

#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
type Engine = base64::engine::GeneralPurpose;

#[cfg(any(target_arch = "x86_64", target_arch = "aarch64"))]
fn engine(config: GeneralPurposeConfig) -> Engine {
    Engine::standard(config)
}

#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
fn engine(config: GeneralPurposeConfig) -> Engine {
    Engine::new(&base64::alphabet::STANDARD, config)
}

/// As OpenSSH's server decodes it: padding is needed, and the last character has no stray bits.
static ENGINE: LazyLock<Engine> = LazyLock::new(|| {
    let padding = DecodePaddingMode::RequireCanonical;
    engine(GeneralPurposeConfig::new().with_decode_padding_mode(padding))
});

/// The bytes that a word stands for.
///
/// # Errors
/// The library's own, which names the place.
pub(super) fn decode(word: &[u8]) -> Result<Vec<u8>, base64::DecodeError> {
    ENGINE.decode(word)
}

/// Adds bytes to a text, with padding.
pub fn add_to(bytes: &[u8], text: &mut String) {
    add(bytes, text);
}

/// The same within this crate.
pub(super) fn add(bytes: &[u8], text: &mut String) {
    ENGINE.encode_string(bytes, text);
}

/// Base64 as dropbear reads it: what is no base64 is passed over, padding too wherever it stands.
#[must_use]
pub fn decode_loosely(base64: &[u8]) -> Vec<u8> {
    let mut blob = Vec::with_capacity(base64.len() * 3 / 4);
    let (mut bits, mut count) = (0u32, 0);
    for byte in base64 {
        let value = match byte {
            b'A'..=b'Z' => byte - b'A',
            b'a'..=b'z' => byte - b'a' + 26,
            b'0'..=b'9' => byte - b'0' + 52,
            b'+' => 62,
            b'/' => 63,
            _ => continue,
        };
        bits = bits << 6 | u32::from(value);
        count += 1;
        if count % 4 == 0 {
            blob.extend_from_slice(&bits.to_be_bytes()[1..]);
            bits = 0;
        }
    }
    match count % 4 {
        2 => blob.push(bits.to_be_bytes()[2] << 4 | bits.to_be_bytes()[3] >> 4),
        3 => blob.extend_from_slice(&(bits >> 2).to_be_bytes()[2..]),
        _ => {}
    }
    blob
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_words_are_read_and_written_as_short_ones_are() {
        let bytes: Vec<u8> = (0..=255).collect();
        let mut word = String::new();
        for from in 0..=255 {
            word.clear();
            add(&bytes[from..], &mut word);
            // Three bytes at a time, which no vector is short enough for.
            let parts: String = bytes[from..]
                .chunks(3)
                .map(|some| {
                    let mut part = String::new();
                    add(some, &mut part);
                    part
                })
                .collect();
            assert_eq!(word, parts);
            assert_eq!(decode(word.as_bytes()).as_deref(), Ok(&bytes[from..]));
        }
    }

    #[test]
    fn what_is_wrong_is_told_with_its_place() {
        assert!(decode(b"AB==").is_err() && decode(b"AA==").is_ok());
        let mut word = "A".repeat(400).into_bytes();
        assert_eq!(decode(&word).map(|bytes| bytes.len()), Ok(300));
        word[301] = b'!';
        assert_eq!(decode(&word), Err(base64::DecodeError::InvalidByte(301, b'!')));
        assert!(decode(b"AB").is_err() && decode(b"AAAAA").is_err() && decode(b"A=AA").is_err());
    }
}
