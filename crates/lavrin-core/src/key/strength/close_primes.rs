//! RSA primes so close together that Fermat's method finds them.

use super::{Depth, Weakness};
use dashu_base::{SquareRoot as _, SquareRootRem as _};
use dashu_int::UBig;
use dashu_int::fast_div::ConstDivisor;
use std::sync::OnceLock;

/// Moduli of the sieve, without a common factor; squares leave few rests modulo each. Their product fits a word. 64 is
/// sieved apart, since it fits the words of the sieve.
const SIEVES: [u32; 12] = [63, 55, 13, 17, 19, 23, 29, 31, 37, 41, 43, 47];

/// How many of [`SIEVES`] work on whole words; what they leave, about one step in 120, the others look at one by one.
const WORD_SIEVES: usize = 3;

/// The product of [`SIEVES`].
const PRODUCT: u64 = {
    let (mut product, mut at) = (1, 0);
    while at < SIEVES.len() {
        product *= SIEVES[at] as u64;
        at += 1;
    }
    product
};

pub(super) fn check(modulus: &UBig, depth: Depth) -> Option<Weakness> {
    let (root, rest) = modulus.sqrt_rem();
    if rest == UBig::ZERO {
        return Some(Weakness::SquareModulus);
    }
    // a² - n is a square for some a from the root upwards, if the primes are close.
    let first = root + UBig::ONE;
    let found = may_be_squares(&first, modulus, depth.fermat_steps()).find(|step| {
        let a = &first + UBig::from(*step);
        is_square(&(&a * &a - modulus))
    })?;
    Some(Weakness::ClosePrimes { steps: found + 1 })
}

/// The steps at which `(first + step)² - modulus` leaves the rest of a square modulo 64 and each of [`SIEVES`]: about one
/// in 40,000.
fn may_be_squares(first: &UBig, modulus: &UBig, steps: u32) -> impl Iterator<Item = u32> {
    let low = |number: &UBig| number.as_words().first().copied().unwrap_or(0) as u32 & 63;
    let by_64 = pattern(64, low(first), low(modulus));
    let (first, modulus) = (rest(first), rest(modulus));
    let patterns = SIEVES.map(|sieve| {
        let rest = |number: u64| (number % u64::from(sieve)) as u32;
        pattern(sieve, rest(first), rest(modulus))
    });
    let mut offsets = [0u32; WORD_SIEVES];
    (0..steps.div_ceil(64)).flat_map(move |word| {
        let mut open = by_64 as u64;
        for (offset, (sieve, pattern)) in offsets.iter_mut().zip(SIEVES.iter().zip(&patterns)) {
            open &= (pattern >> *offset) as u64;
            *offset += 64 % sieve;
            *offset -= if *offset >= *sieve { *sieve } else { 0 };
        }
        bits(open).map(move |bit| word * 64 + bit).filter(move |step| {
            let others = SIEVES.iter().zip(&patterns).skip(WORD_SIEVES);
            others.into_iter().all(|(sieve, pattern)| pattern >> (step % sieve) & 1 == 1)
        })
    })
}

/// The rest modulo [`PRODUCT`], by a divisor that is prepared once.
fn rest(number: &UBig) -> u64 {
    static DIVISOR: OnceLock<ConstDivisor> = OnceLock::new();
    (number % DIVISOR.get_or_init(|| ConstDivisor::new(PRODUCT.into())))
        .try_into()
        .expect("a rest modulo a word fits a word")
}

fn bits(mut word: u64) -> impl Iterator<Item = u32> {
    std::iter::from_fn(move || {
        let bit = (word != 0).then(|| word.trailing_zeros())?;
        word &= word - 1;
        Some(bit)
    })
}

/// Bit n is set where `(first + n)² - number` may be a square, repeated to 128 bits.
fn pattern(sieve: u32, first: u32, number: u32) -> u128 {
    let period = u128::from(roots(sieve)[number as usize]);
    let mut turned = (period >> first | period << (sieve - first)) & ((1 << sieve) - 1);
    // The period has 13 to 64 bits.
    let mut bits = sieve;
    while bits < 128 {
        turned |= turned << bits;
        bits *= 2;
    }
    turned
}

/// For each rest of a number the rests of a, as bits, for which `a² - number` leaves the rest of a square.
fn roots(sieve: u32) -> &'static [u64; 64] {
    static ROOTS: OnceLock<Vec<[u64; 64]>> = OnceLock::new();
    let all = ROOTS.get_or_init(|| {
        (0..=64u32)
            .map(|sieve| {
                // Only the moduli of the sieve are ever asked for.
                let rows = if sieve == 64 || SIEVES.contains(&sieve) { sieve } else { 0 };
                let squares = (0..rows).fold(0u64, |rests, root| rests | 1 << (root * root % sieve));
                let is_square = |a: u32, number: u32| squares >> ((a * a + sieve - number) % sieve) & 1;
                let row = |number: u32| (0..sieve).fold(0, |rests, a| rests | is_square(a, number) << a);
                std::array::from_fn(|number| if (number as u32) < rows { row(number as u32) } else { 0 })
            })
            .collect()
    });
    &all[sieve as usize]
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
        assert_eq!(check(&(&p * &p), Depth::Full), Some(Weakness::SquareModulus));
        let near = &p + UBig::from(1000u32);
        assert!(matches!(check(&(&p * &near), Depth::Full), Some(Weakness::ClosePrimes { .. })));
        let far = (UBig::ONE << 607usize) - UBig::ONE;
        assert_eq!(check(&(&p * &far), Depth::Full), None);
    }

    #[test]
    fn every_step_up_to_the_last_is_found_and_none_beyond() {
        // (a - b)(a + b), found at the step at which a is reached; b is as large as keeps the root where it is.
        // Whole words are sieved, so a few more steps than promised are searched.
        let searched = Depth::Full.fermat_steps().div_ceil(64) * 64;
        let a = (UBig::ONE << 600usize) + UBig::from(12345u32);
        for steps in [1u32, 2, 63, 64, 65, 1000, 19_968, 19_999, 20_000, 20_100] {
            let b = match steps {
                1 => UBig::ONE,
                _ => (UBig::from(2 * (steps - 1)) * &a).sqrt() + UBig::ONE,
            };
            let n = (&a - &b) * (&a + &b);
            let exact = &a - n.sqrt();
            let expected =
                (exact <= UBig::from(searched)).then(|| Weakness::ClosePrimes { steps: exact.try_into().unwrap() });
            assert_eq!(check(&n, Depth::Full), expected, "{steps}");
        }
    }

    #[test]
    fn no_square_is_sieved_out() {
        for root in 1..3000u32 {
            // With 0 for the number and the root as first, step 0 is a square.
            assert_eq!(may_be_squares(&UBig::from(root), &UBig::ZERO, 64).next(), Some(0), "{root}");
        }
    }
}
