//! All RSA keys of one run held against each other: a prime or a whole modulus in common breaks both.

use lavrin_core::finding::{Fault, Finding};
use lavrin_core::key::strength::{Weakness, shared_prime};
use lavrin_core::key::{Fingerprint, PublicKey};
use std::collections::HashMap;

/// How many of the other keys a finding names.
const PARTNERS_TOLD: usize = 5;

/// The RSA keys seen so far, by modulus.
pub struct CrossCheck {
    wanted: bool,
    moduli: HashMap<Vec<u8>, usize>,
    groups: Vec<Group>,
}

/// The keys with one modulus.
struct Group {
    modulus: Vec<u8>,
    keys: Vec<Seen>,
}

struct Seen {
    index: usize,
    exponent: Vec<u8>,
    fingerprint: Fingerprint,
    place: String,
}

impl CrossCheck {
    /// Begins; where it is not wanted, nothing is kept.
    pub fn new(wanted: bool) -> Self {
        Self { wanted, moduli: HashMap::new(), groups: Vec::new() }
    }

    /// Notes a key under its index in the result.
    pub fn note(&mut self, key: &PublicKey, index: usize, place: String) {
        let PublicKey::Rsa { e, n } = key else { return };
        if !self.wanted {
            return;
        }
        let group = *self.moduli.entry(n.clone()).or_insert_with(|| {
            self.groups.push(Group { modulus: n.clone(), keys: Vec::new() });
            self.groups.len() - 1
        });
        self.groups[group].keys.push(Seen { index, exponent: e.clone(), fingerprint: key.fingerprint(), place });
    }

    /// What shows, each under the index of the key.
    pub fn findings(&self) -> Vec<(usize, Finding)> {
        let moduli: Vec<&[u8]> = self.groups.iter().map(|group| group.modulus.as_slice()).collect();
        let mut findings = Vec::new();
        for (group, partners) in self.groups.iter().zip(shared_prime::partners(&moduli)) {
            let with: Vec<String> = partners
                .iter()
                .filter_map(|other| self.groups[*other].keys.first())
                .map(|seen| seen.place.clone())
                .take(PARTNERS_TOLD)
                .collect();
            for key in &group.keys {
                let mut say = |weakness| {
                    findings.push((key.index, Finding::of(Fault::WeakKey { weakness, fingerprint: key.fingerprint })));
                };
                if !with.is_empty() {
                    say(Weakness::SharedPrime { with: with.clone() });
                }
                let others = group.keys.iter().filter(|other| other.exponent != key.exponent);
                let same: Vec<String> = others.map(|other| other.place.clone()).take(PARTNERS_TOLD).collect();
                if !same.is_empty() {
                    say(Weakness::SameModulus { with: same });
                }
            }
        }
        findings
    }
}
