//! Products of very large numbers by way of a Fourier transform over doubles, several times faster than exact transforms.
//! Rounding is not proven harmless, so every product is held against the numbers modulo 2^64 - 1; one that does not agree
//! is made again by plain integer arithmetic.

use super::shape::{DIGIT_BITS, DIGITS, ProductShape, SHORT_LENGTH};
use dashu_base::BitTest as _;
use dashu_int::UBig;
use realfft::num_complex::Complex;
use realfft::{ComplexToReal, RealFftPlanner, RealToComplex};
use std::cell::RefCell;
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

/// Below this many words in the shorter number plain multiplication is faster.
const WORDS_MIN: usize = 200;

/// Multiplies, and keeps the tables of the transforms it has used.
pub(super) struct Multiplier {
    plans: Mutex<Plans>,
    /// Working memory of long transforms. It is used again, since new memory has to be cleared first.
    spare: Mutex<Vec<Workspace>>,
    /// Points that nobody needs any more, to be written over by others.
    spare_points: Mutex<Vec<Vec<Complex<f64>>>>,
}

/// So many of the others are kept, one for each level of long transforms: their tables are several times as large as the numbers.
const LONG_PLANS: usize = 4;

struct Plans {
    short: RealFftPlanner<f64>,
    long: VecDeque<(usize, Forward, Backward)>,
}

impl Plans {
    fn of(&mut self, length: usize) -> (Forward, Backward) {
        if length <= SHORT_LENGTH {
            return (self.short.plan_fft_forward(length), self.short.plan_fft_inverse(length));
        }
        if let Some((_, forward, backward)) = self.long.iter().find(|(own, ..)| *own == length) {
            return (forward.clone(), backward.clone());
        }
        let mut planner = RealFftPlanner::new();
        let (forward, backward) = (planner.plan_fft_forward(length), planner.plan_fft_inverse(length));
        self.long.truncate(LONG_PLANS - 1);
        self.long.push_front((length, forward.clone(), backward.clone()));
        (forward, backward)
    }
}

/// A number in the other domain, for several products with it.
pub(super) struct Transformed<'a> {
    of: &'a Multiplier,
    length: usize,
    points: Vec<Complex<f64>>,
    check: u64,
}

impl Drop for Transformed<'_> {
    fn drop(&mut self) {
        self.of.take_back(std::mem::take(&mut self.points));
    }
}

/// So many lists of points are kept to be written over, and so many points in all.
const SPARE_LISTS: usize = 8;
const SPARE_POINTS_MAX: usize = 4 << 20;

/// Points that are multiplied at once.
const BLOCK: usize = 1024;

/// Digits of transforms whose working memory each thread keeps: it is used again at once.
const KEPT_LENGTH_MAX: usize = 1 << 20;

/// So much working memory of longer ones is kept in all, however many threads there are.
const SPARE_MAX: usize = 2;

type Forward = Arc<dyn RealToComplex<f64>>;
type Backward = Arc<dyn ComplexToReal<f64>>;

/// What a transform works in.
#[derive(Default)]
struct Workspace {
    digits: Vec<f64>,
    points: Vec<Complex<f64>>,
    scratch: Vec<Complex<f64>>,
}

thread_local! {
    static WORKSPACE: RefCell<Workspace> = RefCell::default();
}

impl Multiplier {
    pub(super) fn new() -> Self {
        let plans = Plans { short: RealFftPlanner::new(), long: VecDeque::new() };
        Self { plans: Mutex::new(plans), spare: Mutex::default(), spare_points: Mutex::default() }
    }

    /// Lends working memory.
    fn in_workspace<T>(&self, length: usize, work: impl FnOnce(&mut Workspace) -> T) -> T {
        if length <= KEPT_LENGTH_MAX {
            return WORKSPACE.with_borrow_mut(work);
        }
        let spare = || self.spare.lock().unwrap_or_else(PoisonError::into_inner);
        let mut workspace = spare().pop().unwrap_or_default();
        let result = work(&mut workspace);
        let mut spare = spare();
        if spare.len() < SPARE_MAX {
            spare.push(workspace);
        }
        result
    }

    /// `a · b`.
    pub(super) fn multiply(&self, a: &UBig, b: &UBig) -> UBig {
        let words = [a.as_words().len(), b.as_words().len()];
        if words[0].min(words[1]) < WORDS_MIN {
            return a * b;
        }
        let length = match ProductShape::of(a.bit_len() + b.bit_len()) {
            ProductShape::One(length) => length,
            ProductShape::Parts(size) => return self.in_parts(a, b, size),
        };
        let (a_points, b_points) =
            rayon::join(|| self.transform(a.as_words(), length), || self.transform(b.as_words(), length));
        self.product(&[(&a_points, &b_points)]).unwrap_or_else(|| a * b)
    }

