//! Removals that are owed: written into the register when they could not be carried out, taken out when they are done.

use crate::change::Ended;
use crate::offboard::ALL;
use crate::register::OpenedRegister;
use lavrin_fleet::register::edit::{EditFault, NewOwed, add_owed, remove_owed};
use lavrin_fleet::register::{Date, Owed};
use lavrin_keys::key::Fingerprint;
use lavrin_server::login;
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use lavrin_store::StoreFault;
use std::collections::BTreeMap;

/// The file that holds them.
pub const FILE: &str = "owed.toml";

/// Why what is owed could not be written down.
#[derive(Debug)]
pub enum OwedFault {
    /// The file cannot be changed.
    Edit(EditFault),
    /// It cannot be written.
    Store(StoreFault),
}

impl From<EditFault> for OwedFault {
    fn from(fault: EditFault) -> Self {
        Self::Edit(fault)
    }
}

impl From<StoreFault> for OwedFault {
    fn from(fault: StoreFault) -> Self {
        Self::Store(fault)
    }
}

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
///
/// # Errors
/// [`OwedFault`].
pub fn add(opened: &mut OpenedRegister, debts: &[NewDebt], today: Date) -> Result<usize, OwedFault> {
    let known = &opened.register().owed;
    let is_known = |debt: &&NewDebt| {
        known.iter().any(|owed| {
            owed.host == debt.host && owed.account == debt.account && owed.fingerprint == debt.key.to_string()
        })
    };
    let mut text = opened.text(FILE).unwrap_or_default().to_owned();
    let mut new = 0;
    for debt in debts.iter().filter(|debt| !is_known(debt)) {
        let key = debt.key.to_string();
        let (person, account, host) = (Some(debt.person.as_str()), debt.account.as_str(), debt.host.as_str());
        text = add_owed(&text, &NewOwed { key: &key, person, account, host, since: today })?;
        new += 1;
    }
    if new > 0 {
        opened.save(FILE, &text)?;
    }
    Ok(new)
}

/// Takes out what is owed to hosts on which the key is gone now.
///
/// # Errors
/// [`OwedFault`].
pub fn settle(opened: &mut OpenedRegister, ended: &BTreeMap<String, Ended>) -> Result<(), OwedFault> {
    settle_where(opened, |host, account, key| {
        // Only where all ended well: what could not be seen after a failure must not pass for gone.
        let done = ended.get(host).filter(|ended| ended.worst().is_done());
        let Some(Ended { asked, after: Some(after), .. }) = done else { return false };
        let open = asked
            .iter()
            .any(|asked| asked.still_open() && asked.account == account && asked.fingerprint.to_string() == key);
        !open && !may_stand(after, account, key)
    })
}

/// Takes out what is owed where `done` says so of a host, an account and a key.
///
/// # Errors
/// [`OwedFault`].
pub fn settle_where(opened: &mut OpenedRegister, done: impl Fn(&str, &str, &str) -> bool) -> Result<(), OwedFault> {
    let owed = &opened.register().owed;
    let is_done = |owed: &&Owed| done(&owed.host, &owed.account, &owed.fingerprint);
    let numbers: Vec<u32> = owed.iter().filter(is_done).map(|owed| owed.number).collect();
    let Some(old) = opened.text(FILE).filter(|_| !numbers.is_empty()) else { return Ok(()) };
    let text = remove_owed(old, &numbers)?;
    opened.save(FILE, &text)?;
    Ok(())
}

/// Whether a key may still stand in an account, or in any where it is owed for all of them.
fn may_stand(seen: &Observation, account: &str, key: &str) -> bool {
    let Ok(key) = Fingerprint::parse(key) else { return true };
    let system = System::of(seen);
    let may_stand = |account: &str| login::not_gone(account, &key, &system).is_some();
    if account == ALL { seen.accounts.iter().any(|account| may_stand(&account.name)) } else { may_stand(account) }
}
