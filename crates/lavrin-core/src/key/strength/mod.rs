//! Weaknesses of public keys, one file each. A healthy key gives nothing.

mod close_primes;
mod generator_point;
mod rsa_exponent;
mod rsa_short;
pub mod shared_prime;
mod small_factor;
mod structured_primes;

use super::PublicKey;
use crate::policy::Policy;
use dashu_int::UBig;

/// A weakness of a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Weakness {
    /// The modulus is shorter than the policy asks for.
    RsaShort {
        /// Bits of the modulus.
        bits: usize,
        /// Bits below which a key is refused.
        refused_below: usize,
        /// Bits from which a key is beyond reproach.
        advised: usize,
    },
    /// The modulus is even: no RSA key.
    EvenModulus,
    /// The public exponent is 1: nothing is signed.
    ExponentOne,
    /// The public exponent is even, which no valid key has.
    ExponentEven,
    /// The public exponent is 3: allowed, and worth telling.
    ExponentThree,
    /// The modulus has small prime factors.
    SmallFactor {
        /// Their product.
        factor: String,
    },
    /// The modulus is the square of a prime.
    SquareModulus,
    /// The primes are close together.
    ClosePrimes {
        /// Steps after which Fermat's method found them.
        steps: u32,
    },
    /// The primes have the structure of a broken generator.
    StructuredPrimes,
    /// The point is the generator of the curve.
    GeneratorPoint,
    /// Another key given in the same run has a prime in common.
    SharedPrime {
        /// Where the others stand.
        with: Vec<String>,
    },
    /// Another key given in the same run has the same modulus and another exponent.
    SameModulus {
        /// Where the others stand.
        with: Vec<String>,
    },
}

/// Every weakness of one key that shows without other keys beside it.
#[must_use]
pub fn weaknesses(key: &PublicKey, policy: &Policy) -> Vec<Weakness> {
    [rsa_short::check(key, policy), rsa_exponent::check(key)].into_iter().flatten().collect()
}

/// Weaknesses that cost a millisecond or two of search in each key: small factors, close or structured primes.
#[must_use]
pub fn deep_weaknesses(key: &PublicKey) -> Vec<Weakness> {
    match key {
        PublicKey::Rsa { n, .. } if n.last().is_some_and(|last| last & 1 == 1) => {
            let modulus = UBig::from_be_bytes(n);
            let found =
                [small_factor::check(&modulus), close_primes::check(&modulus), structured_primes::check(&modulus)];
            found.into_iter().flatten().collect()
        }
        PublicKey::Ecdsa { .. } => generator_point::check(key).into_iter().collect(),
        _ => Vec::new(),
    }
}

/// The weaknesses for which this key may not be installed; empty for a key that may.
#[must_use]
pub fn objections(key: &PublicKey, policy: &Policy) -> Vec<Weakness> {
    weaknesses(key, policy).into_iter().chain(deep_weaknesses(key)).filter(Weakness::is_refused).collect()
}

impl Weakness {
    /// Whether a key with this weakness may not be installed.
    #[must_use]
    pub fn is_refused(&self) -> bool {
        match self {
            Self::RsaShort { bits, refused_below, .. } => bits < refused_below,
            Self::ExponentThree => false,
            _ => true,
        }
    }
}
