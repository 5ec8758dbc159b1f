//! The register: who the people are, which public keys are theirs, which hosts there are, and who may use which account.
//!
//! It is read from the text of its files ([`read`]); everything in it knows where it stands, so that each fault can point at
//! its line. [`check`] says what is wrong with it, without looking at any host.

pub mod check;
mod defaults;
mod device;
pub mod edit;
pub mod edit_kept;
mod fault;
mod fields;
mod grant;
pub mod kept;
mod parts;
mod place;
mod plain;
mod policy;
mod reach;
mod read;
mod read_grant;
mod read_key;
mod table;

pub use defaults::{Defaults, HOST_LIMIT_MAX, PARALLEL_MAX, read_defaults};
pub use device::FOLDER as PROFILES;
pub use fault::{FieldKind, RegisterFault, RegisterFinding};
pub use fields::near;
pub use grant::{CreateAccount, Grant, GrantLimits, GrantsFor, Whom};
pub use kept::{HandOut, KeptAccount, KeptVersion};
pub use lavrin_keys::date::Date;
use lavrin_keys::key::policy::Policy;
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_keys::keysfile::options::{self, OptionFault, Options};
use lavrin_server::device::{KeyLimits, KeyPlaces, Profile};
pub(crate) use place::SourcePart;
pub use place::{Placed, RegisterPlace};
pub use reach::{ReachKind, RootProgram};
pub use read::{Reading, is_store_url, read, read_some};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

/// A file of the register as it was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceFile {
    /// Its path below the register's folder, with `/` between the parts.
    pub path: String,
    /// Its text.
    pub text: String,
}

/// What a key is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Purpose {
    /// A person at a keyboard.
    #[default]
    Person,
    /// A program that runs by itself.
    Automation,
    /// For the day on which nothing else works.
    BreakGlass,
}

impl Purpose {
    /// Every purpose with its name.
    pub const NAMES: [(&'static str, Self); 3] =
        [("person", Self::Person), ("automation", Self::Automation), ("break-glass", Self::BreakGlass)];

    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        Self::NAMES.into_iter().find(|(_, purpose)| *purpose == self).map_or("person", |(name, _)| name)
    }
}

/// A public key of a person, or of an account on a host.
#[derive(Debug, Clone)]
pub struct OwnedKey {
    /// What its owner calls it.
    pub label: String,
    /// The key.
    pub key: PublicKey,
    /// Its fingerprint.
    pub fingerprint: Fingerprint,
    /// The comment on its line.
    pub comment: String,
    /// What it is for.
    pub purpose: Purpose,
    /// Since when it is known.
    pub added: Option<Date>,
    /// Since when it is not used any more.
    pub retired: Option<Date>,
    /// The label of the key of the same owner that it replaces.
    pub replaces: Option<Placed<String>>,
    /// For a key of a host: the account that it belongs to.
    pub account: Option<String>,
    /// For a key of a host: where its private half lies there.
    pub file: Option<String>,
    /// Where its line stands.
    pub place: RegisterPlace,
}

impl OwnedKey {
    /// Whether it is in use on this day.
    #[must_use]
    pub fn is_active(&self, today: Date) -> bool {
        self.retired.is_none_or(|retired| retired > today)
    }

    /// Whether a label means this key: its own, or that of a key that it replaces, step by step. `all` are its owner's keys.
    #[must_use]
    pub fn goes_by(&self, label: &str, all: &[Self]) -> bool {
        let mut key = self;
        // As many steps as there are keys: a loop ends too.
        for _ in 0..=all.len() {
            if key.label == label {
                return true;
            }
            let replaced = key.replaces.as_ref().and_then(|old| all.iter().find(|other| other.label == old.value));
            let Some(replaced) = replaced else { return false };
            key = replaced;
        }
        false
    }

    /// The key that replaces this one. `all` are its owner's keys.
    #[must_use]
    pub fn successor<'a>(&self, all: &'a [Self]) -> Option<&'a Self> {
        all.iter().find(|other| other.replaces.as_ref().is_some_and(|old| old.value == self.label))
    }
}

/// A person.
#[derive(Debug, Clone)]
pub struct Person {
    /// The name under which the register knows them.
    pub id: String,
    /// The full name.
    pub name: String,
    /// The team they belong to.
    pub team: Option<String>,
    /// Since when they are there.
    pub since: Option<Date>,
    /// The day on which they left.
    pub left: Option<Placed<Date>>,
    /// Their keys.
    pub keys: Vec<OwnedKey>,
    /// Where they stand.
    pub place: RegisterPlace,
}

