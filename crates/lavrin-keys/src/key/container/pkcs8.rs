//! PKCS#8 private keys, plain and protected by PBES2 (RFC 5958, RFC 8018, RFC 7914, RFC 5084).

use super::Protection;
use super::cipher::Cipher;
use super::der::Der;
use super::oid::{self, OidKey};
use super::{pkcs1, sec1};
use crate::key::fault::{Unsupported, WrongNumber, WrongStructure};
use crate::key::{KeyFault, PrivateKey, PublicKey, Secret};
use aws_lc_rs::pbkdf2;
use std::num::NonZeroU32;
use zeroize::Zeroizing;

/// Most PBKDF2 iterations that are carried out: about two seconds. Today's programs write up to some 100,000.
const ITERATIONS_MAX: u64 = 10_000_000;

/// Most memory that scrypt may take (128·N·r bytes): real files ask for 16 MiB to 32 MiB.
const SCRYPT_BYTES_MAX: u64 = 96 << 20;

/// Most work that scrypt may cost, as N·r·p.
const SCRYPT_COST_MAX: u64 = 1 << 23;

pub(super) const PBES2: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x05, 0x0d];
pub(super) const PBKDF2: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x05, 0x0c];
const SCRYPT: &[u8] = &[0x2b, 0x06, 0x01, 0x04, 0x01, 0xda, 0x47, 0x04, 0x0b];
pub(super) const HMAC: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x02];
pub(super) const AES: &[u8] = &[0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x01];
const DES_EDE3_CBC: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x03, 0x07];

/// Reads `OneAsymmetricKey` to its end and checks an attached public key.
pub(crate) fn private(bytes: &[u8]) -> Result<PrivateKey, KeyFault> {
    let mut outer = Der::new(bytes);
    let mut fields = outer.sequence()?;
    outer.end()?;
    let version = fields.small()?;
    if version > 1 {
        return Err(KeyFault::BadStructure { detail: WrongStructure::Pkcs8Version });
    }
    let kind = oid::algorithm(fields.sequence()?)?;
    let inner = fields.octets()?;
    fields.context(0xa0)?;
    let attached = fields.context(0x81)?;
    fields.end()?;
    let key = match kind {
        OidKey::Rsa => pkcs1::private(inner)?,
        OidKey::Ec(curve) => sec1::private(inner, Some(curve))?,
        OidKey::Ed25519 => {
            let mut seed = Der::new(inner);
            let bytes = seed.octets()?;
            seed.end()?;
            let seed: &[u8; 32] =
                bytes.try_into().map_err(|_| KeyFault::InvalidValues { detail: WrongNumber::Ed25519SeedLength })?;
            PrivateKey::ed25519(seed)?
        }
    };
    match attached {
        Some([0, attached @ ..]) if !is_public_half(&key, attached) => Err(KeyFault::PublicPrivateMismatch),
        _ => Ok(key),
    }
}

fn is_public_half(key: &PrivateKey, attached: &[u8]) -> bool {
    match key.public() {
        PublicKey::Ed25519(point) => point == attached,
        PublicKey::Ecdsa { point, .. } => point == attached,
        PublicKey::Rsa { .. } => pkcs1::public(attached).is_ok_and(|public| public == *key.public()),
        PublicKey::SkEd25519 { .. } | PublicKey::SkEcdsa { .. } | PublicKey::Dss { .. } => false,
    }
}

/// A protected key whose parameters have been read and found bearable.
#[derive(Clone)]
pub(crate) struct ProtectedPkcs8 {
    derivation: Derivation,
    cipher: Cipher,
    iv: Vec<u8>,
    data: Vec<u8>,
}

#[derive(Clone)]
enum Derivation {
    Pbkdf2 { hash: pbkdf2::Algorithm, salt: Vec<u8>, iterations: NonZeroU32, hash_name: &'static str },
    Scrypt { salt: Vec<u8>, log_n: u8, r: u32, p: u32 },
}

impl ProtectedPkcs8 {
    /// Reads `EncryptedPrivateKeyInfo` to its end. Costs beyond the limits are refused here, before any derivation.
    pub(crate) fn parse(bytes: &[u8]) -> Result<Self, KeyFault> {
        let mut outer = Der::new(bytes);
        let mut fields = outer.sequence()?;
        outer.end()?;
        let mut scheme = fields.sequence()?;
        let data = fields.octets()?.to_vec();
        fields.end()?;
        if scheme.oid()? != PBES2 {
            return Err(KeyFault::UnsupportedKdf { name: Unsupported::OlderThanPbes2 });
        }
        let mut parameters = scheme.sequence()?;
        let (derivation, key_bytes) = derivation(parameters.sequence()?)?;
        let (cipher, iv) = cipher(parameters.sequence()?)?;
        if key_bytes.is_some_and(|bytes| bytes != cipher.key_bytes() as u64) {
            return Err(KeyFault::BadStructure { detail: WrongStructure::DerivedKeyLength });
        }
        Ok(Self { derivation, cipher, iv, data })
    }

