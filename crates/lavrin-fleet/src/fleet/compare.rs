//! What register and observation disagree on, account by account.

pub use super::account_comparison::AccountComparison;
pub use super::difference::{Difference, Part, WhyGone};
use super::index::{Index, Standing};
use super::shared_files::{share, share_places};
use super::wanted::{WantedEntry, fit, leave_room};
use super::{Moment, Removed};
use crate::register::{CreateAccount, Date, Grant, Host, OwnedKey, Person, Register, Whom};
use foldhash::quality::RandomState;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::container::line::KnownKeys;
use lavrin_keys::key::policy::Policy;
use lavrin_keys::keysfile::Content;
use lavrin_keys::text::printable;
use lavrin_keys::version::Version;
use lavrin_server::abilities::Ability;
use lavrin_server::account::Account;
use lavrin_server::device::KeyLimits;
use lavrin_server::fs::{BytePath, Fact, Why};
use lavrin_server::login::{AccountKeys, HeldEntry, KeySource, Limits, algorithms_of};
use lavrin_server::server::Software;
use lavrin_server::steps::{self, Kept, NewAccount, NoSteps, RootLogin};
use lavrin_server::survey::{Resolved, resolve};
use lavrin_server::system::System;
use std::collections::{BTreeSet, HashMap, HashSet};

/// A key that a grant lets in.
struct GrantedKey<'a> {
    who: String,
    key: &'a OwnedKey,
    is_replaced: bool,
}

/// A key that the register lets into an account.
#[derive(Debug, Clone)]
pub struct GrantedWay<'a> {
    /// The account.
    pub account: &'a str,
    /// The key.
    pub key: Fingerprint,
    /// The last day, where every grant for it has one.
    pub until: Option<Date>,
    /// What limits it.
    pub limits: Limits,
    /// Another key takes its place: it may be there, and is not missed.
    pub is_spared: bool,
}

/// Compares hosts one by one, perhaps on several threads.
pub struct Comparer<'a> {
    register: &'a Register,
    index: Index<'a>,
    on_host: HashMap<&'a str, Vec<&'a Grant>, RandomState>,
    on_tag: HashMap<&'a str, Vec<&'a Grant>, RandomState>,
    everywhere: Vec<&'a Grant>,
    of_account: HashMap<&'a str, Vec<&'a Grant>, RandomState>,
    teams: HashMap<&'a str, Vec<&'a Person>, RandomState>,
    known: KnownKeys,
    now: Moment,
}

impl<'a> Comparer<'a> {
    /// One for this register at this moment.
    #[must_use]
    pub fn new(register: &'a Register, now: Moment) -> Self {
        let mut new = Self {
            register,
            index: Index::of(register),
            on_host: HashMap::default(),
            on_tag: HashMap::default(),
            everywhere: Vec::new(),
            of_account: HashMap::default(),
            teams: HashMap::default(),
            known: KnownKeys::default(),
            now,
        };
        for grant in register.all_grants().filter(|grant| !grant.has_ended(now.today)) {
            for host in &grant.hosts {
                match host.value.as_str() {
                    "*" => new.everywhere.push(grant),
                    host => new.on_host.entry(host).or_default().push(grant),
                }
            }
            for tag in &grant.tags {
                new.on_tag.entry(&tag.value).or_default().push(grant);
            }
            new.of_account.entry(&grant.account).or_default().push(grant);
        }
        for person in register.people.values() {
            if let Some(team) = &person.team {
                new.teams.entry(team).or_default().push(person);
            }
        }
        new
    }

