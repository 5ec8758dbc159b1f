//! Public keys and their blob, the bytes that servers compare and fingerprints are made of.

use super::{Algorithm, Curve, Fingerprint, KeyFault, base64, edwards};
use crate::key::fault::{Unsupported, WrongNumber, WrongStructure};
use crate::text::printable;
use crate::wire::{Reader, Writer, without_leading_zeros};
use aws_lc_rs::{agreement, rsa, signature};

/// Longest modulus Lavrin reads, in bits: OpenSSH's own limit for RSA keys.
pub const RSA_BITS_MAX: usize = 16384;

/// Longest public exponent Lavrin reads, in bytes. Real ones have three; a modulus-long one is judged as weak.
const EXPONENT_BYTES_MAX: usize = RSA_BITS_MAX / 8;

/// Longest application name of an authenticator's key, in bytes; real ones are a few characters.
const APPLICATION_BYTES_MAX: usize = 1024;

/// A public key. Numbers are big-endian without leading zeros; points are uncompressed.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum PublicKey {
    /// `ssh-ed25519`: the 32 bytes of the point.
    Ed25519([u8; 32]),
    /// ECDSA: the uncompressed point, `04 x y`.
    Ecdsa {
        /// The curve.
        curve: Curve,
        /// The point.
        point: Vec<u8>,
    },
    /// RSA.
    Rsa {
        /// Public exponent.
        e: Vec<u8>,
        /// Modulus.
        n: Vec<u8>,
    },
    /// Ed25519 on an authenticator.
    SkEd25519 {
        /// The point.
        point: [u8; 32],
        /// Application name, usually `ssh:`.
        application: Vec<u8>,
    },
    /// DSA, which no one should use any more.
    Dss {
        /// The parameters p, q and g and the public value y, each big-endian without leading zeros.
        values: [Vec<u8>; 4],
    },
    /// ECDSA P-256 on an authenticator.
    SkEcdsa {
        /// The uncompressed point.
        point: Vec<u8>,
        /// Application name, usually `ssh:`.
        application: Vec<u8>,
    },
}

/// The length of a big-endian number without leading zeros.
fn bits_of(number: &[u8]) -> usize {
    number.first().map_or(0, |first| number.len() * 8 - first.leading_zeros() as usize)
}

impl PublicKey {
    /// Reads a blob to its end; only the canonical form is taken, since it decides the fingerprint.
    ///
    /// # Errors
    /// The [`KeyFault`] that says which field is wrong.
    pub fn from_blob(blob: &[u8]) -> Result<Self, KeyFault> {
        let name = Reader::new(blob).string()?;
        if Algorithm::from_name(name).is_none_or(|algorithm| algorithm == Algorithm::Dss) {
            return Err(unknown_algorithm(name));
        }
        let (key, strict) = Self::from_blob_as_server(blob)?;
        strict.map_or(Ok(key), Err)
    }

    /// Reads a blob as OpenSSH's server does, which lets an RSA number have surplus leading zeros and takes other names of an
    /// algorithm inside. Equal keys are equal then, however they are written. Beside the key stands why a strict reader refuses it;
    /// nothing where the form is canonical.
    ///
    /// # Errors
    /// The [`KeyFault`] that says which field is wrong.
    pub fn from_blob_as_server(blob: &[u8]) -> Result<(Self, Option<KeyFault>), KeyFault> {
        let mut reader = Reader::new(blob);
        let name = reader.string()?;
        let Some(algorithm) = Algorithm::from_inner_name(name) else {
            return Err(unknown_algorithm(name));
        };
        let (key, minimal) = Self::read_body(algorithm, &mut reader)?;
        reader.end()?;
        let strict = if matches!(&key, Self::Ed25519(point) if !edwards::is_canonical(point)) {
            Some(KeyFault::PointNotOnCurve)
        } else if name == algorithm.name().as_bytes() {
            (!minimal).then_some(KeyFault::IntegerNotMinimal)
        } else {
            Some(KeyFault::TypeMismatch { outside: algorithm.name().to_owned(), inside: printable(name) })
        };
        Ok((key, strict))
    }

