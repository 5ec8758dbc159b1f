//! For each of many numbers the product of all others modulo it, in nearly linear time: products upwards with the sums
//! that a derivative takes, and fractions downwards (Bernstein, Scaled remainder trees, 2004).
//!
//! With P the product of all numbers and D the sum of P/n over all n, D modulo n is P/n modulo n, since n divides the
//! other terms. D/P is worked out once as a binary fraction; times the product of all numbers outside a branch, its
//! fraction is that of the branch, and needs only as many digits as the branch has.

use super::multiply::Multiplier;
use super::reciprocal::reciprocal;
use dashu_base::BitTest as _;
use dashu_int::UBig;
use rayon::prelude::*;

/// Bits of a fraction beyond those of its number: 128 for the errors of 20 levels, which take some 25 of them, and for
/// telling a whole number at the end from garbage.
const GUARD_BITS: usize = 128;

/// Up to so many long products of one level are made one after the other, each on all cores: all at once they would take much memory.
const FEW: usize = 8;

/// So many numbers are a group: the products within it are made again on the way down rather than kept.
const GROUP: usize = 8192;

/// For each number, `factor` times the product of all others, modulo it. Nothing where there are none.
///
/// `None` would be an arithmetic fault (a fraction that is no whole number at the end), which callers answer with slower
/// means rather than with a wrong result.
pub(super) fn products_of_others(numbers: &[UBig], factor: &UBig) -> Option<Vec<UBig>> {
    in_groups(numbers, factor, GROUP)
}

fn in_groups(numbers: &[UBig], factor: &UBig, group: usize) -> Option<Vec<UBig>> {
    let multiplier = Multiplier::new();
    let (levels, fraction) = {
        let of_group = |group: &[UBig]| {
            let (mut levels, derivative) = upwards(&multiplier, group.to_vec(), vec![UBig::ONE; group.len()]);
            (levels.pop().and_then(|mut level| level.pop()).unwrap_or_default(), derivative)
        };
        let (products, derivatives) = numbers.par_chunks(group).map(of_group).unzip();
        let (levels, derivative) = upwards(&multiplier, products, derivatives);
        let Some(product) = levels.last().and_then(|level| level.first()) else { return Some(Vec::new()) };
        let fraction = fraction(&multiplier, product, derivative, factor);
        (levels, fraction)
    };
    let of_groups = downwards(&multiplier, levels, fraction);
    let whole_of_group = |(group, fraction): (&[UBig], UBig)| -> Option<Vec<UBig>> {
        let fractions = downwards(&multiplier, products(&multiplier, group), fraction);
        group.iter().zip(fractions).map(|(number, fraction)| whole(number, &fraction)).collect()
    };
    let rests: Option<Vec<Vec<UBig>>> = numbers.par_chunks(group).zip(of_groups).map(whole_of_group).collect();
    Some(rests?.into_iter().flatten().collect())
}

/// `factor` times the derivative by the product, without its whole part.
fn fraction(multiplier: &Multiplier, product: &UBig, derivative: UBig, factor: &UBig) -> UBig {
    // The factor takes part in the fraction like a branch of its own, unless it is far larger than everything else.
    let reduced;
    let factor = if factor.bit_len() > 16 * product.bit_len() {
        reduced = factor % product;
        &reduced
    } else {
        factor
    };
    let bits = product.bit_len() + GUARD_BITS + factor.bit_len();
    let inverse = reciprocal(multiplier, product, bits + GUARD_BITS);
    let fraction = multiplier.multiply_high(&derivative, &inverse, product.bit_len() + GUARD_BITS);
    drop((derivative, inverse));
    let mut fraction = multiplier.multiply(&fraction, factor);
    fraction.clear_high_bits(bits);
    fraction >> factor.bit_len()
}