    /// Every account of a host on which something differs. `removed` says which entries were removed before, and when.
    /// The observation should be prepared, where it has many accounts.
    #[must_use]
    pub fn host(&self, host: &Host, seen: &System<'_>, removed: &Removed) -> Vec<AccountComparison> {
        let grants = self.grants_on(host);
        let mut found: Vec<AccountComparison> = Vec::new();
        let mut read: HashSet<BytePath, RandomState> = HashSet::default();
        let asked = host.accounts.iter().map(|account| &account.value).chain(grants.iter().map(|grant| &grant.account));
        let asked: BTreeSet<&str> = asked.map(String::as_str).collect();
        for name in &asked {
            let own: Vec<&Grant> = grants.iter().filter(|grant| grant.account == **name).copied().collect();
            let managed = host.accounts.iter().any(|account| account.value == **name);
            let Some(account) = seen.account(name) else {
                // A device that shows the account of the login only says nothing about others.
                if !seen.abilities.has(Ability::Accounts) {
                    found.extend(managed.then(|| not_shown(name)));
                    continue;
                }
                found.push(missing_account(name, managed, grants.iter().filter(|grant| grant.account == **name)));
                continue;
            };
            let one = OneAccount { all: self, host, account, managed, seen, removed };
            found.extend(one.compare(&own, &mut read));
        }
        // The many accounts of the system itself have no keys: they are gone through only where a file was seen that
        // nobody asked about reads.
        let in_slots =
            |(account, slots): (&String, &Fact<_>)| !asked.contains(account.as_str()) && *slots != Fact::Absent;
        let in_files =
            |(path, content): (&BytePath, &Fact<_>)| may_hold_keys(path, content, seen) && !read.contains(path);
        if seen.bytes.iter().any(in_files) || seen.slots.iter().any(in_slots) {
            for account in seen.accounts.iter().filter(|account| !asked.contains(account.name.as_str())) {
                let one = OneAccount { all: self, host, account, managed: false, seen, removed };
                found.extend(one.compare(&[], &mut read));
            }
        }
        share(&mut found, host, seen);
        share_places(&mut found, host, &self.granted(host), seen);
        if self.register.rules.asks_for_keys_only(host) {
            add_passwords(&mut found, seen);
        }
        found
    }

