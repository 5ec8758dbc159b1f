//! RSA primes so close together that Fermat's method finds them.

use super::Weakness;
use dashu_base::{SquareRoot as _, SquareRootRem as _};
use dashu_int::UBig;

/// Steps of Fermat's method that are tried: a millisecond or two.
const STEPS_MAX: u32 = 20_000;

pub(super) fn check(modulus: &UBig) -> Option<Weakness> {
    let (root, rest) = modulus.sqrt_rem();
    if rest == UBig::ZERO {
        return Some(Weakness::SquareModulus);
    }
    // a² - n, with a from the root upwards; the next difference is 2a+1 more, and that grows by 2.
    let a = root + UBig::ONE;
    let mut difference = &a * &a - modulus;
    let mut increment = &a + &a + UBig::ONE;
    for steps in 1..=STEPS_MAX {
        if may_be_square(&difference) && is_square(&difference) {
            return Some(Weakness::ClosePrimes { steps });
        }
        difference += &increment;
        increment += 2u8;
    }
    None
}

/// Squares leave few rests modulo 64; most numbers are ruled out by that.
fn may_be_square(number: &UBig) -> bool {
    // Bit n is set where n is a square modulo 64.
    const SQUARES: u64 = 0x0202_0212_0203_0213;
    let low = number.as_words().first().copied().unwrap_or(0) & 63;
    SQUARES >> low & 1 == 1 && {
        let rest = number % 3465u16; // 9 * 5 * 7 * 11
        [9, 5, 7, 11].iter().all(|prime| is_square_modulo(rest % prime, *prime))
    }
}

fn is_square_modulo(rest: u16, modulus: u16) -> bool {
    (0..modulus).any(|root| root * root % modulus == rest)
}

fn is_square(number: &UBig) -> bool {
    let root = number.sqrt();
    &root * &root == *number
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn close_and_equal_primes_are_found() {
        let p = (UBig::ONE << 521usize) - UBig::ONE;
        assert_eq!(check(&(&p * &p)), Some(Weakness::SquareModulus));
        let near = &p + UBig::from(1000u32);
        assert!(matches!(check(&(&p * &near)), Some(Weakness::ClosePrimes { .. })));
        let far = (UBig::ONE << 607usize) - UBig::ONE;
        assert_eq!(check(&(&p * &far)), None);
    }

    #[test]
    fn no_square_is_ruled_out() {
        for root in 0..5000u32 {
            assert!(may_be_square(&(UBig::from(root) * UBig::from(root))), "{root}");
        }
    }
}