impl Person {
    /// Whether they have left by this day.
    #[must_use]
    pub fn has_left(&self, today: Date) -> bool {
        self.left.as_ref().is_some_and(|left| left.value <= today)
    }
}

/// Who signs in on hosts that name nobody.
pub const USUAL_LOGIN: &str = "root";

/// A host.
#[derive(Debug, Clone)]
pub struct Host {
    /// Its name in the register.
    pub id: String,
    /// Name or address at which it is reached.
    pub address: String,
    /// Port of its SSH server.
    pub port: u16,
    /// How it is spoken to.
    pub reach: ReachKind,
    /// Where its keys are, where it gives nothing but files.
    pub places: KeyPlaces,
    /// How it is worked on, where it has a command line of its own.
    pub profile: Option<Placed<String>>,
    /// What it can bear of keys.
    pub limits: KeyLimits,
    /// Whether it knows no algorithms but broken ones, and is spoken to all the same.
    pub old_algorithms: bool,
    /// What has to run there after changes, so that they are kept: a program and its arguments.
    pub after_change: Vec<Placed<String>>,
    /// What it is grouped by.
    pub tags: Vec<String>,
    /// Where the machine is in the world.
    pub site: Option<String>,
    /// The account that signs in.
    pub login: Option<String>,
    /// How such a login gets root's rights, where the host has one way only.
    pub root_by: Option<RootProgram>,
    /// The host through which it is reached.
    pub through: Option<Placed<String>>,
    /// How somebody gets in where no key opens it any more: a console, a rescue system, a person on site.
    pub way_back: Option<String>,
    /// When that was last tried.
    pub way_back_tried: Option<Placed<Date>>,
    /// Its host keys.
    pub host_keys: Vec<Placed<PublicKey>>,
    /// The accounts whose key files are managed.
    pub accounts: Vec<Placed<String>>,
    /// Keys that are left alone although nobody is known for them.
    pub leave: Vec<Placed<Fingerprint>>,
    /// What stands among them and is no fingerprint. Whoever may write an entry may write its comment, so it leaves nothing alone.
    pub leave_unread: Vec<Placed<String>>,
    /// Whether everybody who may enter its managed accounts is in the register: then keys of nobody are removed too.
    pub complete: bool,
    /// Keys that belong to accounts on it.
    pub keys: Vec<OwnedKey>,
    /// Where the machine is.
    pub place: RegisterPlace,
}

/// A finding that is let pass for a while.
#[derive(Debug, Clone)]
pub struct Exception {
    /// The rule.
    pub rule: Placed<String>,
    /// Whom or what it is about: a person, a host, or `ACCOUNT@HOST`.
    pub about: String,
    /// Why.
    pub reason: String,
    /// Until the end of this day.
    pub until: Placed<Date>,
    /// Where the machine is.
    pub place: RegisterPlace,
}

/// A removal that could not be carried out yet.
#[derive(Debug, Clone)]
pub struct Owed {
    /// Its number, counted from 1 in the order of `owed.toml`, where those that cannot be read count too.
    pub number: u32,
    /// The key.
    pub fingerprint: String,
    /// Whose it is.
    pub person: Option<String>,
    /// The account.
    pub account: String,
    /// The host.
    pub host: String,
    /// Since when it is owed.
    pub since: Date,
    /// Where the machine is.
    pub place: RegisterPlace,
}

/// A grant or an entry is reported this many days before its end, unless the register says otherwise.
const ENDS_SOON_DAYS: i64 = 14;

impl Default for Rules {
    fn default() -> Self {
        Self {
            policy: Policy::default(),
            key_age_days_max: None,
            ends_soon_days: ENDS_SOON_DAYS,
            break_glass_hosts: Vec::new(),
            way_back_days_max: None,
            keys_only: Vec::new(),
            no_ways: Vec::new(),
            groups_forbidden: Vec::new(),
            comment: None,
            automation_options: Vec::new(),
            severities: BTreeMap::new(),
        }
    }
}

impl Rules {
    /// Whether nobody may get into this host by a password.
    #[must_use]
    pub fn asks_for_keys_only(&self, host: &Host) -> bool {
        names_host(&self.keys_only, host)
    }