/// All levels of products, and the derivative of the last one.
fn upwards(multiplier: &Multiplier, numbers: Vec<UBig>, mut derivatives: Vec<UBig>) -> (Vec<Vec<UBig>>, UBig) {
    let mut levels = vec![numbers];
    while let Some(level) = levels.last().filter(|level| level.len() > 1) {
        let pair = |(numbers, derivatives): (&[UBig], &[UBig])| match (numbers, derivatives) {
            ([left, right], [of_left, of_right]) => multiplier.derived([left, right], [of_left, of_right]),
            _ => (numbers[0].clone(), derivatives[0].clone()),
        };
        let (products, next) = if level.len() <= 2 * FEW {
            level.chunks(2).zip(derivatives.chunks(2)).map(pair).unzip()
        } else {
            level.par_chunks(2).zip(derivatives.par_chunks(2)).map(pair).unzip()
        };
        levels.push(products);
        derivatives = next;
    }
    (levels, derivatives.pop().unwrap_or_default())
}

/// All levels of products.
fn products(multiplier: &Multiplier, numbers: &[UBig]) -> Vec<Vec<UBig>> {
    let mut levels = vec![numbers.to_vec()];
    while let Some(level) = levels.last().filter(|level| level.len() > 1) {
        let pair = |pair: &[UBig]| match pair {
            [left, right] => multiplier.multiply(left, right),
            _ => pair[0].clone(),
        };
        levels.push(level.par_chunks(2).map(pair).collect());
    }
    levels
}

/// The fractions of the numbers on the lowest level, from that of the highest. Each level is let go once it is passed.
fn downwards(multiplier: &Multiplier, mut levels: Vec<Vec<UBig>>, root: UBig) -> Vec<UBig> {
    let mut fractions = vec![root];
    let mut bits = bits_of(levels.pop());
    while let Some(lower) = levels.last() {
        let halves = |(numbers, (bits, fraction)): (&[UBig], (&usize, UBig))| match numbers {
            [left, right] => {
                // Each is multiplied by the other.
                let wanted = [left, right].map(|number| number.bit_len() + GUARD_BITS);
                multiplier.middles(&fraction, bits + GUARD_BITS, [(right, wanted[0]), (left, wanted[1])]).into()
            }
            _ => vec![fraction],
        };
        fractions = if bits.len() <= FEW {
            lower.chunks(2).zip(bits.iter().zip(fractions)).flat_map(halves).collect()
        } else {
            lower.par_chunks(2).zip(bits.par_iter().zip(fractions)).flat_map_iter(halves).collect()
        };
        bits = bits_of(levels.pop());
    }
    fractions
}

/// How long the numbers of a level are: more is not asked of one that was passed.
fn bits_of(level: Option<Vec<UBig>>) -> Vec<usize> {
    level.into_iter().flatten().map(|number| number.bit_len()).collect()
}

/// The whole number that a fraction of `number` stands for.
fn whole(number: &UBig, fraction: &UBig) -> Option<UBig> {
    let bits = number.bit_len() + GUARD_BITS;
    let shifted = number * fraction + (UBig::ONE << (bits - 1));
    let rest = &shifted >> bits;
    let mut off = shifted;
    off.clear_high_bits(bits);
    let half = UBig::ONE << (bits - 1);
    let distance = if off > half { off - half } else { half - off };
    let near = distance.bit_len() + GUARD_BITS / 2 < bits;
    near.then(|| if rest == *number { UBig::ZERO } else { rest })
}

#[cfg(test)]
mod tests {
    use super::super::multiply::tests::noise;
    use super::*;

    #[test]
    fn the_rests_are_those_of_plain_arithmetic() {
        for (count, words) in [(1, 4), (2, 1), (3, 2), (37, 16), (150, 32), (64, 40), (256, 2), (257, 2), (800, 3)] {
            let numbers: Vec<UBig> = (0..count).map(|seed| noise(words + seed as usize % 3, seed + 1)).collect();
            let product: UBig = numbers.iter().product();
            for factor in [UBig::ONE, noise(3, 5), noise(300, 5), noise(20_000, 6)] {
                let expected: Vec<UBig> =
                    numbers.iter().map(|number| (&product / number % number) * &factor % number).collect();
                assert_eq!(in_groups(&numbers, &factor, 256).as_ref(), Some(&expected), "{count} of {words}");
                assert_eq!(products_of_others(&numbers, &factor), Some(expected), "{count} of {words}");
            }
        }
        assert_eq!(products_of_others(&[], &UBig::ONE), Some(Vec::new()));
    }
}
