//! Whose key is this, and may they be here?

use crate::register::{Date, Grant, Host, OwnedKey, Person, Register, Whom};
use foldhash::quality::RandomState;
use lavrin_keys::key::Fingerprint;
use std::collections::{BTreeSet, HashMap};

/// Whose a key is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Owner {
    /// A person.
    Person {
        /// Who.
        id: String,
        /// What they call the key.
        label: String,
    },
    /// An account on a host.
    Machine {
        /// The account.
        account: String,
        /// The host.
        host: String,
        /// Label of the key.
        label: String,
    },
    /// The office, which keeps the key of an account.
    Kept {
        /// The account.
        account: String,
        /// The host.
        host: String,
        /// Label of the key: its version.
        label: String,
    },
}

/// What the register says about one entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// It belongs there.
    Granted,
    /// Its person has left.
    Left(Date),
    /// The key is not used any more.
    Retired(Date),
    /// There was a grant, and it is over.
    Over(Date),
    /// There is no grant.
    None,
}

/// Who owns which key.
pub type KeyOwners = HashMap<Fingerprint, Owner, RandomState>;

/// Whose these keys are, as an [`Index`] would say; those of nobody are not in it.
#[must_use]
pub fn owners_of(register: &Register, keys: &BTreeSet<Fingerprint>) -> KeyOwners {
    owners(register, |key| keys.contains(&key))
}

fn owners(register: &Register, is_asked: impl Fn(Fingerprint) -> bool) -> KeyOwners {
    let mut owners = KeyOwners::default();
    for host in register.all_hosts() {
        for key in host.keys.iter().filter(|key| is_asked(key.fingerprint)) {
            let account = key.account.clone().unwrap_or_default();
            let owner = Owner::Machine { account, host: host.id.clone(), label: key.label.clone() };
            owners.entry(key.fingerprint).or_insert(owner);
        }
    }
    for kept in &register.kept {
        for key in kept.keys.iter().filter(|key| is_asked(key.fingerprint)) {
            let (account, host) = (kept.account.clone(), kept.host.clone());
            owners.insert(key.fingerprint, Owner::Kept { account, host, label: key.label.clone() });
        }
    }
    // A person before the others, where both have it.
    for person in register.people.values() {
        for key in person.keys.iter().filter(|key| is_asked(key.fingerprint)) {
            owners.insert(key.fingerprint, Owner::Person { id: person.id.clone(), label: key.label.clone() });
        }
    }
    owners
}

/// The register by key and by account.
pub struct Index<'a> {
    register: &'a Register,
    owners: KeyOwners,
    people: HashMap<&'a str, &'a Person, RandomState>,
    by_account: HashMap<&'a str, Vec<&'a Grant>, RandomState>,
    of_person: HashMap<(&'a str, &'a str), Vec<&'a Grant>, RandomState>,
    of_team: HashMap<(&'a str, &'a str), Vec<&'a Grant>, RandomState>,
}

impl<'a> Index<'a> {
    /// Takes the register apart once.
    #[must_use]
    pub fn of(register: &'a Register) -> Self {
        let mut index = Self {
            register,
            owners: owners(register, |_| true),
            people: register.people.iter().map(|(id, person)| (id.as_str(), person)).collect(),
            by_account: HashMap::default(),
            of_person: HashMap::default(),
            of_team: HashMap::default(),
        };
        for grant in register.all_grants() {
            let account = grant.account.as_str();
            match &grant.whom.value {
                Whom::Person(id) => index.of_person.entry((id, account)).or_default().push(grant),
                Whom::Team(team) => index.of_team.entry((team, account)).or_default().push(grant),
                Whom::Machine { .. } | Whom::Kept { .. } => index.by_account.entry(account).or_default().push(grant),
            }
        }
        index
    }

    /// Whether entries of this key are left alone on a host. Never those of a person that the register knows.
    #[must_use]
    pub fn is_left_alone(&self, key: Fingerprint, host: &Host) -> bool {
        let is_named = host.leave.iter().any(|left| left.value == key);
        is_named && !matches!(self.owner(key), Some(Owner::Person { .. }))
    }

