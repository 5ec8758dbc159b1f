//! What a machine needs before it runs for the first time: the accounts that the register grants there, and their entries.

use super::compare::{Comparer, Difference};
use crate::register::Host;
use lavrin_server::device::LimitBroken;
use std::collections::BTreeSet;

/// An account of a machine that has not run yet.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct FirstAccount {
    /// Its name.
    pub name: String,
    /// Groups that a grant asks for.
    pub groups: Vec<String>,
    /// The shell that a grant asks for.
    pub shell: Option<String>,
    /// The home that a grant asks for.
    pub home: Option<String>,
    /// The lines of its key file.
    pub lines: Vec<String>,
    /// For whom the machine takes no key, and why.
    pub refused: Vec<(String, LimitBroken)>,
}

impl Comparer<'_> {
    /// The accounts of a host that has not run yet: those that are managed, and those that are granted. Its server is one that
    /// ends entries by itself (OpenSSH 7.7 and later).
    #[must_use]
    pub fn first_entries(&self, host: &Host) -> Vec<FirstAccount> {
        let grants = self.grants_on(host);
        let managed = host.accounts.iter().map(|account| account.value.as_str());
        let names: BTreeSet<&str> = managed.chain(grants.iter().map(|grant| grant.account.as_str())).collect();
        let of = |name: &str| {
            let own: Vec<_> = grants.iter().filter(|grant| grant.account == name).copied().collect();
            let mut account = FirstAccount { name: name.to_owned(), ..FirstAccount::default() };
            for create in own.iter().filter_map(|grant| grant.create.as_deref()) {
                let new = create.groups.iter().filter(|group| !account.groups.contains(&group.value));
                let new: Vec<String> = new.map(|group| group.value.clone()).collect();
                account.groups.extend(new);
                account.shell = account.shell.or_else(|| create.shell.clone());
                account.home = account.home.or_else(|| create.home.clone());
            }
            for asked in self.entries_asked_for(&own, &host.limits) {
                match asked {
                    Difference::Add { line, .. } => account.lines.push(line),
                    Difference::NoKeyTaken { who, limit } => account.refused.push((who, limit)),
                    _ => {}
                }
            }
            account
        };
        names.into_iter().map(of).collect()
    }
}
