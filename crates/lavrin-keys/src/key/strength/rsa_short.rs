//! RSA moduli shorter than policy asks for.

use super::Weakness;
use crate::key::PublicKey;
use crate::key::policy::Policy;

pub(super) fn check(key: &PublicKey, policy: &Policy) -> Option<Weakness> {
    let PublicKey::Rsa { .. } = key else { return None };
    let (bits, refused_below) = (key.bits(), policy.rsa_bits_min);
    // A register may ask for more than is advised elsewhere.
    let advised = policy.rsa_bits_advised.max(refused_below);
    (bits < advised).then_some(Weakness::RsaShort { bits, refused_below, advised })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn modulus(bits: usize) -> PublicKey {
        let mut n = vec![0xff; bits / 8];
        n[0] = 0x80;
        PublicKey::rsa(&[1, 0, 1], &n).unwrap()
    }

    #[test]
    fn the_limits_of_the_policy_decide() {
        let policy = Policy::default();
        for (bits, expected) in [(1024, true), (2048, true), (3064, true), (3072, false), (4096, false)] {
            assert_eq!(check(&modulus(bits), &policy).is_some(), expected, "{bits}");
        }
        let strict = Policy { rsa_bits_min: 4096, ..policy };
        for (bits, expected) in [(3072, Some(true)), (4088, Some(true)), (4096, None)] {
            let refused = check(&modulus(bits), &strict).map(|weakness| weakness.is_refused());
            assert_eq!(refused, expected, "{bits}");
        }
    }
}
