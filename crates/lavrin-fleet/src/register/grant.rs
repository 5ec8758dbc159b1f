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

/// Which grants are read of a register: nearly all of very many are about others.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GrantsFor<'a> {
    /// All of them.
    All,
    /// Those that may be for this person: by name, or any team's.
    Person(&'a str),
    /// Those that may be for this host: by its name, for all hosts, or by any tag.
    Host(&'a str),
}

impl GrantsFor<'_> {
    /// Whether a grant for this person, if it is for one, on these hosts is one of them.
    pub(super) fn concerns<'b>(
        self,
        person: Option<&str>,
        mut hosts: impl Iterator<Item = &'b str>,
        has_tags: bool,
    ) -> bool {
        match self {
            Self::All => true,
            Self::Person(id) => person.is_none_or(|person| person == id),
            Self::Host(id) => has_tags || hosts.any(|host| host == "*" || host == id),
        }
    }

    /// Whether this grant is one of them.
    pub(super) fn wants(self, grant: &Grant) -> bool {
        let person = if let Whom::Person(id) = &grant.whom.value { Some(id.as_str()) } else { None };
        self.concerns(person, grant.hosts.iter().map(|host| host.value.as_str()), !grant.tags.is_empty())
    }
}

/// Who may use which account where.
#[derive(Debug, Clone)]
pub struct Grant {
    /// Its number, counted from 1 in the order of `access.toml`, where those that cannot be read count too; 0: it stands elsewhere.
    pub number: u32,
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
    /// What limits the entry, where something does.
    pub limits: Option<Box<GrantLimits>>,
    /// The account is made where it is not there.
    pub create: Option<Box<CreateAccount>>,
    /// Why.
    pub reason: Option<String>,
    /// Where the machine is.
    pub place: RegisterPlace,
}

/// What limits the entries of a grant: few grants have any.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct GrantLimits {
    /// From these addresses only.
    pub from: Option<String>,
    /// For this command only.
    pub command: Option<String>,
    /// Further options of the entry.
    pub options: Vec<String>,
}

impl GrantLimits {
    /// Boxed, where there are any.
    pub(super) fn any(self) -> Option<Box<Self>> {
        (self != Self::default()).then(|| Box::new(self))
    }
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
        entry_options(self.from(), self.command(), self.options())
    }

    /// From these addresses only.
    #[must_use]
    pub fn from(&self) -> Option<&str> {
        self.limits.as_ref()?.from.as_deref()
    }

    /// For this command only.
    #[must_use]
    pub fn command(&self) -> Option<&str> {
        self.limits.as_ref()?.command.as_deref()
    }

    /// Further options of the entry.
    #[must_use]
    pub fn options(&self) -> &[String] {
        self.limits.as_ref().map(|limits| limits.options.as_slice()).unwrap_or_default()
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
