//! The old protection of PEM files: `Proc-Type` and `DEK-Info` headers (RFC 1421), the key from MD5 of passphrase and salt.

use super::Protection;
use super::cipher::Cipher;
use super::pkcs8::unpadded;
use crate::key::fault::{Unsupported, WrongStructure};
use crate::key::{KeyFault, PrivateKey, Secret};
use md5::Digest as _;
use zeroize::Zeroizing;

/// A protected PKCS#1 or SEC1 key.
#[derive(Clone)]
pub(crate) struct ProtectedTraditional {
    cipher: Cipher,
    name: String,
    iv: Vec<u8>,
    data: Vec<u8>,
}

impl ProtectedTraditional {
    /// Reads the value of `DEK-Info`.
    pub(crate) fn parse(info: Option<&str>, data: &[u8]) -> Result<Self, KeyFault> {
        let info = info.ok_or(KeyFault::BadStructure { detail: WrongStructure::NoDekInfo })?;
        let (name, hex) = info.split_once(',').unwrap_or((info, ""));
        let cipher = match name.trim() {
            "AES-128-CBC" => Cipher::AesCbc(16),
            "AES-192-CBC" => Cipher::AesCbc(24),
            "AES-256-CBC" => Cipher::AesCbc(32),
            "DES-EDE3-CBC" => Cipher::TripleDesCbc,
            other => {
                let shown: String = other.chars().take(32).collect();
                return Err(KeyFault::UnsupportedCipher {
                    name: Unsupported::Named(crate::text::printable(shown.as_bytes())),
                });
            }
        };
        let iv = from_hex(hex.trim()).filter(|iv| iv.len() == cipher.iv_bytes());
        let iv = iv.ok_or(KeyFault::BadStructure { detail: WrongStructure::InitialValueNoBlock })?;
        if data.is_empty() || !data.len().is_multiple_of(cipher.block()) {
            return Err(KeyFault::BadStructure { detail: WrongStructure::NotWholeBlocks });
        }
        Ok(Self { cipher, name: name.trim().to_owned(), iv, data: data.to_vec() })
    }

    /// Cipher and key derivation.
    pub(crate) fn protection(&self) -> Protection {
        Protection::Md5 { cipher: self.name.clone() }
    }

    /// Opens it; `read` reads what comes out.
    pub(crate) fn open(
        &self,
        passphrase: &[u8],
        read: impl Fn(&[u8]) -> Result<PrivateKey, KeyFault>,
    ) -> Result<PrivateKey, KeyFault> {
        let key = derive(passphrase, &self.iv[..8], self.cipher.key_bytes());
        let mut plain = Zeroizing::new(self.data.clone());
        self.cipher.decrypt(&key, &self.iv, &mut plain, &[])?;
        // Nothing but the structure tells a wrong passphrase from the right one.
        read(unpadded(&plain, self.cipher.block())?).map_err(|fault| match fault {
            KeyFault::BadStructure { .. }
            | KeyFault::Truncated
            | KeyFault::LengthOutOfBounds { .. }
            | KeyFault::TrailingData { .. } => KeyFault::WrongPassphrase,
            other => other,
        })
    }
}

/// MD5 of what came before, the passphrase and the salt, over and over.
fn derive(passphrase: &[u8], salt: &[u8], bytes: usize) -> Secret {
    let mut key: Secret = Zeroizing::new(Vec::with_capacity(bytes + 16));
    let mut last: Secret = Zeroizing::new(Vec::new());
    while key.len() < bytes {
        let mut hash = md5::Md5::new();
        hash.update(&*last);
        hash.update(passphrase);
        hash.update(salt);
        last = Zeroizing::new(hash.finalize().to_vec());
        key.extend_from_slice(&last);
    }
    key.truncate(bytes);
    key
}

fn from_hex(text: &str) -> Option<Vec<u8>> {
    if !text.is_ascii() || !text.len().is_multiple_of(2) {
        return None;
    }
    (0..text.len()).step_by(2).map(|at| u8::from_str_radix(&text[at..at + 2], 16).ok()).collect()
}
