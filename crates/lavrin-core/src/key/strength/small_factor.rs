//! RSA moduli with a prime factor below 2^21.

use super::Weakness;
use dashu_base::Gcd as _;
use dashu_int::UBig;
use std::sync::OnceLock;

/// The product of all primes below 2^21, made by the build.
static PRIMORIAL: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/primorial.bin"));

pub(super) fn check(modulus: &UBig) -> Option<Weakness> {
    static PRODUCT: OnceLock<UBig> = OnceLock::new();
    let product = PRODUCT.get_or_init(|| UBig::from_le_bytes(PRIMORIAL));
    let common = modulus.gcd(&(product % modulus));
    // A product of several small primes is told as it is; one that is the whole modulus too.
    (common != UBig::ONE).then(|| Weakness::SmallFactor { factor: common.to_string() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn factors_below_the_bound_are_found() {
        let large = (UBig::ONE << 521usize) - UBig::ONE;
        let factor = |n: UBig| {
            check(&n)
                .map(|weakness| if let Weakness::SmallFactor { factor } = weakness { factor } else { String::new() })
        };
        assert_eq!(factor(&large * UBig::from(1_000_003u32)), Some("1000003".to_owned()));
        assert_eq!(factor(&large * UBig::from(3u32)), Some("3".to_owned()));
        assert_eq!(factor(&large * &large), None);
    }
}
