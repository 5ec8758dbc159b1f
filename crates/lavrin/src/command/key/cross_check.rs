//! All keys of one run held against each other: RSA keys with a prime or a whole modulus in common, which breaks both, and
//! keys that go by two names.

use super::inspect::Inspection;
use lavrin_core::finding::{Fault, Finding};
use lavrin_core::key::strength::{Weakness, shared_prime};
use lavrin_core::key::{Fingerprint, PublicKey};
use lavrin_core::text::printable;
use std::collections::HashMap;

/// How many of the other keys a finding names.
const PARTNERS_TOLD: usize = 5;

/// What shows, each under the index of the key.
pub fn findings(seen: &Inspection) -> Vec<(usize, Finding)> {
    let mut findings = among_moduli(seen);
    findings.extend(under_two_names(seen));
    findings
}

/// The keys with one modulus.
struct Group<'a> {
    modulus: &'a [u8],
    keys: Vec<(usize, &'a [u8], Fingerprint)>,
}

fn groups(seen: &Inspection) -> Vec<Group<'_>> {
    let mut places: HashMap<&[u8], usize> = HashMap::new();
    let mut groups: Vec<Group<'_>> = Vec::new();
    for (index, key) in seen.keys.iter().enumerate() {
        let (Some(PublicKey::Rsa { e, n }), Some(fingerprint)) = (key.key.as_ref(), key.fingerprint) else { continue };
        // An even modulus is told as such, and everything shares its 2.
        if n.last().is_none_or(|last| last & 1 == 0) {
            continue;
        }
        let group = *places.entry(n.as_slice()).or_insert_with(|| {
            groups.push(Group { modulus: n, keys: Vec::new() });
            groups.len() - 1
        });
        groups[group].keys.push((index, e, fingerprint));
    }
    groups
}

fn among_moduli(seen: &Inspection) -> Vec<(usize, Finding)> {
    let groups = groups(seen);
    let moduli: Vec<&[u8]> = groups.iter().map(|group| group.modulus).collect();
    let place = |index: usize| seen.place(&seen.keys[index]);
    let mut findings = Vec::new();
    for (group, together) in groups.iter().zip(shared_prime::together(&moduli)) {
        let partners = together.partners.iter().take(PARTNERS_TOLD);
        let with: Vec<String> = partners.map(|other| place(groups[*other].keys[0].0)).collect();
        for (index, exponent, fingerprint) in &group.keys {
            let mut say = |weakness| {
                findings.push((*index, Finding::of(Fault::WeakKey { weakness, fingerprint: *fingerprint })));
            };
            if let Some(factor) = &together.small_factor {
                say(Weakness::SmallFactor { factor: factor.clone() });
            }
            if together.shares_prime {
                say(Weakness::SharedPrime { with: with.clone() });
            }
            let others = group.keys.iter().filter(|(_, other, _)| other != exponent);
            let same: Vec<String> = others.map(|(other, ..)| place(*other)).take(PARTNERS_TOLD).collect();
            if !same.is_empty() {
                say(Weakness::SameModulus { with: same });
            }
        }
    }
    findings
}

/// The same key with two comments: one of the two is not whose it says. Told at the later one.
fn under_two_names(seen: &Inspection) -> Vec<(usize, Finding)> {
    let mut first: HashMap<Fingerprint, usize> = HashMap::new();
    let mut findings = Vec::new();
    for (index, key) in seen.keys.iter().enumerate() {
        let comment = key.comment.as_deref().unwrap_or_default().trim_ascii();
        let Some(fingerprint) = key.fingerprint.filter(|_| !comment.is_empty()) else { continue };
        let before = *first.entry(fingerprint).or_insert(index);
        let other = seen.keys[before].comment.as_deref().unwrap_or_default().trim_ascii();
        if other != comment {
            let fault = Fault::SameKeyTwoNames { other: printable(other), place: seen.place(&seen.keys[before]) };
            findings.push((index, Finding::of(fault)));
        }
    }
    findings
}
