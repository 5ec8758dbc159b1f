//! Findings about hosts: keys that nobody pinned, ways that lead nowhere, accounts that nobody may enter.

use super::{AccountsSeen, CheckFindings};
use crate::register::fields::{is_near, near};
use crate::register::{Date, Host, ReachKind, Register, RegisterFault, USUAL_LOGIN};
use lavrin_keys::key::Fingerprint;
use rayon::prelude::*;
use std::collections::{HashMap, HashSet};

pub(super) fn check(register: &Register, today: Date, seen: &AccountsSeen<'_>, found: &mut CheckFindings) {
    // What was seen is read on all cores.
    let accounts: HashMap<&str, Vec<String>> = register
        .hosts
        .par_iter()
        .filter(|(_, host)| !host.accounts.is_empty())
        .filter_map(|(id, _)| Some((id.as_str(), seen(id)?)))
        .collect();
    let ways = GrantedAccounts::of(register, today);
    let mut first: HashMap<Fingerprint, &Host> = HashMap::new();
    for host in register.all_hosts() {
        if host.host_keys.is_empty() {
            found.say(RegisterFault::HostUnpinned, &host.place, &host.id);
        }
        cloned(host, &mut first, found);
        way_back(register, host, today, found);
        through(register, host, found);
        profile(register, host, found);
        after_change(host, found);
        if host.old_algorithms {
            found.say(RegisterFault::OldAlgorithms, &host.place, &host.id);
        }
        leave(register, host, found);
        for account in &host.accounts {
            if let Some(there) = accounts.get(host.id.as_str()).filter(|there| !there.contains(&account.value)) {
                let near = near(&account.value, there.iter().map(String::as_str)).map(str::to_owned);
                let fault = RegisterFault::AccountNeverSeen { account: account.value.clone(), near };
                found.say(fault, &account.place, &format!("{}@{}", account.value, host.id));
            }
            let login = host.login.as_deref().unwrap_or(USUAL_LOGIN);
            let is_open = match host.reach {
                ReachKind::KeySubsystem => account.value == login,
                ReachKind::Sftp => host.places.file_of(&account.value, login).is_some(),
                _ => true,
            };
            if !is_open {
                let fault =
                    RegisterFault::AccountNotOfLogin { account: account.value.clone(), login: login.to_owned() };
                found.say(fault, &account.place, &format!("{}@{}", account.value, host.id));
            }
            if !ways.lead_to(&account.value, host) {
                let fault = RegisterFault::AccountWithoutWayIn { account: account.value.clone() };
                found.say(fault, &account.place, &format!("{}@{}", account.value, host.id));
            }
        }
    }
}

/// Where policy asks for it: how one gets in without a key is written down, and was tried not too long ago.
fn way_back(register: &Register, host: &Host, today: Date, found: &mut CheckFindings) {
    let Some(limit) = register.rules.way_back_days_max else { return };
    if host.way_back.is_none() {
        found.say(RegisterFault::WayBackMissing, &host.place, &host.id);
        return;
    }
    let days = host.way_back_tried.as_ref().map(|tried| today.number() - tried.value.number());
    if days.is_none_or(|days| days > limit) {
        let place = host.way_back_tried.as_ref().map_or(&host.place, |tried| &tried.place);
        found.say(RegisterFault::WayBackUntried { days, limit }, place, &host.id);
    }
}

/// Machines that were copied have the keys of their original. Two names for one address are one machine.
fn cloned<'a>(host: &'a Host, first: &mut HashMap<Fingerprint, &'a Host>, found: &mut CheckFindings) {
    for key in &host.host_keys {
        let fingerprint = key.value.fingerprint();
        let other = *first.entry(fingerprint).or_insert(host);
        let is_same = other.id == host.id || (&other.address, other.port) == (&host.address, host.port);
        if !is_same {
            let fault = RegisterFault::SharedHostKey { other: other.id.clone(), fingerprint };
            found.say(fault, &key.place, &host.id);
        }
    }
}

