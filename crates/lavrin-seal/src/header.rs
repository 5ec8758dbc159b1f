//! The header of a file in the age format: for whom it is sealed (age-encryption.org/v1, "Header").

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;

/// One recipient, as the header names it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Stanza {
    /// The holder of an SSH key: the first four bytes of the SHA-256 of its public half.
    Ssh(Vec<u8>),
    /// A recipient of another kind.
    Other,
}

/// Ends the name of a stanza that means nobody: writers put one in, so that readers stay used to unknown ones.
const NOBODY: &str = "-grease";

const VERSION: &[u8] = b"age-encryption.org/v1\n";

/// Most recipients of one file.
const STANZAS_MAX: usize = 1000;

/// The recipients; none where this is no such header.
pub fn stanzas(bytes: &[u8]) -> Option<Vec<Stanza>> {
    let mut rest = bytes.strip_prefix(VERSION)?;
    let mut found = Vec::new();
    while let Some(end) = rest.iter().position(|byte| *byte == b'\n') {
        let line = std::str::from_utf8(&rest[..end]).ok()?;
        rest = &rest[end + 1..];
        if line.starts_with("---") {
            return (!found.is_empty()).then_some(found);
        }
        if let Some(words) = line.strip_prefix("-> ") {
            if found.len() == STANZAS_MAX {
                return None;
            }
            let mut words = words.split(' ');
            match (words.next()?, words.next()) {
                ("ssh-ed25519" | "ssh-rsa", Some(tag)) => found.push(Stanza::Ssh(STANDARD_NO_PAD.decode(tag).ok()?)),
                (kind, _) if kind.ends_with(NOBODY) => {}
                _ => found.push(Stanza::Other),
            }
        }
    }
    None
}