    /// Reads the fields behind the algorithm's name, as they also stand inside a private key.
    pub(crate) fn read_body(algorithm: Algorithm, reader: &mut Reader<'_>) -> Result<(Self, bool), KeyFault> {
        let key = match algorithm {
            Algorithm::Ed25519 => Self::Ed25519(ed25519_point(reader.string()?)?),
            Algorithm::SkEd25519 => {
                let point = ed25519_point(reader.string()?)?;
                Self::SkEd25519 { point, application: application(reader.string()?)? }
            }
            Algorithm::Ecdsa(curve) => {
                let point = read_curve_point(curve, reader)?;
                Self::Ecdsa { curve, point }
            }
            Algorithm::SkEcdsa => {
                let point = read_curve_point(Curve::P256, reader)?;
                Self::SkEcdsa { point, application: application(reader.string()?)? }
            }
            Algorithm::Dss => {
                let mut values = [const { Vec::new() }; 4];
                let mut minimal = true;
                for value in &mut values {
                    let (bytes, is_minimal) = reader.positive_any_form()?;
                    *value = without_leading_zeros(bytes).to_vec();
                    minimal &= is_minimal;
                }
                return Ok((Self::Dss { values }, minimal));
            }
            Algorithm::Rsa => {
                let (e, e_minimal) = reader.positive_any_form()?;
                let (n, n_minimal) = reader.positive_any_form()?;
                return Ok((Self::rsa(e, n)?, e_minimal && n_minimal));
            }
        };
        Ok((key, true))
    }

    /// An Ed25519 public key from its 32 bytes.
    ///
    /// # Errors
    /// [`KeyFault::PointNotOnCurve`] and [`KeyFault::WeakPoint`].
    pub fn ed25519(bytes: &[u8]) -> Result<Self, KeyFault> {
        ed25519_point(bytes).map(Self::Ed25519)
    }

    /// An RSA public key from its numbers.
    ///
    /// # Errors
    /// [`KeyFault::TooLarge`] beyond [`RSA_BITS_MAX`].
    pub fn rsa(e: &[u8], n: &[u8]) -> Result<Self, KeyFault> {
        let (e, n) = (without_leading_zeros(e), without_leading_zeros(n));
        if n.len() > RSA_BITS_MAX / 8 || e.len() > EXPONENT_BYTES_MAX {
            return Err(KeyFault::TooLarge { bytes: n.len().max(e.len()), limit: RSA_BITS_MAX / 8 });
        }
        if n.is_empty() || e.is_empty() {
            return Err(KeyFault::InvalidValues { detail: WrongNumber::RsaZero });
        }
        if n.len() < e.len() {
            return Err(KeyFault::InvalidValues { detail: WrongNumber::ExponentAboveModulus });
        }
        Ok(Self::Rsa { e: e.to_vec(), n: n.to_vec() })
    }

    /// The algorithm.
    #[must_use]
    pub fn algorithm(&self) -> Algorithm {
        match self {
            Self::Ed25519(_) => Algorithm::Ed25519,
            Self::Ecdsa { curve, .. } => Algorithm::Ecdsa(*curve),
            Self::Rsa { .. } => Algorithm::Rsa,
            Self::SkEd25519 { .. } => Algorithm::SkEd25519,
            Self::SkEcdsa { .. } => Algorithm::SkEcdsa,
            Self::Dss { .. } => Algorithm::Dss,
        }
    }

    /// Size in bits: of the modulus, or of the curve's field.
    #[must_use]
    pub fn bits(&self) -> usize {
        match self {
            Self::Ed25519(_) | Self::SkEd25519 { .. } | Self::SkEcdsa { .. } => 256,
            Self::Ecdsa { curve, .. } => curve.bits(),
            Self::Rsa { n: number, .. } | Self::Dss { values: [number, ..] } => bits_of(number),
        }
    }

    /// The length of an RSA key's public exponent in bits; `None` for other keys.
    #[must_use]
    pub fn exponent_bits(&self) -> Option<usize> {
        if let Self::Rsa { e, .. } = self { Some(bits_of(e)) } else { None }
    }

    /// The canonical blob (RFC 4253, section 6.6; RFC 5656, section 3.1; RFC 8709, section 4).
    #[must_use]
    pub fn blob(&self) -> Vec<u8> {
        let mut out = Writer::sized(self.blob_room());
        out.string(self.algorithm().name().as_bytes());
        self.write_body(&mut out);
        out.finish_public()
    }

    /// Bytes that the blob takes at most.
    fn blob_room(&self) -> usize {
        const NAMES: usize = 80;
        NAMES
            + match self {
                Self::Ed25519(point) => point.len(),
                Self::Ecdsa { point, .. } => point.len(),
                Self::Rsa { e, n } => e.len() + n.len() + 10,
                Self::SkEd25519 { application, point } => point.len() + application.len(),
                Self::SkEcdsa { point, application } => point.len() + application.len(),
                Self::Dss { values } => values.iter().map(|value| value.len() + 5).sum(),
            }
    }

