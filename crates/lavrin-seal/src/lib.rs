//! The private half of a key, sealed for people to their own SSH public keys, in the age format (`age-encryption.org/v1` with the
//! stanzas `ssh-ed25519` and `ssh-rsa`). Whoever has one of these keys opens it, here or with any program that knows the format;
//! there is no password that opens all of them. What is sealed is an unprotected private key file of OpenSSH's form, so that it
//! can be used as it comes out.

mod header;

use age::armor::{ArmoredReader, ArmoredWriter, Format};
use age::{DecryptError, Decryptor, Encryptor, Identity, Recipient};
use aws_lc_rs::digest::{SHA256, digest};
use lavrin_keys::key::container::PieceKind;
use lavrin_keys::key::container::openssh;
use lavrin_keys::key::generate::Randomness;
use lavrin_keys::key::{PrivateKey, PublicKey};
use lavrin_keys::pieces::read;
use std::io::{Read as _, Write as _};
use thiserror::Error;
use zeroize::Zeroizing;

/// Longest sealed file that is read, in bytes; some hundred recipients and the largest key fit in.
pub const SEALED_BYTES_MAX: usize = 256 << 10;

/// Smallest RSA key that can be a recipient, in bits.
pub const RSA_BITS_MIN: usize = 2048;

/// Largest RSA key that can be a recipient, in bits.
pub const RSA_BITS_MAX: usize = 4096;

/// Why a public key cannot be a recipient.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoRecipient {
    /// The format knows no recipients of this algorithm.
    Algorithm(&'static str),
    /// An RSA key of so many bits.
    RsaBits(usize),
}

/// Why something could not be sealed or opened.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SealFault {
    /// There is nobody to seal it for.
    #[error("there is nobody to seal it for")]
    Nobody,
    /// A key that cannot be a recipient.
    #[error("a key that cannot be a recipient")]
    NoRecipient(NoRecipient),
    /// It is no sealed file, or it was altered.
    #[error("it is no sealed file, or it was altered")]
    Damaged,
    /// It is sealed for others.
    #[error("it is sealed for others")]
    ForOthers,
    /// What was sealed is no private key.
    #[error("what was sealed is no private key")]
    NotAKey,
}

/// Whether a private half can be sealed for the holder of this key.
///
/// # Errors
/// [`NoRecipient`].
pub fn can_be_recipient(key: &PublicKey) -> Result<(), NoRecipient> {
    match key {
        PublicKey::Ed25519(_) => Ok(()),
        PublicKey::Rsa { .. } if (RSA_BITS_MIN..=RSA_BITS_MAX).contains(&key.bits()) => Ok(()),
        PublicKey::Rsa { .. } => Err(NoRecipient::RsaBits(key.bits())),
        other => Err(NoRecipient::Algorithm(other.algorithm().name())),
    }
}

/// Seals a private key for the holders of these keys: text, fit for version control.
///
/// # Errors
/// [`SealFault::Nobody`], [`SealFault::NoRecipient`].
pub fn seal(
    key: &PrivateKey,
    comment: &str,
    recipients: &[&PublicKey],
    randomness: &dyn Randomness,
) -> Result<String, SealFault> {
    for recipient in recipients {
        can_be_recipient(recipient).map_err(SealFault::NoRecipient)?;
    }
    let text = openssh::write(key, comment, None, randomness).map_err(|_| SealFault::NotAKey)?;
    let line = |key: &&PublicKey| key.line("").trim_end().parse::<age::ssh::Recipient>();
    let known: Result<Vec<age::ssh::Recipient>, _> = recipients.iter().map(line).collect();
    let known = known.map_err(|_| SealFault::Damaged)?;
    let encryptor = Encryptor::with_recipients(known.iter().map(|one| one as &dyn Recipient));
    let encryptor = encryptor.map_err(|_| SealFault::Nobody)?;
    let written = (|| {
        let armor = ArmoredWriter::wrap_output(Vec::new(), Format::AsciiArmor)?;
        let mut out = encryptor.wrap_output(armor)?;
        out.write_all(text.as_bytes())?;
        out.finish()?.finish()
    })();
    let sealed = written.ok().and_then(|bytes| String::from_utf8(bytes).ok());
    sealed.ok_or(SealFault::Damaged)
}