    /// Whether this host needs an entry of a key for the day on which nothing else works.
    #[must_use]
    pub fn asks_for_break_glass(&self, host: &Host) -> bool {
        names_host(&self.break_glass_hosts, host)
    }
}

/// Whether one of these names, each a host, a tag or `*`, is meant for a host.
fn names_host(names: &[Placed<String>], host: &Host) -> bool {
    let is_meant = |name: &str| name == "*" || name == host.id || host.tags.iter().any(|tag| tag == name);
    names.iter().any(|name| is_meant(&name.value))
}

/// From hosts with one tag nobody may get to hosts with another one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NoWay {
    /// The tag of the hosts that somebody may have taken.
    pub from: Placed<String>,
    /// The tag of those that they may not get to.
    pub to: Placed<String>,
}

/// What the register asks beyond what every register is asked.
#[derive(Debug, Clone)]
pub struct Rules {
    /// Algorithms, sizes and modes.
    pub policy: Policy,
    /// Days after which a key is old.
    pub key_age_days_max: Option<i64>,
    /// A grant or an entry is reported this many days before its end; 0: never.
    pub ends_soon_days: i64,
    /// Hosts, or tags, that need an entry of a key for the day on which nothing else works; `*` stands for all.
    pub break_glass_hosts: Vec<Placed<String>>,
    /// Days after which the way back to a host has to be tried again; none: nobody is asked for one.
    pub way_back_days_max: Option<i64>,
    /// Hosts, or tags, on which nobody may get in by a password; `*` stands for all.
    pub keys_only: Vec<Placed<String>>,
    /// Tags between which no way may lead over keys that lie on hosts.
    pub no_ways: Vec<NoWay>,
    /// Groups into which no grant may put an account.
    pub groups_forbidden: Vec<String>,
    /// A pattern with `*` and `?` that each comment has to match.
    pub comment: Option<String>,
    /// Options of which keys for automation have to carry one.
    pub automation_options: Vec<String>,
    /// Rules that are told with another severity; `None`: not at all.
    pub severities: BTreeMap<String, Option<lavrin_server::finding::Severity>>,
}

/// Where the journal of changes is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum JournalPlace {
    /// In the store on the desk of whoever makes a change.
    #[default]
    Desk,
    /// In the register too, so that every copy of it knows all runs.
    Register,
}

impl JournalPlace {
    /// Every place with its name.
    pub const NAMES: [(&'static str, Self); 2] = [("desk", Self::Desk), ("register", Self::Register)];
}

/// The register.
#[derive(Debug, Clone, Default)]
pub struct Register {
    /// What it is called.
    pub name: String,
    /// Where its journal is kept.
    pub journal: JournalPlace,
    /// Where its memory is, if not in a file on this machine.
    pub store_url: Option<String>,
    /// What it asks.
    pub rules: Rules,
    /// What holds where an option is not typed.
    pub defaults: Defaults,
    /// The people by their names here.
    pub people: BTreeMap<String, Person>,
    /// The hosts by their names here.
    pub hosts: BTreeMap<String, Box<Host>>,
    /// Profiles of devices by their names here.
    pub profiles: BTreeMap<String, Arc<Profile>>,
    /// The grants in their order.
    pub grants: Vec<Grant>,
    /// The kept keys of accounts.
    pub kept: Vec<KeptAccount>,
    /// The people for whom private halves are sealed.
    pub administrators: Vec<Placed<String>>,
    /// The exceptions.
    pub exceptions: Vec<Exception>,
    /// Removals that are still owed.
    pub owed: Vec<Owed>,
}

impl Register {
    /// The people of a team.
    pub fn team<'a>(&'a self, team: &'a str) -> impl Iterator<Item = &'a Person> {
        self.people.values().filter(move |person| person.team.as_deref() == Some(team))
    }

    /// Every grant: those that are written down as such, in their order, and those of kept keys.
    pub fn all_grants(&self) -> impl Iterator<Item = &Grant> {
        self.grants.iter().chain(self.kept.iter().map(|kept| &kept.grant))
    }

    /// The kept key of an account.
    #[must_use]
    pub fn kept_of(&self, account: &str, host: &str) -> Option<&KeptAccount> {
        self.kept.iter().find(|kept| kept.account == account && kept.host == host)
    }

    /// Every host, in the order of their names.
    pub fn all_hosts(&self) -> impl Iterator<Item = &Host> {
        self.hosts.values().map(Box::as_ref)
    }

    /// The hosts that a grant names or that carry one of its tags, in the order of their names; a host named `*` stands for all.
    pub fn hosts_of<'a>(&'a self, grant: &'a Grant) -> impl Iterator<Item = &'a Host> {
        let names_all = grant.tags.is_empty() && grant.hosts.iter().all(|name| name.value != "*");
        let mut named: Vec<&Host> = Vec::new();
        if names_all {
            named.extend(grant.hosts.iter().filter_map(|name| self.hosts.get(&name.value)).map(Box::as_ref));
            named.sort_unstable_by_key(|host| &host.id);
            named.dedup_by_key(|host| &host.id);
        }
        // Only where more than names count each host has to be asked.
        let others = (!names_all).then(|| self.all_hosts().filter(|host| grant.covers(host)));
        named.into_iter().chain(others.into_iter().flatten())
    }

    /// The hosts that names stand for, each a host or a tag; without names every host. `Err` holds a name that is neither.
    ///
    /// # Errors
    /// The first name that is neither a host nor a tag.
    pub fn hosts_named<'a>(&'a self, names: &[String]) -> Result<Vec<&'a Host>, String> {
        let is_tag = |name: &String| self.hosts.values().any(|host| host.tags.contains(name));
        if let Some(odd) = names.iter().find(|name| !self.hosts.contains_key(*name) && !is_tag(name)) {
            return Err(odd.clone());
        }
        let meant =
            |host: &&Host| names.is_empty() || names.iter().any(|name| host.id == *name || host.tags.contains(name));
        Ok(self.all_hosts().filter(meant).collect())
    }

