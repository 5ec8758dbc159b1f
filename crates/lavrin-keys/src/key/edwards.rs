//! Whether 32 bytes are a point of edwards25519 that a key may have (RFC 8032, section 5.1.3). Very many keys are asked about,
//! so the square root is not drawn: whether there is one is told by the Legendre symbol, at less than half the cost.

#![allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    clippy::cast_possible_wrap,
    reason = "words and small counts"
)]

use super::KeyFault;
use crypto_bigint::{Limb, U256};
use curve25519_dalek::edwards::CompressedEdwardsY;

/// The prime of the field.
const P: U256 = U256::from_be_hex("7fffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffed");

/// The constant d of the curve `-x² + y² = 1 + d·x²·y²`.
const D: U256 = U256::from_be_hex("52036cee2b6ffe738cc740797779e89800700a4d4141d8ab75eb4dca135978a3");

/// Numbers are kept modulo `2^256 - 38`, which is twice the prime.
const TWICE_P: Limb = Limb(38);

/// The second coordinates of the points of order 1, 2, 4 and 8.
const SMALL_ORDER: [U256; 5] = [
    U256::ONE,
    P.wrapping_sub(&U256::ONE),
    U256::ZERO,
    U256::from_be_hex("05fc536d880238b13933c6d305acdfd5f098eff289f4c345b027b2c28f95e826"),
    U256::from_be_hex("7a03ac9277fdc74ec6cc392cfa53202a0f67100d760b3cba4fd84d3d706a17c7"),
];

/// A point of the curve, not one of small order: both would let anybody sign, or nobody.
pub(super) fn check(point: &[u8; 32]) -> Result<(), KeyFault> {
    let mut y = *point;
    // The sign of the first coordinate, which every point but two of small order may have either way.
    y[31] &= 0x7f;
    let y = below_p(U256::from_le_slice(&y));
    if SMALL_ORDER.contains(&y) {
        return Err(KeyFault::WeakPoint);
    }
    let square = y.mul_mod_special(&y, TWICE_P);
    let above = square.sub_mod_special(&U256::ONE, TWICE_P);
    let below = square.mul_mod_special(&D, TWICE_P).add_mod_special(&U256::ONE, TWICE_P);
    // x² = above / below, which is a square where above · below is one.
    let is_square = legendre(below_p(above.mul_mod_special(&below, TWICE_P))) == Some(1);
    // Only what seems wrong is asked of the library that draws the root.
    if is_square || CompressedEdwardsY(*point).decompress().is_some() { Ok(()) } else { Err(KeyFault::PointNotOnCurve) }
}

/// Whether the second coordinate is written in its least form, below the prime.
pub(super) fn is_canonical(point: &[u8; 32]) -> bool {
    let mut y = *point;
    y[31] &= 0x7f;
    U256::from_le_slice(&y) < P
}

fn below_p(number: U256) -> U256 {
    if number >= P { number.wrapping_sub(&P) } else { number }
}

/// Steps that the low words decide before they are carried out on the whole numbers.
const STEPS: u32 = 62;

/// Rounds of so many steps after which nearly every number of 255 bits has come to its end.
const ROUNDS: usize = 24;

/// The Legendre symbol of a number below the prime: 1 for a square, -1 for none, `None` where the steps did not come to an
/// end. By division steps (Bernstein and Yang, "Fast constant-time gcd computation and modular inversion", 2019) that add
/// where those subtract, so that nothing becomes negative and each step tells what it does to the sign.
fn legendre(number: U256) -> Option<i8> {
    let (mut f, mut g) = (P.to_words(), number.to_words());
    let (mut eta, mut sign) = (-1, 0);
    for _ in 0..ROUNDS {
        let matrix = steps(&mut eta, f[0], g[0], &mut sign);
        (f, g) = (combined(matrix[0], &f, &g), combined(matrix[1], &f, &g));
        if f == [1, 0, 0, 0] {
            return Some(if sign & 1 == 0 { 1 } else { -1 });
        }
    }
    None
}

