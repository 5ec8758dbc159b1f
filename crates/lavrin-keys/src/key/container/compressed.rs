//! Compressed points of the NIST curves (SEC 1, section 2.3.4): the second coordinate from the first and a sign.

use crate::key::Curve;
use dashu_int::UBig;
use dashu_int::fast_div::ConstDivisor;

/// The prime of the field and the constant b (FIPS 186-4, appendix D.1.2); a is -3 for all three.
fn constants(curve: Curve) -> (&'static str, &'static str) {
    match curve {
        Curve::P256 => (
            "ffffffff00000001000000000000000000000000ffffffffffffffffffffffff",
            "5ac635d8aa3a93e7b3ebbd55769886bc651d06b0cc53b0f63bce3c3e27d2604b",
        ),
        Curve::P384 => (
            "fffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffeffffffff0000000000000000ffffffff",
            "b3312fa7e23ee7e4988e056be3f82d19181d9c6efe8141120314088f5013875ac656398d8a2ed19d2a85c8edd3ec2aef",
        ),
        Curve::P521 => (
            "01ffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffff",
            "0051953eb9618e1c9a1f929a21a0b68540eea2da725b99b315f3b8b489918ef109e156193951ec7e937b1652c0bd3bb1bf073573df883d2c34f1ef451fd46b503f00",
        ),
    }
}

/// The uncompressed form, or `None` where no point of the curve has this coordinate.
pub(crate) fn uncompressed(curve: Curve, point: &[u8]) -> Option<Vec<u8>> {
    let (sign @ (2 | 3), x) = point.split_first()? else { return None };
    if x.len() != curve.width() {
        return None;
    }
    let (p, b) = constants(curve);
    let (p, b) = (UBig::from_str_radix(p, 16).ok()?, UBig::from_str_radix(b, 16).ok()?);
    let field = ConstDivisor::new(p.clone());
    let first = field.reduce(UBig::from_be_bytes(x));
    let square = first.clone() * first.clone() * first.clone() - field.reduce(3u8) * first + field.reduce(b);
    // All three primes are 3 modulo 4, so a root is a power.
    let root = square.pow(&((&p + UBig::ONE) >> 2usize));
    if root.clone() * root.clone() != square {
        return None;
    }
    let mut y = root.residue();
    if (&y & UBig::ONE) != UBig::from(sign - 2) {
        y = p - y;
    }
    let y = y.to_be_bytes();
    let mut out = vec![0; 1 + 2 * curve.width()];
    out[0] = 4;
    out[1..=curve.width()].copy_from_slice(x);
    let start = out.len().checked_sub(y.len())?;
    out[start..].copy_from_slice(&y);
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::{PrivateKey, PublicKey};

    #[test]
    fn points_come_back_from_their_compressed_form() {
        for curve in [Curve::P256, Curve::P384, Curve::P521] {
            for scalar in [[1u8], [7], [8], [200]] {
                let key = PrivateKey::ecdsa(curve, &scalar).unwrap();
                let PublicKey::Ecdsa { point, .. } = key.public() else { panic!() };
                let mut short = vec![2 + (point.last().unwrap() & 1)];
                short.extend_from_slice(&point[1..=curve.width()]);
                assert_eq!(uncompressed(curve, &short).as_ref(), Some(point), "{curve:?} {scalar:?}");
            }
        }
        assert_eq!(uncompressed(Curve::P256, &[4; 65]), None);
    }
}
