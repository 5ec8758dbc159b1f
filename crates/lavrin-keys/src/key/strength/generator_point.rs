//! ECDSA keys whose private number is 1 or its negative: the public point is the generator itself.

use super::Weakness;
use crate::key::{Curve, PrivateKey, PublicKey};
use std::sync::OnceLock;

pub(super) fn check(key: &PublicKey) -> Option<Weakness> {
    let PublicKey::Ecdsa { curve, point } = key else { return None };
    // The negative has the same first coordinate.
    let first = 1..=curve.width();
    (point[first.clone()] == generator(*curve)?[first]).then_some(Weakness::GeneratorPoint)
}

fn generator(curve: Curve) -> Option<&'static [u8]> {
    static GENERATORS: [OnceLock<Option<Vec<u8>>>; 3] = [const { OnceLock::new() }; 3];
    let place = match curve {
        Curve::P256 => 0,
        Curve::P384 => 1,
        Curve::P521 => 2,
    };
    let made = || match PrivateKey::ecdsa(curve, &[1]).ok()?.public() {
        PublicKey::Ecdsa { point, .. } => Some(point.clone()),
        _ => None,
    };
    GENERATORS[place].get_or_init(made).as_deref()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_generator_is_found() {
        for curve in [Curve::P256, Curve::P384, Curve::P521] {
            let check = |scalar: &[u8]| super::check(PrivateKey::ecdsa(curve, scalar).unwrap().public());
            assert_eq!(check(&[1]), Some(Weakness::GeneratorPoint));
            assert_eq!(check(&[77]), None);
        }
    }
}
