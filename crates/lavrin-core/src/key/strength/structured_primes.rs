//! RSA primes of the structure that one widespread library gave them (public description, CVE-2017-15361): the modulus
//! is a power of 65537 modulo every small prime.

use super::Weakness;
use dashu_int::UBig;
use dashu_int::fast_div::ConstDivisor;
use std::sync::OnceLock;

/// The odd primes of the smallest product in use; a modulus without the structure passes all of them once in 2^27 times.
const PRIMES: [u16; 38] = [
    3, 5, 7, 11, 13, 17, 19, 23, 29, 31, 37, 41, 43, 47, 53, 59, 61, 67, 71, 73, 79, 83, 89, 97, 101, 103, 107, 109,
    113, 127, 131, 137, 139, 149, 151, 157, 163, 167,
];

/// How many of [`PRIMES`], from the first, have a product that fits a word.
const FIRST: usize = 15;

pub(super) fn check(modulus: &UBig) -> Option<Weakness> {
    // One pass over the modulus rules nearly every one out.
    let rest = rest_of_first(modulus);
    if !PRIMES[..FIRST].iter().all(|prime| is_power_of_65537((rest % u64::from(*prime)) as u16, *prime)) {
        return None;
    }
    PRIMES.iter().all(|prime| is_power_of_65537(modulus % *prime, *prime)).then_some(Weakness::StructuredPrimes)
}

/// The rest modulo the product of the first primes, by a divisor that is prepared once.
fn rest_of_first(modulus: &UBig) -> u64 {
    static PRODUCT: OnceLock<ConstDivisor> = OnceLock::new();
    let product =
        PRODUCT.get_or_init(|| ConstDivisor::new(PRIMES[..FIRST].iter().map(|prime| UBig::from(*prime)).product()));
    (modulus % product).try_into().expect("a rest modulo a word fits a word")
}

fn is_power_of_65537(rest: u16, prime: u16) -> bool {
    let generator = 65537 % u32::from(prime);
    let mut power = 1u32;
    for _ in 0..prime {
        if power == u32::from(rest) {
            return true;
        }
        power = power * generator % u32::from(prime);
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn powers_of_the_generator_are_told_from_other_numbers() {
        let product: UBig = PRIMES.iter().map(|prime| UBig::from(*prime)).product();
        let structured = (UBig::from(65537u32).pow(1234) % &product) + &product * UBig::from(77u32);
        assert_eq!(check(&structured), Some(Weakness::StructuredPrimes));
        assert_eq!(check(&((UBig::ONE << 521usize) - UBig::ONE)), None);
    }
}
