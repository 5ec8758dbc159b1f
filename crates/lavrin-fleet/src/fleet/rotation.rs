//! Keys that are replaced by others: which ones, and how far that is on a host, by what was seen of it.

use crate::fleet::Owner;
use crate::register::{Date, OwnedKey, Register};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_server::login;
use lavrin_server::system::System;

/// A key that is replaced by another one.
#[derive(Debug, Clone)]
pub struct Rotation {
    /// Whose they are; the label is that of the old key.
    pub owner: Owner,
    /// The old key.
    pub old: PublicKey,
    /// Since when the old key is not used any more.
    pub retired: Option<Date>,
    /// The label of the new key.
    pub label: String,
    /// The new key.
    pub new: PublicKey,
    /// Since when the new key is known.
    pub begun: Option<Date>,
}

/// How far a rotation is in one account.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum RotationStage {
    /// Only the old key is there.
    Old,
    /// Both are there.
    Beside,
    /// Only the new key is there.
    New,
    /// The old key is not seen, and not everything that the server reads was read: it may be there.
    Unread,
}

/// How far a rotation is in an account of a host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RotationPlace {
    /// The account.
    pub account: String,
    /// How far.
    pub stage: RotationStage,
    /// Whether the register manages the account.
    pub managed: bool,
}

impl Rotation {
    /// The old key's fingerprint.
    #[must_use]
    pub fn old_print(&self) -> Fingerprint {
        self.old.fingerprint()
    }

    /// The new key's fingerprint.
    #[must_use]
    pub fn new_print(&self) -> Fingerprint {
        self.new.fingerprint()
    }

    /// How far it is in each account of a host that has one of the two keys, or that was not read whole.
    #[must_use]
    pub fn on(&self, register: &Register, host: &str, seen: &System<'_>) -> Vec<RotationPlace> {
        let (old, new) = (self.old_print(), self.new_print());
        let managed = |name: &str| {
            let host = register.hosts.get(host);
            host.is_some_and(|host| host.accounts.iter().any(|account| account.value == name))
        };
        let of = |name: &str| {
            let keys = login::keys_of(name, seen);
            let has = |wanted: Fingerprint| keys.iter().any(|(key, _)| key.fingerprint() == wanted);
            let stage = match (has(old), has(new)) {
                (true, false) => RotationStage::Old,
                (true, true) => RotationStage::Beside,
                _ if login::not_gone(name, &old, seen).is_some() => RotationStage::Unread,
                (false, true) => RotationStage::New,
                (false, false) => return None,
            };
            Some(RotationPlace { account: name.to_owned(), stage, managed: managed(name) })
        };
        seen.accounts.iter().filter_map(|account| of(&account.name)).collect()
    }
}

/// Every key of somebody who is still there that is replaced by another one in use.
#[must_use]
pub fn rotations(register: &Register, today: Date) -> Vec<Rotation> {
    let people = register.people.values().filter(|person| !person.has_left(today));
    let of_people = people.flat_map(|person| {
        let owner = |label: &str| Owner::Person { id: person.id.clone(), label: label.to_owned() };
        of_keys(&person.keys, owner, today)
    });
    let of_hosts = register.all_hosts().flat_map(|host| {
        let account = |label: &str| {
            let key = host.keys.iter().find(|key| key.label == label);
            key.and_then(|key| key.account.clone()).unwrap_or_default()
        };
        let owner =
            |label: &str| Owner::Machine { account: account(label), host: host.id.clone(), label: label.to_owned() };
        of_keys(&host.keys, owner, today)
    });
    let of_kept = register.kept.iter().flat_map(|kept| {
        let (account, host) = (&kept.account, &kept.host);
        let owner = |label: &str| Owner::Kept { account: account.clone(), host: host.clone(), label: label.to_owned() };
        of_keys(&kept.keys, owner, today)
    });
    of_people.chain(of_hosts).chain(of_kept).collect()
}

fn of_keys(keys: &[OwnedKey], owner: impl Fn(&str) -> Owner, today: Date) -> Vec<Rotation> {
    let of = |old: &OwnedKey| {
        let new = old.successor(keys).filter(|new| new.is_active(today))?;
        Some(Rotation {
            owner: owner(&old.label),
            old: old.key.clone(),
            retired: old.retired,
            label: new.label.clone(),
            new: new.key.clone(),
            begun: new.added,
        })
    };
    keys.iter().filter_map(of).collect()
}