    /// The keys that the register lets into accounts of a host today.
    #[must_use]
    pub fn granted(&self, host: &Host) -> Vec<Kept> {
        let of = |grant: &'a Grant| {
            let keys = self.keys_of(grant).into_iter();
            keys.map(|granted| Kept { account: grant.account.clone(), fingerprint: granted.key.fingerprint })
        };
        self.grants_on(host).into_iter().flat_map(of).collect()
    }

    /// The keys that the register lets into accounts of a host today, each once for each account, with their limits.
    #[must_use]
    pub fn granted_ways(&self, host: &Host) -> Vec<GrantedWay<'a>> {
        let grants = self.grants_on(host);
        let accounts: BTreeSet<&'a str> = grants.iter().map(|grant| grant.account.as_str()).collect();
        let of = |account: &'a str| {
            let own: Vec<&'a Grant> = grants.iter().filter(|grant| grant.account == account).copied().collect();
            let way = move |wanted: WantedEntry<'a>| GrantedWay {
                account,
                key: wanted.key.fingerprint,
                until: wanted.until,
                limits: Limits::of(&wanted.options),
                is_spared: wanted.is_spared,
            };
            self.wanted(&own).into_iter().map(way)
        };
        accounts.into_iter().flat_map(of).collect()
    }

    /// The grants that cover a host, each once.
    pub(super) fn grants_on(&self, host: &Host) -> Vec<&'a Grant> {
        let own = self.on_host.get(host.id.as_str()).into_iter().flatten();
        let tagged = host.tags.iter().filter_map(|tag| self.on_tag.get(tag.as_str())).flatten();
        let mut grants: Vec<&Grant> = own.chain(tagged).chain(&self.everywhere).copied().collect();
        grants.sort_by_key(|grant| std::ptr::from_ref::<Grant>(grant) as usize);
        grants.dedup_by(|one, other| std::ptr::eq(*one, *other));
        grants
    }

    /// The entries that grants ask for on a host that has none, as what is to be added; keys that another one replaces are left away.
    pub(super) fn entries_asked_for(&self, grants: &[&'a Grant], limits: &KeyLimits) -> Vec<Difference> {
        let mut wanted = self.wanted(grants);
        wanted.retain(|entry| !entry.is_spared);
        wanted.iter_mut().for_each(WantedEntry::end);
        let none = AccountKeys::default();
        let mut found = fit(&mut wanted, limits, &none);
        for entry in &wanted {
            entry.differences(&none, &mut found);
        }
        leave_room(&mut found, 0, limits.keys_max.unwrap_or(usize::MAX));
        found
    }

    /// The entries that grants ask for, each key once: without limits where any grant lets it in without.
    fn wanted<'b>(&'b self, grants: &[&'a Grant]) -> Vec<WantedEntry<'a>> {
        let mut wanted: Vec<WantedEntry<'a>> = Vec::new();
        let mut numbers: HashMap<Fingerprint, usize, RandomState> = HashMap::default();
        for grant in grants {
            // A grant whose options no server takes is told by the check of the register.
            let Ok(options) = grant.entry_options() else { continue };
            let until = grant.until.as_ref().map(|until| until.value);
            for GrantedKey { who, key, is_replaced } in self.keys_of(grant) {
                if let Some(number) = numbers.get(&key.fingerprint).copied() {
                    let other = &mut wanted[number];
                    if options.is_empty() {
                        other.options = options.clone();
                    }
                    other.until = other.until.zip(until).map(|(one, other)| one.max(other));
                } else {
                    numbers.insert(key.fingerprint, wanted.len());
                    wanted.push(WantedEntry::new(who, key, options.clone(), until, is_replaced));
                }
            }
        }
        wanted
    }

    /// The keys that a grant lets in today, and whose they are.
    fn keys_of(&self, grant: &Grant) -> Vec<GrantedKey<'a>> {
        let today = self.now.today;
        let of_all = |who: String, keys: &'a [OwnedKey]| {
            let fits = move |key: &&OwnedKey| key.is_active(today) && grant.is_for(key, keys);
            let is_replaced = move |key: &OwnedKey| key.successor(keys).is_some_and(|new| new.is_active(today));
            let granted = move |key| GrantedKey { who: who.clone(), key, is_replaced: is_replaced(key) };
            keys.iter().filter(fits).map(granted).collect::<Vec<_>>()
        };
        let of = |person: &'a Person| {
            if person.has_left(today) { Vec::new() } else { of_all(person.id.clone(), &person.keys) }
        };
        match &grant.whom.value {
            Whom::Person(id) => self.register.people.get(id).into_iter().flat_map(of).collect(),
            Whom::Team(team) => self.teams.get(team.as_str()).into_iter().flatten().copied().flat_map(of).collect(),
            Whom::Kept { account, host } => {
                let kept = self.register.kept_of(account, host);
                kept.map(|kept| of_all(format!("kept for {account}@{host}"), &kept.keys)).unwrap_or_default()
            }
            Whom::Machine { account, host } => {
                let keys = self.register.hosts.get(host).map(|host| host.keys.as_slice()).unwrap_or_default();
                let all = of_all(format!("{account}@{host}"), keys).into_iter();
                all.filter(|granted| granted.key.account.as_ref() == Some(account)).collect()
            }
        }
    }
}

/// Since OpenSSH 7.7 the server refuses an entry from a moment on that stands in front of it. Another one, or one that nobody
/// knows, may skip such a line. A device without files is asked for it all the same: what it cannot say it refuses, so nothing is
/// let in for longer than it was granted.
fn ends_entries(seen: &System<'_>) -> bool {
    const SINCE: Version = Version(7, 7);
    let is_known = seen.server.software == Software::OpenSsh && seen.server.version.is_some_and(|own| own >= SINCE);
    is_known || !seen.abilities.has(Ability::Files)
}

