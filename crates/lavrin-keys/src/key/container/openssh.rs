//! openssh-key-v1, the private key container of OpenSSH (its source tree describes it in PROTOCOL.key).

use super::Protection;
use super::cipher::Cipher;
use crate::key::Secret;
use crate::key::fault::{Unsupported, WrongStructure};
use crate::key::generate::Randomness;
use crate::key::{KeyFault, PrivateKey, PublicKey};
use crate::text::printable;
use crate::wire::{Reader, WireFault, Writer};
use zeroize::Zeroizing;

/// The PEM label.
pub const LABEL: &[u8] = b"OPENSSH PRIVATE KEY";

pub(super) const MAGIC: &[u8] = b"openssh-key-v1\0";

/// Rounds of bcrypt that Lavrin writes: about a quarter of a second, as current OpenSSH does.
pub const ROUNDS_WRITTEN: u32 = 24;

/// Longest padding, in bytes.
const PADDING_BYTES_MAX: usize = 255;

/// Most rounds that are carried out: ten seconds of work. Real files stay below a few hundred, hostile ones ask for 2^31.
pub const ROUNDS_MAX: u32 = 1000;

/// Longest salt that is accepted, in bytes; OpenSSH writes 16.
const SALT_BYTES_MAX: usize = 1024;

/// The cipher that Lavrin writes.
const CIPHER_WRITTEN: Cipher = Cipher::AesCtr(32);

/// A container whose private section has not been opened. The public half in front is readable without a passphrase.
pub struct ClosedOpenSsh {
    cipher: Cipher,
    kdf: Option<Kdf>,
    public: PublicKey,
    section: Secret,
    tag: Vec<u8>,
}

#[derive(Debug, Clone)]
struct Kdf {
    salt: Vec<u8>,
    rounds: u32,
}

/// What an opened container holds.
#[derive(Debug)]
pub struct OpenedOpenSsh {
    /// The key.
    pub key: PrivateKey,
    /// The comment, as bytes since nothing says that it is text.
    pub comment: Vec<u8>,
}

impl std::fmt::Debug for ClosedOpenSsh {
    // Deliberately without the section: unprotected, it is the private key.
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "ClosedOpenSsh({} {})", self.cipher.openssh_name(), self.public.fingerprint())
    }
}

impl ClosedOpenSsh {
    /// Reads the bytes inside the PEM armour.
    ///
    /// # Errors
    /// The [`KeyFault`] that names what is wrong; costs beyond [`ROUNDS_MAX`] are refused here, before any derivation.
    pub fn parse(bytes: &[u8]) -> Result<Self, KeyFault> {
        if bytes.is_empty() {
            return Err(KeyFault::Empty);
        }
        if bytes.first() == Some(&0x30) {
            return Err(KeyFault::LabelMismatch);
        }
        let mut reader = Reader::new(bytes.strip_prefix(MAGIC).ok_or(KeyFault::BadMagic)?);
        let cipher_name = reader.string()?;
        let kdf_name = reader.string()?;
        let kdf_options = reader.string()?;
        let count = reader.u32()?;
        if count != 1 {
            return Err(KeyFault::SeveralKeysInContainer { count });
        }
        let public = PublicKey::from_blob(reader.string()?)?;
        let section = reader.string()?;
        let cipher = Cipher::from_openssh_name(cipher_name).ok_or_else(|| KeyFault::UnsupportedCipher {
            name: Unsupported::Named(printable(&cipher_name[..cipher_name.len().min(64)])),
        })?;
        // The tag stands behind the last string, outside of its declared length.
        let tag = reader.take(cipher.tag_bytes())?.to_vec();
        reader.end()?;
        let kdf = parse_kdf(kdf_name, kdf_options)?;
        if cipher != Cipher::None && kdf.is_none() {
            return Err(KeyFault::UnsupportedKdf { name: Unsupported::NoneWithCipher });
        }
        if (cipher == Cipher::None) != kdf.is_none() {
            return Err(KeyFault::BadStructure { detail: WrongStructure::NotNoneTogether });
        }
        if section.is_empty() || section.len() % cipher.block() != 0 {
            return Err(KeyFault::BadPadding);
        }
        Ok(Self { cipher, kdf, public, section: Zeroizing::new(section.to_vec()), tag })
    }

    /// The public half in front of the private section, where that much of the bytes is there; the rest need not be.
    ///
    /// # Errors
    /// The [`KeyFault`] that names what is wrong.
    pub fn public_in_front(bytes: &[u8]) -> Result<PublicKey, KeyFault> {
        let mut reader = Reader::new(bytes.strip_prefix(MAGIC).ok_or(KeyFault::BadMagic)?);
        for _ in ["cipher", "key derivation", "its options"] {
            reader.string()?;
        }
        match reader.u32()? {
            1 => PublicKey::from_blob(reader.string()?),
            count => Err(KeyFault::SeveralKeysInContainer { count }),
        }
    }