    fn write_body(&self, out: &mut Writer) {
        match self {
            Self::Ed25519(point) => out.string(point),
            Self::Ecdsa { curve, point } => out.string(curve.name().as_bytes()).string(point),
            Self::Rsa { e, n } => out.positive(e).positive(n),
            Self::SkEd25519 { point, application } => out.string(point).string(application),
            Self::Dss { values } => values.iter().fold(out, |out, value| out.positive(value)),
            Self::SkEcdsa { point, application } => {
                out.string(Curve::P256.name().as_bytes()).string(point).string(application)
            }
        };
    }

    /// The SHA-256 fingerprint.
    #[must_use]
    pub fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(&self.blob())
    }

    /// The one-line form, without a comment where it is empty.
    #[must_use]
    pub fn line(&self, comment: &str) -> String {
        self.line_with(&self.blob(), comment)
    }

    /// The same where the blob was made before.
    #[must_use]
    pub fn line_with(&self, blob: &[u8], comment: &str) -> String {
        let name = self.algorithm().name();
        let mut line = String::with_capacity(name.len() + blob.len().div_ceil(3) * 4 + comment.len() + 2);
        line += name;
        line += " ";
        base64::add(blob, &mut line);
        if !comment.is_empty() {
            line += " ";
            line += comment;
        }
        line
    }

    /// Whether `signature` (as in RFC 4253, section 6.6: name and bytes) over `data` was made with the private half.
    /// Authenticator signatures and RSA keys outside 2048 to 8192 bits are not checked and give `false`.
    #[must_use]
    pub fn verifies(&self, data: &[u8], signature: &[u8]) -> bool {
        let mut reader = Reader::new(signature);
        let (Ok(name), Ok(body)) = (reader.string(), reader.string()) else { return false };
        match self {
            Self::Ed25519(point) => {
                name == b"ssh-ed25519"
                    && signature::UnparsedPublicKey::new(&signature::ED25519, point).verify(data, body).is_ok()
            }
            Self::Ecdsa { curve, point } => {
                let algorithm = match curve {
                    Curve::P256 => &signature::ECDSA_P256_SHA256_FIXED,
                    Curve::P384 => &signature::ECDSA_P384_SHA384_FIXED,
                    Curve::P521 => &signature::ECDSA_P521_SHA512_FIXED,
                };
                fixed_ecdsa_signature(*curve, body)
                    .is_some_and(|body| signature::UnparsedPublicKey::new(algorithm, point).verify(data, &body).is_ok())
            }
            Self::Rsa { e, n } => {
                let parameters = match name {
                    b"rsa-sha2-256" => &signature::RSA_PKCS1_2048_8192_SHA256,
                    b"rsa-sha2-512" => &signature::RSA_PKCS1_2048_8192_SHA512,
                    _ => return false,
                };
                rsa::PublicKeyComponents { n, e }.verify(parameters, data, body).is_ok()
            }
            Self::SkEd25519 { .. } | Self::SkEcdsa { .. } | Self::Dss { .. } => false,
        }
    }
}

fn unknown_algorithm(name: &[u8]) -> KeyFault {
    let shown = printable(&name[..name.len().min(64)]);
    if Algorithm::is_retired(name) {
        KeyFault::PolicyAlgorithm { name: shown }
    } else {
        KeyFault::UnsupportedAlgorithm { name: Unsupported::Named(shown) }
    }
}

fn ed25519_point(bytes: &[u8]) -> Result<[u8; 32], KeyFault> {
    let point: [u8; 32] =
        bytes.try_into().map_err(|_| KeyFault::InvalidValues { detail: WrongNumber::Ed25519PublicLength })?;
    edwards::check(&point)?;
    Ok(point)
}

fn application(bytes: &[u8]) -> Result<Vec<u8>, KeyFault> {
    if bytes.len() > APPLICATION_BYTES_MAX {
        return Err(KeyFault::TooLarge { bytes: bytes.len(), limit: APPLICATION_BYTES_MAX });
    }
    Ok(bytes.to_vec())
}

fn read_curve_point(curve: Curve, reader: &mut Reader<'_>) -> Result<Vec<u8>, KeyFault> {
    let inside = reader.string()?;
    if inside != curve.name().as_bytes() {
        return Err(KeyFault::TypeMismatch {
            outside: curve.name().to_owned(),
            inside: crate::text::printable(&inside[..inside.len().min(64)]),
        });
    }
    let point = reader.string()?;
    check_point(curve, point)?;
    Ok(point.to_vec())
}

/// Refuses points that are compressed, of the wrong length or not on the curve.
pub(crate) fn check_point(curve: Curve, point: &[u8]) -> Result<(), KeyFault> {
    match point {
        [4, rest @ ..] if rest.len() == 2 * curve.width() => {}
        [2 | 3, ..] => return Err(KeyFault::BadStructure { detail: WrongStructure::CompressedPoint }),
        _ => return Err(KeyFault::InvalidValues { detail: WrongNumber::PointLength }),
    }
    let unparsed = agreement::UnparsedPublicKey::new(exchange(curve), point);
    agreement::ParsedPublicKey::try_from(unparsed).map(|_| ()).map_err(|_| KeyFault::PointNotOnCurve)
}

