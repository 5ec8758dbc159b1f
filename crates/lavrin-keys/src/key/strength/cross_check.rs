//! Keys held against each other: RSA keys with a prime or a whole modulus in common, which breaks both, and keys that go by two
//! names. Other keys are told by their index.

use super::shared_prime;
use crate::key::{Fingerprint, PublicKey};
use std::collections::HashMap;

/// What shows of a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Shown {
    /// The modulus has prime factors below 2^21, whose product is this.
    SmallFactor(String),
    /// Other keys have a prime in common with it.
    SharedPrime(Vec<usize>),
    /// Other keys have the same modulus and another exponent.
    SameModulus(Vec<usize>),
}

/// Looks at RSA keys together; others, and even moduli, are passed over: those are told as such, and everything shares their
/// 2. Each result stands under the index of its key.
#[must_use]
pub fn rsa<'a>(keys: impl IntoIterator<Item = Option<&'a PublicKey>>) -> Vec<(usize, Shown)> {
    let groups = groups(keys);
    let moduli: Vec<&[u8]> = groups.iter().map(|group| group.modulus).collect();
    let mut shown = Vec::new();
    for (group, together) in groups.iter().zip(shared_prime::together(&moduli)) {
        for (index, exponent) in &group.keys {
            if let Some(factor) = &together.small_factor {
                shown.push((*index, Shown::SmallFactor(factor.clone())));
            }
            if together.shares_prime {
                let with = together.partners.iter().map(|other| groups[*other].keys[0].0).collect();
                shown.push((*index, Shown::SharedPrime(with)));
            }
            let others = group.keys.iter().filter(|(_, other)| other != exponent);
            let same: Vec<usize> = others.map(|(other, _)| *other).collect();
            if !same.is_empty() {
                shown.push((*index, Shown::SameModulus(same)));
            }
        }
    }
    shown
}

/// The keys with one modulus, each with its exponent.
struct SameModulus<'a> {
    modulus: &'a [u8],
    keys: Vec<(usize, &'a [u8])>,
}

fn groups<'a>(keys: impl IntoIterator<Item = Option<&'a PublicKey>>) -> Vec<SameModulus<'a>> {
    let mut places: HashMap<&[u8], usize> = HashMap::new();
    let mut groups: Vec<SameModulus<'_>> = Vec::new();
    for (index, key) in keys.into_iter().enumerate() {
        let Some(PublicKey::Rsa { e, n }) = key else { continue };
        if n.last().is_none_or(|last| last & 1 == 0) {
            continue;
        }
        let group = *places.entry(n.as_slice()).or_insert_with(|| {
            groups.push(SameModulus { modulus: n, keys: Vec::new() });
            groups.len() - 1
        });
        groups[group].keys.push((index, e));
    }
    groups
}

/// Keys that stand with another comment than before: one of the two is not whose it says. Gives each later one with the first.
#[must_use]
pub fn under_two_names<'a>(keys: impl IntoIterator<Item = Option<(Fingerprint, &'a [u8])>>) -> Vec<(usize, usize)> {
    let mut first: HashMap<Fingerprint, (usize, &[u8])> = HashMap::new();
    let mut found = Vec::new();
    for (index, key) in keys.into_iter().enumerate() {
        let named = key.map(|(key, comment)| (key, comment.trim_ascii()));
        let Some((key, comment)) = named.filter(|(_, comment)| !comment.is_empty()) else { continue };
        let (before, name) = *first.entry(key).or_insert((index, comment));
        if name != comment {
            found.push((index, before));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::PrivateKey;

    fn rsa_key(n: u64, e: u8) -> PublicKey {
        let n: Vec<u8> = n.to_be_bytes().into_iter().skip_while(|byte| *byte == 0).collect();
        PublicKey::Rsa { e: vec![e], n }
    }

    #[test]
    fn shared_primes_and_moduli_are_told_under_the_index_of_their_key() {
        // Primes beyond the search for small factors.
        let [p, q, r] = [2_097_169u64, 2_097_211, 2_097_223];
        let keys = [rsa_key(p * q, 3), rsa_key(8, 3), rsa_key(p * q, 5), rsa_key(p * r, 3)];
        let other = PrivateKey::ed25519(&[1; 32]).unwrap();
        let all = keys.iter().map(Some).chain([Some(other.public()), None]);
        let shown = rsa(all);
        let of = |index: usize| shown.iter().filter(|(own, _)| *own == index).map(|(_, what)| what.clone()).collect();
        let (first, third, last): (Vec<_>, Vec<_>, Vec<_>) = (of(0), of(2), of(3));
        assert_eq!(first, [Shown::SharedPrime(vec![3]), Shown::SameModulus(vec![2])]);
        assert_eq!(third, [Shown::SharedPrime(vec![3]), Shown::SameModulus(vec![0])]);
        assert_eq!(last, [Shown::SharedPrime(vec![0])]);
        assert_eq!(shown.len(), 5);
        assert_eq!(rsa([Some(&rsa_key(3 * 2_097_169, 3))]), [(0, Shown::SmallFactor("3".to_owned()))]);
    }

    #[test]
    fn a_key_with_two_names_is_told_at_the_later_one() {
        let [edda, sten] = [1, 2].map(|seed| PrivateKey::ed25519(&[seed; 32]).unwrap().public().fingerprint());
        let keys = [
            Some((edda, &b"edda"[..])),
            None,
            Some((sten, b"")),
            Some((edda, b" edda ")),
            Some((edda, b"runa")),
            Some((sten, b"sten")),
        ];
        assert_eq!(under_two_names(keys), [(4, 0)]);
    }
}
