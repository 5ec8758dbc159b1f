//! Products of very large numbers by way of a Fourier transform over doubles, several times faster than exact transforms.
//! Rounding is not proven harmless, so every product is held against the numbers modulo 2^64 - 1; one that does not agree
//! is made again by plain integer arithmetic.

use dashu_int::UBig;
use realfft::num_complex::Complex;
use realfft::{ComplexToReal, RealFftPlanner, RealToComplex};
use std::sync::{Arc, Mutex, PoisonError};

/// Below this many words in the shorter number plain multiplication is faster.
const WORDS_MIN: usize = 200;

/// Bits of a digit: balanced digits of 16 bits keep the rounding error far below one half up to 2^25 digits.
const DIGIT_BITS: usize = 16;

/// Digits of a word.
const DIGITS: usize = 64 / DIGIT_BITS;

/// Multiplies, and keeps the tables of the transforms it has used.
pub(super) struct Multiplier {
    planner: Mutex<RealFftPlanner<f64>>,
}

/// A number in the other domain, for several products with it.
pub(super) struct Transformed {
    length: usize,
    points: Vec<Complex<f64>>,
    check: u64,
}

type Forward = Arc<dyn RealToComplex<f64>>;
type Backward = Arc<dyn ComplexToReal<f64>>;

impl Multiplier {
    pub(super) fn new() -> Self {
        Self { planner: Mutex::new(RealFftPlanner::new()) }
    }

    /// `a · b`.
    pub(super) fn multiply(&self, a: &UBig, b: &UBig) -> UBig {
        let words = [a.as_words().len(), b.as_words().len()];
        if words[0].min(words[1]) < WORDS_MIN {
            return a * b;
        }
        let length = transform_length((words[0] + words[1]) * DIGITS + 2);
        let (a_points, b_points) = rayon::join(|| self.transform(a, length), || self.transform(b, length));
        self.product(&a_points, &b_points).unwrap_or_else(|| a * b)
    }

    /// `x · b` modulo `2^bits`, where `x` has that many bits. With `x` transformed by [`Multiplier::for_middle`] as many of
    /// the lowest bits as `b` has are wrong.
    pub(super) fn middle(&self, x: &UBig, x_points: Option<&Transformed>, b: &UBig, bits: usize) -> UBig {
        let product = match x_points {
            Some(points) => self.product(points, &self.transform(b, points.length)),
            None => None,
        };
        let mut product = product.unwrap_or_else(|| x * b);
        product.clear_high_bits(bits);
        product
    }

    /// A fraction of so many bits transformed to a length at which what wraps around stays below the bits that are wanted.
    /// `None` where plain multiplication is faster.
    pub(super) fn for_middle(&self, x: &UBig, bits: usize) -> Option<Transformed> {
        (bits / 64 >= 4 * WORDS_MIN).then(|| self.transform(x, transform_length(bits.div_ceil(DIGIT_BITS) + 4)))
    }

    fn plan(&self, length: usize) -> (Forward, Backward) {
        let mut planner = self.planner.lock().unwrap_or_else(PoisonError::into_inner);
        (planner.plan_fft_forward(length), planner.plan_fft_inverse(length))
    }

    fn transform(&self, number: &UBig, length: usize) -> Transformed {
        let (forward, _) = self.plan(length);
        let mut digits = digits(number.as_words(), length);
        let mut points = forward.make_output_vec();
        forward.process(&mut digits, &mut points).expect("lengths are those of the plan");
        Transformed { length, points, check: modulo_check(number.as_words()) }
    }

    /// The product modulo `2^(16·length) - 1`; `None` where rounding made it wrong.
    fn product(&self, a: &Transformed, b: &Transformed) -> Option<UBig> {
        let (_, backward) = self.plan(a.length);
        let mut points: Vec<Complex<f64>> = a.points.iter().zip(&b.points).map(|(a, b)| a * b).collect();
        // The first and the last point of a real transform are real; the transform back insists on it.
        let last = points.len() - 1;
        points[0].im = 0.0;
        points[last].im = 0.0;
        let mut digits = backward.make_output_vec();
        backward.process(&mut points, &mut digits).expect("lengths are those of the plan");
        #[allow(clippy::cast_precision_loss, reason = "lengths stay far below 2^52")]
        let scale = 1.0 / a.length as f64;
        let words = carried(&digits, scale);
        // Lengths are multiples of four digits, so this holds for products that wrap around too.
        (modulo_check(&words) == times(a.check, b.check)).then(|| UBig::from_words(&words))
    }
}

/// The next length that the transform likes: 2^k, 3·2^k, 5·2^k or 9·2^k.
fn transform_length(least: usize) -> usize {
    let lengths = [1usize, 3, 5, 9].map(|odd| odd * least.div_ceil(odd).next_power_of_two());
    // All are multiples of four digits, so that words stay whole.
    lengths.into_iter().min().unwrap_or(least).max(16)
}