    /// Of two numbers with their derivatives: the product, and its derivative `a'·b + a·b'`.
    pub(super) fn derived(&self, [a, b]: [&UBig; 2], [of_a, of_b]: [&UBig; 2]) -> (UBig, UBig) {
        let least = [a, b, of_a, of_b].map(|number| number.as_words().len()).into_iter().min().unwrap_or_default();
        let of_sum = (of_a.bit_len() + b.bit_len()).max(a.bit_len() + of_b.bit_len()) + 1;
        let plain = || self.multiply(of_a, b) + self.multiply(of_b, a);
        if least < WORDS_MIN {
            return (self.multiply(a, b), plain());
        }
        let length = match ProductShape::of(of_sum.max(a.bit_len() + b.bit_len())) {
            ProductShape::One(length) => length,
            ProductShape::Parts(size) => return self.derived_in_parts([a, b], [of_a, of_b], size),
        };
        let of = |number: &UBig| self.transform(number.as_words(), length);
        let both = |one, other| rayon::join(|| of(one), || of(other));
        let ((a_points, b_points), (of_a_points, of_b_points)) = rayon::join(|| both(a, b), || both(of_a, of_b));
        let (product, sum) = rayon::join(
            || self.product(&[(&a_points, &b_points)]),
            || self.product(&[(&of_a_points, &b_points), (&of_b_points, &a_points)]),
        );
        (product.unwrap_or_else(|| a * b), sum.unwrap_or_else(plain))
    }

    /// For each of some numbers the highest bits, so many as are wanted, of `x · number` modulo `2^bits`, where `x` has that many bits and
    /// the number as many fewer as are wanted. A few units of the lowest bit may be wrong.
    pub(super) fn middles(&self, x: &UBig, bits: usize, numbers: [(&UBig, usize); 2]) -> [UBig; 2] {
        if bits / 64 < 4 * WORDS_MIN {
            return numbers.map(|(number, wanted)| highest(x * number, bits, wanted));
        }
        // What wraps around stays below the bits that are wanted.
        let length = match ProductShape::of(bits + 64) {
            ProductShape::One(length) => length,
            ProductShape::Parts(size) => return self.middles_in_parts(x, bits, numbers, size),
        };
        let points = self.transform(x.as_words(), length);
        let of = |(number, wanted): (&UBig, usize)| {
            let product = self.product(&[(&points, &self.transform(number.as_words(), length))]);
            highest(product.unwrap_or_else(|| x * number), bits, wanted)
        };
        let (of_one, of_other) = rayon::join(|| of(numbers[0]), || of(numbers[1]));
        [of_one, of_other]
    }

    /// Room for so many points, whatever stands in them.
    fn room(&self, points: usize) -> Vec<Complex<f64>> {
        let mut spare = self.spare_points.lock().unwrap_or_else(PoisonError::into_inner);
        let fits = spare.iter().enumerate().filter(|(_, list)| list.len() >= points).min_by_key(|(_, list)| list.len());
        let found = fits.map(|(at, _)| at).map(|at| spare.swap_remove(at));
        drop(spare);
        let mut room = found.unwrap_or_default();
        room.resize(points, Complex::default());
        room
    }

    fn take_back(&self, points: Vec<Complex<f64>>) {
        let mut spare = self.spare_points.lock().unwrap_or_else(PoisonError::into_inner);
        spare.push(points);
        while spare.len() > SPARE_LISTS || spare.iter().map(Vec::len).sum::<usize>() > SPARE_POINTS_MAX {
            // Levels become longer, and then shorter again; what has just been used fits best.
            spare.remove(0);
        }
    }

    fn plan(&self, length: usize) -> (Forward, Backward) {
        self.plans.lock().unwrap_or_else(PoisonError::into_inner).of(length)
    }

