//! The rest of a number modulo the product of the primes that rule out most moduli at once.

use crate::key::public::RSA_BITS_MAX;
use dashu_int::UBig;

/// Words of the longest number.
pub(super) const WORDS: usize = RSA_BITS_MAX / 64;

/// Divisors below this have no overflow: the products of [`WORDS`] words with rests below it sum up to less than 2^127.
pub(super) const DIVISOR_BELOW: u64 = 1 << 55;

/// The odd primes up to 43, and once more 3.
pub(super) const PRODUCT: u64 = 9 * 5 * 7 * 11 * 13 * 17 * 19 * 23 * 29 * 31 * 37 * 41 * 43;

static POWERS: [u64; WORDS] = powers(PRODUCT);

/// The rests of the powers of 2^64: with them a long number is a sum of products, which wait for nothing.
pub(super) const fn powers(divisor: u64) -> [u64; WORDS] {
    assert!(divisor < DIVISOR_BELOW);
    let mut powers = [1 % divisor; WORDS];
    let mut at = 1;
    while at < WORDS {
        powers[at] = (((powers[at - 1] as u128) << 64) % divisor as u128) as u64;
        at += 1;
    }
    powers
}

/// A number of at most [`WORDS`] words modulo [`PRODUCT`].
pub(super) fn of(number: &UBig) -> u64 {
    let terms = number.as_words().iter().zip(&POWERS);
    let mut sum: u128 = terms.map(|(word, power)| u128::from(*word) * u128::from(*power)).sum();
    // The same with the upper word, until there is none: a division of 128 bits takes longer.
    while sum >> 64 != 0 {
        sum = (sum >> 64) * u128::from(POWERS[1]) + u128::from(sum as u64);
    }
    sum as u64 % PRODUCT
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rest_is_that_of_a_division_and_the_longest_number_does_not_overflow() {
        for bits in [0usize, 1, 63, 64, 65, 2047, 4096, RSA_BITS_MAX] {
            let number = (UBig::ONE << bits) - UBig::ONE;
            assert_eq!(UBig::from(of(&number)), &number % UBig::from(PRODUCT), "{bits}");
        }
    }
}
