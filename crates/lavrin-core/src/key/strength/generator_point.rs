//! ECDSA keys whose private number is 1 or its negative: the public point is the generator itself.

use super::Weakness;
use crate::key::{PrivateKey, PublicKey};

pub(super) fn check(key: &PublicKey) -> Option<Weakness> {
    let PublicKey::Ecdsa { curve, point } = key else { return None };
    let one = PrivateKey::ecdsa(*curve, &[1]).ok()?;
    let PublicKey::Ecdsa { point: generator, .. } = one.public() else { return None };
    // The negative has the same first coordinate.
    (point[1..=curve.width()] == generator[1..=curve.width()]).then_some(Weakness::GeneratorPoint)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::Curve;

    #[test]
    fn only_the_generator_is_found() {
        for curve in [Curve::P256, Curve::P384, Curve::P521] {
            let check = |scalar: &[u8]| super::check(PrivateKey::ecdsa(curve, scalar).unwrap().public());
            assert_eq!(check(&[1]), Some(Weakness::GeneratorPoint));
            assert_eq!(check(&[77]), None);
        }
    }
}
