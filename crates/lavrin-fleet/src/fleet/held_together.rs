//! All RSA keys of the fleet compared with each other: two that share a prime or a modulus are broken, wherever they are.

use super::{FleetEntry, What};
use lavrin_keys::key::PublicKey;
use lavrin_keys::key::strength::cross_check::{self, Shown};
use lavrin_keys::key::strength::{self, Depth, Weakness};
use lavrin_server::finding::{Fault, Finding};
use std::collections::HashMap;

/// Places of other keys that are named in one finding.
const NAMED_MAX: usize = 4;

/// Each finding, with its host.
pub(super) fn check(entries: &[FleetEntry]) -> Vec<(String, Finding<What>)> {
    // One key is on many hosts: each is compared once, and told wherever it is.
    let mut places: HashMap<&PublicKey, Vec<usize>> = HashMap::new();
    let mut keys: Vec<(&PublicKey, usize)> = Vec::new();
    for (index, entry) in entries.iter().enumerate() {
        let key: &PublicKey = &entry.entry.key;
        if matches!(key, PublicKey::Rsa { .. }) {
            let list = places.entry(key).or_default();
            if list.is_empty() {
                keys.push((key, index));
            }
            list.push(index);
        }
    }
    let mut found = Vec::new();
    for (index, shown) in cross_check::rsa(keys.iter().map(|(key, _)| Some(*key))) {
        let key = keys[index].0;
        let with =
            |others: &[usize]| others.iter().take(NAMED_MAX).map(|other| name(&entries[keys[*other].1])).collect();
        let weakness = match shown {
            // What the quick look at each key finds by itself is reported there.
            Shown::SmallFactor(_) if strength::small_factor(key, Depth::Quick).is_some() => continue,
            Shown::SmallFactor(factor) => Weakness::SmallFactor { factor },
            Shown::SharedPrime(others) => Weakness::SharedPrime { with: with(&others) },
            Shown::SameModulus(others) => Weakness::SameModulus { with: with(&others) },
        };
        found.extend(places[key].iter().map(|place| finding(&entries[*place], &weakness)));
    }
    found
}

fn name(entry: &FleetEntry) -> String {
    format!("{} in {}@{}", entry.entry.fingerprint, entry.entry.account, entry.host)
}

fn finding(entry: &FleetEntry, weakness: &Weakness) -> (String, Finding<What>) {
    let fault = Fault::WeakKey { weakness: weakness.clone(), fingerprint: entry.entry.fingerprint };
    let finding = Finding {
        fault: What::System(fault),
        account: Some(entry.entry.account.to_string()),
        path: entry.entry.place.path().cloned(),
        line: entry.entry.place.line(),
    };
    (entry.host.clone(), finding)
}
