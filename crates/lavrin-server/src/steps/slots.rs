//! Steps on a device that keeps keys in slots: nothing but the keys themselves is there to change.

use super::{Edits, KeyChange, NoSteps, Steps};
use crate::abilities::Ability;
use crate::account::Account;
use crate::fs::{Fact, Why};
use crate::login::{AccountKeys, HeldEntry, KeySource, Place};
use crate::survey::KeySlot;
use crate::system::System;
use lavrin_keys::keysfile::{Content, read_all};

/// The keys that the account has there.
///
/// # Errors
/// [`NoSteps::Unread`] where the device did not show them: what is not seen cannot be changed safely.
pub(super) fn held(account: &Account, seen: &System<'_>) -> Result<AccountKeys, NoSteps> {
    let mut keys = AccountKeys::of(account, seen, None);
    match keys.unread.pop() {
        Some((source, why)) => Err(NoSteps::Unread(source, why)),
        None => Ok(keys),
    }
}

/// The change that puts an entry into a slot that the device chooses.
///
/// # Errors
/// [`NoSteps::NotApplicable`] where the entry has options and the device has none.
pub(super) fn add(account: &Account, line: &str, seen: &System<'_>) -> Result<KeyChange, NoSteps> {
    let entry = line.as_bytes().to_vec();
    let has_options = |content: &Content| matches!(content, Content::Entry(entry) if !entry.options.is_empty());
    if read_all(&entry, None, seen.dialect()).iter().any(|line| has_options(&line.content)) {
        needs_options(seen)?;
    }
    Ok(KeyChange { account: account.name.clone(), slot: None, old: None, new: Some(entry) })
}

fn needs_options(seen: &System<'_>) -> Result<(), NoSteps> {
    if seen.abilities.has(Ability::Options) { Ok(()) } else { Err(NoSteps::NotApplicable(Ability::Options)) }
}

/// The change that empties a slot.
///
/// # Errors
/// [`NoSteps::Unread`].
pub(super) fn remove(account: &Account, place: &Place, seen: &System<'_>) -> Result<KeyChange, NoSteps> {
    let slot = slot(account, place, seen)?;
    let (name, old) = (Some(slot.name.clone()), Some(slot.entry.clone()));
    Ok(KeyChange { account: account.name.clone(), slot: name, old, new: None })
}

/// The changes that do what was asked.
///
/// # Errors
/// [`NoSteps::Unread`].
pub(super) fn bring(account: &Account, edits: &Edits, seen: &System<'_>) -> Result<Steps, NoSteps> {
    let mut steps = Steps::blank(account, None);
    for place in &edits.remove {
        steps.changes.push(remove(account, place, seen)?.into());
    }
    for (place, options) in &edits.options {
        needs_options(seen)?;
        let keys = held(account, seen)?;
        let entry = keys.entries.iter().find(|held| held.place == *place).and_then(|held| with_options(held, options));
        let change = remove(account, place, seen)?;
        steps.changes.push(KeyChange { new: entry, ..change }.into());
    }
    for line in &edits.add {
        steps.changes.push(add(account, line, seen)?.into());
    }
    Ok(steps)
}

/// The entry with these options, its key and comment as they are.
fn with_options(held: &HeldEntry, options: &str) -> Option<Vec<u8>> {
    let Content::Entry(entry) = &held.content else { return None };
    let line = entry.key.line(&String::from_utf8_lossy(&entry.comment));
    Some(if options.is_empty() { line } else { format!("{options} {line}") }.into_bytes())
}

