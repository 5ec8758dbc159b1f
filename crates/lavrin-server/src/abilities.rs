//! What cannot be done or seen on a host, whatever rights one has: reports say it once as "not applicable", and it is asked by everything
//! that would need it.

use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Something that most hosts can do or show, and some cannot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ability {
    /// Keys are lines of files that can be read and written. Without it they are in slots, one key in each.
    Files,
    /// Permission bits are there.
    Modes,
    /// Owners are there.
    Owners,
    /// The server's settings can be seen.
    Settings,
    /// Logs tell which key was used when.
    Logs,
    /// An entry can have options.
    Options,
    /// A file can take the place of another at once.
    Rename,
    /// All accounts can be listed.
    Accounts,
    /// Accounts can be made.
    NewAccounts,
    /// The server can be asked from outside, over a connection of its own.
    Questions,
}

impl Ability {
    /// Its name for programs.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Files => "files",
            Self::Modes => "modes",
            Self::Owners => "owners",
            Self::Settings => "settings",
            Self::Logs => "logs",
            Self::Options => "options",
            Self::Rename => "rename",
            Self::Accounts => "accounts",
            Self::NewAccounts => "new-accounts",
            Self::Questions => "questions",
        }
    }
}

/// What a host lacks; nothing, as on most.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Abilities {
    lacks: BTreeSet<Ability>,
}

impl Abilities {
    /// All but these.
    #[must_use]
    pub fn without(lacks: impl IntoIterator<Item = Ability>) -> Self {
        Self { lacks: lacks.into_iter().collect() }
    }

    /// Whether it is there.
    #[must_use]
    pub fn has(&self, ability: Ability) -> bool {
        !self.lacks.contains(&ability)
    }

    /// What is not there, in a fixed order.
    pub fn lacking(&self) -> impl Iterator<Item = Ability> + '_ {
        self.lacks.iter().copied()
    }

    /// Whether nothing is lacking.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.lacks.is_empty()
    }
}
