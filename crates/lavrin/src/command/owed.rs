//! Removals that are owed: written into the register when they could not be carried out, taken out when they are done.

use super::register::{Opened, edit_fault, today};
use crate::error::CommandError;
use lavrin_core::key::Fingerprint;
use lavrin_core::login;
use lavrin_core::register::edit::{NewOwed, add_owed, remove_owed};
use lavrin_core::survey::Observation;
use lavrin_work::enforce::Ended;
use std::collections::HashMap;

/// The file that holds them.
const FILE: &str = "owed.toml";

/// A removal that could not be carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewDebt {
    /// The key.
    pub key: Fingerprint,
    /// Whose it is.
    pub person: String,
    /// The account.
    pub account: String,
    /// The host.
    pub host: String,
}

/// Writes down what is owed from now on; what is owed already stays as it stands. Gives how many are new.
pub fn add(opened: &Opened, debts: &[NewDebt]) -> Result<usize, CommandError> {
    let known = &opened.reading.register.owed;
    let is_known = |debt: &&NewDebt| {
        known.iter().any(|owed| {
            owed.host == debt.host && owed.account == debt.account && owed.fingerprint == debt.key.to_string()
        })
    };
    let old = opened.text(FILE);
    let mut text = old.unwrap_or_default().to_owned();
    let mut new = 0;
    for debt in debts.iter().filter(|debt| !is_known(debt)) {
        let key = debt.key.to_string();
        let (person, account, host) = (Some(debt.person.as_str()), debt.account.as_str(), debt.host.as_str());
        let owed = NewOwed { key: &key, person, account, host, since: today() };
        text = add_owed(&text, &owed).map_err(edit_fault(FILE))?;
        new += 1;
    }
    if new > 0 {
        opened.folder.save(FILE, old, &text)?;
    }
    Ok(new)
}

/// Takes out what is owed to hosts on which the key is gone now.
pub fn settle(opened: &Opened, ended: &HashMap<String, Ended>) -> Result<(), CommandError> {
    let gone = |host: &str, account: &str, key: &str| match ended.get(host) {
        Some(Ended::Done { asked, after }) => {
            let open = asked
                .iter()
                .any(|asked| asked.still_open() && asked.account == account && asked.fingerprint.to_string() == key);
            !open && !holds(after, account, key)
        }
        _ => false,
    };
    settle_where(opened, gone)
}

/// Takes out what is owed where `done` says so.
pub fn settle_where(opened: &Opened, done: impl Fn(&str, &str, &str) -> bool) -> Result<(), CommandError> {
    let owed = &opened.reading.register.owed;
    let numbers: Vec<usize> = (0..owed.len())
        .filter(|number| done(&owed[*number].host, &owed[*number].account, &owed[*number].fingerprint))
        .collect();
    let Some(old) = opened.text(FILE).filter(|_| !numbers.is_empty()) else { return Ok(()) };
    let text = remove_owed(old, &numbers).map_err(edit_fault(FILE))?;
    opened.folder.save(FILE, Some(old), &text)?;
    Ok(())
}

fn holds(seen: &Observation, account: &str, key: &str) -> bool {
    Fingerprint::parse(key).is_ok_and(|key| login::find_key(account, &key, seen).is_some())
}