/// What [`STEPS`] steps do to f and g, as rows of factors, each row divided by `2^STEPS` in the end. The lowest bit of `sign`
/// is turned whenever the symbol of g over f changes.
fn steps(eta: &mut i32, mut f: u64, mut g: u64, sign: &mut u64) -> [[u64; 2]; 2] {
    let (mut row_f, mut row_g) = ([1u64, 0], [0u64, 1]);
    let mut left = STEPS;
    loop {
        let zeros = (g | u64::MAX << left).trailing_zeros();
        g >>= zeros;
        row_f = [row_f[0] << zeros, row_f[1] << zeros];
        *eta -= zeros as i32;
        left -= zeros;
        // Each 2 that is taken out of g counts where f is 3 or 5 modulo 8.
        *sign ^= u64::from(zeros) & (f >> 1 ^ f >> 2);
        if left == 0 {
            return [row_f, row_g];
        }
        // So many low bits of g can be cleared at once by adding a multiple of f.
        let mut bits = 4;
        if *eta < 0 {
            *eta = -*eta;
            // Turned over, the symbol changes where both are 3 modulo 4.
            *sign ^= (f & g) >> 1;
            (f, g) = (g, f);
            (row_f, row_g) = (row_g, row_f);
            bits = 6;
        }
        let mask = u64::MAX >> (64 - left.min(*eta as u32 + 1).min(bits));
        // -g/f modulo 64: f·(2 - f·f) is the inverse of f, since f·f is 1 modulo 8.
        let times = f.wrapping_mul(g).wrapping_mul(f.wrapping_mul(f).wrapping_sub(2)) & mask;
        g = g.wrapping_add(f.wrapping_mul(times));
        row_g = [row_g[0] + row_f[0] * times, row_g[1] + row_f[1] * times];
    }
}

/// `(row · (f, g)) / 2^STEPS`, which is exact and no longer than the longer of the two.
fn combined(row: [u64; 2], f: &[u64; 4], g: &[u64; 4]) -> [u64; 4] {
    let mut words = [0u64; 5];
    let mut carry = 0u128;
    for (word, (f, g)) in words.iter_mut().zip(f.iter().zip(g)) {
        carry += u128::from(row[0]) * u128::from(*f) + u128::from(row[1]) * u128::from(*g);
        *word = carry as u64;
        carry >>= 64;
    }
    words[4] = carry as u64;
    std::array::from_fn(|at| words[at] >> STEPS | words[at + 1] << (64 - STEPS))
}

#[cfg(test)]
mod tests {
    use super::*;
    use curve25519_dalek::constants::EIGHT_TORSION;
    use proptest::prelude::*;

    /// What the library says, which draws the root.
    fn by_root(point: &[u8; 32]) -> Result<(), KeyFault> {
        let on_curve = CompressedEdwardsY(*point).decompress().ok_or(KeyFault::PointNotOnCurve)?;
        if on_curve.is_small_order() { Err(KeyFault::WeakPoint) } else { Ok(()) }
    }

    #[test]
    fn every_point_of_small_order_is_weak_in_each_of_its_forms() {
        let mut forms: Vec<[u8; 32]> = EIGHT_TORSION.iter().map(|point| point.compress().0).collect();
        for y in SMALL_ORDER.into_iter().chain([P, P.wrapping_add(&U256::ONE)]) {
            let mut form = [0; 32];
            form.copy_from_slice(y.to_le_bytes().as_ref());
            forms.push(form);
            form[31] |= 0x80;
            forms.push(form);
        }
        for form in forms {
            assert_eq!(check(&form), Err(KeyFault::WeakPoint), "{form:02x?}");
        }
    }

    #[test]
    fn the_symbol_comes_to_an_end_and_tells_squares_apart() {
        let mut found = [0, 0];
        for number in 1..5000u32 {
            // Spread over the field; some small numbers come to no end.
            let number = below_p(U256::from_u32(number).mul_mod_special(&D, TWICE_P));
            let square = below_p(number.mul_mod_special(&number, TWICE_P));
            assert_eq!(legendre(square), Some(1), "{number}");
            // 2 is no square modulo this prime.
            assert_eq!(legendre(below_p(square.add_mod_special(&square, TWICE_P))), Some(-1), "{number}");
            found[usize::from(legendre(number) == Some(1))] += 1;
        }
        assert!(found[0] > 2300 && found[1] > 2300, "{found:?}");
        for number in 1..500u32 {
            let square = U256::from_u32(number * number);
            assert_ne!(legendre(square), Some(-1), "{number}");
            assert_ne!(legendre(square.wrapping_add(&square)), Some(1), "{number}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(5000))]
        #[test]
        fn the_symbol_says_what_the_root_says(point: [u8; 32]) {
            prop_assert_eq!(check(&point), by_root(&point));
            let y = below_p(U256::from_le_slice(&point) & (P | U256::from_u32(0x1f)));
            prop_assert!(y == U256::ZERO || legendre(y).is_some());
        }
    }
}
