//! Writing keys: the containers that Lavrin writes besides openssh-key-v1, whose file holds its own writer.

use super::der::{self, BIT_STRING, INTEGER, NULL, OCTET_STRING, OID, SEQUENCE};
use super::pkcs8::{AES, HMAC, PBES2, PBKDF2};
use super::{oid, openssh, pem};
use crate::key::fault::{Unsupported, WrongStructure};
use crate::key::generate::Randomness;
use crate::key::{KeyFault, PrivateKey, PublicKey, Secret};
use aws_lc_rs::pbkdf2;
use std::num::NonZeroU32;
use zeroize::Zeroizing;

/// PBKDF2 iterations that are written (HMAC-SHA-256): a third of a second.
const ITERATIONS_WRITTEN: u32 = 600_000;

/// Columns of an RFC 4716 block; section 3.1 allows 72.
const RFC4716_COLUMNS: usize = 70;

/// Longest line of it, in bytes (section 3.1).
const RFC4716_LINE_BYTES_MAX: usize = 72;

/// So many blanks may stand where a line would be parted, and it is parted before them.
const BLANKS_TOGETHER: usize = 8;

/// What can be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Private, openssh-key-v1.
    OpenSsh,
    /// Private, PKCS#8.
    Pkcs8,
    /// Private, PKCS#1: RSA only.
    Pkcs1,
    /// Private, SEC1: ECDSA only.
    Sec1,
    /// Public, one line.
    Line,
    /// Public, `SubjectPublicKeyInfo`.
    Spki,
    /// Public, the block of RFC 4716.
    Rfc4716,
}

impl Form {
    /// Whether it holds the private half.
    #[must_use]
    pub fn is_private(self) -> bool {
        matches!(self, Self::OpenSsh | Self::Pkcs8 | Self::Pkcs1 | Self::Sec1)
    }

    /// Whether it can hold a comment.
    #[must_use]
    pub fn has_comment(self) -> bool {
        matches!(self, Self::OpenSsh | Self::Line | Self::Rfc4716)
    }

    /// Whether a passphrase can protect it. The old protection of PKCS#1 and SEC1 is too weak to be written.
    #[must_use]
    pub fn can_be_protected(self) -> bool {
        matches!(self, Self::OpenSsh | Self::Pkcs8)
    }
}

/// Writes a private key.
///
/// # Errors
/// [`KeyFault::UnsupportedAlgorithm`] where the form cannot hold the key.
pub fn private(
    form: Form,
    key: &PrivateKey,
    comment: &str,
    passphrase: Option<&[u8]>,
    randomness: &dyn Randomness,
) -> Result<Secret, KeyFault> {
    let cannot = || KeyFault::UnsupportedAlgorithm { name: Unsupported::InThisContainer(key.public().algorithm()) };
    let text = match form {
        Form::OpenSsh => openssh::write(key, comment, passphrase, randomness)?,
        Form::Pkcs8 => pkcs8(key, passphrase, randomness).ok_or_else(cannot)?,
        Form::Pkcs1 => pem::armour("RSA PRIVATE KEY", &key.pkcs1().ok_or_else(cannot)?),
        Form::Sec1 => pem::armour("EC PRIVATE KEY", &sec1(key, true).ok_or_else(cannot)?),
        Form::Line | Form::Spki | Form::Rfc4716 => {
            return Err(KeyFault::BadStructure { detail: WrongStructure::PublicContainer });
        }
    };
    Ok(Zeroizing::new(text.as_bytes().to_vec()))
}

/// Writes a public key; `None` for a form that holds private ones, or where the form cannot hold the key.
#[must_use]
pub fn public(form: Form, key: &PublicKey, comment: &str) -> Option<String> {
    match form {
        Form::Line => Some(format!("{}\n", key.line(comment))),
        Form::Spki => Some(pem::armour("PUBLIC KEY", &spki(key)?).to_string()),
        Form::Rfc4716 => {
            let header = if comment.is_empty() { String::new() } else { header(&format!("Comment: \"{comment}\"")) };
            let begin = format!("---- BEGIN SSH2 PUBLIC KEY ----\n{header}");
            Some(pem::wrapped(&begin, "---- END SSH2 PUBLIC KEY ----\n", RFC4716_COLUMNS, &key.blob()).to_string())
        }
        Form::OpenSsh | Form::Pkcs8 | Form::Pkcs1 | Form::Sec1 => None,
    }
}

