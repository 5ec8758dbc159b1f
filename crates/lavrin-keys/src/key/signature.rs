//! Signatures of files with SSH keys, in the open SSH signature format (PROTOCOL.sshsig in OpenSSH's source tree).

use crate::key::private::{CannotSign, RsaHash};
use crate::key::{Curve, PrivateKey, PublicKey};
use crate::wire::{Reader, WireFault, Writer};
use aws_lc_rs::digest;
use aws_lc_rs::signature::{self, RsaPublicKeyComponents, UnparsedPublicKey};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

/// Longest signature that is read, in bytes.
pub const SIGNATURE_BYTES_MAX: usize = 64 << 10;

const MAGIC: &[u8] = b"SSHSIG";
const VERSION: u32 = 1;
const BEGIN: &str = "-----BEGIN SSH SIGNATURE-----";
const END: &str = "-----END SSH SIGNATURE-----";

/// Characters of base64 on a line.
const LINE: usize = 70;

/// The hash over the message that is signed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum MessageHash {
    Sha256,
    Sha512,
}

impl MessageHash {
    const NAMES: [(&'static str, Self); 2] = [("sha256", Self::Sha256), ("sha512", Self::Sha512)];

    fn name(self) -> &'static str {
        Self::NAMES.into_iter().find(|(_, hash)| *hash == self).map_or("sha512", |(name, _)| name)
    }

    fn of(self, message: &[u8]) -> digest::Digest {
        match self {
            Self::Sha256 => digest::digest(&digest::SHA256, message),
            Self::Sha512 => digest::digest(&digest::SHA512, message),
        }
    }
}

/// Why a signature does not count.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignatureFault {
    /// This is no signature in this format.
    NotASignature,
    /// A version of the format that is not known here.
    Version(u32),
    /// A hash over the message that is not known here.
    Hash(String),
    /// A key, or a signature of one, that is not known here.
    Algorithm(String),
    /// It was made for something else.
    Namespace(String),
    /// The message is not the one that was signed, or the signature is not this key's.
    Wrong,
}

impl From<WireFault> for SignatureFault {
    fn from(_: WireFault) -> Self {
        Self::NotASignature
    }
}

/// A signature as it was read.
#[derive(Debug, Clone)]
pub struct Signature {
    /// The key that is said to have made it.
    pub key: PublicKey,
    /// What it was made for.
    pub namespace: String,
    hash: MessageHash,
    /// The name of the signature's algorithm, and its bytes.
    algorithm: Vec<u8>,
    bytes: Vec<u8>,
}

/// What a key signs: the hash of the message, with what it is for.
#[must_use]
pub fn to_be_signed(namespace: &str, message: &[u8]) -> Vec<u8> {
    signed_data(namespace, MessageHash::Sha512, message)
}

fn signed_data(namespace: &str, hash: MessageHash, message: &[u8]) -> Vec<u8> {
    let mut out = Writer::new();
    out.raw(MAGIC).string(namespace.as_bytes()).string(b"").string(hash.name().as_bytes());
    out.string(hash.of(message).as_ref());
    out.finish_public()
}

/// Signs a message.
///
/// # Errors
/// [`CannotSign`].
pub fn sign(key: &PrivateKey, namespace: &str, message: &[u8]) -> Result<String, CannotSign> {
    let blob = key.sign(&to_be_signed(namespace, message), RsaHash::Sha512)?;
    Ok(armored(key.public(), namespace, &blob))
}

/// The text of a signature that was made over [`to_be_signed`]; `blob` is its name and its bytes, as RFC 4253, section 6.6 has
/// them.
#[must_use]
pub fn armored(key: &PublicKey, namespace: &str, blob: &[u8]) -> String {
    let mut out = Writer::new();
    out.raw(MAGIC).u32(VERSION).string(&key.blob()).string(namespace.as_bytes()).string(b"");
    out.string(MessageHash::Sha512.name().as_bytes()).string(blob);
    let text = STANDARD.encode(out.finish_public());
    let mut armored = format!("{BEGIN}\n");
    for line in text.as_bytes().chunks(LINE) {
        armored += &String::from_utf8_lossy(line);
        armored.push('\n');
    }
    armored + END + "\n"
}

