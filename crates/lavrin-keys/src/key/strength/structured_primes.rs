//! RSA primes of the structure that one widespread library gave them (public description, CVE-2017-15361): the modulus
//! is a power of 65537 modulo every small prime.

use super::{Weakness, rests};
use dashu_int::UBig;

/// The odd primes of the smallest product in use; a modulus without the structure passes all of them once in 2^27 times.
const PRIMES: [usize; 38] = [
    3, 5, 7, 11, 13, 17, 19, 23, 29, 31, 37, 41, 43, 47, 53, 59, 61, 67, 71, 73, 79, 83, 89, 97, 101, 103, 107, 109,
    113, 127, 131, 137, 139, 149, 151, 157, 163, 167,
];

/// Those of the primes that divide the number a rest is taken of beforehand, as places; the most telling one first: modulo
/// 11 there are only two powers.
const FIRST: [usize; 13] = [3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 0, 1, 2];

/// For each prime its powers of 65537, as bits.
static POWERS: [[u64; 3]; PRIMES.len()] = {
    let mut all = [[0; 3]; PRIMES.len()];
    let mut at = 0;
    while at < PRIMES.len() {
        let mut power = 1;
        while all[at][power / 64] >> (power % 64) & 1 == 0 {
            all[at][power / 64] |= 1 << (power % 64);
            power = power * 65537 % PRIMES[at];
        }
        at += 1;
    }
    all
};

/// Looks at a modulus with its rest modulo [`rests::PRODUCT`], which rules nearly every one out.
pub(super) fn check(modulus: &UBig, rest: u64) -> Option<Weakness> {
    const { assert!(rests::PRODUCT.is_multiple_of(3 * 5 * 7 * 11 * 13 * 17 * 19 * 23 * 29 * 31 * 37 * 41 * 43)) };
    let passes = |at: usize, rest: usize| POWERS[at][rest / 64] >> (rest % 64) & 1 == 1;
    if !FIRST.iter().all(|at| passes(*at, (rest % PRIMES[*at] as u64) as usize)) {
        return None;
    }
    let all = PRIMES.iter().enumerate().all(|(at, prime)| passes(at, modulus % prime));
    all.then_some(Weakness::StructuredPrimes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn powers_of_the_generator_are_told_from_other_numbers() {
        let product: UBig = PRIMES.iter().map(|prime| UBig::from(*prime)).product();
        let structured = (UBig::from(65537u32).pow(1234) % &product) + &product * UBig::from(77u32);
        let check = |number: &UBig| check(number, rests::of(number));
        assert_eq!(check(&structured), Some(Weakness::StructuredPrimes));
        assert_eq!(check(&((UBig::ONE << 521usize) - UBig::ONE)), None);
        // One rest that is no power is enough, the last one too.
        for prime in PRIMES {
            let others = UBig::from(2u8) * &product / UBig::from(prime);
            let spoiled = (1..prime).filter(|times| check(&(&structured + &others * UBig::from(*times))).is_none());
            let powers = POWERS[PRIMES.iter().position(|known| *known == prime).unwrap()];
            let powers: u32 = powers.iter().map(|word| word.count_ones()).sum();
            assert_eq!(spoiled.count(), prime - powers as usize, "{prime}");
        }
    }
}
