//! How far a look goes.

use lavrin_fleet::fleet;
use lavrin_server::survey::{Observation, Want, Wanted, Who};
use lavrin_server::system::System;
use lavrin_server::{audit, login};

/// How far a look goes, so that the same look can be made again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Scope {
    /// Everything that decides who gets into one account.
    Account(String),
    /// Every account's files, but no private keys.
    Accounts,
    /// Everything that a survey remembers.
    Survey,
}

impl Scope {
    /// What has to be looked at next; nothing: the look is complete.
    #[must_use]
    pub fn wants(&self, seen: &Observation) -> Vec<Want> {
        match self {
            Self::Account(name) => login::wants(name, &System::of(seen)),
            Self::Accounts if !seen.looked => vec![Want { what: Wanted::System(Who::All), account: None }],
            Self::Accounts => {
                let mut wants = audit::wants(&System::of(seen));
                wants.retain(|want| !matches!(want.what, Wanted::PrivateKeys(_)));
                wants
            }
            Self::Survey => fleet::wants(&System::of(seen)),
        }
    }
}