/// A header of RFC 4716, continued on further lines where it is too long (section 3.3). No line begins with a blank, which a reader
/// may take off.
fn header(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + text.len() / 32 + 1);
    let mut room = RFC4716_LINE_BYTES_MAX;
    let mut rest = text.chars().peekable();
    while let Some(character) = rest.next() {
        out.push(character);
        room -= character.len_utf8();
        // Room for the next character, and for the backslash behind it where the line does not end there.
        let next = rest.peek().map_or(0, |next| next.len_utf8() + 1);
        if room < next + BLANKS_TOGETHER && rest.peek().is_some_and(|next| !next.is_whitespace()) || room < next {
            out.push_str("\\\n");
            room = RFC4716_LINE_BYTES_MAX;
        }
    }
    out.push('\n');
    out
}

fn algorithm(key: &PublicKey) -> Option<Secret> {
    let identifier = |name: &[u8], rest: &[u8]| der::value(SEQUENCE, &[&der::value(OID, &[name]), rest]);
    match key {
        PublicKey::Ed25519(_) => Some(identifier(oid::ED25519, &[])),
        PublicKey::Ecdsa { curve, .. } => Some(identifier(oid::EC, &der::value(OID, &[oid::of_curve(*curve)]))),
        PublicKey::Rsa { .. } => Some(identifier(oid::RSA, &[NULL, 0])),
        PublicKey::SkEd25519 { .. } | PublicKey::SkEcdsa { .. } | PublicKey::Dss { .. } => None,
    }
}

fn spki(key: &PublicKey) -> Option<Secret> {
    let bits = match key {
        PublicKey::Ed25519(point) => point.to_vec(),
        PublicKey::Ecdsa { point, .. } => point.clone(),
        PublicKey::Rsa { e, n } => {
            let mut numbers = Zeroizing::new(Vec::new());
            der::push_integer(&mut numbers, n);
            der::push_integer(&mut numbers, e);
            der::sequence(&numbers).to_vec()
        }
        PublicKey::SkEd25519 { .. } | PublicKey::SkEcdsa { .. } | PublicKey::Dss { .. } => return None,
    };
    Some(der::value(SEQUENCE, &[&algorithm(key)?, &der::value(BIT_STRING, &[&[0], &bits])]))
}

/// An `ECPrivateKey`; inside PKCS#8 the curve stands outside already.
fn sec1(key: &PrivateKey, with_curve: bool) -> Option<Secret> {
    let PublicKey::Ecdsa { curve, point } = key.public() else { return None };
    let curve =
        if with_curve { der::value(0xa0, &[&der::value(OID, &[oid::of_curve(*curve)])]) } else { Secret::default() };
    let point = der::value(0xa1, &[&der::value(BIT_STRING, &[&[0], point])]);
    Some(der::value(SEQUENCE, &[&[INTEGER, 1, 1], &der::value(OCTET_STRING, &[key.scalar()?]), &curve, &point]))
}

fn pkcs8(key: &PrivateKey, passphrase: Option<&[u8]>, randomness: &dyn Randomness) -> Option<Zeroizing<String>> {
    let inner = match key.public() {
        PublicKey::Ed25519(_) => der::value(OCTET_STRING, &[key.seed()?]),
        PublicKey::Ecdsa { .. } => sec1(key, false)?,
        _ => key.pkcs1()?,
    };
    let plain =
        der::value(SEQUENCE, &[&[INTEGER, 1, 0], &algorithm(key.public())?, &der::value(OCTET_STRING, &[&inner])]);
    Some(match passphrase {
        None => pem::armour("PRIVATE KEY", &plain),
        Some(passphrase) => pem::armour("ENCRYPTED PRIVATE KEY", &protected(&plain, passphrase, randomness)),
    })
}

