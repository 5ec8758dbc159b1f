//! Files that several managed accounts read: a change for one of them would be one for the others.

use super::account_comparison::AccountComparison;
use crate::register::{Host, USUAL_LOGIN};
use lavrin_keys::key::Fingerprint;
use lavrin_server::abilities::Ability;
use lavrin_server::fs::BytePath;
use lavrin_server::steps::{self, Kept, NoSteps};
use lavrin_server::system::System;
use std::collections::HashSet;

/// Stops the work on them.
pub(super) fn share(found: &mut [AccountComparison], host: &Host, seen: &System<'_>) {
    let real = |name: &str| -> Vec<BytePath> {
        let targets = seen.account(name).and_then(|account| steps::targets(account, seen).ok());
        targets.into_iter().flatten().map(|target| target.real).collect()
    };
    for one in found.iter_mut().filter(|one| one.managed && one.fault.is_none()) {
        let own = real(&one.account);
        let mut others = host.accounts.iter().filter(|other| other.value != one.account);
        let shared = others.find_map(|other| real(&other.value).into_iter().find(|path| own.contains(path)));
        one.fault = shared.map(NoSteps::SharedFile);
    }
}

/// The same where a host names the files of its accounts in the register: whoever may enter one of them has to be let into all, since
/// one file opens all of them.
pub(super) fn share_places(found: &mut [AccountComparison], host: &Host, granted: &[Kept], seen: &System<'_>) {
    if seen.abilities.has(Ability::Files) || host.places.of_groups.is_empty() {
        return;
    }
    let login = host.login.as_deref().unwrap_or(USUAL_LOGIN);
    let place = |name: &str| host.places.file_of(name, login);
    let keys = |name: &str| -> HashSet<Fingerprint> {
        granted.iter().filter(|kept| kept.account == name).map(|kept| kept.fingerprint).collect()
    };
    for one in found.iter_mut().filter(|one| one.managed && one.fault.is_none()) {
        let Some(file) = place(&one.account) else { continue };
        let mut others = host.accounts.iter().filter(|other| place(&other.value).as_ref() == Some(&file));
        if others.any(|other| keys(&other.value) != keys(&one.account)) {
            one.fault = Some(NoSteps::SharedFile(BytePath::new(file.as_bytes())));
        }
    }
}
