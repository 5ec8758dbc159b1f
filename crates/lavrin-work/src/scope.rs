//! How far a look goes.

use lavrin_fleet::fleet;
use lavrin_server::abilities::Ability;
use lavrin_server::fs::BytePath;
use lavrin_server::steps::keys_only_wants;
use lavrin_server::survey::traces::TracesQuestion;
use lavrin_server::survey::{CONFIG_BYTES_MAX, Observation, Want, Wanted, Who};
use lavrin_server::system::System;
use lavrin_server::{audit, login};
use std::sync::Arc;

/// How far a look goes, so that the same look can be made again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Scope {
    /// Everything that decides who gets into one account.
    Account(String),
    /// Every account's files, but no private keys.
    Accounts,
    /// Everything that a survey remembers.
    Survey,
    /// The same, and what the settings of the server are changed by.
    Settings,
    /// The same as a survey, and what somebody leaves behind.
    Leaving(Arc<TracesQuestion>),
    /// The same as a survey, and these files.
    With(Arc<[BytePath]>),
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
            Self::Settings => {
                let system = System::of(seen);
                let mut wants = fleet::wants(&system);
                let more =
                    keys_only_wants(&system).into_iter().filter(|want| !wants.contains(want)).collect::<Vec<_>>();
                wants.extend(more);
                wants
            }
            Self::Leaving(question) => {
                let mut wants = fleet::wants(&System::of(seen));
                let traces = Want { what: Wanted::Traces(question.clone()), account: None };
                if seen.looked && seen.abilities.has(Ability::Files) && !seen.answers(&traces) {
                    wants.push(traces);
                }
                wants
            }
            Self::With(files) => {
                let mut wants = fleet::wants(&System::of(seen));
                if seen.looked {
                    wants.extend(files.iter().flat_map(whole).filter(|want| !seen.answers(want)));
                }
                wants
            }
        }
    }
}

/// What a file is and what it holds.
fn whole(file: &BytePath) -> [Want; 2] {
    [Wanted::Node(file.clone()), Wanted::Bytes(file.clone(), CONFIG_BYTES_MAX)].map(|what| Want { what, account: None })
}
