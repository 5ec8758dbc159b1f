//! RSA moduli with a small prime factor.

use super::{Depth, Weakness};
use crate::key::public::RSA_BITS_MAX;
use dashu_base::Gcd as _;
use dashu_int::UBig;
use std::sync::OnceLock;

pub(super) fn check(modulus: &UBig, depth: Depth) -> Option<Weakness> {
    of(modulus, depth).map(|factor| Weakness::SmallFactor { factor: factor.to_string() })
}

/// The product of the small prime factors; a product of several is told as it is, and one that is the whole modulus too.
pub(super) fn of(modulus: &UBig, depth: Depth) -> Option<UBig> {
    if depth == Depth::Quick && !has_quick_factor(modulus) {
        return None;
    }
    let common = (primorial() % modulus).gcd(modulus);
    (common != UBig::ONE).then_some(common)
}

/// The product of all primes below 2^21, made by the build.
pub(super) fn primorial() -> &'static UBig {
    static BYTES: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/primorial.bin"));
    static PRODUCT: OnceLock<UBig> = OnceLock::new();
    PRODUCT.get_or_init(|| UBig::from_le_bytes(BYTES))
}

/// Primes below this are looked for in a quick search.
pub(super) const QUICK_BELOW: u32 = 1 << 10;

/// Groups of primes that a pass over the modulus deals with at once: as many sums as the processor has registers for.
const LANES: usize = 4;

/// Words of the longest modulus.
const WORDS: usize = RSA_BITS_MAX / 64;

/// Odd primes whose product fits a word.
struct Group {
    product: u64,
    /// The negative inverse of the product modulo 2^64.
    inverse: u64,
    /// Each prime as its inverse modulo 2^64 and the largest quotient: a word is a multiple where its product with the
    /// inverse is at most that.
    primes: Vec<(u64, u64)>,
}

/// So many groups with the rest of each power of 2^64 modulo their products, so that a modulus is a sum of products, which
/// wait for nothing.
struct Pass {
    groups: [Group; LANES],
    powers: Vec<[u64; LANES]>,
}

fn inverse(odd: u64) -> u64 {
    // Newton: each round doubles the bits that are right, from 3 to 96.
    (0..5).fold(odd, |inverse, _| inverse.wrapping_mul(2u64.wrapping_sub(odd.wrapping_mul(inverse))))
}

fn is_prime(number: u64) -> bool {
    (2..number).take_while(|divisor| divisor * divisor <= number).all(|divisor| !number.is_multiple_of(divisor))
}

fn passes() -> &'static [Pass] {
    static PASSES: OnceLock<Vec<Pass>> = OnceLock::new();
    PASSES.get_or_init(|| {
        let mut groups: Vec<(u64, Vec<u64>)> = Vec::new();
        for prime in (3..u64::from(QUICK_BELOW)).filter(|number| is_prime(*number)) {
            match groups.last_mut().and_then(|(product, primes)| Some((product.checked_mul(prime)?, product, primes))) {
                Some((larger, product, primes)) => {
                    *product = larger;
                    primes.push(prime);
                }
                None => groups.push((prime, vec![prime])),
            }
        }
        groups.resize(groups.len().next_multiple_of(LANES), (1, Vec::new()));
        groups.chunks(LANES).map(Pass::new).collect()
    })
}

impl Pass {
    fn new(groups: &[(u64, Vec<u64>)]) -> Self {
        let group = |(product, primes): &(u64, Vec<u64>)| Group {
            product: *product,
            inverse: inverse(*product).wrapping_neg(),
            primes: primes.iter().map(|prime| (inverse(*prime), u64::MAX / prime)).collect(),
        };
        let next = |power: u64, product: u64| ((u128::from(power) << 64) % u128::from(product)) as u64;
        let first: [u64; LANES] = std::array::from_fn(|lane| 1 % groups[lane].0);
        let following = |powers: &[u64; LANES]| Some(std::array::from_fn(|lane| next(powers[lane], groups[lane].0)));
        Self {
            groups: std::array::from_fn(|lane| group(&groups[lane])),
            powers: std::iter::successors(Some(first), following).take(WORDS).collect(),
        }
    }

    /// Whether a prime of the groups divides the number.
    fn finds(&self, words: &[u64]) -> bool {
        let (mut sums, mut carries) = ([0u128; LANES], [0u64; LANES]);
        for (word, powers) in words.iter().zip(&self.powers) {
            for lane in 0..LANES {
                let (sum, carry) = sums[lane].overflowing_add(u128::from(*word) * u128::from(powers[lane]));
                sums[lane] = sum;
                carries[lane] += u64::from(carry);
            }
        }
        self.groups.iter().zip(sums.iter().zip(carries)).any(|(group, (sum, carry))| group.divides(*sum, carry))
    }
}

impl Group {
    /// Whether one of the primes divides a sum of three words. Its lower words are brought to zero one after the other by
    /// adding the product (Montgomery, 1985), which changes no divisor among the primes.
    fn divides(&self, sum: u128, carry: u64) -> bool {
        let reduced = |low: u64, above: u64| {
            let m = u128::from(low.wrapping_mul(self.inverse));
            let (sum, carry) =
                (m * u128::from(self.product) + u128::from(low)).overflowing_add(u128::from(above) << 64);
            ((sum >> 64) as u64, u64::from(carry))
        };
        let (middle, over) = reduced(sum as u64, (sum >> 64) as u64);
        // The carries are a few hundred at most, so that what is over is less than the product.
        let (rest, over) = reduced(middle, carry + over);
        let rest = rest.wrapping_sub(over * self.product);
        self.primes.iter().any(|(inverse, largest)| rest.wrapping_mul(*inverse) <= *largest)
    }
}

fn has_quick_factor(modulus: &UBig) -> bool {
    let words = modulus.as_words();
    passes().iter().any(|pass| pass.finds(words))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn factors_below_the_bound_are_found() {
        let large = (UBig::ONE << 521usize) - UBig::ONE;
        let factor = |n: UBig, depth| of(&n, depth).map(|factor| factor.to_string());
        let full = |n: UBig| factor(n, Depth::Full);
        assert_eq!(full(&large * UBig::from(1_000_003u32)), Some("1000003".to_owned()));
        assert_eq!(full(&large * UBig::from(3u32)), Some("3".to_owned()));
        assert_eq!(full(&large * &large), None);
        assert_eq!(factor(&large * UBig::from(1_000_003u32), Depth::Quick), None);
    }

    #[test]
    fn the_quick_search_finds_every_prime_below_its_bound() {
        let large = (UBig::ONE << 2203usize) - UBig::ONE;
        assert!(!has_quick_factor(&large));
        for odd in (3..QUICK_BELOW).step_by(2) {
            assert!(has_quick_factor(&(&large * UBig::from(odd))), "{odd}");
        }
        assert!(!has_quick_factor(&(&large * UBig::from(1031u32))));
    }
}