/// A sealed private half, as it was read.
#[derive(Debug, Clone)]
pub struct SealedFile {
    bytes: Vec<u8>,
    stanzas: Vec<header::Stanza>,
}

/// A private key as it comes out.
#[derive(Debug)]
pub struct Unsealed {
    /// The key.
    pub key: PrivateKey,
    /// The comment in its file.
    pub comment: Vec<u8>,
}

impl SealedFile {
    /// Reads a sealed file, as far as that can be done without a key.
    ///
    /// # Errors
    /// [`SealFault::Damaged`].
    pub fn read(text: &[u8]) -> Result<Self, SealFault> {
        let mut bytes = Vec::new();
        let limit = SEALED_BYTES_MAX as u64 + 1;
        let read = ArmoredReader::new(text).take(limit).read_to_end(&mut bytes);
        if text.len() > SEALED_BYTES_MAX || read.is_err() {
            return Err(SealFault::Damaged);
        }
        let stanzas = header::stanzas(&bytes).ok_or(SealFault::Damaged)?;
        Ok(Self { bytes, stanzas })
    }

    /// Whether it says that it is sealed for the holder of this key. Four bytes of a hash stand for the key, so this is a hint, and
    /// only opening it shows it.
    #[must_use]
    pub fn is_for(&self, key: &PublicKey) -> bool {
        self.stanzas.contains(&stanza_of(key))
    }

    /// For how many it is sealed who are none of these.
    #[must_use]
    pub fn others_than(&self, keys: &[&PublicKey]) -> usize {
        let known: Vec<header::Stanza> = keys.iter().map(|key| stanza_of(key)).collect();
        self.stanzas.iter().filter(|stanza| !known.contains(stanza)).count()
    }

    /// Opens it.
    ///
    /// # Errors
    /// [`SealFault::ForOthers`], [`SealFault::Damaged`], [`SealFault::NotAKey`].
    pub fn open(&self, with: &PrivateKey, randomness: &dyn Randomness) -> Result<Unsealed, SealFault> {
        let text = openssh::write(with, "", None, randomness).map_err(|_| SealFault::ForOthers)?;
        let identity = age::ssh::Identity::from_buffer(text.as_bytes(), None).map_err(|_| SealFault::ForOthers)?;
        let fault = |fault: DecryptError| match fault {
            DecryptError::NoMatchingKeys => SealFault::ForOthers,
            _ => SealFault::Damaged,
        };
        let decryptor = Decryptor::new_buffered(self.bytes.as_slice()).map_err(fault)?;
        let mut out = decryptor.decrypt(std::iter::once(&identity as &dyn Identity)).map_err(fault)?;
        let mut opened = Zeroizing::new(Vec::with_capacity(SEALED_BYTES_MAX));
        out.by_ref().take(SEALED_BYTES_MAX as u64).read_to_end(&mut opened).map_err(|_| SealFault::Damaged)?;
        let mut pieces = read(&opened).into_iter();
        let (Some(PieceKind::Private(closed)), None) = (pieces.next().map(|piece| piece.kind), pieces.next()) else {
            return Err(SealFault::NotAKey);
        };
        let opened = closed.open(None).map_err(|_| SealFault::NotAKey)?;
        Ok(Unsealed { key: opened.key, comment: opened.comment })
    }
}

fn stanza_of(key: &PublicKey) -> header::Stanza {
    header::Stanza::Ssh(digest(&SHA256, &key.blob()).as_ref()[..4].to_vec())
}

#[cfg(test)]
mod tests;