/// PBES2 with PBKDF2 (HMAC-SHA-256) and AES-256-CBC (RFC 8018, section 6.2).
fn protected(plain: &[u8], passphrase: &[u8], randomness: &dyn Randomness) -> Secret {
    let (mut salt, mut iv, mut key) = ([0u8; 16], [0u8; 16], Zeroizing::new([0u8; 32]));
    randomness.fill(&mut salt);
    randomness.fill(&mut iv);
    let iterations = NonZeroU32::new(ITERATIONS_WRITTEN).unwrap_or(NonZeroU32::MIN);
    pbkdf2::derive(pbkdf2::PBKDF2_HMAC_SHA256, iterations, &salt, passphrase, &mut *key);
    let count = 16 - plain.len() % 16;
    let mut data = Zeroizing::new(Vec::with_capacity(plain.len() + count));
    data.extend_from_slice(plain);
    data.resize(plain.len() + count, u8::try_from(count).unwrap_or(16));
    super::cipher::Cipher::encrypt_cbc(&*key, &iv, &mut data);
    let mut rounds = Zeroizing::new(Vec::new());
    der::push_integer(&mut rounds, &ITERATIONS_WRITTEN.to_be_bytes());
    let hash = der::value(SEQUENCE, &[&der::value(OID, &[HMAC, &[9]]), &[NULL, 0]]);
    let derivation = der::value(SEQUENCE, &[&der::value(OCTET_STRING, &[&salt]), &rounds, &hash]);
    let derivation = der::value(SEQUENCE, &[&der::value(OID, &[PBKDF2]), &derivation]);
    let cipher = der::value(SEQUENCE, &[&der::value(OID, &[AES, &[42]]), &der::value(OCTET_STRING, &[&iv])]);
    let scheme = der::value(SEQUENCE, &[&der::value(OID, &[PBES2]), &der::value(SEQUENCE, &[&derivation, &cipher])]);
    der::value(SEQUENCE, &[&scheme, &der::value(OCTET_STRING, &[&data])])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::Curve;
    use crate::key::container::PieceKind;
    use crate::key::generate::{Recipe, RsaBits, SystemSource, generate};
    use crate::pieces::read;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_block_keeps_its_comment_on_lines_that_others_read(comment in "[ -~é\u{4e2d}]{0,200}") {
            let comment = comment.trim();
            let key = generate(Recipe::Ed25519, &SystemSource).unwrap();
            let text = public(Form::Rfc4716, key.public(), comment).unwrap();
            prop_assert!(text.lines().all(|line| line.len() <= RFC4716_LINE_BYTES_MAX), "{text}");
            let pieces = read(text.as_bytes());
            let PieceKind::Public { comment: found, .. } = &pieces[0].kind else { panic!("{text}") };
            prop_assert_eq!(String::from_utf8_lossy(found), comment, "{}", text);
        }
    }

    #[test]
    fn every_private_form_reads_back() {
        for recipe in
            [Recipe::Ed25519, Recipe::Ecdsa(Curve::P256), Recipe::Ecdsa(Curve::P521), Recipe::Rsa(RsaBits::B2048)]
        {
            let key = generate(recipe, &SystemSource).unwrap();
            for form in [Form::OpenSsh, Form::Pkcs8, Form::Pkcs1, Form::Sec1] {
                let fits = match form {
                    Form::Pkcs1 => matches!(recipe, Recipe::Rsa(_)),
                    Form::Sec1 => matches!(recipe, Recipe::Ecdsa(_)),
                    _ => true,
                };
                for passphrase in
                    [None, Some(&b"tide"[..])].into_iter().filter(|given| given.is_none() || form.can_be_protected())
                {
                    let written = private(form, &key, "edda", passphrase, &SystemSource);
                    assert_eq!(written.is_ok(), fits, "{recipe:?} {form:?}");
                    let Ok(bytes) = written else { continue };
                    let mut pieces = read(&bytes);
                    let PieceKind::Private(closed) = pieces.remove(0).kind else { panic!("{recipe:?} {form:?}") };
                    assert_eq!(closed.is_protected(), passphrase.is_some());
                    assert_eq!(closed.open(passphrase).unwrap().key.public(), key.public(), "{recipe:?} {form:?}");
                }
            }
        }
    }

    #[test]
    fn every_public_form_reads_back() {
        for recipe in [Recipe::Ed25519, Recipe::Ecdsa(Curve::P384), Recipe::Rsa(RsaBits::B2048)] {
            let key = generate(recipe, &SystemSource).unwrap();
            for form in [Form::Line, Form::Spki, Form::Rfc4716] {
                let text = public(form, key.public(), "edda, lamp room").unwrap();
                let PieceKind::Public { key: read, comment, .. } = crate::pieces::read(text.as_bytes()).remove(0).kind
                else {
                    panic!("{text}")
                };
                assert_eq!(&read, key.public(), "{form:?}");
                assert_eq!(comment == b"edda, lamp room", form.has_comment());
            }
        }
    }
}
