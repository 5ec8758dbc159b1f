//! Private keys: held so that they are wiped when dropped, never shown, and checked to belong to their public half.

use super::{Algorithm, Curve, KeyFault, PublicKey, Secret, numbers, public};
use crate::key::fault::{Unsupported, WrongNumber, WrongStructure};
use crate::wire::{Reader, Writer, without_leading_zeros};
use aws_lc_rs::agreement;
use aws_lc_rs::encoding::AsBigEndian as _;
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{self, EcdsaKeyPair, Ed25519KeyPair, KeyPair as _, RsaKeyPair};
use std::fmt;
use zeroize::{Zeroize as _, Zeroizing};

/// A private key together with the public half that was checked against it.
pub struct PrivateKey {
    public: PublicKey,
    secret: Numbers,
}

enum Numbers {
    Ed25519 {
        /// In a box, so that moving the key leaves no copy behind.
        seed: Box<Zeroizing<[u8; 32]>>,
    },
    Ecdsa {
        scalar: Secret,
    },
    Rsa {
        d: Secret,
        p: Secret,
        q: Secret,
        iqmp: Secret,
    },
}

impl fmt::Debug for PrivateKey {
    // Deliberately shows the public half only.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "PrivateKey({} {})", self.public.algorithm(), self.public.fingerprint())
    }
}

/// Stack that computing with a key may have used, in bytes.
const STACK_USED: usize = 64 << 10;

/// Overwrites what computing with a secret has left on the stack below the caller.
#[inline(never)]
#[expect(clippy::large_stack_arrays, reason = "the stack is what is overwritten")]
pub(crate) fn wipe_stack() {
    let mut room = [0u8; STACK_USED];
    room.zeroize();
}

/// Which hash an RSA signature uses (RFC 8332); other algorithms have only one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RsaHash {
    /// `rsa-sha2-256`
    Sha256,
    /// `rsa-sha2-512`
    Sha512,
}

/// Signing failed: the key is of a size the library does not sign with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CannotSign;

impl PrivateKey {
    /// An Ed25519 key from its seed (RFC 8032, section 5.1.5).
    ///
    /// # Errors
    /// [`KeyFault::InvalidValues`] where the library refuses the seed.
    pub fn ed25519(seed: &[u8; 32]) -> Result<Self, KeyFault> {
        let pair = Ed25519KeyPair::from_seed_unchecked(seed)
            .map_err(|_| KeyFault::InvalidValues { detail: WrongNumber::Ed25519Seed })?;
        let point = pair.public_key().as_ref().try_into().expect("an Ed25519 point has 32 bytes");
        let mut kept = Box::new(Zeroizing::new([0; 32]));
        kept.copy_from_slice(seed);
        drop(pair);
        wipe_stack();
        Ok(Self { public: PublicKey::Ed25519(point), secret: Numbers::Ed25519 { seed: kept } })
    }

    /// An ECDSA key from its scalar; the public point is computed.
    ///
    /// # Errors
    /// [`KeyFault::InvalidValues`] where the scalar is zero or not below the order of the curve.
    pub fn ecdsa(curve: Curve, scalar: &[u8]) -> Result<Self, KeyFault> {
        let refuse = || KeyFault::InvalidValues { detail: WrongNumber::ScalarAboveOrder };
        let scalar = without_leading_zeros(scalar);
        let mut fixed = Zeroizing::new(vec![0; curve.width()]);
        let start = curve.width().checked_sub(scalar.len()).ok_or_else(refuse)?;
        fixed[start..].copy_from_slice(scalar);
        let exchange =
            agreement::PrivateKey::from_private_key(public::exchange(curve), &fixed).map_err(|_| refuse())?;
        let point = exchange.compute_public_key().map_err(|_| refuse())?.as_ref().to_vec();
        drop(exchange);
        wipe_stack();
        Ok(Self { public: PublicKey::Ecdsa { curve, point }, secret: Numbers::Ecdsa { scalar: fixed } })
    }

