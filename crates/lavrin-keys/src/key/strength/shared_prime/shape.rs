//! How long transforms are, and the parts of numbers that are too long for one.

/// Bits of a digit: balanced digits of 16 bits keep the rounding error far below one half up to 2^25 digits.
pub(super) const DIGIT_BITS: usize = 16;

/// Digits of a word.
pub(super) const DIGITS: usize = 64 / DIGIT_BITS;

/// Digits of transforms whose tables are kept to the end.
pub(super) const SHORT_LENGTH: usize = 1 << 17;

/// Digits of the longest transform, of 9 MB: longer numbers are multiplied part by part.
const LENGTH_MAX: usize = 33 << 15;

/// How a product is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum ProductShape {
    /// By transforms of so many digits.
    One(usize),
    /// Part by part.
    Parts(PartSize),
}

/// How long the parts of numbers are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct PartSize {
    /// Words of a part.
    pub(super) words: usize,
    /// Digits of the transform that the product of two parts fits into.
    pub(super) length: usize,
}

impl ProductShape {
    /// For a product of so many bits. One that has no more bits than both numbers together fits in exactly: it is smaller than
    /// `2^(16·length) - 1`, by which it wraps around.
    pub(super) fn of(bits: usize) -> Self {
        let least = bits.div_ceil(DIGIT_BITS);
        let next = |odd: usize| odd * least.div_ceil(odd).next_power_of_two();
        if least <= SHORT_LENGTH {
            // All are multiples of four digits, so that words stay whole.
            let lengths = [1, 3, 5, 7, 9, 11, 33].map(next).into_iter().filter(|length| length % DIGITS == 0);
            return Self::One(lengths.min().unwrap_or(least).max(16));
        }
        // Tables of long ones take longer to be made than a transform, so all are of one kind. It is somewhat longer than a power of
        // two, so that fractions, which are, fit in, and numbers of such a length need no part more.
        let length = next(33);
        if length <= LENGTH_MAX && least > length / 4 * 3 {
            return Self::One(length);
        }
        let length = (length / 2).min(LENGTH_MAX);
        // With room for a sum of products.
        Self::Parts(PartSize { words: length / DIGITS / 2 - 1, length })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_length_holds_the_product_and_is_made_of_whole_words() {
        for bits in (0..28).flat_map(|power| [1usize << power, (1 << power) + 192, 3 << power, 5 << power]) {
            let (length, bits_held) = match ProductShape::of(bits) {
                ProductShape::One(length) => (length, bits),
                ProductShape::Parts(size) => (size.length, 2 * 64 * size.words + 64),
            };
            assert!(length * DIGIT_BITS >= bits_held && length % DIGITS == 0, "{bits}: {length}");
            // Beyond the short ones there is one kind, so that tables are shared.
            assert!(length <= SHORT_LENGTH * 5 / 4 || (length / 33).is_power_of_two() && length % 33 == 0, "{length}");
            assert!(length <= LENGTH_MAX);
        }
    }
}
