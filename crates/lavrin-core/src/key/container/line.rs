//! The one-line public key: a label, base64, and a comment to the end of the line.

use crate::key::{Algorithm, Fingerprint, KeyFault, PublicKey};
use crate::text::printable;
use base64::Engine as _;
use base64::alphabet;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};

/// Base64 as OpenSSH's server decodes it: padding is needed; stray bits in the last character are not looked at.
const SERVER_BASE64: GeneralPurpose = GeneralPurpose::new(
    &alphabet::STANDARD,
    GeneralPurposeConfig::new()
        .with_decode_allow_trailing_bits(true)
        .with_decode_padding_mode(DecodePaddingMode::RequireCanonical),
);

/// Longest label that is repeated in a message.
const LABEL_SHOWN: usize = 64;

/// A one-line key taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyLine<'a> {
    /// The key.
    pub key: PublicKey,
    /// Its fingerprint.
    pub fingerprint: Fingerprint,
    /// Whether the blob is in its canonical form, so that its bytes are the key's blob.
    pub canonical: bool,
    /// What stands behind the blob.
    pub comment: &'a [u8],
    label: &'a [u8],
}

impl KeyLine<'_> {
    /// Why a strict reader refuses the line though the server takes it.
    #[must_use]
    pub fn strict_fault(&self) -> Option<KeyFault> {
        if self.label != self.key.algorithm().name().as_bytes() {
            return Some(KeyFault::TypeMismatch {
                outside: printable(self.label),
                inside: self.key.algorithm().to_string(),
            });
        }
        (!self.canonical).then_some(KeyFault::IntegerNotMinimal)
    }
}

fn is_blank(byte: u8) -> bool {
    byte == b' ' || byte == b'\t'
}

/// Cuts at the first blank: the word, and the rest without its leading blanks.
pub(crate) fn word(text: &[u8]) -> (&[u8], &[u8]) {
    let end = text.iter().position(|byte| is_blank(*byte)).unwrap_or(text.len());
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
    let (label, rest) = word(text);
    if Algorithm::is_retired(label) {
        return Some(Err(KeyFault::PolicyAlgorithm { name: printable(label) }));
    }
    let algorithm = Algorithm::from_label(label)?;
    Some(parse_behind_label(algorithm, label, rest))
}

/// The bytes of a blob.
pub(crate) fn decode(base64: &[u8]) -> Result<Vec<u8>, KeyFault> {
    SERVER_BASE64.decode(base64).map_err(|fault| KeyFault::BadBase64 { detail: fault.to_string() })
}

fn parse_behind_label<'a>(algorithm: Algorithm, label: &'a [u8], rest: &'a [u8]) -> Result<KeyLine<'a>, KeyFault> {
    let (base64, comment) = word(rest);
    if base64.is_empty() {
        return Err(KeyFault::Truncated);
    }
    let blob = decode(base64)?;
    let (key, canonical) = PublicKey::from_blob_as_server(&blob)?;
    if key.algorithm() != algorithm {
        return Err(KeyFault::TypeMismatch {
            outside: printable(&label[..label.len().min(LABEL_SHOWN)]),
            inside: key.algorithm().to_string(),
        });
    }
    let fingerprint = if canonical { Fingerprint::of(&blob) } else { key.fingerprint() };
    Ok(KeyLine { key, fingerprint, canonical, comment, label })
}
