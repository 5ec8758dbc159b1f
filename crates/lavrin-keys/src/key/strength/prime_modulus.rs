//! RSA moduli that are no product at all but a prime: whoever knows that can compute the private exponent.

use super::{Depth, Weakness};
use dashu_int::UBig;
use dashu_int::fast_div::ConstDivisor;

/// One strong probable-prime test to the base 2 (Miller and Rabin; FIPS 186-5, appendix B.3.1). A product of two random primes
/// passes it less often than any machine errs. It takes some milliseconds, so that a quick look leaves it out.
pub(super) fn check(modulus: &UBig, depth: Depth) -> Option<Weakness> {
    (depth == Depth::Full && is_probably_prime(modulus)).then_some(Weakness::PrimeModulus)
}

/// Of an odd number.
fn is_probably_prime(number: &UBig) -> bool {
    if *number < UBig::from(9u8) {
        return *number > UBig::ONE;
    }
    let less = number - UBig::ONE;
    let twos = less.trailing_zeros().unwrap_or_default();
    let ring = ConstDivisor::new(number.clone());
    let (one, minus_one) = (ring.reduce(UBig::ONE), ring.reduce(less.clone()));
    let mut power = ring.reduce(UBig::from(2u8)).pow(&(&less >> twos));
    if power == one || power == minus_one {
        return true;
    }
    for _ in 1..twos {
        power = power.sqr();
        if power == minus_one {
            return true;
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn primes_are_told_from_products() {
        let mersenne = |bits: usize| (UBig::ONE << bits) - UBig::ONE;
        for prime in [mersenne(2203), mersenne(521), UBig::from(1_000_003u32), UBig::from(3u8)] {
            assert_eq!(check(&prime, Depth::Full), Some(Weakness::PrimeModulus), "{prime}");
        }
        assert_eq!(check(&mersenne(2203), Depth::Quick), None);
        for product in [mersenne(1279) * mersenne(607), UBig::from(341u32), UBig::from(9u8)] {
            assert_eq!(check(&product, Depth::Full), None, "{product}");
        }
    }
}
