//! What the files of the hosts show of a leaver's keys: where they stand, and where they are not shown to be gone.

use super::Leaver;
use lavrin_keys::key::Fingerprint;
use lavrin_server::login::{NotGone, Traces};
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use std::collections::BTreeMap;

/// One key that is not shown to be gone from one account.
#[derive(Debug, Clone)]
pub struct KeyNotShown {
    /// The account.
    pub account: String,
    /// The key.
    pub key: Fingerprint,
    /// Why.
    pub why: NotGone,
}

/// Everything of that kind, by host. A host that is not among them was not read.
#[derive(Debug, Default)]
pub struct NotShownByHost(BTreeMap<String, Vec<KeyNotShown>>);

impl NotShownByHost {
    /// Takes in a host as it is now, all its accounts, managed or not; what was known of it before is forgotten.
    pub fn take(&mut self, host: &str, seen: &Observation, leaver: &Leaver) {
        let (mut standing, system) = (Vec::new(), System::of(seen));
        for account in seen.accounts.iter() {
            let traces = Traces::of(account, &system);
            for key in &leaver.prints {
                let (account, key) = (account.name.clone(), *key);
                standing.extend(traces.not_gone(&key).map(|why| KeyNotShown { account, key, why }));
            }
        }
        self.0.insert(host.to_owned(), standing);
    }

    /// Forgets a host that was worked on and not read afterwards.
    pub fn forget(&mut self, host: &str) {
        self.0.remove(host);
    }

    /// What is not gone on a host; `None`: it was not read.
    #[must_use]
    pub fn of(&self, host: &str) -> Option<&[KeyNotShown]> {
        self.0.get(host).map(Vec::as_slice)
    }

    /// Whether a key is shown to be gone from an account; `*` are all of them.
    #[must_use]
    pub fn is_gone(&self, host: &str, account: &str, key: &str) -> bool {
        let about = |one: &KeyNotShown| (account == ALL || one.account == account) && one.key.to_string() == key;
        self.of(host).is_some_and(|standing| !standing.iter().any(about))
    }
}

/// Stands for every account of a host of which none is known.
pub const ALL: &str = "*";
