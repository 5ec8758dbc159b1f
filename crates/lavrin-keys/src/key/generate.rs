//! Making key pairs. Randomness comes in through [`Randomness`], so that this can be tested and the core stays pure.

use super::container::der;
use super::private;
use super::{Algorithm, Curve, KeyFault, PrivateKey, Secret};
use crate::key::fault::WrongNumber;
use aws_lc_rs::encoding::{AsDer as _, Pkcs8V1Der};
use aws_lc_rs::rsa::KeySize;
use zeroize::Zeroizing;

/// Where secrets come from.
pub trait Randomness {
    /// Fills the buffer with bytes nobody can predict.
    fn fill(&self, buffer: &mut [u8]);

    /// A new RSA key with exponent 65537 as PKCS#8 (RFC 5958), or `None` where that size cannot be made.
    fn rsa_pkcs8(&self, bits: RsaBits) -> Option<Secret>;
}

/// The RSA sizes that Lavrin makes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RsaBits {
    /// 2048 bits: for appliances that take nothing longer.
    B2048,
    /// 3072 bits.
    B3072,
    /// 4096 bits.
    B4096,
    /// 8192 bits: takes seconds to make and to use.
    B8192,
}

/// What to make.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Recipe {
    /// Ed25519, the default.
    Ed25519,
    /// ECDSA on this curve.
    Ecdsa(Curve),
    /// RSA of this size.
    Rsa(RsaBits),
}

impl Recipe {
    /// The algorithm that comes out.
    #[must_use]
    pub fn algorithm(self) -> Algorithm {
        match self {
            Self::Ed25519 => Algorithm::Ed25519,
            Self::Ecdsa(curve) => Algorithm::Ecdsa(curve),
            Self::Rsa(_) => Algorithm::Rsa,
        }
    }
}

/// Makes a private key.
///
/// # Errors
/// [`KeyFault`] where the source of randomness gives something that is no key, which a working one does not.
pub fn generate(recipe: Recipe, randomness: &dyn Randomness) -> Result<PrivateKey, KeyFault> {
    match recipe {
        Recipe::Ed25519 => {
            let mut seed = Zeroizing::new([0; 32]);
            randomness.fill(&mut *seed);
            PrivateKey::ed25519(&seed)
        }
        Recipe::Ecdsa(curve) => {
            let scalar =
                private::fresh_scalar(curve).ok_or(KeyFault::InvalidValues { detail: WrongNumber::EcdsaNotMade })?;
            PrivateKey::ecdsa(curve, &scalar)
        }
        Recipe::Rsa(bits) => {
            let pkcs8 =
                randomness.rsa_pkcs8(bits).ok_or(KeyFault::InvalidValues { detail: WrongNumber::RsaNotMade })?;
            let [n, e, d, p, q, _, _, iqmp] = der::rsa_numbers(&pkcs8)?;
            PrivateKey::rsa(n, e, d, p, q, iqmp)
        }
    }
}

/// The operating system's randomness and aws-lc's RSA generation.
#[derive(Debug, Default, Clone, Copy)]
pub struct SystemSource;

impl Randomness for SystemSource {
    fn fill(&self, buffer: &mut [u8]) {
        // From the kernel itself: aws-lc's own generator first spends 50 ms on gathering entropy of its own.
        getrandom::fill(buffer).expect("the kernel gives random bytes");
    }

    fn rsa_pkcs8(&self, bits: RsaBits) -> Option<Secret> {
        match bits {
            RsaBits::B2048 => one_rsa(KeySize::Rsa2048),
            RsaBits::B3072 => one_rsa(KeySize::Rsa3072),
            RsaBits::B4096 => first_rsa(KeySize::Rsa4096),
            RsaBits::B8192 => first_rsa(KeySize::Rsa8192),
        }
    }
}

fn one_rsa(size: KeySize) -> Option<Secret> {
    let pair = aws_lc_rs::rsa::KeyPair::generate(size).ok()?;
    let der: Pkcs8V1Der<'_> = pair.as_der().ok()?;
    Some(Zeroizing::new(der.as_ref().to_vec()))
}

/// How many searches for a long key run side by side.
const SEARCHES: usize = 2;

/// How long the search for two primes takes is a matter of luck, so a second one runs on another core and the first key
/// that is found is taken. The other search is left to itself: what it finds is wiped and never used.
fn first_rsa(size: KeySize) -> Option<Secret> {
    let (send, found) = std::sync::mpsc::channel();
    for _ in 0..SEARCHES.min(rayon::current_num_threads()) {
        let send = send.clone();
        rayon::spawn(move || {
            let _ = send.send(one_rsa(size));
        });
    }
    drop(send);
    found.into_iter().flatten().next()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::private::RsaHash;

    #[test]
    fn every_algorithm_makes_a_pair_that_signs_for_itself() {
        let recipes = [
            Recipe::Ed25519,
            Recipe::Ecdsa(Curve::P256),
            Recipe::Ecdsa(Curve::P384),
            Recipe::Ecdsa(Curve::P521),
            Recipe::Rsa(RsaBits::B2048),
        ];
        for recipe in recipes {
            let key = generate(recipe, &SystemSource).unwrap();
            let signature = key.sign(b"tide table", RsaHash::Sha256).unwrap();
            assert_eq!(key.public().algorithm(), recipe.algorithm());
            assert!(key.public().verifies(b"tide table", &signature), "{recipe:?}");
            assert!(!key.public().verifies(b"tide tables", &signature), "{recipe:?}");
        }
    }

    #[test]
    fn debug_shows_no_secret() {
        let key = PrivateKey::ed25519(&[0x42; 32]).unwrap();
        let shown = format!("{key:?}");
        assert!(shown.starts_with("PrivateKey(ssh-ed25519 SHA256:"), "{shown}");
        assert!(!shown.contains("42, 42") && !shown.contains("66, 66"), "{shown}");
    }
}