    /// Whether a passphrase is needed.
    #[must_use]
    pub fn is_protected(&self) -> bool {
        self.cipher != Cipher::None
    }

    /// Cipher and key derivation.
    #[must_use]
    pub fn protection(&self) -> Protection {
        match &self.kdf {
            None => Protection::None,
            Some(kdf) => Protection::Bcrypt { cipher: self.cipher.openssh_name(), rounds: kdf.rounds },
        }
    }

    /// The public half as it stands in front; nothing has checked yet that it belongs to the private one.
    #[must_use]
    pub fn public(&self) -> &PublicKey {
        &self.public
    }

    /// Opens the private section and checks that every copy of the public half is the same.
    ///
    /// # Errors
    /// [`KeyFault::PassphraseNeeded`], [`KeyFault::WrongPassphrase`], or what is wrong with the content.
    pub fn open(&self, passphrase: Option<&[u8]>) -> Result<OpenedOpenSsh, KeyFault> {
        let mut section = self.section.clone();
        if let Some(kdf) = &self.kdf {
            let passphrase = passphrase.ok_or(KeyFault::PassphraseNeeded)?;
            let material = derive(self.cipher, kdf, passphrase)?;
            let (key, iv) = material.split_at(self.cipher.key_bytes());
            self.cipher.decrypt(key, iv, &mut section, &self.tag)?;
        }
        let mut reader = Reader::new(&section);
        let (one, two) = (reader.u32()?, reader.u32()?);
        if one != two {
            // Counter mode has no tag: differing check numbers are all that tells a wrong passphrase.
            return Err(if self.is_protected() { KeyFault::WrongPassphrase } else { KeyFault::CheckintMismatch });
        }
        let key = PrivateKey::read_fields(&mut reader)?;
        let no_comment = |fault: WireFault| match KeyFault::from(fault) {
            KeyFault::Truncated => KeyFault::BadStructure { detail: WrongStructure::NoComment },
            other => other,
        };
        let comment = reader.string().map_err(no_comment)?.to_vec();
        check_padding(reader.rest())?;
        if *key.public() != self.public {
            return Err(KeyFault::PublicPrivateMismatch);
        }
        Ok(OpenedOpenSsh { key, comment })
    }
}

fn parse_kdf(name: &[u8], options: &[u8]) -> Result<Option<Kdf>, KeyFault> {
    match name {
        b"none" if options.is_empty() => Ok(None),
        b"none" => Err(KeyFault::BadStructure { detail: WrongStructure::OptionsOfNone }),
        b"bcrypt" => {
            let mut reader = Reader::new(options);
            let salt = reader.string()?;
            let rounds = reader.u32()?;
            reader.end()?;
            if salt.is_empty() || salt.len() > SALT_BYTES_MAX || rounds == 0 {
                return Err(KeyFault::BadStructure { detail: WrongStructure::NoSaltOrRounds });
            }
            if rounds > ROUNDS_MAX {
                return Err(KeyFault::CostTooHigh { asked: rounds.into(), limit: ROUNDS_MAX.into() });
            }
            Ok(Some(Kdf { salt: salt.to_vec(), rounds }))
        }
        other => Err(KeyFault::UnsupportedKdf { name: Unsupported::Named(printable(&other[..other.len().min(64)])) }),
    }
}

fn derive(cipher: Cipher, kdf: &Kdf, passphrase: &[u8]) -> Result<Secret, KeyFault> {
    let mut material = Zeroizing::new(vec![0; cipher.key_bytes() + cipher.iv_bytes()]);
    bcrypt_pbkdf::bcrypt_pbkdf(passphrase, &kdf.salt, kdf.rounds, &mut material)
        .map_err(|_| KeyFault::WrongPassphrase)?;
    Ok(material)
}

/// The bytes behind the comment count up from 1. There is less than a block of them in files that OpenSSH writes; other writers
/// add a whole block where none is needed, and OpenSSH reads as many as can be counted so.
fn check_padding(padding: &[u8]) -> Result<(), KeyFault> {
    let counts_up = padding.iter().zip(1u8..).all(|(byte, expected)| *byte == expected);
    if counts_up && padding.len() <= PADDING_BYTES_MAX { Ok(()) } else { Err(KeyFault::BadPadding) }
}

/// Writes a container with its PEM armour: protected with aes256-ctr and bcrypt where a passphrase is given.
///
/// # Errors
/// [`KeyFault::WrongPassphrase`] for an empty passphrase, which bcrypt does not take.
pub fn write(
    key: &PrivateKey,
    comment: &str,
    passphrase: Option<&[u8]>,
    randomness: &dyn Randomness,
) -> Result<Zeroizing<String>, KeyFault> {
    let cipher = if passphrase.is_some() { CIPHER_WRITTEN } else { Cipher::None };
    let mut section = private_section(key, comment, cipher.block(), randomness);
    let mut options = Writer::new();
    let mut kdf_name: &[u8] = b"none";
    if let Some(passphrase) = passphrase {
        let mut kdf = Kdf { salt: vec![0; 16], rounds: ROUNDS_WRITTEN };
        randomness.fill(&mut kdf.salt);
        let material = derive(cipher, &kdf, passphrase)?;
        let (key, iv) = material.split_at(cipher.key_bytes());
        cipher.encrypt_ctr(key, iv, &mut section);
        options.string(&kdf.salt).u32(kdf.rounds);
        kdf_name = b"bcrypt";
    }
    let mut out = Writer::new();
    out.raw(MAGIC).string(cipher.openssh_name().as_bytes()).string(kdf_name).string(&options.finish());
    out.u32(1).string(&key.public().blob()).string(&section);
    Ok(super::pem::armour("OPENSSH PRIVATE KEY", &out.finish()))
}