/// Balanced digits, from -2^15 to 2^15.
fn digits(words: &[u64], length: usize) -> Vec<f64> {
    let mut digits = vec![0.0; length];
    let mut carry = 0i32;
    let mut at = 0;
    for word in words {
        for place in 0..DIGITS {
            let mut digit = i32::from((word >> (place * DIGIT_BITS)) as u16) + carry;
            carry = i32::from(digit >= 1 << (DIGIT_BITS - 1));
            digit -= carry << DIGIT_BITS;
            digits[at] = f64::from(digit);
            at += 1;
        }
    }
    // A number that fills the whole length has its carry wrap around, as the product itself does.
    digits[at % length] += f64::from(carry);
    digits
}

/// Words from digits that are whole numbers but for the rounding, and may be negative.
fn carried(digits: &[f64], scale: f64) -> Vec<u64> {
    let mut words = Vec::with_capacity(digits.len().div_ceil(DIGITS) + 1);
    let mut carry = 0i64;
    for chunk in digits.chunks(DIGITS) {
        let mut word = 0u64;
        for (place, digit) in chunk.iter().enumerate() {
            // Sums of 2^25 products of digits stay below 2^56.
            let value = (digit * scale).round_ties_even() as i64 + carry;
            carry = value >> DIGIT_BITS;
            word |= (value.cast_unsigned() & 0xffff) << (place * DIGIT_BITS);
        }
        words.push(word);
    }
    // What runs over the end wraps around; it may be negative.
    let mut at = 0;
    while carry != 0 && at < words.len() {
        let sum = i128::from(words[at]) + i128::from(carry);
        words[at] = (sum & i128::from(u64::MAX)).cast_unsigned() as u64;
        carry = (sum >> 64) as i64;
        at += 1;
    }
    words
}

fn times(a: u64, b: u64) -> u64 {
    let product = u128::from(a) * u128::from(b);
    folded(u128::from(product as u64) + (product >> 64))
}

/// A number modulo 2^64 - 1, where 2^64 is 1.
fn modulo_check(words: &[u64]) -> u64 {
    words.iter().fold(0, |rest, word| folded(u128::from(rest) + u128::from(*word)))
}

/// A sum of two words modulo 2^64 - 1.
fn folded(sum: u128) -> u64 {
    let (rest, again) = (sum as u64).overflowing_add((sum >> 64) as u64);
    let rest = rest.wrapping_add(u64::from(again));
    if rest == u64::MAX { 0 } else { rest }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    /// A number without a pattern that would make rounding easy.
    pub(in super::super) fn noise(words: usize, seed: u64) -> UBig {
        let mut state = seed | 1;
        let words: Vec<u64> = (0..words)
            .map(|_| {
                state ^= state << 13;
                state ^= state >> 7;
                state ^= state << 17;
                state.wrapping_mul(0x2545_f491_4f6c_dd1d)
            })
            .collect();
        UBig::from_words(&words)
    }

    #[test]
    fn products_are_those_of_plain_arithmetic() {
        let multiplier = Multiplier::new();
        for (a, b) in [(200, 200), (201, 777), (1000, 5000), (4096, 4096), (20_000, 300)] {
            for (a, b) in [(noise(a, 7), noise(b, 9)), ((UBig::ONE << (64 * a)) - UBig::ONE, UBig::ONE << (64 * b - 1))]
            {
                assert_eq!(multiplier.multiply(&a, &b), &a * &b);
            }
        }
    }

    #[test]
    fn the_high_half_of_a_wrapped_product_is_right() {
        let multiplier = Multiplier::new();
        let (x, b, bits) = (noise(4000, 3), noise(2000, 5), 4000 * 64);
        let points = multiplier.for_middle(&x, bits).unwrap();
        let exact = (&x * &b) % (UBig::ONE << bits);
        let wrapped = multiplier.middle(&x, Some(&points), &b, bits);
        let cut = 2000 * 64 + 2;
        assert_eq!(&wrapped >> cut, exact >> cut);
    }

    #[test]
    fn a_wrong_product_does_not_pass_the_check() {
        let (a, b) = (noise(300, 1), noise(300, 2));
        let check = |number: &UBig| modulo_check(number.as_words());
        assert_eq!(check(&(&a * &b)), times(check(&a), check(&b)));
        assert_ne!(check(&(&a * &b + UBig::ONE)), times(check(&a), check(&b)));
        assert_eq!(check(&UBig::from(u64::MAX)), 0);
        assert_eq!(times(u64::MAX - 1, u64::MAX - 1), 1);
    }
}
