//! A device on which one switch ends the passwords of all accounts.

use super::{KeysOnly, OpenSetting, without_a_key};
use crate::steps::{NoSteps, ServerChange, Steps};
use crate::system::System;

/// Stands where a keyword of settings would.
pub const SWITCH: &str = "passwords";

/// By what it takes passwords.
pub(super) fn open_to_passwords(takes: bool) -> Vec<OpenSetting> {
    let open = OpenSetting { keyword: SWITCH, value: "on".to_owned(), place: None, in_match: false };
    takes.then_some(open).into_iter().collect()
}

/// The steps. Whoever has a password nobody sees; an account without a key loses its only way in.
pub(super) fn keys_only(takes: bool, seen: &System<'_>, now: i64) -> Result<KeysOnly, NoSteps> {
    let account = seen.accounts.first().ok_or(NoSteps::NoSuchAccount)?;
    let mut steps = Steps::blank(account, None);
    if !takes {
        return Ok(KeysOnly { steps, lines: Vec::new(), only_password: Vec::new() });
    }
    steps.changes.push(ServerChange::Passwords { on: false }.into());
    let after = seen.observation().after(&steps.changes);
    let only_password = without_a_key(|_| true, seen, &System::of(&after), now);
    Ok(KeysOnly { steps, lines: Vec::new(), only_password })
}

#[cfg(test)]
mod tests {
    use super::super::{RootLogin, keys_only, open_to_passwords};
    use crate::abilities::{Abilities, Ability};
    use crate::account::Account;
    use crate::fs::Fact;
    use crate::survey::{KeySlot, Observation};
    use crate::system::System;
    use lavrin_keys::key::PrivateKey;

    #[test]
    fn a_switch_ends_passwords_and_whoever_has_no_key_is_named() {
        let mut seen = Observation { looked: true, takes_passwords: Some(true), ..Observation::default() };
        seen.abilities = Abilities::without([Ability::Files, Ability::Settings]);
        seen.accounts = vec![Account::unknown("keeper"), Account::unknown("horn")].into();
        let entry = PrivateKey::ed25519(&[1; 32]).unwrap().public().line("office").into_bytes();
        seen.slots.insert("keeper".to_owned(), Fact::Known(vec![KeySlot { name: "1".to_owned(), entry }]));
        seen.slots.insert("horn".to_owned(), Fact::Known(Vec::new()));
        let system = System::of(&seen);
        assert_eq!(open_to_passwords(RootLogin::Keys, &system).unwrap().len(), 1);
        let found = keys_only(RootLogin::Keys, &system, 0).unwrap();
        let lost: Vec<&str> = found.only_password.iter().map(|one| one.account.as_str()).collect();
        assert_eq!((lost, found.steps.changes.len()), (vec!["horn"], 1));
        let change = &found.steps.changes[0];
        let after = seen.after([change]);
        assert!(change.holds(&after) && change.is_undone(&seen) && !change.holds(&seen) && change.is_seen(&seen));
        assert!(change.inverse().holds(&seen) && change.inverse().is_undone(&after));
        assert!(keys_only(RootLogin::Keys, &System::of(&after), 0).unwrap().steps.changes.is_empty());
    }
}
