//! PKCS#1 RSA keys (RFC 8017, appendix A.1).

use super::der::Der;
use crate::key::fault::{WrongNumber, WrongStructure};
use crate::key::numbers::crt_exponents;
use crate::key::private::wipe_stack;
use crate::key::{KeyFault, PrivateKey, PublicKey};

/// Reads `RSAPrivateKey` to its end.
pub(crate) fn private(bytes: &[u8]) -> Result<PrivateKey, KeyFault> {
    let mut outer = Der::new(bytes);
    let mut fields = outer.sequence()?;
    outer.end()?;
    match fields.small()? {
        0 => {}
        1 => return Err(KeyFault::MultiPrime),
        _ => return Err(KeyFault::BadStructure { detail: WrongStructure::RsaVersion }),
    }
    let mut numbers = [&[][..]; 8];
    for number in &mut numbers {
        *number = fields.integer()?;
        if number.is_empty() {
            return Err(KeyFault::InvalidValues { detail: WrongNumber::Zero });
        }
    }
    fields.end()?;
    let [n, e, d, p, q, dp, dq, iqmp] = numbers;
    let key = PrivateKey::rsa(n, e, d, p, q, iqmp)?;
    // Most programs compute with these two: wrong ones give signatures that give the key away.
    let right = crt_exponents(d, p, q);
    let fit = right.is_some_and(|[right_p, right_q]| *right_p == dp && *right_q == dq);
    wipe_stack();
    if fit {
        return Ok(key);
    }
    Err(KeyFault::InvalidValues { detail: WrongNumber::CrtExponents })
}

/// Reads `RSAPublicKey` to its end.
pub(crate) fn public(bytes: &[u8]) -> Result<PublicKey, KeyFault> {
    let mut outer = Der::new(bytes);
    let mut fields = outer.sequence()?;
    outer.end()?;
    let (n, e) = (fields.integer()?, fields.integer()?);
    fields.end()?;
    PublicKey::rsa(e, n)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::container::der::{self, push_integer};
    use crate::key::generate::{Recipe, RsaBits, SystemSource, generate};

    #[test]
    fn wrong_exponents_of_the_primes_are_told() {
        let key = generate(Recipe::Rsa(RsaBits::B2048), &SystemSource).unwrap();
        let whole = key.pkcs1().unwrap();
        assert_eq!(private(&whole).unwrap().public(), key.public());
        let mut outer = Der::new(&whole);
        let mut fields = outer.sequence().unwrap();
        let numbers: Vec<&[u8]> = (0..9).map(|_| fields.integer().unwrap()).collect();
        for wrong in [6, 7] {
            let mut body = zeroize::Zeroizing::new(Vec::new());
            for (place, number) in numbers.iter().enumerate() {
                // The other prime's exponent in its place, as by a program that mixed them up.
                push_integer(&mut body, if place == wrong { numbers[13 - wrong] } else { number });
            }
            let fault = private(&der::sequence(&body)).unwrap_err();
            assert_eq!(fault.word(), "invalid-values", "{wrong}");
        }
    }
}
