//! Grants: who may use which account where.

use super::{Date, Host, OwnedKey, Placed, RegisterPlace, entry_options};
use lavrin_keys::keysfile::options::{OptionFault, Options};

/// Who a grant is for.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Whom {
    /// A person.
    Person(String),
    /// Everybody of a team.
    Team(String),
    /// An account on a host, for what runs there by itself.
    Machine {
        /// The account.
        account: String,
        /// The host.
        host: String,
    },
    /// Whoever is handed the kept key of this very account.
    Kept {
        /// The account.
        account: String,
        /// The host.
        host: String,
    },
}

/// Who may use which account where.
#[derive(Debug, Clone)]
pub struct Grant {
    /// Who.
    pub whom: Placed<Whom>,
    /// Only with the key that has this label.
    pub key: Option<Placed<String>>,
    /// Which account.
    pub account: String,
    /// On these hosts.
    pub hosts: Vec<Placed<String>>,
    /// On every host with one of these tags.
    pub tags: Vec<Placed<String>>,
    /// Until the end of this day.
    pub until: Option<Placed<Date>>,
    /// From these addresses only.
    pub from: Option<String>,
    /// For this command only.
    pub command: Option<String>,
    /// Further options of the entry.
    pub options: Vec<String>,
    /// The account is made where it is not there.
    pub create: Option<Box<CreateAccount>>,
    /// Why.
    pub reason: Option<String>,
    /// Where the machine is.
    pub place: RegisterPlace,
}

/// How an account is made that a grant is for.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct CreateAccount {
    /// The groups that it is put into.
    pub groups: Vec<Placed<String>>,
    /// Its shell; none: the usual one of the system.
    pub shell: Option<String>,
    /// Its home; none: the usual place.
    pub home: Option<String>,
}

impl Grant {
    /// Whether it is for a host: by its name, by one of its tags, or for all.
    #[must_use]
    pub fn covers(&self, host: &Host) -> bool {
        self.hosts.iter().any(|name| name.value == "*" || name.value == host.id)
            || self.tags.iter().any(|tag| host.tags.contains(&tag.value))
    }

    /// What stands in front of the key in an entry for it.
    ///
    /// # Errors
    /// [`OptionFault`] where a server would skip such an entry.
    pub fn entry_options(&self) -> Result<Options, OptionFault> {
        entry_options(self.from.as_deref(), self.command.as_deref(), &self.options)
    }

    /// Whether it is for this key of somebody for whom it is. `all` are the owner's keys.
    #[must_use]
    pub fn is_for(&self, key: &OwnedKey, all: &[OwnedKey]) -> bool {
        self.key.as_ref().is_none_or(|label| key.goes_by(&label.value, all))
    }

    /// Whether its last day is over.
    #[must_use]
    pub fn has_ended(&self, today: Date) -> bool {
        self.until.as_ref().is_some_and(|until| until.value < today)
    }
}
