//! RSA moduli of a size that is not a multiple of 8: sound, and unusual enough that some devices refuse them.

use super::Weakness;
use crate::key::PublicKey;

pub(super) fn check(key: &PublicKey) -> Option<Weakness> {
    let bits = key.bits();
    (matches!(key, PublicKey::Rsa { .. }) && !bits.is_multiple_of(8)).then_some(Weakness::OddSize { bits })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_whole_bytes_are_usual() {
        let size = |first: u8| check(&PublicKey::rsa(&[1, 0, 1], &[&[first][..], &[0x55; 255]].concat()).unwrap());
        assert_eq!(size(0x80), None);
        assert_eq!(size(0x40), Some(Weakness::OddSize { bits: 2047 }));
        assert_eq!(size(0x01), Some(Weakness::OddSize { bits: 2041 }));
    }
}
