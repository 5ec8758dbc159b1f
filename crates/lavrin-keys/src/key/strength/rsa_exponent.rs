//! RSA numbers that no honest generator writes: an even modulus, an exponent of 1, 3 or an even one.

use super::Weakness;
use crate::key::PublicKey;

/// No generator writes a longer exponent; one as long as the modulus goes with a short private one (Wiener, 1990).
const EXPONENT_BYTES_USUAL: usize = 32;

pub(super) fn check(key: &PublicKey) -> Option<Weakness> {
    let PublicKey::Rsa { e, n } = key else { return None };
    let even = |number: &[u8]| number.last().is_none_or(|last| last & 1 == 0);
    if even(n) {
        return Some(Weakness::EvenModulus);
    }
    match e.as_slice() {
        [1] => Some(Weakness::ExponentOne),
        [3] => Some(Weakness::ExponentThree),
        _ if e.len() > EXPONENT_BYTES_USUAL => Some(Weakness::ExponentHuge),
        _ if even(e) => Some(Weakness::ExponentEven),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn odd_exponents_from_five_on_are_fine() {
        let with = |e: &[u8], n: &[u8]| check(&PublicKey::rsa(e, n).unwrap());
        assert_eq!(with(&[1], &[0xc5; 256]), Some(Weakness::ExponentOne));
        assert_eq!(with(&[3], &[0xc5; 256]), Some(Weakness::ExponentThree));
        assert_eq!(with(&[1, 0], &[0xc5; 256]), Some(Weakness::ExponentEven));
        assert_eq!(with(&[1, 0, 1], &[0xc4; 256]), Some(Weakness::EvenModulus));
        assert_eq!(with(&[0x55; 255], &[0xc5; 256]), Some(Weakness::ExponentHuge));
        assert_eq!(with(&[17], &[0xc5; 256]), None);
    }
}