/// Whether a file may be a key file: it holds something and is none of the server's own settings.
fn may_hold_keys(path: &BytePath, content: &Fact<Vec<u8>>, seen: &System<'_>) -> bool {
    let of_server = || {
        seen.config_path.as_ref() == Some(path)
            || path.as_bytes() == b"/etc/ssh/sshd_config"
            || path.as_bytes().starts_with(b"/etc/ssh/sshd_config.d/")
    };
    content.known().is_none_or(|bytes| !bytes.is_empty()) && *content != Fact::Absent && !of_server()
}

/// A managed account of which the device says nothing.
fn not_shown(name: &str) -> AccountComparison {
    let fault = Some(NoSteps::Unread(KeySource::Slots, Why::Permission));
    AccountComparison { account: name.to_owned(), managed: true, differences: Vec::new(), fault, granted: Vec::new() }
}

/// An account that is not there: a fault, unless a grant asks for it to be made.
fn missing_account<'b>(name: &str, managed: bool, grants: impl Iterator<Item = &'b &'b Grant>) -> AccountComparison {
    let asked: Vec<&CreateAccount> = grants.filter_map(|grant| grant.create.as_deref()).collect();
    let mut groups: Vec<String> = Vec::new();
    for group in asked.iter().flat_map(|create| &create.groups) {
        if !groups.contains(&group.value) {
            groups.push(group.value.clone());
        }
    }
    let new = NewAccount {
        name: name.to_owned(),
        shell: asked.iter().find_map(|create| create.shell.clone()),
        home: asked.iter().find_map(|create| create.home.clone()),
    };
    let (differences, fault) = if asked.is_empty() {
        (Vec::new(), Some(NoSteps::NoSuchAccount))
    } else {
        (vec![Difference::MakeAccount { new, groups }], None)
    };
    AccountComparison { account: name.to_owned(), managed, differences, fault, granted: Vec::new() }
}

/// Which settings let passwords in. They are listed under root, an account that every host has.
fn add_passwords(found: &mut Vec<AccountComparison>, seen: &System<'_>) {
    let open = steps::open_to_passwords(RootLogin::Keys, seen).ok();
    if open.as_ref().is_some_and(Vec::is_empty) {
        return;
    }
    let root = seen.accounts.iter().find(|account| account.is_root()).map_or("root", |account| &account.name);
    let difference = Difference::Passwords(open);
    if let Some(own) = found.iter_mut().find(|one| one.account == root) {
        own.differences.push(difference);
        return;
    }
    let (account, differences) = (root.to_owned(), vec![difference]);
    found.push(AccountComparison { account, managed: false, differences, fault: None, granted: Vec::new() });
}

/// What one account is compared with.
struct OneAccount<'b, 'a> {
    all: &'b Comparer<'a>,
    host: &'b Host,
    account: &'b Account,
    managed: bool,
    seen: &'b System<'b>,
    removed: &'b Removed,
}

