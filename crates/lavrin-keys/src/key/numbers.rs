//! The big-number relations inside an RSA private key (RFC 8017, section 3.2), on numbers given as big-endian bytes.

use crypto_bigint::{BoxedUint, CheckedSub as _, ConcatenatingMul as _, NonZero};
use zeroize::Zeroizing;

/// Both CRT exponents, `d mod (p-1)` and `d mod (q-1)`; `None` where a prime is too small to have one.
pub(crate) fn crt_exponents(d: &[u8], p: &[u8], q: &[u8]) -> Option<[Zeroizing<Vec<u8>>; 2]> {
    Some([rem_minus_one(d, p)?, rem_minus_one(d, q)?])
}

/// Whether `n = p·q`, `e·d = 1` modulo `p-1` and `q-1`, and `iqmp·q = 1` modulo `p`.
pub(super) fn rsa_relations_hold(n: &[u8], e: &[u8], d: &[u8], p: &[u8], q: &[u8], iqmp: &[u8]) -> bool {
    let (n, e, d) = (number(n), number(e), number(d));
    let (p, q, iqmp) = (Zeroizing::new(number(p)), Zeroizing::new(number(q)), Zeroizing::new(number(iqmp)));
    let d = Zeroizing::new(d);
    if *Zeroizing::new(p.concatenating_mul(&*q)) != n {
        return false;
    }
    let ed = Zeroizing::new(e.concatenating_mul(&*d));
    let qi = Zeroizing::new(iqmp.concatenating_mul(&*q));
    [minus_one(&p), minus_one(&q)].into_iter().all(|modulus| modulus.is_some_and(|modulus| is_one(&ed.rem(&modulus))))
        && nonzero(&p).is_some_and(|p| is_one(&qi.rem(&p)))
}

fn rem_minus_one(d: &[u8], prime: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
    let modulus = minus_one(&number(prime))?;
    let rest = Zeroizing::new(number(d).rem(&modulus));
    Some(Zeroizing::new(rest.to_be_bytes_trimmed_vartime().into_vec()))
}

fn number(bytes: &[u8]) -> BoxedUint {
    BoxedUint::from_be_slice_vartime(bytes)
}

fn nonzero(value: &BoxedUint) -> Option<NonZero<BoxedUint>> {
    NonZero::new(value.clone()).into_option()
}

fn minus_one(value: &BoxedUint) -> Option<NonZero<BoxedUint>> {
    NonZero::new(value.checked_sub(&BoxedUint::one()).into_option()?).into_option()
}

fn is_one(value: &BoxedUint) -> bool {
    value.bits_vartime() == 1
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn relations_of_a_textbook_key() {
        // p = 61, q = 53, n = 3233, e = 17, d = 413 (inverse modulo 780), 53⁻¹ mod 61 = 38
        let (n, d): (&[u8], &[u8]) = (&[0x0c, 0xa1], &[0x01, 0x9d]);
        assert!(rsa_relations_hold(n, &[17], d, &[61], &[53], &[38]));
        assert!(!rsa_relations_hold(n, &[17], d, &[61], &[53], &[37]));
        assert!(!rsa_relations_hold(n, &[19], d, &[61], &[53], &[38]));
        assert!(!rsa_relations_hold(&[0x0c, 0xa3], &[17], d, &[61], &[53], &[38]));
        assert!(!rsa_relations_hold(n, &[17], d, &[1], &[53], &[38]));
        let [dp, dq] = crt_exponents(d, &[61], &[53]).unwrap();
        assert_eq!((&dp[..], &dq[..]), (&[53][..], &[49][..]));
    }
}