    /// Whether the way to a host over others never ends.
    #[must_use]
    pub fn goes_round(&self, host: &Host) -> bool {
        let mut passed = HashSet::from([host.id.as_str()]);
        let mut next = host.through.as_ref().and_then(|through| self.hosts.get(&through.value));
        while let Some(here) = next {
            if !passed.insert(&here.id) {
                return true;
            }
            next = here.through.as_ref().and_then(|through| self.hosts.get(&through.value));
        }
        false
    }

    /// The people whom a grant is for.
    #[must_use]
    pub fn people_of<'a>(&'a self, grant: &'a Grant) -> Vec<&'a Person> {
        match &grant.whom.value {
            Whom::Person(id) => self.people.get(id).into_iter().collect(),
            Whom::Team(team) => self.team(team).collect(),
            Whom::Machine { .. } | Whom::Kept { .. } => Vec::new(),
        }
    }
}

/// What stands in front of a key that may be used from these addresses, for this command, with these further options.
///
/// # Errors
/// [`OptionFault`] where a server would skip such an entry.
pub fn entry_options(from: Option<&str>, command: Option<&str>, more: &[String]) -> Result<Options, OptionFault> {
    if from.is_none() && command.is_none() && more.is_empty() {
        return Ok(Options::default());
    }
    let quoted = |name: &str, value: &str| format!("{name}=\"{}\"", value.replace('"', "\\\""));
    let from = from.map(|from| quoted("from", from));
    let command = command.map(|command| quoted("command", command));
    let all: Vec<String> = from.into_iter().chain(command).chain(more.iter().cloned()).collect();
    if let Some(odd) = all.iter().find(|option| !is_one_line(option)) {
        return Err(OptionFault::Unknown { name: lavrin_keys::text::printable(odd.as_bytes()) });
    }
    Options::parse(all.join(",").as_bytes())
}

/// Whether an option can stand in front of a key: no line end, and no blank outside of quotes.
fn is_one_line(option: &str) -> bool {
    !option.contains(['\n', '\r', '\0']) && options::split(option.as_bytes()).0.len() == option.len()
}

/// Whether a text can be the name of a person, a host, a team or a tag: it is part of paths and of commands.
#[must_use]
pub fn is_id(text: &str) -> bool {
    let fine = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || b"._-".contains(&byte);
    (1..=64).contains(&text.len()) && text.bytes().all(fine) && text.as_bytes()[0].is_ascii_alphanumeric()
}

#[cfg(test)]
mod documented;
#[cfg(test)]
mod kept_tests;
#[cfg(test)]
mod tests;
