//! Fingerprints of public keys: SHA-256 in base64 as OpenSSH prints it, and the older MD5 form (RFC 4716, section 4).

use aws_lc_rs::digest;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use md5::Digest as _;
use std::fmt;

/// The SHA-256 digest of a public key blob.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Fingerprint([u8; 32]);

/// A text is not a fingerprint.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotAFingerprint {
    /// What was given.
    pub text: String,
}

impl Fingerprint {
    /// The 32 bytes.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// The fingerprint of a public key blob (the bytes that base64 stands for in a one-line key).
    #[must_use]
    pub fn of(blob: &[u8]) -> Self {
        let digest = digest::digest(&digest::SHA256, blob);
        Self(digest.as_ref().try_into().expect("SHA-256 gives 32 bytes"))
    }

    /// Reads `SHA256:…` with or without base64 padding.
    ///
    /// # Errors
    /// [`NotAFingerprint`] for anything else.
    pub fn parse(text: &str) -> Result<Self, NotAFingerprint> {
        let refuse = || NotAFingerprint { text: text.to_owned() };
        let body = text.strip_prefix("SHA256:").ok_or_else(refuse)?.trim_end_matches('=');
        let bytes = STANDARD_NO_PAD.decode(body).map_err(|_| refuse())?;
        Ok(Self(bytes.try_into().map_err(|_| refuse())?))
    }
}

impl serde::Serialize for Fingerprint {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}

impl<'de> serde::Deserialize<'de> for Fingerprint {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = <std::borrow::Cow<'de, str>>::deserialize(from)?;
        Self::parse(&text).map_err(|fault| serde::de::Error::custom(format!("'{}' is not a fingerprint", fault.text)))
    }
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut text = [0; 43];
        STANDARD_NO_PAD.encode_slice(self.0, &mut text).map_err(|_| fmt::Error)?;
        out.write_str("SHA256:")?;
        out.write_str(std::str::from_utf8(&text).map_err(|_| fmt::Error)?)
    }
}

impl fmt::Debug for Fingerprint {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, out)
    }
}

/// The MD5 form that older devices show: `MD5:` and sixteen bytes in hexadecimal, separated by colons.
#[must_use]
pub fn md5_form(blob: &[u8]) -> String {
    const HEX: &[u8; 16] = b"0123456789abcdef";
    let mut text = *b"MD5:00:00:00:00:00:00:00:00:00:00:00:00:00:00:00:00";
    for (place, byte) in text[4..].chunks_mut(3).zip(md5::Md5::digest(blob)) {
        place[0] = HEX[usize::from(byte >> 4)];
        place[1] = HEX[usize::from(byte & 15)];
    }
    std::str::from_utf8(&text).expect("hexadecimal digits are text").to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fingerprint_reads_back_from_its_text() {
        let print = Fingerprint::of(b"");
        assert_eq!(print.to_string(), "SHA256:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU");
        assert_eq!(Fingerprint::parse(&print.to_string()), Ok(print));
        assert_eq!(Fingerprint::parse(&format!("{print}=")), Ok(print));
        assert_eq!(md5_form(b""), "MD5:d4:1d:8c:d9:8f:00:b2:04:e9:80:09:98:ec:f8:42:7e");
    }

    #[test]
    fn refuses_what_is_not_a_fingerprint() {
        for text in ["", "SHA256:", "MD5:d4:1d", "47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU", "SHA256:abc"] {
            assert!(Fingerprint::parse(text).is_err(), "{text}");
        }
    }
}