    pub(super) fn transform(&self, words: &[u64], length: usize) -> Transformed<'_> {
        let (forward, _) = self.plan(length);
        let mut points = self.room(length / 2 + 1);
        self.in_workspace(length, |Workspace { digits, scratch, .. }| {
            write_digits(words, length, digits);
            scratch.resize(forward.get_scratch_len().max(scratch.len()), Complex::default());
            let scratch = &mut scratch[..forward.get_scratch_len()];
            forward.process_with_scratch(digits, &mut points, scratch).expect("lengths are those of the plan");
        });
        Transformed { of: self, length, points, check: modulo_check(words) }
    }

    /// The sum of the products modulo `2^(16·length) - 1`; `None` where rounding made it wrong.
    pub(super) fn product(&self, pairs: &[(&Transformed<'_>, &Transformed<'_>)]) -> Option<UBig> {
        let (first, others) = pairs.split_first()?;
        let length = first.0.length;
        let (_, backward) = self.plan(length);
        let words = self.in_workspace(length, |Workspace { digits, points, scratch }| {
            points.resize(length / 2 + 1, Complex::default());
            // In blocks that stay in the processor's cache while all products are added up.
            for (block, sums) in points.chunks_mut(BLOCK).enumerate() {
                let of = block * BLOCK..block * BLOCK + sums.len();
                let (a, b) = (&first.0.points[of.clone()], &first.1.points[of.clone()]);
                sums.iter_mut().zip(a.iter().zip(b)).for_each(|(sum, (a, b))| *sum = a * b);
                for (a, b) in others {
                    let (a, b) = (&a.points[of.clone()], &b.points[of.clone()]);
                    sums.iter_mut().zip(a.iter().zip(b)).for_each(|(sum, (a, b))| *sum += a * b);
                }
            }
            // The first and the last point of a real transform are real; the transform back insists on it.
            points[0].im = 0.0;
            points[length / 2].im = 0.0;
            digits.resize(length, 0.0);
            scratch.resize(backward.get_scratch_len().max(scratch.len()), Complex::default());
            let scratch = &mut scratch[..backward.get_scratch_len()];
            backward.process_with_scratch(points, digits, scratch).expect("lengths are those of the plan");
            #[allow(clippy::cast_precision_loss, reason = "lengths stay far below 2^52")]
            let scale = 1.0 / length as f64;
            carried(digits, scale)
        });
        // Lengths are multiples of four digits, so this holds for products that wrap around too.
        let wanted = pairs.iter().fold(0, |sum, (a, b)| folded(u128::from(sum) + u128::from(times(a.check, b.check))));
        (modulo_check(&words) == wanted).then(|| UBig::from_words(&words))
    }
}

/// The highest bits below `2^bits`, so many as are wanted.
fn highest(mut number: UBig, bits: usize, wanted: usize) -> UBig {
    number.clear_high_bits(bits);
    number >> (bits - wanted)
}

/// Balanced digits, from -2^15 to 2^15.
fn write_digits(words: &[u64], length: usize, digits: &mut Vec<f64>) {
    digits.resize(length, 0.0);
    let mut carry = 0i32;
    let (own, rest) = digits.split_at_mut(words.len() * DIGITS);
    for (word, digits) in words.iter().zip(own.chunks_exact_mut(DIGITS)) {
        for (place, written) in digits.iter_mut().enumerate() {
            let mut digit = i32::from((word >> (place * DIGIT_BITS)) as u16) + carry;
            carry = i32::from(digit >= 1 << (DIGIT_BITS - 1));
            digit -= carry << DIGIT_BITS;
            *written = f64::from(digit);
        }
    }
    rest.fill(0.0);
    // A number that fills the whole length has its carry wrap around, as the product itself does.
    digits[words.len() * DIGITS % length] += f64::from(carry);
}

/// Added to a number below 2^51, it leaves the nearest whole number in the lowest bits: rounding without a call.
const ROUNDING: f64 = 6_755_399_441_055_744.0;

/// Words from digits that are whole numbers but for the rounding, and may be negative. They are below 2^51 but for numbers
/// that are made for it; what is wrong then does not pass the check.
fn carried(digits: &[f64], scale: f64) -> Vec<u64> {
    let mut words = Vec::with_capacity(digits.len().div_ceil(DIGITS) + 1);
    let mut carry = 0i64;
    for chunk in digits.chunks(DIGITS) {
        let mut word = 0u64;
        for (place, digit) in chunk.iter().enumerate() {
            let rounded = (digit * scale + ROUNDING).to_bits().wrapping_sub(ROUNDING.to_bits()).cast_signed();
            let value = rounded.wrapping_add(carry);
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
    fn a_product_with_its_derivative_is_that_of_plain_arithmetic() {
        let multiplier = Multiplier::new();
        for (a, b) in [(3, 2), (200, 250), (700, 640), (5000, 5000)] {
            let [a, b, of_a, of_b] = [(a, 1), (b, 2), (a, 3), (b - 1, 4)].map(|(words, seed)| noise(words, seed));
            let (product, derivative) = multiplier.derived([&a, &b], [&of_a, &of_b]);
            assert_eq!(product, &a * &b);
            assert_eq!(derivative, &of_a * &b + &of_b * &a);
        }
    }

    #[test]
    fn numbers_that_are_made_to_be_rounded_badly_are_multiplied_right() {
        // Every digit as large as it can be, all with one sign.
        let words = vec![0x7fff_7fff_7fff_7fff; 20_000];
        let number = UBig::from_words(&words);
        assert_eq!(Multiplier::new().multiply(&number, &number), &number * &number);
    }

    #[test]
    fn the_high_half_of_a_wrapped_product_is_right() {
        let multiplier = Multiplier::new();
        let (x, b, bits) = (noise(4000, 3), noise(2000, 5), 4000 * 64);
        let exact = ((&x * &b) % (UBig::ONE << bits)) >> (2000 * 64 - 64);
        let wanted = 2000 * 64 + 64;
        for found in multiplier.middles(&x, bits, [(&b, wanted); 2]) {
            assert_eq!(found >> 2, &exact >> 2);
        }
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
