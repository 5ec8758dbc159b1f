//! Weaknesses of public keys, one file each. A healthy key gives nothing.

mod rsa_exponent;
mod rsa_short;

use super::PublicKey;
use crate::policy::Policy;

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
}

/// Every weakness of one key that shows without other keys beside it.
#[must_use]
pub fn weaknesses(key: &PublicKey, policy: &Policy) -> Vec<Weakness> {
    [rsa_short::check(key, policy), rsa_exponent::check(key)].into_iter().flatten().collect()
}

/// The weaknesses for which this key may not be installed; empty for a key that may.
#[must_use]
pub fn objections(key: &PublicKey, policy: &Policy) -> Vec<Weakness> {
    weaknesses(key, policy).into_iter().filter(Weakness::is_refused).collect()
}

impl Weakness {
    /// Whether a key with this weakness may not be installed.
    #[must_use]
    pub fn is_refused(&self) -> bool {
        match self {
            Self::RsaShort { bits, refused_below, .. } => bits < refused_below,
            Self::EvenModulus | Self::ExponentOne | Self::ExponentEven => true,
            Self::ExponentThree => false,
        }
    }
}
