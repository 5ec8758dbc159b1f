//! Products of numbers that are too long for one transform, part by part: each part of a product is the sum of those products of parts
//! that belong there, so that each part is transformed once for several products.

use super::multiply::{Multiplier, Transformed};
use super::shape::{PartSize, ProductShape};
use dashu_base::BitTest as _;
use dashu_int::UBig;
use rayon::prelude::*;
use std::collections::VecDeque;
use std::ops::Range;

/// So many points of transforms are kept at once, of 16 bytes.
const KEPT_POINTS: usize = 12 << 20;

/// Sums of products to be made.
struct Products<'a> {
    /// Numbers whose parts come by one after the other.
    passing: Vec<&'a UBig>,
    /// Numbers of which some parts stay meanwhile.
    staying: Vec<&'a UBig>,
    /// Each sum: which of the passing numbers is multiplied by which of the staying ones.
    sums: Vec<Vec<(usize, usize)>>,
}

impl Multiplier {
    /// `a · b` of long numbers.
    pub(super) fn in_parts(&self, a: &UBig, b: &UBig, size: PartSize) -> UBig {
        self.one_in_parts(a, b, 0..usize::MAX, size)
    }

    fn one_in_parts(&self, a: &UBig, b: &UBig, window: Range<usize>, size: PartSize) -> UBig {
        let (long, short) = if a.bit_len() >= b.bit_len() { (a, b) } else { (b, a) };
        let products = Products { passing: vec![long], staying: vec![short], sums: vec![vec![(0, 0)]] };
        self.sums_in_parts(&products, &window, size).pop().unwrap_or_default()
    }

    /// `a · b` modulo `2^bits`.
    pub(super) fn multiply_low(&self, a: &UBig, b: &UBig, bits: usize) -> UBig {
        let mut product = match ProductShape::of(a.bit_len() + b.bit_len()) {
            ProductShape::One(_) => self.multiply(a, b),
            ProductShape::Parts(size) => self.one_in_parts(a, b, 0..bits.div_ceil(size.bits()), size),
        };
        product.clear_high_bits(bits);
        product
    }

    /// `a · b` without its lowest bits; a few units may be missing.
    pub(super) fn multiply_high(&self, a: &UBig, b: &UBig, dropped: usize) -> UBig {
        match ProductShape::of(a.bit_len() + b.bit_len()) {
            ProductShape::One(_) => self.multiply(a, b) >> dropped,
            ProductShape::Parts(size) => {
                let begin = begin(dropped, size);
                self.one_in_parts(a, b, begin..usize::MAX, size) >> (dropped - begin * size.bits())
            }
        }
    }

    /// As [`Multiplier::derived`], of long numbers.
    pub(super) fn derived_in_parts(
        &self,
        [a, b]: [&UBig; 2],
        [of_a, of_b]: [&UBig; 2],
        size: PartSize,
    ) -> (UBig, UBig) {
        let sums = vec![vec![(0, 1)], vec![(1, 1), (2, 0)]];
        let products = Products { passing: vec![a, of_a, of_b], staying: vec![a, b], sums };
        let mut made = self.sums_in_parts(&products, &(0..usize::MAX), size).into_iter();
        (made.next().unwrap_or_default(), made.next().unwrap_or_default())
    }

    /// As [`Multiplier::middles`], of long numbers.
    pub(super) fn middles_in_parts(
        &self,
        x: &UBig,
        bits: usize,
        numbers: [(&UBig, usize); 2],
        size: PartSize,
    ) -> [UBig; 2] {
        let staying = numbers.map(|(number, _)| number).to_vec();
        let products = Products { passing: vec![x], staying, sums: vec![vec![(0, 0)], vec![(0, 1)]] };
        let begin = begin(bits - numbers[0].1.max(numbers[1].1), size);
        let window = begin..bits.div_ceil(size.bits());
        let mut made = self.sums_in_parts(&products, &window, size).into_iter();
        numbers.map(|(_, wanted)| {
            let mut part = made.next().unwrap_or_default();
            part.clear_high_bits(bits - begin * size.bits());
            part >> (bits - wanted - begin * size.bits())
        })
    }

    /// Each sum, as far as its parts lie in the window, and without the parts in front of it.
    fn sums_in_parts(&self, products: &Products<'_>, window: &Range<usize>, size: PartSize) -> Vec<UBig> {
        let longest =
            |numbers: &[&UBig]| numbers.iter().map(|number| number.as_words().len()).max().unwrap_or_default();
        let words = [longest(&products.passing), longest(&products.staying)];
        let parts = words.map(|words| words.div_ceil(size.words));
        let window = window.start..window.end.min((parts[0] + parts[1]).saturating_sub(1));
        let mut sums = vec![vec![0; (window.len() + 1) * size.words + 1]; products.sums.len()];
        let at_once = (KEPT_POINTS / (size.length / 2) / (products.passing.len() + products.staying.len())).max(1);
        for first in (0..parts[1]).step_by(at_once) {
            self.add_some(products, first..(first + at_once).min(parts[1]), &window, size, &mut sums);
        }
        sums.iter().map(|sum| UBig::from_words(sum)).collect()
    }