pub(crate) fn exchange(curve: Curve) -> &'static agreement::Algorithm {
    match curve {
        Curve::P256 => &agreement::ECDH_P256,
        Curve::P384 => &agreement::ECDH_P384,
        Curve::P521 => &agreement::ECDH_P521,
    }
}

/// The two numbers of an ECDSA signature (RFC 5656, section 3.1.2) side by side at full width.
fn fixed_ecdsa_signature(curve: Curve, body: &[u8]) -> Option<Vec<u8>> {
    let mut reader = Reader::new(body);
    let mut fixed = vec![0; 2 * curve.width()];
    for half in fixed.chunks_mut(curve.width()) {
        let number = reader.positive().ok()?;
        half[curve.width().checked_sub(number.len())?..].copy_from_slice(number);
    }
    reader.end().ok()?;
    Some(fixed)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn blob(parts: &[&[u8]]) -> Vec<u8> {
        let mut out = Writer::new();
        for part in parts {
            out.string(part);
        }
        out.finish().to_vec()
    }

    #[test]
    fn rejects_a_short_ed25519_point() {
        let fault = PublicKey::from_blob(&blob(&[b"ssh-ed25519", &[7; 31]])).unwrap_err();
        assert_eq!(fault.word(), "invalid-values");
    }

    #[test]
    fn rejects_points_of_small_order_and_off_the_curve() {
        let word = |point: [u8; 32]| PublicKey::ed25519(&point).map_or_else(|fault| fault.word(), |_| "a key");
        assert_eq!(word([0; 32]), "weak-point");
        let mut one = [0; 32];
        one[0] = 1;
        assert_eq!(word(one), "weak-point");
        one[0] = 2;
        assert_eq!(word(one), "point-not-on-curve");
        assert_eq!(word([3; 32]), "a key");
    }

    #[test]
    fn rejects_bytes_behind_the_key() {
        let fault = PublicKey::from_blob(&blob(&[b"ssh-ed25519", &[3; 32], b"x"])).unwrap_err();
        assert_eq!(fault, KeyFault::TrailingData { left: 5 });
    }

    #[test]
    fn rejects_dsa_by_name() {
        let fault = PublicKey::from_blob(&blob(&[b"ssh-dss", b"p"])).unwrap_err();
        assert_eq!(fault.word(), "policy-algorithm");
    }

    #[test]
    fn rejects_a_point_off_the_curve() {
        let mut point = vec![4; 65];
        point[64] = 9;
        let fault = PublicKey::from_blob(&blob(&[b"ecdsa-sha2-nistp256", b"nistp256", &point])).unwrap_err();
        assert_eq!(fault, KeyFault::PointNotOnCurve);
    }

    #[test]
    fn a_key_is_what_it_is_by_whatever_name_the_server_takes() {
        let rsa = |name: &[u8]| blob(&[name, &[1, 0, 1], &[0, 0xc5, 0x11, 0x11]]);
        let key = PublicKey::from_blob(&rsa(b"ssh-rsa")).unwrap();
        for name in [&b"RSA"[..], b"rsa", b"rsa-sha2-256", b"rsa-sha2-512"] {
            let (same, strict) = PublicKey::from_blob_as_server(&rsa(name)).unwrap();
            assert_eq!((same, strict.unwrap().word()), (key.clone(), "type-mismatch"));
            assert!(PublicKey::from_blob(&rsa(name)).is_err());
        }
        for name in [&b"rsa-sha2-1"[..], b"ECDSA", b"ssh-RSA", b"dss"] {
            assert!(PublicKey::from_blob_as_server(&rsa(name)).is_err());
        }
    }

    #[test]
    fn a_surplus_leading_zero_is_only_read_as_the_server_does() {
        let bytes = blob(&[b"ssh-rsa", &[1, 0, 1], &[0, 0, 0xc5, 0x11, 0x11]]);
        assert_eq!(PublicKey::from_blob(&bytes), Err(KeyFault::IntegerNotMinimal));
        let (key, strict) = PublicKey::from_blob_as_server(&bytes).unwrap();
        assert_eq!(strict, Some(KeyFault::IntegerNotMinimal));
        assert_eq!(key.bits(), 24);
        assert_eq!(key.blob(), blob(&[b"ssh-rsa", &[1, 0, 1], &[0, 0xc5, 0x11, 0x11]]));
    }
}
