//! RSA numbers that no honest generator writes: an even modulus, an exponent of 1, 3 or an even one.

use super::Weakness;
use crate::key::PublicKey;

pub(super) fn check(key: &PublicKey) -> Option<Weakness> {
    let PublicKey::Rsa { e, n } = key else { return None };
    let even = |number: &[u8]| number.last().is_none_or(|last| last & 1 == 0);
    if even(n) {
        return Some(Weakness::EvenModulus);
    }
    match e.as_slice() {
        [1] => Some(Weakness::ExponentOne),
        [3] => Some(Weakness::ExponentThree),
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
        assert_eq!(with(&[17], &[0xc5; 256]), None);
    }
}