    /// Adds what some parts of the staying numbers give.
    fn add_some(
        &self,
        products: &Products<'_>,
        some: Range<usize>,
        window: &Range<usize>,
        size: PartSize,
        sums: &mut [Vec<u64>],
    ) {
        let of = |number: &UBig, part: usize| {
            let words = number.as_words().chunks(size.words).nth(part)?;
            Some(self.transform(words, size.length))
        };
        let each: Vec<(usize, usize)> =
            (0..products.staying.len()).flat_map(|number| some.clone().map(move |part| (number, part))).collect();
        let staying: Vec<Option<Transformed<'_>>> =
            each.par_iter().map(|(number, part)| of(products.staying[*number], *part)).collect();
        let transformed = |part: usize| -> Vec<Option<Transformed<'_>>> {
            products.passing.par_iter().map(|number| of(number, part)).collect()
        };
        // Those that meet one that stays, the last first.
        let mut met: VecDeque<Vec<Option<Transformed<'_>>>> = VecDeque::new();
        let first = (window.start + 1).saturating_sub(some.end);
        let mut next = transformed(first);
        // The part that meets the first one that stays at the place in question.
        for part in first..window.end.saturating_sub(some.start) {
            met.push_front(next);
            met.truncate(some.len());
            let place = part + some.start;
            let of_sum = |sum: &Vec<(usize, usize)>| {
                let met = &met;
                let staying = &staying;
                let pairs = sum.iter().flat_map(|(passing, stays)| {
                    let own = staying[stays * some.len()..].iter().take(some.len());
                    met.iter().zip(own).filter_map(|(passed, one)| Some((passed[*passing].as_ref()?, one.as_ref()?)))
                });
                let pairs: Vec<_> = pairs.collect();
                self.product(&pairs).unwrap_or_else(|| plain(products, sum, &some, part, size))
            };
            let all =
                || if window.contains(&place) { products.sums.par_iter().map(of_sum).collect() } else { Vec::new() };
            let (made, following) = rayon::join(all, || transformed(part + 1));
            for (sum, part) in sums.iter_mut().zip::<Vec<UBig>>(made) {
                add_to(&mut sum[(place - window.start) * size.words..], part.as_words());
            }
            next = following;
        }
    }
}

/// A sum at one place by plain arithmetic.
fn plain(products: &Products<'_>, sum: &[(usize, usize)], some: &Range<usize>, part: usize, size: PartSize) -> UBig {
    let of = |number: &UBig, part: usize| number.as_words().chunks(size.words).nth(part).map(UBig::from_words);
    let pairs = sum.iter().flat_map(|(passing, stays)| {
        let at = |by: usize| Some((part.checked_sub(by)?, some.start + by));
        (0..some.len()).filter_map(at).filter_map(|(passed, own)| {
            Some(of(products.passing[*passing], passed)? * of(products.staying[*stays], own)?)
        })
    });
    pairs.fold(UBig::ZERO, |sum, product| sum + product)
}

impl PartSize {
    fn bits(self) -> usize {
        64 * self.words
    }
}

/// The part to begin with, where so many bits are dropped: the one below reaches into the part in which the first bit stands.
fn begin(dropped: usize, size: PartSize) -> usize {
    (dropped / size.bits()).saturating_sub(1)
}

/// Adds a number to the lowest words of a sum, which is long enough for it.
fn add_to(sum: &mut [u64], number: &[u64]) {
    let (own, higher) = sum.split_at_mut(number.len().min(sum.len()));
    let mut carry = false;
    for (word, more) in own.iter_mut().zip(number) {
        (*word, carry) = word.carrying_add(*more, carry);
    }
    for word in higher {
        if !carry {
            return;
        }
        (*word, carry) = word.overflowing_add(1);
    }
}

#[cfg(test)]
mod tests {
    use super::super::multiply::tests::noise;
    use super::*;

    const SHORT: PartSize = PartSize { words: 90, length: 1024 };

    #[test]
    fn products_in_parts_are_those_of_plain_arithmetic() {
        let multiplier = Multiplier::new();
        for (a, b) in [(3, 2), (200, 250), (700, 640), (1800, 90), (5000, 5000)] {
            let [a, b, of_a, of_b] = [(a, 1), (b, 2), (a, 3), (b - 1, 4)].map(|(words, seed)| noise(words, seed));
            assert_eq!(multiplier.in_parts(&a, &b, SHORT), &a * &b);
            assert_eq!(multiplier.in_parts(&b, &a, SHORT), &a * &b);
            let derivative = &of_a * &b + &of_b * &a;
            assert_eq!(multiplier.derived_in_parts([&a, &b], [&of_a, &of_b], SHORT), (&a * &b, derivative));
        }
    }

    #[test]
    fn the_middles_are_right_but_for_some_units() {
        let multiplier = Multiplier::new();
        for (long, one, other) in [(1000, 500, 480), (4000, 2000, 2000), (700, 100, 600)] {
            let (x, bits) = (noise(long, 3), long * 64);
            let (one, other) = (noise(one, 5), noise(other, 7));
            let wanted = [bits - one.bit_len(), bits - other.bit_len()];
            let found = multiplier.middles_in_parts(&x, bits, [(&one, wanted[0]), (&other, wanted[1])], SHORT);
            for ((found, number), wanted) in found.into_iter().zip([one, other]).zip(wanted) {
                let exact = ((&x * number) % (UBig::ONE << bits)) >> (bits - wanted);
                let wrong = if found > exact { &found - &exact } else { &exact - &found };
                assert!(wrong.bit_len() < 8, "{wrong}");
            }
        }
    }
}
