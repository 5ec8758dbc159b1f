//! Which keys of an agent are worth offering to a host first: a server ends the connection after some refusals.

use crate::register::{Grant, Host, Person, Register, Whom};
use foldhash::quality::RandomState;
use lavrin_keys::key::Fingerprint;
use std::collections::HashMap;

/// A key and the account it is let into.
type Let = (String, Fingerprint);

/// The register's keys by the hosts that let them in. Whether a grant is over makes no difference here: this is an order, no
/// right.
#[derive(Debug, Default)]
pub struct Offers {
    on_host: HashMap<String, Vec<Let>, RandomState>,
    on_tag: HashMap<String, Vec<Let>, RandomState>,
    everywhere: Vec<Let>,
    known: Vec<Fingerprint>,
}

impl Offers {
    /// Takes the register apart once.
    #[must_use]
    pub fn of(register: &Register) -> Self {
        let people = register.people.values().filter(|person| person.left.is_none());
        let known = people.flat_map(|person| &person.keys).map(|key| key.fingerprint).collect();
        let mut offers = Self { known, ..Self::default() };
        for grant in register.all_grants() {
            let keys = keys_of(register, grant);
            let all = || keys.iter().map(|key| (grant.account.clone(), *key));
            for host in &grant.hosts {
                match host.value.as_str() {
                    "*" => offers.everywhere.extend(all()),
                    host => offers.on_host.entry(host.to_owned()).or_default().extend(all()),
                }
            }
            for tag in &grant.tags {
                offers.on_tag.entry(tag.value.clone()).or_default().extend(all());
            }
        }
        offers
    }

    /// What is offered to a host: keys let into this account, then keys let into another one there.
    #[must_use]
    pub fn on(&self, host: &Host, account: &str) -> Vec<Fingerprint> {
        let own = self.on_host.get(&host.id).into_iter().flatten();
        let tagged = host.tags.iter().filter_map(|tag| self.on_tag.get(tag)).flatten();
        let here: Vec<&Let> = own.chain(tagged).chain(&self.everywhere).collect();
        let (first, then): (Vec<&Let>, Vec<&Let>) = here.into_iter().partition(|(whose, _)| whose == account);
        first.into_iter().chain(then).map(|(_, key)| *key).collect()
    }

    /// The keys of everybody who has not left: offered next.
    #[must_use]
    pub fn known(&self) -> &[Fingerprint] {
        &self.known
    }
}

fn keys_of(register: &Register, grant: &Grant) -> Vec<Fingerprint> {
    if let Whom::Kept { account, host } = &grant.whom.value {
        let kept = register.kept_of(account, host);
        return kept.into_iter().flat_map(|kept| &kept.keys).map(|key| key.fingerprint).collect();
    }
    let people = register.people.values().filter(|person| match &grant.whom.value {
        Whom::Person(id) => person.id == *id,
        Whom::Team(team) => person.team.as_deref() == Some(team.as_str()),
        Whom::Machine { .. } | Whom::Kept { .. } => false,
    });
    let here = people.filter(|person| person.left.is_none());
    let meant = |person: &Person| {
        let keys = person.keys.iter().filter(|key| grant.is_for(key, &person.keys));
        keys.map(|key| key.fingerprint).collect::<Vec<_>>()
    };
    here.flat_map(meant).collect()
}
