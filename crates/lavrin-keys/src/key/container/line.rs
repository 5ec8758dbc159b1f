//! The one-line public key: a label, base64, and a comment to the end of the line.

use crate::key::{Algorithm, Fingerprint, KeyFault, PublicKey, base64};
use crate::text::printable;
use foldhash::quality::RandomState;
use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, RwLock};

/// Longest label that is repeated in a message.
const LABEL_SHOWN: usize = 64;

/// A one-line key taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyLine<'a> {
    /// The key.
    pub key: Arc<PublicKey>,
    /// Its fingerprint.
    pub fingerprint: Fingerprint,
    /// What stands behind the blob.
    pub comment: &'a [u8],
    label: &'a [u8],
    strict: Option<KeyFault>,
}

impl KeyLine<'_> {
    /// Why a strict reader refuses the line though the server takes it.
    #[must_use]
    pub fn strict_fault(&self) -> Option<KeyFault> {
        if self.key.algorithm() == Algorithm::Dss {
            return Some(KeyFault::PolicyAlgorithm { name: printable(self.label) });
        }
        if self.label != self.key.algorithm().name().as_bytes() {
            return Some(KeyFault::TypeMismatch {
                outside: printable(self.label),
                inside: self.key.algorithm().to_string(),
            });
        }
        self.strict.clone()
    }
}

fn is_blank(byte: u8) -> bool {
    byte == b' ' || byte == b'\t'
}

/// Cuts at the first blank: the word, and the rest without its leading blanks.
pub(crate) fn word(text: &[u8]) -> (&[u8], &[u8]) {
    let end = memchr::memchr2(b' ', b'\t', text).unwrap_or(text.len());
    let rest = &text[end..];
    let skip = rest.iter().take_while(|byte| is_blank(**byte)).count();
    (&text[..end], &rest[skip..])
}

/// Reads a line (without its line end) as OpenSSH's server does. `None` where it does not begin with the name of an
/// algorithm, so that options may stand there.
///
/// # Errors
/// The [`KeyFault`] that makes the server skip the line.
#[must_use]
pub fn parse(text: &[u8]) -> Option<Result<KeyLine<'_>, KeyFault>> {
    parse_with(text, None)
}

/// The same; a key that was read before is not read again.
#[must_use]
pub fn parse_with<'a>(text: &'a [u8], known: Option<&KnownKeys>) -> Option<Result<KeyLine<'a>, KeyFault>> {
    let (label, rest) = word(text);
    let retired = || KeyFault::PolicyAlgorithm { name: printable(label) };
    let Some(algorithm) = Algorithm::from_label(label) else {
        return Algorithm::is_retired(label).then(|| Err(retired()));
    };
    let read = parse_behind_label(algorithm, label, rest, known);
    Some(read.map_err(|fault| if algorithm == Algorithm::Dss { retired() } else { fault }))
}

/// The bytes of a blob.
pub(crate) fn decode(word: &[u8]) -> Result<Vec<u8>, KeyFault> {
    base64::decode(word).or_else(|fault| {
        // Blanks and tabs end the word; the other white space in it is passed over by the server.
        let passed_over = |byte: &u8| b"\r\x0b\x0c".contains(byte);
        if !word.iter().any(passed_over) {
            return Err(KeyFault::BadBase64 { detail: fault });
        }
        decode(&word.iter().copied().filter(|byte| !passed_over(byte)).collect::<Vec<u8>>())
    })
}

/// The key in a line as the loosest of servers reads it, which passes over what is no base64: so that a line that one server skips
/// and another takes is found by its key.
#[must_use]
pub fn parse_loosely(text: &[u8]) -> Option<PublicKey> {
    let (label, rest) = word(text);
    let algorithm = Algorithm::from_label(label)?;
    let (base64, _) = word(rest);
    let (key, _) = PublicKey::from_blob_as_server(&base64::decode_loosely(base64)).ok()?;
    (key.algorithm() == algorithm).then_some(key)
}