fn private_section(key: &PrivateKey, comment: &str, block: usize, randomness: &dyn Randomness) -> Secret {
    let mut check = [0; 4];
    randomness.fill(&mut check);
    let mut out = Writer::new();
    out.raw(&check).raw(&check);
    key.write_fields(&mut out);
    out.string(comment.as_bytes());
    for byte in (1u8..).take((block - out.len() % block) % block) {
        out.raw(&[byte]);
    }
    out.finish()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::container::pem;
    use crate::key::generate::{Recipe, RsaBits, SystemSource, generate};
    use crate::key::{Curve, KeyFault};

    fn unarmoured(text: &str) -> Secret {
        let parts = pem::split(text.as_bytes());
        let pem::Segment::Block(block) = &parts[0] else { panic!("no block") };
        block.decode().unwrap()
    }

    fn sample() -> (PrivateKey, Secret) {
        let key = PrivateKey::ed25519(&[7; 32]).unwrap();
        let bytes = unarmoured(&write(&key, "buoy 7", None, &SystemSource).unwrap());
        (key, bytes)
    }

    #[test]
    fn every_algorithm_reads_back_with_and_without_passphrase() {
        for recipe in
            [Recipe::Ed25519, Recipe::Ecdsa(Curve::P256), Recipe::Ecdsa(Curve::P521), Recipe::Rsa(RsaBits::B2048)]
        {
            let key = generate(recipe, &SystemSource).unwrap();
            for passphrase in [None, Some(&b"tide"[..])] {
                let text = write(&key, "edda@lantern", passphrase, &SystemSource).unwrap();
                let closed = ClosedOpenSsh::parse(&unarmoured(&text)).unwrap();
                assert_eq!(closed.is_protected(), passphrase.is_some());
                let opened = closed.open(passphrase).unwrap();
                assert_eq!(opened.key.public(), key.public());
                assert_eq!(opened.comment, b"edda@lantern");
            }
        }
    }

    #[test]
    fn refuses_a_wrong_and_a_missing_passphrase() {
        let (key, _) = sample();
        let closed =
            ClosedOpenSsh::parse(&unarmoured(&write(&key, "", Some(b"tide"), &SystemSource).unwrap())).unwrap();
        assert_eq!(closed.open(None).unwrap_err(), KeyFault::PassphraseNeeded);
        assert_eq!(closed.open(Some(b"ebb")).unwrap_err(), KeyFault::WrongPassphrase);
        assert_eq!(closed.public(), key.public());
    }

    #[test]
    fn refuses_absurd_rounds_before_deriving() {
        let mut options = Writer::new();
        options.string(&[1; 16]).u32(1 << 31);
        let fault = parse_kdf(b"bcrypt", &options.finish()).unwrap_err();
        assert_eq!(fault, KeyFault::CostTooHigh { asked: 1 << 31, limit: 1000 });
    }

    #[test]
    fn refuses_every_shortened_container() {
        let (_, bytes) = sample();
        for length in 0..bytes.len() {
            assert!(ClosedOpenSsh::parse(&bytes[..length]).and_then(|closed| closed.open(None)).is_err(), "{length}");
        }
    }

    #[test]
    fn a_changed_byte_never_gives_another_key() {
        // Everything but the comment is checked against something else; the comment carries no check in this format.
        let (key, bytes) = sample();
        for at in 0..bytes.len() {
            let mut damaged = bytes.clone();
            damaged[at] ^= 0x20;
            if let Ok(opened) = ClosedOpenSsh::parse(&damaged).and_then(|closed| closed.open(None)) {
                assert_eq!(opened.key.public(), key.public(), "byte {at}");
                assert_ne!(opened.comment, b"buoy 7", "byte {at}");
            }
        }
    }

    #[test]
    fn refuses_halves_of_different_keys() {
        let (_, bytes) = sample();
        let other = PrivateKey::ed25519(&[8; 32]).unwrap().public().blob();
        let start = bytes.windows(4).position(|window| window == [0, 0, 0, 51]).unwrap() + 4;
        let mut mixed = bytes.clone();
        mixed[start..start + other.len()].copy_from_slice(&other);
        let fault = ClosedOpenSsh::parse(&mixed).unwrap().open(None).unwrap_err();
        assert_eq!(fault, KeyFault::PublicPrivateMismatch);
    }
}