    /// An RSA key from its numbers, all big-endian; `iqmp` is the inverse of `q` modulo `p`.
    ///
    /// # Errors
    /// [`KeyFault::InvalidValues`] where the numbers do not belong together.
    pub fn rsa(n: &[u8], e: &[u8], d: &[u8], p: &[u8], q: &[u8], iqmp: &[u8]) -> Result<Self, KeyFault> {
        let public = PublicKey::rsa(e, n)?;
        if [d, p, q, iqmp].iter().any(|number| without_leading_zeros(number).len() > n.len()) {
            return Err(KeyFault::InvalidValues { detail: WrongNumber::PrivateAboveModulus });
        }
        if !numbers::rsa_relations_hold(n, e, d, p, q, iqmp) {
            return Err(KeyFault::InvalidValues { detail: WrongNumber::RsaParts });
        }
        let secret = |number: &[u8]| Zeroizing::new(without_leading_zeros(number).to_vec());
        wipe_stack();
        let secret = Numbers::Rsa { d: secret(d), p: secret(p), q: secret(q), iqmp: secret(iqmp) };
        Ok(Self { public, secret })
    }

    /// The public half.
    #[must_use]
    pub fn public(&self) -> &PublicKey {
        &self.public
    }

    /// Signs as RFC 4253, section 6.6 wants it: the signature's name and its bytes. `hash` matters for RSA only.
    ///
    /// # Errors
    /// [`CannotSign`] for RSA sizes the library does not sign with.
    pub fn sign(&self, data: &[u8], hash: RsaHash) -> Result<Vec<u8>, CannotSign> {
        let mut out = Writer::new();
        match (&self.secret, &self.public) {
            (Numbers::Ed25519 { seed }, _) => {
                let pair = Ed25519KeyPair::from_seed_unchecked(seed.as_slice()).map_err(|_| CannotSign)?;
                out.string(b"ssh-ed25519").string(pair.sign(data).as_ref());
            }
            (Numbers::Ecdsa { scalar }, PublicKey::Ecdsa { curve, point }) => {
                out.string(self.public.algorithm().name().as_bytes());
                out.string(&sign_ecdsa(*curve, scalar, point, data)?);
            }
            (Numbers::Rsa { .. }, _) => {
                let pair = RsaKeyPair::from_der(&self.pkcs1().ok_or(CannotSign)?).map_err(|_| CannotSign)?;
                let (name, padding): (&[u8], &dyn signature::RsaEncoding) = match hash {
                    RsaHash::Sha256 => (b"rsa-sha2-256", &signature::RSA_PKCS1_SHA256),
                    RsaHash::Sha512 => (b"rsa-sha2-512", &signature::RSA_PKCS1_SHA512),
                };
                let mut bytes = vec![0; pair.public_modulus_len()];
                pair.sign(padding, &SystemRandom::new(), data, &mut bytes).map_err(|_| CannotSign)?;
                out.string(name).string(&bytes);
            }
            (Numbers::Ecdsa { .. }, _) => return Err(CannotSign),
        }
        wipe_stack();
        Ok(out.finish().to_vec())
    }

    /// The key with its comment as an agent takes it (draft-ietf-sshm-ssh-agent).
    #[must_use]
    pub fn agent_identity(&self, comment: &str) -> Secret {
        let mut out = Writer::new();
        self.write_fields(&mut out);
        out.string(comment.as_bytes());
        out.finish()
    }

    /// The fields of the private section of openssh-key-v1, from the algorithm's name on.
    pub(crate) fn write_fields(&self, out: &mut Writer) {
        out.string(self.public.algorithm().name().as_bytes());
        match (&self.secret, &self.public) {
            (Numbers::Ed25519 { seed }, PublicKey::Ed25519(point)) => {
                let mut both = Zeroizing::new(Vec::with_capacity(64));
                both.extend_from_slice(seed.as_slice());
                both.extend_from_slice(point);
                out.string(point).string(&both);
            }
            (Numbers::Ecdsa { scalar }, PublicKey::Ecdsa { curve, point }) => {
                out.string(curve.name().as_bytes()).string(point).positive(scalar);
            }
            (Numbers::Rsa { d, p, q, iqmp }, PublicKey::Rsa { e, n }) => {
                out.positive(n).positive(e).positive(d).positive(iqmp).positive(p).positive(q);
            }
            _ => unreachable!("the constructors pair secret and public of one algorithm"),
        }
    }