fn slot<'a>(account: &Account, place: &Place, seen: &'a System<'_>) -> Result<&'a KeySlot, NoSteps> {
    let slots = match seen.slots_of(&account.name) {
        Fact::Known(slots) => slots,
        Fact::Absent => return Err(NoSteps::Unread(KeySource::Slots, Why::NotReached)),
        Fact::Unseen(why) => return Err(NoSteps::Unread(KeySource::Slots, why)),
    };
    let named = slots.iter().find(|slot| place.slot() == Some(&slot.name));
    named.ok_or(NoSteps::Unread(KeySource::Slots, Why::NotReached))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::abilities::Abilities;
    use crate::account::read_passwd;
    use crate::login::{Outcome, Question, judge, not_gone};
    use crate::steps::{Change, Effect, guard_around, install, remove as remove_key, restore};
    use crate::survey::Observation;
    use lavrin_keys::key::policy::Policy;
    use lavrin_keys::key::{PrivateKey, PublicKey};

    fn key(seed: u8) -> PublicKey {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
    }

    fn device(keys: &[u8]) -> Observation {
        let slot = |seed: &u8| KeySlot { name: seed.to_string(), entry: key(*seed).line("a key").into_bytes() };
        let mut seen = Observation { looked: true, ..Observation::default() };
        seen.accounts = read_passwd(b"edda:x:1001:1001::/:/\n").into();
        seen.abilities = Abilities::without([Ability::Files, Ability::Settings]);
        seen.slots.insert("edda".to_owned(), Fact::Known(keys.iter().map(slot).collect()));
        seen
    }

    fn entries(seen: &Observation) -> Vec<String> {
        let held = AccountKeys::of(&seen.accounts[0], &System::of(seen), None).entries;
        held.iter().map(|held| held.key().unwrap().fingerprint().to_string()).collect()
    }

    #[test]
    fn a_key_is_put_in_taken_out_and_put_back() {
        let seen = device(&[1]);
        let system = System::of(&seen);
        let added = install("edda", &key(2), &key(2).line("new"), &system, &Policy::default()).unwrap().steps.changes;
        let after = seen.after(&added);
        assert_eq!(entries(&after).len(), 2);
        assert!(added[0].holds(&after) && added[0].is_undone(&seen) && !added[0].holds(&seen));
        assert_eq!(Effect::of(&added).came.len(), 1);
        let gone = remove_key("edda", &key(1).fingerprint(), &System::of(&after)).unwrap().steps.changes;
        let left = after.after(&gone);
        assert_eq!(entries(&left), [key(2).fingerprint().to_string()]);
        assert_eq!(not_gone("edda", &key(1).fingerprint(), &System::of(&left)), None);
        assert!(not_gone("edda", &key(1).fingerprint(), &system).is_some());
        let back = restore("edda", &[added, gone].concat(), &System::of(&left)).unwrap().changes;
        assert_eq!(entries(&left.after(&back)), entries(&seen));
        assert!(back.iter().all(|change| matches!(change, Change::Key(_))));
    }

    #[test]
    fn a_listed_key_may_open_the_account_and_what_was_not_shown_is_not_changed() {
        let mut seen = device(&[1]);
        let ask =
            |seen: &Observation, seed: u8| judge(&Question::plain("edda", &key(seed), 0), &System::of(seen)).outcome;
        assert_eq!((ask(&seen, 1), ask(&seen, 2)), (Outcome::Undecided, Outcome::Refused));
        seen.slots.insert("edda".to_owned(), Fact::Unseen(Why::NoAnswer));
        assert_eq!(ask(&seen, 2), Outcome::Undecided);
        let refused = remove_key("edda", &key(1).fingerprint(), &System::of(&seen)).unwrap_err();
        assert_eq!(refused, NoSteps::Unread(KeySource::Slots, Why::NoAnswer));
    }

    #[test]
    fn a_device_without_options_takes_no_entry_that_has_some() {
        let mut seen = device(&[1]);
        let limited = format!("no-pty {}", key(2).line("new"));
        let put = |seen: &Observation, line: &str| {
            install("edda", &key(2), line, &System::of(seen), &Policy::default()).map(|there| there.steps.changes.len())
        };
        assert_eq!(put(&seen, &limited), Ok(1));
        seen.abilities = Abilities::without([Ability::Files, Ability::Options]);
        assert_eq!(put(&seen, &limited), Err(NoSteps::NotApplicable(Ability::Options)));
        assert_eq!(put(&seen, &key(2).line("new")), Ok(1));
    }

    #[test]
    fn the_guard_counts_slots_too() {
        use crate::steps::{Around, Login};
        let seen = device(&[1]);
        let steps = remove_key("edda", &key(1).fingerprint(), &System::of(&seen)).unwrap().steps;
        let around = Around { seen: std::sync::Arc::new(seen), granted: Vec::new() };
        let login = Login { account: "edda".to_owned(), key: Some(key(1).fingerprint()) };
        assert!(guard_around(&[&steps], &around, Some(&login), 0, false).is_err());
    }
}