impl Signature {
    /// Reads a signature.
    ///
    /// # Errors
    /// [`SignatureFault`].
    pub fn read(text: &[u8]) -> Result<Self, SignatureFault> {
        let text = std::str::from_utf8(text).ok().filter(|text| text.len() <= SIGNATURE_BYTES_MAX);
        let body = text.and_then(|text| text.trim().strip_prefix(BEGIN)?.strip_suffix(END));
        let body: String = body.ok_or(SignatureFault::NotASignature)?.split_ascii_whitespace().collect();
        let bytes = STANDARD.decode(body).map_err(|_| SignatureFault::NotASignature)?;
        let mut reader = Reader::new(bytes.strip_prefix(MAGIC).ok_or(SignatureFault::NotASignature)?);
        let version = reader.u32()?;
        if version != VERSION {
            return Err(SignatureFault::Version(version));
        }
        let (blob, namespace, _, hash, signature) =
            (reader.string()?, reader.string()?, reader.string()?, reader.string()?, reader.string()?);
        reader.end()?;
        let unknown = |name: &[u8]| crate::text::printable(&name[..name.len().min(64)]);
        let known = MessageHash::NAMES.into_iter().find(|(name, _)| name.as_bytes() == hash);
        let hash = known.map(|(_, known)| known).ok_or_else(|| SignatureFault::Hash(unknown(hash)))?;
        let key = PublicKey::from_blob(blob)
            .map_err(|_| SignatureFault::Algorithm(unknown(Reader::new(blob).string().unwrap_or_default())))?;
        let namespace = std::str::from_utf8(namespace).map_err(|_| SignatureFault::NotASignature)?.to_owned();
        let mut parts = Reader::new(signature);
        let (algorithm, bytes) = (parts.string()?.to_vec(), parts.string()?.to_vec());
        parts.end()?;
        Ok(Self { key, namespace, hash, algorithm, bytes })
    }

    /// Holds it against a message, and what it has to be for.
    ///
    /// # Errors
    /// [`SignatureFault`].
    pub fn check(&self, namespace: &str, message: &[u8]) -> Result<(), SignatureFault> {
        if self.namespace != namespace {
            return Err(SignatureFault::Namespace(crate::text::printable(self.namespace.as_bytes())));
        }
        let data = signed_data(namespace, self.hash, message);
        let algorithm = std::str::from_utf8(&self.algorithm).unwrap_or_default();
        let is_right = match (&self.key, algorithm) {
            (PublicKey::Ed25519(point), "ssh-ed25519") => {
                UnparsedPublicKey::new(&signature::ED25519, point).verify(&data, &self.bytes).is_ok()
            }
            (PublicKey::Ecdsa { curve, point }, name) if name == self.key.algorithm().name() => self
                .fixed(*curve)
                .is_some_and(|fixed| UnparsedPublicKey::new(by_curve(*curve), point).verify(&data, &fixed).is_ok()),
            // `ssh-rsa` itself, over SHA-1, does not count (PROTOCOL.sshsig).
            (PublicKey::Rsa { e, n }, "rsa-sha2-256" | "rsa-sha2-512") => {
                let how = if algorithm == "rsa-sha2-256" {
                    &signature::RSA_PKCS1_2048_8192_SHA256
                } else {
                    &signature::RSA_PKCS1_2048_8192_SHA512
                };
                RsaPublicKeyComponents { n, e }.verify(how, &data, &self.bytes).is_ok()
            }
            _ => return Err(SignatureFault::Algorithm(crate::text::printable(&self.algorithm))),
        };
        if is_right { Ok(()) } else { Err(SignatureFault::Wrong) }
    }

