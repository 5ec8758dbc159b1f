//! Reciprocals of very large numbers by Newton's iteration, which costs a few products of the same size.

use super::multiply::Multiplier;
use dashu_base::BitTest as _;
use dashu_int::UBig;

/// Bits up to which plain division is used.
const DIVIDED_BITS: usize = 4096;

/// Bits beyond those asked for that each step works with.
const SPARE_BITS: usize = 64;

/// `2^(bits of number + precision) / number`, wrong by a few units at most.
pub(super) fn reciprocal(multiplier: &Multiplier, number: &UBig, precision: usize) -> UBig {
    let bits = number.bit_len();
    let kept = bits.min(precision + SPARE_BITS);
    let top = number >> (bits - kept);
    if precision <= DIVIDED_BITS {
        return (UBig::ONE << (kept + precision)) / top;
    }
    let half = precision / 2 + SPARE_BITS / 2;
    let first = reciprocal(multiplier, number, half);
    // first·top is nearly 2^(kept+half); the difference, times first, is the correction. It is so small that the lowest bits tell it.
    let told = kept + SPARE_BITS;
    let product = multiplier.multiply_low(&first, &top, told);
    let too_large = product.bit_len() < told;
    let difference = if too_large { product } else { (UBig::ONE << told) - product };
    let dropped = kept.saturating_sub(half + SPARE_BITS);
    let correction = multiplier.multiply(&first, &(difference >> dropped)) >> (kept + 2 * half - precision - dropped);
    let scaled = first << (precision - half);
    if too_large { scaled - correction } else { scaled + correction }
}

#[cfg(test)]
mod tests {
    use super::super::multiply::tests::noise;
    use super::*;

    #[test]
    fn reciprocals_are_right_to_a_few_units() {
        let multiplier = Multiplier::new();
        for (words, precision) in [(10, 500), (10, 20_000), (700, 44_800), (700, 9000), (3000, 192_000)] {
            let number = noise(words, 11);
            let exact = (UBig::ONE << (number.bit_len() + precision)) / &number;
            let found = reciprocal(&multiplier, &number, precision);
            let wrong = if found > exact { found - exact } else { exact - found };
            assert!(wrong < UBig::from(64u32), "{words} words to {precision} bits: wrong by {wrong}");
        }
    }
}
