//! All RSA keys of the fleet compared with each other: two that share a prime or a modulus are broken, wherever they are.

use super::{FleetEntry, What};
use lavrin_keys::key::strength::cross_check::{self, Shown};
use lavrin_keys::key::strength::{self, Depth, Weakness};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_server::finding::{Fault, Finding};
use lavrin_server::fs::BytePath;
use std::collections::HashMap;
use std::sync::Arc;

/// Places of other keys that are named in one finding.
const NAMED_MAX: usize = 4;

/// The keys of the fleet, each with the places where it stands.
#[derive(Debug, Default)]
pub(super) struct RsaKeys {
    numbers: HashMap<Arc<PublicKey>, usize>,
    keys: Vec<(Arc<PublicKey>, Fingerprint, Vec<EntryPlace>)>,
}

#[derive(Debug)]
struct EntryPlace {
    host: String,
    account: Arc<str>,
    path: Option<BytePath>,
    line: Option<usize>,
}

impl RsaKeys {
    pub(super) fn add(&mut self, entry: &FleetEntry) {
        let of = &entry.entry;
        if !matches!(*of.key, PublicKey::Rsa { .. }) {
            return;
        }
        let number = *self.numbers.entry(of.key.clone()).or_insert_with(|| {
            self.keys.push((of.key.clone(), of.fingerprint, Vec::new()));
            self.keys.len() - 1
        });
        self.keys[number].2.push(EntryPlace {
            host: entry.host.clone(),
            account: of.account.clone(),
            path: of.place.path().cloned(),
            line: of.place.line(),
        });
    }

    /// Each finding, with its host. One key is on many hosts: each is compared once, and told wherever it is.
    pub(super) fn findings(&self) -> Vec<(String, Finding<What>)> {
        let mut found = Vec::new();
        for (index, shown) in cross_check::rsa(self.keys.iter().map(|(key, ..)| Some(&**key))) {
            let (key, fingerprint, places) = &self.keys[index];
            let with = |others: &[usize]| others.iter().take(NAMED_MAX).map(|other| self.name(*other)).collect();
            let weakness = match shown {
                // What the quick look at each key finds by itself is reported there.
                Shown::SmallFactor(_) if strength::small_factor(key, Depth::Quick).is_some() => continue,
                Shown::SmallFactor(factor) => Weakness::SmallFactor { factor },
                Shown::SharedPrime(others) => Weakness::SharedPrime { with: with(&others) },
                Shown::SameModulus(others) => Weakness::SameModulus { with: with(&others) },
            };
            found.extend(places.iter().map(|place| finding(place, *fingerprint, &weakness)));
        }
        found
    }

    fn name(&self, number: usize) -> String {
        let (_, fingerprint, places) = &self.keys[number];
        let place = places.first().map(|place| format!(" in {}@{}", place.account, place.host)).unwrap_or_default();
        format!("{fingerprint}{place}")
    }
}

fn finding(place: &EntryPlace, fingerprint: Fingerprint, weakness: &Weakness) -> (String, Finding<What>) {
    let fault = Fault::WeakKey { weakness: weakness.clone(), fingerprint };
    let finding = Finding {
        fault: What::System(fault),
        account: Some(place.account.to_string()),
        path: place.path.clone(),
        line: place.line,
    };
    (place.host.clone(), finding)
}