/// What is left alone is named by its key, and is nobody's that the register knows.
fn leave(register: &Register, host: &Host, found: &mut CheckFindings) {
    let people = || register.people.values().flat_map(|person| person.keys.iter().map(move |key| (person, key)));
    for text in &host.leave_unread {
        let by_comment = people().filter(|(_, key)| key.comment.trim() == text.value);
        let meant = by_comment.map(|(_, key)| key.fingerprint).collect();
        found.say(RegisterFault::LeaveByComment { comment: text.value.clone(), meant }, &text.place, &host.id);
    }
    for left in &host.leave {
        if let Some((person, _)) = people().find(|(_, key)| key.fingerprint == left.value) {
            let fault = RegisterFault::LeaveOfPerson { person: person.id.clone(), fingerprint: left.value };
            found.say(fault, &left.place, &host.id);
        }
    }
}

/// `after_change` names one program. It is always a finding: whoever can write the register decides what runs on the host.
fn after_change(host: &Host, found: &mut CheckFindings) {
    let Some(program) = host.after_change.first() else { return };
    let words: Vec<&str> = host.after_change.iter().map(|word| word.value.as_str()).collect();
    let fault = if program.value.starts_with('/') && !program.value.contains("..") {
        RegisterFault::RunsAfterChange { words: words.join(" ") }
    } else {
        RegisterFault::AfterChangeNoPath { word: program.value.clone() }
    };
    found.say(fault, &program.place, &host.id);
}

/// A device with a command line of its own needs a profile that is there.
fn profile(register: &Register, host: &Host, found: &mut CheckFindings) {
    match &host.profile {
        None if host.reach == ReachKind::Dialogue => {
            found.say(RegisterFault::MissingField { name: "profile" }, &host.place, &host.id);
        }
        Some(named) if !register.profiles.contains_key(&named.value) => {
            let near = near(&named.value, register.profiles.keys().map(String::as_str)).map(str::to_owned);
            let fault = RegisterFault::UnknownName { what: "profile", name: named.value.clone(), near };
            found.say(fault, &named.place, &host.id);
        }
        _ => {}
    }
}

fn through(register: &Register, host: &Host, found: &mut CheckFindings) {
    let Some(through) = &host.through else { return };
    if !register.hosts.contains_key(&through.value) {
        let near = register.hosts.keys().find(|other| is_near(other, &through.value)).cloned();
        let fault = RegisterFault::UnknownName { what: "host", name: through.value.clone(), near };
        found.say(fault, &through.place, &host.id);
    } else if register.goes_round(host) {
        found.say(RegisterFault::ThroughLoop, &through.place, &host.id);
    }
}

/// Which accounts grants lead to, by host and by tag.
struct GrantedAccounts<'a> {
    everywhere: HashSet<&'a str>,
    by_host: HashSet<(&'a str, &'a str)>,
    by_tag: HashSet<(&'a str, &'a str)>,
}

impl<'a> GrantedAccounts<'a> {
    fn of(register: &'a Register, today: Date) -> Self {
        let mut ways = Self { everywhere: HashSet::new(), by_host: HashSet::new(), by_tag: HashSet::new() };
        for grant in register.all_grants().filter(|grant| !grant.has_ended(today)) {
            for host in &grant.hosts {
                if host.value == "*" {
                    ways.everywhere.insert(&grant.account);
                } else {
                    ways.by_host.insert((&grant.account, &host.value));
                }
            }
            ways.by_tag.extend(grant.tags.iter().map(|tag| (grant.account.as_str(), tag.value.as_str())));
        }
        ways
    }

    fn lead_to(&self, account: &str, host: &Host) -> bool {
        self.everywhere.contains(account)
            || self.by_host.contains(&(account, host.id.as_str()))
            || host.tags.iter().any(|tag| self.by_tag.contains(&(account, tag.as_str())))
    }
}