    /// Reads the fields that [`Self::write_fields`] writes and holds every copy of the public half against the others.
    pub(crate) fn read_fields(reader: &mut Reader<'_>) -> Result<Self, KeyFault> {
        let name = reader.string()?;
        match Algorithm::from_name(name) {
            Some(Algorithm::Ed25519) => {
                let point = reader.string()?;
                let both: &[u8; 64] = reader
                    .string()?
                    .try_into()
                    .map_err(|_| KeyFault::BadStructure { detail: WrongStructure::Ed25519Length })?;
                let (seed, copy) = both.split_at(32);
                let key = Self::ed25519(seed.try_into().expect("half of 64 bytes"))?;
                let same = matches!(&key.public, PublicKey::Ed25519(own) if own == point && own == copy);
                if same { Ok(key) } else { Err(KeyFault::PublicPrivateMismatch) }
            }
            Some(algorithm @ Algorithm::Ecdsa(curve)) => {
                let (told, _) = PublicKey::read_body(algorithm, reader)?;
                let key = Self::ecdsa(curve, reader.positive()?)?;
                if key.public == told { Ok(key) } else { Err(KeyFault::PublicPrivateMismatch) }
            }
            Some(Algorithm::Rsa) => {
                let (n, e, d) = (reader.positive()?, reader.positive()?, reader.positive()?);
                let (iqmp, p, q) = (reader.positive()?, reader.positive()?, reader.positive()?);
                Self::rsa(n, e, d, p, q, iqmp)
            }
            Some(Algorithm::Dss) => Err(KeyFault::PolicyAlgorithm { name: "ssh-dss".to_owned() }),
            Some(Algorithm::SkEd25519 | Algorithm::SkEcdsa) => {
                Err(KeyFault::UnsupportedAlgorithm { name: Unsupported::Authenticator })
            }
            None => Err(KeyFault::UnsupportedAlgorithm {
                name: Unsupported::Named(crate::text::printable(&name[..name.len().min(64)])),
            }),
        }
    }

    /// The seed of an Ed25519 key.
    pub(crate) fn seed(&self) -> Option<&[u8; 32]> {
        if let Numbers::Ed25519 { seed } = &self.secret { Some(seed) } else { None }
    }

    /// The scalar of an ECDSA key, at the full width of its curve.
    pub(crate) fn scalar(&self) -> Option<&[u8]> {
        if let Numbers::Ecdsa { scalar } = &self.secret { Some(scalar) } else { None }
    }

    /// The RSA key as PKCS#1 `RSAPrivateKey` (RFC 8017, appendix A.1.2).
    pub(crate) fn pkcs1(&self) -> Option<Secret> {
        let (Numbers::Rsa { d, p, q, iqmp }, PublicKey::Rsa { e, n }) = (&self.secret, &self.public) else {
            return None;
        };
        let [dp, dq] = numbers::crt_exponents(d, p, q)?;
        wipe_stack();
        let mut body = Zeroizing::new(Vec::with_capacity(8 * n.len()));
        for number in [&[0][..], n, e, d, p, q, &dp, &dq, iqmp] {
            super::container::der::push_integer(&mut body, number);
        }
        Some(super::container::der::sequence(&body))
    }
}

fn sign_ecdsa(curve: Curve, scalar: &[u8], point: &[u8], data: &[u8]) -> Result<Vec<u8>, CannotSign> {
    let algorithm = match curve {
        Curve::P256 => &signature::ECDSA_P256_SHA256_FIXED_SIGNING,
        Curve::P384 => &signature::ECDSA_P384_SHA384_FIXED_SIGNING,
        Curve::P521 => &signature::ECDSA_P521_SHA512_FIXED_SIGNING,
    };
    let pair = EcdsaKeyPair::from_private_key_and_public_key(algorithm, scalar, point).map_err(|_| CannotSign)?;
    let fixed = pair.sign(&SystemRandom::new(), data).map_err(|_| CannotSign)?;
    let (r, s) = fixed.as_ref().split_at(curve.width());
    let mut out = Writer::new();
    out.positive(r).positive(s);
    Ok(out.finish().to_vec())
}

/// The scalar of a freshly generated ECDSA key pair.
pub(super) fn fresh_scalar(curve: Curve) -> Option<Secret> {
    let fresh = agreement::PrivateKey::generate(public::exchange(curve)).ok()?;
    let bytes: aws_lc_rs::encoding::EcPrivateKeyBin<'_> = fresh.as_be_bytes().ok()?;
    Some(Zeroizing::new(bytes.as_ref().to_vec()))
}