impl<'a> OneAccount<'_, 'a> {
    /// What differs; `None`: nothing. The files that it reads are written down.
    fn compare(&self, grants: &[&'a Grant], read: &mut HashSet<BytePath, RandomState>) -> Option<AccountComparison> {
        let name = &self.account.name;
        // What lies in a home that hosts share is there on all of them.
        let shared = self.seen.shared_homes.contains(&self.account.home);
        let everywhere = if shared { self.all.of_account.get(name.as_str()) } else { None };
        let mut wanted = self.all.wanted(everywhere.map_or(grants, Vec::as_slice));
        if ends_entries(self.seen) {
            wanted.iter_mut().for_each(WantedEntry::end);
        }
        let mut compared = AccountComparison {
            account: name.clone(),
            managed: self.managed,
            differences: Vec::new(),
            fault: None,
            granted: wanted.iter().map(|wanted| wanted.key.fingerprint).collect(),
        };
        match self.differences(&mut wanted, read) {
            Ok(differences) => compared.differences = differences,
            Err(fault) => compared.fault = Some(fault).filter(|_| self.matters(&wanted)),
        }
        (compared.fault.is_some() || !compared.differences.is_empty()).then_some(compared)
    }

    /// What the host can bear, by the register and by its server's version.
    fn limits(&self) -> KeyLimits {
        let mut limits = self.host.limits.clone();
        if limits.algorithms.is_empty() {
            limits.algorithms = algorithms_of(&self.seen.server).unwrap_or_default();
        }
        limits
    }

    /// Accounts of the system itself have no home and no keys; nothing is said about them.
    fn matters(&self, wanted: &[WantedEntry<'_>]) -> bool {
        self.managed || !wanted.is_empty()
    }

    fn differences(
        &self,
        wanted: &mut [WantedEntry<'a>],
        read: &mut HashSet<BytePath, RandomState>,
    ) -> Result<Vec<Difference>, NoSteps> {
        let home = &self.account.home;
        // A device has no homes.
        let has_home = self.seen.abilities.has(Ability::Files);
        if self.seen.network_homes.contains(home) {
            return Err(NoSteps::HomeOnNetwork(home.clone()));
        }
        if has_home && wanted.is_empty() && matches!(resolve(home, self.seen), Resolved::Missing(_)) {
            return Ok(Vec::new());
        }
        let (keys, targets) = steps::held(self.account, self.seen, &self.all.known)?;
        read.extend(targets.iter().map(|file| file.real.clone()));
        let mut found = fit(wanted, &self.limits(), &keys);
        let wanted = &*wanted;
        for wanted in wanted {
            wanted.differences(&keys, &mut found);
        }
        found.extend(keys.entries.iter().filter_map(|held| self.one_entry(held, wanted)));
        if let Some(max) = self.host.limits.keys_max {
            leave_room(&mut found, keys.entries.len(), max);
        }
        if self.managed && targets.iter().any(|file| file.bytes.is_some()) {
            let modes = steps::modes(self.account, &targets, self.seen, self.policy())?;
            found.extend(modes.into_iter().map(Difference::Mode));
        }
        Ok(found)
    }

    fn policy(&self) -> &Policy {
        &self.all.register.rules.policy
    }

    /// An entry whose key nobody asked for.
    fn one_entry(&self, held: &HeldEntry, wanted: &[WantedEntry<'_>]) -> Option<Difference> {
        let place = &held.place;
        let (key, comment) = match &held.content {
            Content::Entry(entry) => (entry.fingerprint, printable(entry.comment.trim_ascii())),
            Content::Unusable(unusable) => match &unusable.key {
                Some(key) => (key.fingerprint(), String::new()),
                None => return self.managed.then(|| Difference::NotUnderstood { place: place.clone() }),
            },
            Content::Blank | Content::Comment => return None,
        };
        if wanted.iter().any(|wanted| wanted.key.fingerprint == key) || self.all.index.is_left_alone(key, self.host) {
            return None;
        }
        let owner = self.all.index.owner(key);
        let why = match owner
            .map(|owner| self.all.index.standing(owner, &self.account.name, self.host, self.all.now.today))
        {
            None if !self.host.complete => {
                return Some(Difference::Unknown { fingerprint: key, place: place.clone(), comment });
            }
            None => WhyGone::Nobody,
            Some(Standing::Left(on)) => WhyGone::Left(on),
            Some(Standing::Retired(on)) => WhyGone::Retired(on),
            Some(Standing::Over(on)) => WhyGone::Over(on),
            Some(Standing::None | Standing::Granted) => WhyGone::NotGranted,
        };
        Some(Difference::Remove {
            who: owner.map(super::Owner::name),
            fingerprint: key,
            place: place.clone(),
            comment,
            why,
            back: self.removed.get(&(self.account.name.clone(), key)).copied(),
        })
    }
}
