//! RSA primes so close together that Fermat's method finds them.

use super::{Depth, Weakness, rests};
use dashu_base::{SquareRoot as _, SquareRootRem as _};
use dashu_int::UBig;

/// Looks at a modulus with its rest modulo [`rests::PRODUCT`].
pub(super) fn check(modulus: &UBig, modulus_rest: u64, depth: Depth) -> Option<Weakness> {
    let (root, rest) = modulus.sqrt_rem();
    if rest == UBig::ZERO {
        return Some(Weakness::SquareModulus);
    }
    // a² - n is a square for some a from the root upwards, if the primes are close.
    let first = root + UBig::ONE;
    let number = Rests { low: low(modulus), rest: modulus_rest };
    let found = first_passed(&Rests::of(&first), &number, depth.fermat_steps(), |step| {
        let a = &first + UBig::from(step);
        is_square(&(&a * &a - modulus))
    })?;
    Some(Weakness::ClosePrimes { steps: found + 1 })
}

/// What the sieves look at.
struct Rests {
    /// The lowest word.
    low: u64,
    /// Modulo [`rests::PRODUCT`].
    rest: u64,
}

fn low(number: &UBig) -> u64 {
    number.as_words().first().copied().unwrap_or(0)
}

impl Rests {
    fn of(number: &UBig) -> Self {
        Self { low: low(number), rest: rests::of(number) }
    }
}

/// The first step that is right among those at which `(first + step)² - number` leaves the rest of a square modulo 64 and
/// everything in [`rests::PRODUCT`], about one in 20,000: squares leave few rests modulo a small number.
fn first_passed(first: &Rests, number: &Rests, steps: u32, is_right: impl Fn(u32) -> bool) -> Option<u32> {
    let by_64 = Sieve::<64>::pattern(first.low, number.low) as u64;
    let (first, number) = (first.rest, number.rest);
    // These work on whole words; what they leave, about one step in 120, the others look at one by one.
    let patterns = [
        (63, Sieve::<63>::pattern(first, number)),
        (55, Sieve::<55>::pattern(first, number)),
        (13, Sieve::<13>::pattern(first, number)),
    ];
    let mut offsets = [0u32; 3];
    for word in 0..steps.div_ceil(64) {
        let mut open = by_64;
        for (offset, (sieve, pattern)) in offsets.iter_mut().zip(patterns) {
            open &= (pattern >> *offset) as u64;
            *offset += 64 % sieve;
            *offset -= if *offset >= sieve { sieve } else { 0 };
        }
        while open != 0 {
            let step = word * 64 + open.trailing_zeros();
            open &= open - 1;
            if passes_others(first + u64::from(step), number) && is_right(step) {
                return Some(step);
            }
        }
    }
    None
}

fn passes_others(a: u64, number: u64) -> bool {
    Sieve::<17>::passes(a, number)
        && Sieve::<19>::passes(a, number)
        && Sieve::<23>::passes(a, number)
        && Sieve::<29>::passes(a, number)
        && Sieve::<31>::passes(a, number)
        && Sieve::<37>::passes(a, number)
        && Sieve::<41>::passes(a, number)
        && Sieve::<43>::passes(a, number)
}

/// The squares modulo N, which is at most 64.
struct Sieve<const N: u64>;

impl<const N: u64> Sieve<N> {
    /// For each rest of a number the rests of a, as bits, for which `a² - number` leaves the rest of a square.
    const ROOTS: [u64; 64] = {
        let mut squares = 0u64;
        let mut root = 0;
        while root < N {
            squares |= 1 << (root * root % N);
            root += 1;
        }
        let mut roots = [0; 64];
        let mut number = 0;
        while number < N {
            let mut a = 0;
            while a < N {
                roots[number as usize] |= (squares >> ((a * a + N - number) % N) & 1) << a;
                a += 1;
            }
            number += 1;
        }
        roots
    };

    /// Whether `a² - number` may be a square.
    fn passes(a: u64, number: u64) -> bool {
        Self::ROOTS[(number % N) as usize] >> (a % N) & 1 == 1
    }

    /// Bit n is set where `(first + n)² - number` may be a square, repeated to 128 bits.
    fn pattern(first: u64, number: u64) -> u128 {
        let period = u128::from(Self::ROOTS[(number % N) as usize]);
        let first = first % N;
        let mut turned = (period >> first | period << (N - first)) & ((1 << N) - 1);
        let mut bits = N;
        while bits < 128 {
            turned |= turned << bits;
            bits *= 2;
        }
        turned
    }
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
        let check = |number: &UBig, depth| check(number, rests::of(number), depth);
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
            assert_eq!(check(&n, rests::of(&n), Depth::Full), expected, "{steps}");
        }
    }

    #[test]
    fn no_square_is_sieved_out() {
        for root in 1..3000u32 {
            // With 0 for the number and the root as first, step 0 is a square.
            assert_eq!(
                first_passed(&Rests::of(&UBig::from(root)), &Rests { low: 0, rest: 0 }, 64, |_| true),
                Some(0),
                "{root}"
            );
        }
    }
}
