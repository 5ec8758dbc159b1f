//! Weaknesses of public keys, one file each. A healthy key gives nothing.

#![allow(clippy::cast_possible_truncation, reason = "in arithmetic on words the low word is what is meant")]

mod close_primes;
pub mod cross_check;
mod generator_point;
mod prime_modulus;
mod rests;
mod rsa_exponent;
mod rsa_odd_size;
mod rsa_short;
pub mod shared_prime;
mod small_factor;
mod structured_primes;

use super::{Algorithm, PublicKey};
use crate::key::fault::Damage;
use crate::key::policy::Policy;
use crate::severity::Severity;
use dashu_int::UBig;

/// A weakness of a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Weakness {
    /// It is a DSA key: 1024 bits and SHA-1.
    Dsa,
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
    /// The public exponent is as long as the modulus.
    ExponentHuge,
    /// The modulus has an unusual number of bits: not a multiple of 8.
    OddSize {
        /// How many.
        bits: usize,
    },
    /// The public exponent is 3: allowed, and worth telling.
    ExponentThree,
    /// The modulus has small prime factors.
    SmallFactor {
        /// Their product.
        factor: String,
    },
    /// The modulus is the square of a prime.
    SquareModulus,
    /// The modulus is a prime itself.
    PrimeModulus,
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

/// How far the searches go that could go on for ever.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// Some microseconds for each key.
    Quick,
    /// A millisecond for each key, most of it for small factors.
    Full,
}

impl Depth {
    /// Prime factors below this are looked for.
    #[must_use]
    pub fn small_factors_below(self) -> u32 {
        if self == Self::Quick { small_factor::QUICK_BELOW } else { 1 << 21 }
    }

    /// Steps of Fermat's method that are tried.
    #[must_use]
    pub fn fermat_steps(self) -> u32 {
        if self == Self::Quick { 1024 } else { 20_000 }
    }
}

/// Every weakness of one key that shows without other keys beside it, but for small factors, which are found in many keys
/// at once more cheaply.
#[must_use]
pub fn weaknesses(key: &PublicKey, policy: &Policy, depth: Depth) -> Vec<Weakness> {
    found(key, policy, depth, false)
}

/// Every weakness of one key that shows without other keys beside it.
#[must_use]
pub fn all_weaknesses(key: &PublicKey, policy: &Policy, depth: Depth) -> Vec<Weakness> {
    found(key, policy, depth, true)
}

fn found(key: &PublicKey, policy: &Policy, depth: Depth, with_small_factors: bool) -> Vec<Weakness> {
    let mut found = Vec::new();
    found.extend((key.algorithm() == Algorithm::Dss).then_some(Weakness::Dsa));
    found.extend(rsa_short::check(key, policy));
    found.extend(rsa_odd_size::check(key));
    found.extend(rsa_exponent::check(key));
    found.extend(generator_point::check(key));
    if let Some(modulus) = odd_modulus(key) {
        let rest = rests::of(&modulus);
        found.extend(close_primes::check(&modulus, rest, depth));
        found.extend(structured_primes::check(&modulus, rest));
        found.extend(with_small_factors.then(|| prime_modulus::check(&modulus, depth)).flatten());
        found.extend(with_small_factors.then(|| small_factor::check(&modulus, depth)).flatten());
    }
    found
}

/// Whether an RSA modulus is a prime itself. It takes some milliseconds, so that very many keys are not asked.
#[must_use]
pub fn prime_modulus(key: &PublicKey) -> Option<Weakness> {
    prime_modulus::check(&odd_modulus(key)?, Depth::Full)
}

/// Small factors of an RSA modulus.
#[must_use]
pub fn small_factor(key: &PublicKey, depth: Depth) -> Option<Weakness> {
    small_factor::check(&odd_modulus(key)?, depth)
}

/// What shows that a character of an RSA key is another one than it was.
#[must_use]
pub fn damage(key: &PublicKey) -> Option<Damage> {
    let PublicKey::Rsa { e, n } = key else { return None };
    let is_even = |number: &[u8]| number.last().is_none_or(|last| last & 1 == 0);
    if is_even(n) {
        return Some(Damage::EvenModulus);
    }
    if is_even(e) {
        return Some(Damage::EvenExponent);
    }
    small_factor(key, Depth::Full).map(|_| Damage::SmallFactor)
}

/// The modulus of an RSA key, unless it is even, which is told as such.
fn odd_modulus(key: &PublicKey) -> Option<UBig> {
    match key {
        PublicKey::Rsa { n, .. } if n.last().is_some_and(|last| last & 1 == 1) => Some(UBig::from_be_bytes(n)),
        _ => None,
    }
}

/// The weaknesses for which this key may not be installed; empty for a key that may.
#[must_use]
pub fn objections(key: &PublicKey, policy: &Policy) -> Vec<Weakness> {
    all_weaknesses(key, policy, Depth::Full).into_iter().filter(Weakness::is_refused).collect()
}

crate::rules!(Weakness {
    Weakness::Dsa => "weak-dsa", Medium;
    Weakness::RsaShort { bits, refused_below, .. } if bits < refused_below => "weak-rsa-short", High;
    Weakness::RsaShort { .. } => "weak-rsa-short", Info;
    Weakness::EvenModulus => "weak-even-modulus", Critical;
    Weakness::ExponentOne => "weak-exponent-1", Critical;
    Weakness::ExponentEven => "weak-exponent-even", Critical;
    Weakness::ExponentThree => "weak-exponent-3", Info;
    Weakness::ExponentHuge => "weak-exponent-huge", Critical;
    Weakness::OddSize { .. } => "rsa-odd-size", Info;
    Weakness::SmallFactor { .. } => "weak-small-factor", Critical;
    Weakness::SquareModulus => "weak-square-modulus", Critical;
    Weakness::PrimeModulus => "weak-prime-modulus", Critical;
    Weakness::ClosePrimes { .. } => "weak-close-primes", Critical;
    Weakness::StructuredPrimes => "weak-structured-primes", Critical;
    Weakness::GeneratorPoint => "weak-ecdsa-generator", Critical;
    Weakness::SharedPrime { .. } => "weak-shared-prime", Critical;
    Weakness::SameModulus { .. } => "weak-same-modulus", Critical;
});

impl Weakness {
    /// The stable rule name.
    #[must_use]
    pub fn rule(&self) -> &'static str {
        self.in_table().0
    }

    /// How much it usually matters.
    #[must_use]
    pub fn severity(&self) -> Severity {
        self.in_table().1
    }

    /// Whether a key with this weakness may not be installed.
    #[must_use]
    pub fn is_refused(&self) -> bool {
        match self {
            Self::RsaShort { bits, refused_below, .. } => bits < refused_below,
            Self::ExponentThree | Self::OddSize { .. } => false,
            _ => true,
        }
    }
}