fn parse_behind_label<'a>(
    algorithm: Algorithm,
    label: &'a [u8],
    rest: &'a [u8],
    known: Option<&KnownKeys>,
) -> Result<KeyLine<'a>, KeyFault> {
    let (base64, comment) = word(rest);
    if base64.is_empty() {
        return Err(KeyFault::Truncated);
    }
    let read = || -> Result<Read, KeyFault> {
        let read = read_blob(base64)?;
        if let Some(known) = known {
            known.keep(base64, &read);
        }
        Ok(read)
    };
    let Read { key, fingerprint, strict } = known.and_then(|known| known.find(base64)).map_or_else(read, Ok)?;
    if key.algorithm() != algorithm {
        return Err(KeyFault::TypeMismatch {
            outside: printable(&label[..label.len().min(LABEL_SHOWN)]),
            inside: key.algorithm().to_string(),
        });
    }
    Ok(KeyLine { key, fingerprint, comment, label, strict })
}

/// What a word of base64 holds.
#[derive(Debug, Clone)]
struct Read {
    key: Arc<PublicKey>,
    fingerprint: Fingerprint,
    /// Why a strict reader refuses its form.
    strict: Option<KeyFault>,
}

fn read_blob(base64: &[u8]) -> Result<Read, KeyFault> {
    let blob = decode(base64)?;
    let (key, strict) = PublicKey::from_blob_as_server(&blob)?;
    // The bytes of a canonical form are the key's blob.
    let fingerprint = if strict.is_none() { Fingerprint::of(&blob) } else { key.fingerprint() };
    Ok(Read { key: Arc::new(key), fingerprint, strict })
}

/// Most base64 that is remembered, in bytes: some 100,000 keys.
const KNOWN_BYTES_MAX: usize = 48 << 20;

type LinePart = HashMap<Box<[u8]>, Read, RandomState>;

/// So many parts, so that threads seldom wait for each other.
const PARTS: usize = 16;

/// Keys that were read before, by their base64: on a large system the same few stand in very many files. Several threads
/// may use it at once.
#[derive(Debug, Default)]
pub struct KnownKeys {
    parts: [RwLock<LinePart>; PARTS],
    bytes: AtomicUsize,
}

impl KnownKeys {
    /// The last characters differ between keys more than the first, which name the algorithm.
    fn part(&self, base64: &[u8]) -> &RwLock<LinePart> {
        let sum = base64.iter().rev().take(8).fold(0usize, |sum, byte| sum.wrapping_mul(31) + usize::from(*byte));
        &self.parts[sum % PARTS]
    }

    fn find(&self, base64: &[u8]) -> Option<Read> {
        self.part(base64).read().ok()?.get(base64).cloned()
    }

    fn keep(&self, base64: &[u8], read: &Read) {
        if self.bytes.fetch_add(base64.len(), Ordering::Relaxed) < KNOWN_BYTES_MAX
            && let Ok(mut part) = self.part(base64).write()
        {
            part.insert(base64.into(), read.clone());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::PrivateKey;

    #[test]
    fn a_key_that_was_read_before_is_the_same_and_its_label_still_counts() {
        let line = PrivateKey::ed25519(&[1; 32]).unwrap().public().line("edda");
        let known = KnownKeys::default();
        let read = |text: &str| parse_with(text.as_bytes(), Some(&known)).map(|read| read.map(|line| line.key));
        let first = read(&line).unwrap().unwrap();
        let again = read(&line.replace("edda", "sten")).unwrap().unwrap();
        assert!(Arc::ptr_eq(&first, &again));
        let fault = read(&line.replace("ssh-ed25519", "ssh-rsa")).unwrap().unwrap_err();
        assert_eq!(fault.word(), "type-mismatch");
        assert!(read(&line.replace("AAAA", "AAAB")).unwrap().is_err(), "what does not read is not remembered");
    }

    #[test]
    fn what_is_remembered_has_a_limit() {
        let known = KnownKeys::default();
        known.bytes.store(KNOWN_BYTES_MAX, Ordering::Relaxed);
        let line = PrivateKey::ed25519(&[1; 32]).unwrap().public().line("");
        let read = || parse_with(line.as_bytes(), Some(&known)).unwrap().unwrap().key;
        assert!(!Arc::ptr_eq(&read(), &read()));
    }

    #[test]
    fn white_space_inside_the_base64_is_passed_over_as_the_server_does() {
        let line = PrivateKey::ed25519(&[1; 32]).unwrap().public().line("edda");
        for inside in ["\r", "\u{b}", "\u{c}"] {
            let broken = format!("{}{inside}{}", &line[..40], &line[40..]);
            assert_eq!(parse(broken.as_bytes()).unwrap().unwrap().comment, b"edda", "{inside:?}");
        }
        assert!(parse(format!("{} {}", &line[..40], &line[40..]).as_bytes()).unwrap().is_err());
    }
}