    /// The two numbers of an ECDSA signature (RFC 5656, section 3.1.2), each at the full width of the curve.
    fn fixed(&self, curve: Curve) -> Option<Vec<u8>> {
        let mut reader = Reader::new(&self.bytes);
        let (r, s) = (reader.positive().ok()?, reader.positive().ok()?);
        reader.end().ok()?;
        let mut fixed = vec![0; 2 * curve.width()];
        for (number, end) in [(r, curve.width()), (s, 2 * curve.width())] {
            if number.len() > curve.width() {
                return None;
            }
            fixed[end - number.len()..end].copy_from_slice(number);
        }
        Some(fixed)
    }
}

fn by_curve(curve: Curve) -> &'static signature::EcdsaVerificationAlgorithm {
    match curve {
        Curve::P256 => &signature::ECDSA_P256_SHA256_FIXED,
        Curve::P384 => &signature::ECDSA_P384_SHA384_FIXED,
        Curve::P521 => &signature::ECDSA_P521_SHA512_FIXED,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::generate::{Recipe, RsaBits, SystemSource, generate};

    #[test]
    fn what_is_signed_is_checked_and_nothing_else_passes() {
        let recipes = [
            Recipe::Ed25519,
            Recipe::Ecdsa(Curve::P256),
            Recipe::Ecdsa(Curve::P384),
            Recipe::Ecdsa(Curve::P521),
            Recipe::Rsa(RsaBits::B2048),
        ];
        for recipe in recipes {
            let key = generate(recipe, &SystemSource).unwrap();
            let text = sign(&key, "statement@lavrin", b"the lamp is out\n").unwrap();
            let signature = Signature::read(text.as_bytes()).unwrap();
            assert_eq!(signature.key, *key.public());
            assert_eq!(signature.check("statement@lavrin", b"the lamp is out\n"), Ok(()), "{recipe:?}");
            assert_eq!(signature.check("statement@lavrin", b"the lamp is lit\n"), Err(SignatureFault::Wrong));
            let elsewhere = signature.check("file", b"the lamp is out\n");
            assert_eq!(elsewhere, Err(SignatureFault::Namespace("statement@lavrin".to_owned())));
            // Another key's signature under this key's name.
            let other = generate(recipe, &SystemSource).unwrap();
            let swapped = Signature { key: other.public().clone(), ..signature.clone() };
            assert_eq!(swapped.check("statement@lavrin", b"the lamp is out\n"), Err(SignatureFault::Wrong));
        }
    }

    #[test]
    fn a_damaged_signature_is_refused_at_every_byte() {
        let key = generate(Recipe::Ed25519, &SystemSource).unwrap();
        let text = sign(&key, "statement@lavrin", b"x").unwrap();
        let body: String = text.lines().filter(|line| !line.starts_with('-')).collect();
        let bytes = STANDARD.decode(body).unwrap();
        for at in 0..bytes.len() {
            let mut bytes = bytes.clone();
            bytes[at] ^= 1;
            let text = format!("{BEGIN}\n{}\n{END}\n", STANDARD.encode(&bytes));
            let read = Signature::read(text.as_bytes()).and_then(|read| read.check("statement@lavrin", b"x"));
            assert!(read.is_err(), "byte {at}");
        }
        for text in ["", BEGIN, "-----BEGIN SSH SIGNATURE-----\n!!\n-----END SSH SIGNATURE-----"] {
            assert_eq!(Signature::read(text.as_bytes()).unwrap_err(), SignatureFault::NotASignature);
        }
        let version = format!("{BEGIN}\n{}\n{END}\n", STANDARD.encode(b"SSHSIG\0\0\0\x02"));
        assert_eq!(Signature::read(version.as_bytes()).unwrap_err(), SignatureFault::Version(2));
    }

    #[test]
    fn the_old_signature_of_rsa_does_not_count() {
        let key = generate(Recipe::Rsa(RsaBits::B2048), &SystemSource).unwrap();
        let text = sign(&key, "file", b"x").unwrap();
        let read = Signature { algorithm: b"ssh-rsa".to_vec(), ..Signature::read(text.as_bytes()).unwrap() };
        assert_eq!(read.check("file", b"x"), Err(SignatureFault::Algorithm("ssh-rsa".to_owned())));
    }
}
