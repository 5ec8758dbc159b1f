//! RSA moduli with a small prime factor.

use super::rests::{self, DIVISOR_BELOW, WORDS};
use super::{Depth, Weakness};
use dashu_base::Gcd as _;
use dashu_int::UBig;
use std::sync::OnceLock;

pub(super) fn check(modulus: &UBig, depth: Depth) -> Option<Weakness> {
    of(modulus, depth).map(|factor| Weakness::SmallFactor { factor: factor.to_string() })
}

/// The product of the small prime factors, below the bound of the depth; a product of several is told as it is, and one that
/// is the whole modulus too. A quick search stays quick where there is one: a hostile key file may have a hundred thousand.
pub(super) fn of(modulus: &UBig, depth: Depth) -> Option<UBig> {
    let common = match depth {
        Depth::Quick if !has_quick_factor(modulus) => return None,
        Depth::Quick => quick_product().gcd(modulus),
        Depth::Full => primorial_rest(modulus).gcd(modulus),
    };
    (common != UBig::ONE).then_some(common)
}

/// The product of the small primes modulo an odd number, but for a power of 2, which has no factor in common with it. From
/// the lowest word on, the multiple of the number is added that makes the word zero (Montgomery, 1985): a division would
/// have to estimate from above.
fn primorial_rest(modulus: &UBig) -> UBig {
    let modulus = modulus.as_words();
    let times_inverse = inverse(modulus[0]).wrapping_neg();
    let mut words = primorial().as_words().to_vec();
    let length = words.len();
    words.resize(length + modulus.len() + 1, 0);
    let mut over = 0;
    for at in 0..length {
        let (row, above) = words[at..].split_at_mut(modulus.len());
        let times = u128::from(row[0].wrapping_mul(times_inverse));
        let mut carry = 0;
        for (word, of_modulus) in row.iter_mut().zip(modulus) {
            let sum = times * u128::from(*of_modulus) + u128::from(*word) + carry;
            *word = sum as u64;
            carry = sum >> 64;
        }
        let sum = u128::from(above[0]) + carry + over;
        above[0] = sum as u64;
        over = sum >> 64;
    }
    words[length + modulus.len()] = over as u64;
    UBig::from_words(&words[length..])
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

/// Odd primes whose product is below [`DIVISOR_BELOW`].
struct PrimeProduct {
    product: u64,
    /// The negative inverse of the product modulo 2^64.
    inverse: u64,
    /// Each prime as its inverse modulo 2^64 and the largest quotient: a word is a multiple where its product with the
    /// inverse is at most that.
    primes: Vec<(u64, u64)>,
}

/// So many groups with the rests of the powers of 2^64 modulo their products.
struct Pass {
    groups: [PrimeProduct; LANES],
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
        // The largest first, each into the first group with room for it, so that there are few groups.
        let mut groups: Vec<(u64, Vec<u64>)> = Vec::new();
        for prime in (3..u64::from(QUICK_BELOW)).rev().filter(|number| is_prime(*number)) {
            match groups.iter_mut().find(|(product, _)| *product < DIVISOR_BELOW / prime) {
                Some((product, primes)) => {
                    *product *= prime;
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
        let group = |(product, primes): &(u64, Vec<u64>)| PrimeProduct {
            product: *product,
            inverse: inverse(*product).wrapping_neg(),
            primes: primes.iter().map(|prime| (inverse(*prime), u64::MAX / prime)).collect(),
        };
        let powers: [_; LANES] = std::array::from_fn(|lane| rests::powers(groups[lane].0));
        Self {
            groups: std::array::from_fn(|lane| group(&groups[lane])),
            powers: (0..WORDS).map(|word| powers.map(|of_lane| of_lane[word])).collect(),
        }
    }

    /// Whether a prime of the groups divides the number.
    fn finds(&self, words: &[u64]) -> bool {
        let mut sums = [0u128; LANES];
        for (word, powers) in words.iter().zip(&self.powers) {
            for lane in 0..LANES {
                sums[lane] += u128::from(*word) * u128::from(powers[lane]);
            }
        }
        self.groups.iter().zip(sums).any(|(group, sum)| group.divides(sum))
    }
}

impl PrimeProduct {
    /// Whether one of the primes divides a sum below 2^127. Its words are brought to zero one after the other by adding
    /// the product (Montgomery, 1985), which changes no divisor among the primes.
    fn divides(&self, sum: u128) -> bool {
        let without_low_word = |low: u64| {
            let times = u128::from(low.wrapping_mul(self.inverse));
            ((times * u128::from(self.product) + u128::from(low)) >> 64) as u64
        };
        let above = (sum >> 64) as u64 + without_low_word(sum as u64);
        let rest = without_low_word(above);
        self.primes.iter().any(|(inverse, largest)| rest.wrapping_mul(*inverse) <= *largest)
    }
}

/// The product of all primes of a quick search.
fn quick_product() -> &'static UBig {
    static PRODUCT: OnceLock<UBig> = OnceLock::new();
    let groups = || passes().iter().flat_map(|pass| &pass.groups);
    PRODUCT.get_or_init(|| groups().map(|group| UBig::from(group.product)).product())
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
        assert_eq!(factor(&large * UBig::from(15_000_045u32), Depth::Quick), Some("15".to_owned()));
    }

    #[test]
    fn the_rest_of_the_primorial_is_right_for_the_longest_and_the_largest_words() {
        for words in [1, 2, 3, 48, WORDS] {
            let largest = (UBig::ONE << (words * 64)) - UBig::ONE;
            for modulus in [&largest / UBig::from(3u8) * UBig::from(3u8), &largest - UBig::from(58u8), UBig::from(97u8)]
            {
                let odd = modulus | UBig::ONE;
                assert_eq!(primorial_rest(&odd).gcd(&odd), (primorial() % &odd).gcd(&odd), "{words}");
            }
        }
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