    /// Whose a key is.
    #[must_use]
    pub fn owner(&self, key: Fingerprint) -> Option<&Owner> {
        self.owners.get(&key)
    }

    /// The key that an owner has under its label.
    #[must_use]
    pub fn key(&self, owner: &Owner) -> Option<&'a OwnedKey> {
        let (keys, label) = match owner {
            Owner::Person { id, label } => (&self.people.get(id.as_str())?.keys, label),
            Owner::Machine { host, label, .. } => (&self.register.hosts.get(host)?.keys, label),
            Owner::Kept { account, host, label } => (&self.register.kept_of(account, host)?.keys, label),
        };
        keys.iter().find(|key| key.label == *label)
    }

    /// What the register says about this owner's key in an account of a host.
    #[must_use]
    pub fn standing(&self, owner: &Owner, account: &str, host: &Host, today: Date) -> Standing {
        match owner {
            Owner::Person { id, label } => self.of_persons_key(id, label, account, host, today),
            Owner::Machine { account: from, host: home, label } => {
                let machine = Whom::Machine { account: from.clone(), host: home.clone() };
                let keys = self.register.hosts.get(home).map(|host| host.keys.as_slice()).unwrap_or_default();
                self.of_account(&machine, keys, label, account, host, today)
            }
            Owner::Kept { account: of, host: on, label } => {
                let kept = Whom::Kept { account: of.clone(), host: on.clone() };
                let keys = self.register.kept_of(of, on).map(|kept| kept.keys.as_slice()).unwrap_or_default();
                self.of_account(&kept, keys, label, account, host, today)
            }
        }
    }

    /// Of a key that belongs to an account: that of a program, or a kept one.
    fn of_account(
        &self,
        whom: &Whom,
        keys: &[OwnedKey],
        label: &str,
        account: &str,
        host: &Host,
        today: Date,
    ) -> Standing {
        let grants = self.by_account.get(account).into_iter().flatten().copied();
        let own = grants.filter(|grant| grant.whom.value == *whom);
        retired(keys, label, today).unwrap_or_else(|| best(own, label, keys, host, today))
    }

    fn of_persons_key(&self, id: &str, label: &str, account: &str, host: &Host, today: Date) -> Standing {
        let Some(person) = self.people.get(id) else { return Standing::None };
        if let Some(left) = person.left.as_ref().filter(|_| person.has_left(today)) {
            return Standing::Left(left.value);
        }
        retired(&person.keys, label, today)
            .unwrap_or_else(|| best(self.grants_for(person, account), label, &person.keys, host, today))
    }

    fn grants_for<'b>(&'b self, person: &'b Person, account: &'b str) -> impl Iterator<Item = &'a Grant> + 'b {
        let own = self.of_person.get(&(person.id.as_str(), account)).into_iter().flatten();
        let team = person.team.as_deref().and_then(|team| self.of_team.get(&(team, account))).into_iter().flatten();
        own.chain(team).copied()
    }
}

fn retired(keys: &[OwnedKey], label: &str, today: Date) -> Option<Standing> {
    let key = keys.iter().find(|key| key.label == label)?;
    key.retired.filter(|day| *day <= today).map(Standing::Retired)
}

/// A grant in force goes before one that is over.
fn best<'a>(
    grants: impl Iterator<Item = &'a Grant>,
    label: &str,
    keys: &[OwnedKey],
    host: &Host,
    today: Date,
) -> Standing {
    let key = keys.iter().find(|key| key.label == label);
    let mut standing = Standing::None;
    for grant in grants {
        if !grant.covers(host) || key.is_some_and(|key| !grant.is_for(key, keys)) {
            continue;
        }
        match grant.until.as_ref().filter(|_| grant.has_ended(today)) {
            None => return Standing::Granted,
            Some(until) => standing = Standing::Over(until.value),
        }
    }
    standing
}