    /// Cipher and key derivation.
    pub(crate) fn protection(&self) -> Protection {
        let cipher = match self.cipher {
            Cipher::AesCbc(size) => format!("aes{}-cbc", size * 8),
            Cipher::AesGcm(size) | Cipher::AesGcmShort(size, _) => format!("aes{}-gcm", size * 8),
            _ => "3des-cbc".to_owned(),
        };
        match &self.derivation {
            Derivation::Pbkdf2 { iterations, hash_name, .. } => {
                Protection::Pbkdf2 { cipher, hash: hash_name, iterations: iterations.get() }
            }
            Derivation::Scrypt { log_n, .. } => Protection::Scrypt { cipher, cost: 1 << log_n },
        }
    }

    /// Opens it.
    pub(crate) fn open(&self, passphrase: &[u8]) -> Result<PrivateKey, KeyFault> {
        let key = self.derivation.derive(passphrase, self.cipher.key_bytes())?;
        let tag_at = self.data.len().checked_sub(self.cipher.tag_bytes()).ok_or(KeyFault::Truncated)?;
        let (data, tag) = self.data.split_at(tag_at);
        let mut plain = Zeroizing::new(data.to_vec());
        self.cipher.decrypt(&key, &self.iv, &mut plain, tag)?;
        let plain = if tag.is_empty() { unpadded(&plain, self.cipher.block())? } else { &plain };
        // A wrong passphrase gives valid padding once in 256 times; what is no key then is noise.
        match private(plain) {
            Err(
                KeyFault::BadStructure { .. }
                | KeyFault::Truncated
                | KeyFault::LengthOutOfBounds { .. }
                | KeyFault::TrailingData { .. },
            ) => Err(KeyFault::WrongPassphrase),
            other => other,
        }
    }
}

/// Takes off the padding of RFC 8018, section 6.1.1.
pub(super) fn unpadded(plain: &[u8], block: usize) -> Result<&[u8], KeyFault> {
    let count = usize::from(*plain.last().ok_or(KeyFault::Truncated)?);
    let end = plain.len().checked_sub(count).ok_or(KeyFault::WrongPassphrase)?;
    let fine = (1..=block).contains(&count) && plain[end..].iter().all(|byte| usize::from(*byte) == count);
    if fine { Ok(&plain[..end]) } else { Err(KeyFault::WrongPassphrase) }
}

/// The derivation, and how many bytes it says that it gives, where it does.
fn derivation(mut fields: Der<'_>) -> Result<(Derivation, Option<u64>), KeyFault> {
    match fields.oid()? {
        PBKDF2 => pbkdf2_parameters(fields.sequence()?),
        SCRYPT => scrypt_parameters(fields.sequence()?),
        _ => Err(KeyFault::UnsupportedKdf { name: Unsupported::OtherDerivation }),
    }
}

fn pbkdf2_parameters(mut fields: Der<'_>) -> Result<(Derivation, Option<u64>), KeyFault> {
    let salt = fields.octets()?.to_vec();
    let asked = fields.small()?;
    if asked > ITERATIONS_MAX {
        return Err(KeyFault::CostTooHigh { asked, limit: ITERATIONS_MAX });
    }
    let iterations = u32::try_from(asked).ok().and_then(NonZeroU32::new);
    let iterations = iterations.ok_or(KeyFault::BadStructure { detail: WrongStructure::NoIterations })?;
    let key_bytes = if fields.is_next(0x02) { Some(fields.small()?) } else { None };
    let (hash, hash_name) = match fields.context(0x30)? {
        None => (pbkdf2::PBKDF2_HMAC_SHA1, "SHA-1"),
        Some(inner) => match Der::new(inner).oid()?.strip_prefix(HMAC) {
            Some([7]) => (pbkdf2::PBKDF2_HMAC_SHA1, "SHA-1"),
            Some([9]) => (pbkdf2::PBKDF2_HMAC_SHA256, "SHA-256"),
            Some([10]) => (pbkdf2::PBKDF2_HMAC_SHA384, "SHA-384"),
            Some([11]) => (pbkdf2::PBKDF2_HMAC_SHA512, "SHA-512"),
            _ => return Err(KeyFault::UnsupportedKdf { name: Unsupported::Pbkdf2Hash }),
        },
    };
    Ok((Derivation::Pbkdf2 { hash, salt, iterations, hash_name }, key_bytes))
}

fn scrypt_parameters(mut fields: Der<'_>) -> Result<(Derivation, Option<u64>), KeyFault> {
    let salt = fields.octets()?.to_vec();
    let (n, r, p) = (fields.small()?, fields.small()?, fields.small()?);
    let key_bytes = if fields.is_next(0x02) { Some(fields.small()?) } else { None };
    let memory = n.saturating_mul(r).saturating_mul(128);
    if memory > SCRYPT_BYTES_MAX {
        return Err(KeyFault::CostTooHigh { asked: memory, limit: SCRYPT_BYTES_MAX });
    }
    let cost = n.saturating_mul(r).saturating_mul(p);
    if cost > SCRYPT_COST_MAX {
        return Err(KeyFault::CostTooHigh { asked: cost, limit: SCRYPT_COST_MAX });
    }
    if !n.is_power_of_two() || n < 2 {
        return Err(KeyFault::BadStructure { detail: WrongStructure::ScryptN });
    }
    let log_n = u8::try_from(n.trailing_zeros()).unwrap_or(u8::MAX);
    let small = |value: u64| u32::try_from(value).unwrap_or(0);
    Ok((Derivation::Scrypt { salt, log_n, r: small(r), p: small(p) }, key_bytes))
}

fn cipher(mut fields: Der<'_>) -> Result<(Cipher, Vec<u8>), KeyFault> {
    let oid = fields.oid()?;
    let cipher = match oid.strip_prefix(AES) {
        Some([2]) => Cipher::AesCbc(16),
        Some([22]) => Cipher::AesCbc(24),
        Some([42]) => Cipher::AesCbc(32),
        Some([6]) => Cipher::AesGcm(16),
        Some([26]) => Cipher::AesGcm(24),
        Some([46]) => Cipher::AesGcm(32),
        _ if oid == DES_EDE3_CBC => Cipher::TripleDesCbc,
        _ => return Err(KeyFault::UnsupportedCipher { name: Unsupported::Nameless }),
    };
    let (cipher, iv) = match cipher {
        // RFC 5084 puts the nonce of GCM into a sequence with the length of the tag, which is 12 where none is named.
        Cipher::AesGcm(size) => {
            let mut parameters = fields.sequence()?;
            let iv = parameters.octets()?;
            let tag = if parameters.is_next(0x02) { parameters.small()? } else { 12 };
            parameters.end()?;
            match tag {
                16 => (cipher, iv),
                12..=15 => (Cipher::AesGcmShort(size, usize::try_from(tag).unwrap_or(12)), iv),
                _ => return Err(KeyFault::BadStructure { detail: WrongStructure::GcmTag }),
            }
        }
        cipher => (cipher, fields.octets()?),
    };
    if iv.len() != cipher.iv_bytes() {
        return Err(KeyFault::BadStructure { detail: WrongStructure::InitialValueLength });
    }
    Ok((cipher, iv.to_vec()))
}

impl Derivation {
    fn derive(&self, passphrase: &[u8], bytes: usize) -> Result<Secret, KeyFault> {
        let mut key = Zeroizing::new(vec![0; bytes]);
        match self {
            Self::Pbkdf2 { hash, salt, iterations, .. } => {
                pbkdf2::derive(*hash, *iterations, salt, passphrase, &mut key);
            }
            Self::Scrypt { salt, log_n, r, p } => {
                let unfit = KeyFault::BadStructure { detail: WrongStructure::ScryptParameters };
                let parameters = scrypt::Params::new(*log_n, *r, *p).map_err(|_| unfit.clone())?;
                scrypt::scrypt(passphrase, salt, &parameters, &mut key).map_err(|_| unfit)?;
            }
        }
        Ok(key)
    }
}
