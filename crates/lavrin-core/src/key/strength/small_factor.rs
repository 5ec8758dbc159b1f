//! RSA moduli with a small prime factor.

use super::{Depth, Weakness};
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

/// Words that a pass over the modulus reduces at once: enough for the processor to overlap their multiplications.
const LANES: usize = 8;

/// Odd primes whose product fits a word, and what is needed to reduce by it without division (Montgomery, 1985).
#[derive(Default)]
struct Group {
    product: u64,
    /// The negative inverse of the product modulo 2^64.
    inverse: u64,
    /// Each prime as its inverse modulo 2^64 and the largest quotient: a word is a multiple where its product with the
    /// inverse is at most that.
    primes: Vec<(u64, u64)>,
}

fn inverse(odd: u64) -> u64 {
    // Newton: each round doubles the bits that are right, from 3 to 96.
    (0..5).fold(odd, |inverse, _| inverse.wrapping_mul(2u64.wrapping_sub(odd.wrapping_mul(inverse))))
}

fn is_prime(number: u64) -> bool {
    (2..number).take_while(|divisor| divisor * divisor <= number).all(|divisor| !number.is_multiple_of(divisor))
}

fn groups() -> &'static [Group] {
    static GROUPS: OnceLock<Vec<Group>> = OnceLock::new();
    GROUPS.get_or_init(|| {
        let mut groups: Vec<Group> = Vec::new();
        for prime in (3..u64::from(QUICK_BELOW)).filter(|number| is_prime(*number)) {
            let fits = groups.last().and_then(|group| group.product.checked_mul(prime));
            if fits.is_none() {
                groups.push(Group { product: 1, ..Group::default() });
            }
            if let Some(group) = groups.last_mut() {
                group.product *= prime;
                group.primes.push((inverse(prime), u64::MAX / prime));
            }
        }
        while !groups.len().is_multiple_of(LANES) {
            groups.push(Group { product: 1, ..Group::default() });
        }
        for group in &mut groups {
            group.inverse = inverse(group.product).wrapping_neg();
        }
        groups
    })
}

fn has_quick_factor(modulus: &UBig) -> bool {
    let words = modulus.as_words();
    groups().chunks_exact(LANES).any(|groups| {
        let products: [u64; LANES] = std::array::from_fn(|lane| groups[lane].product);
        let inverses: [u64; LANES] = std::array::from_fn(|lane| groups[lane].inverse);
        let mut rests = [0u64; LANES];
        for word in words {
            for lane in 0..LANES {
                // (rest + word + m·product) / 2^64, with m such that the division is exact.
                let sum = u128::from(rests[lane]) + u128::from(*word);
                let m = u128::from((sum as u64).wrapping_mul(inverses[lane]));
                rests[lane] = ((sum + m * u128::from(products[lane])) >> 64) as u64;
            }
        }
        // Each rest is the modulus times a power of 2, modulo the product of odd primes: zero for the same primes.
        rests
            .iter()
            .zip(groups)
            .any(|(rest, group)| group.primes.iter().any(|(inverse, largest)| rest.wrapping_mul(*inverse) <= *largest))
    })
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
